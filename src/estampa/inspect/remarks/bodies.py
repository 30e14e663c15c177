"""Remarks on bodies: what is solved in nothing, what is too light, too flat, too quick or begins inside another."""

from collections.abc import Iterator

import numpy as np

from ...edits import add_thing
from ...fields.force import giving
from ...geometry.pieces import Pieces
from ...kinds.fields import ACCELERATION, AIR
from ...kinds.registry import kinds_in
from ...scene.curves import Curve
from ...scene.document import Thing
from ...scene.graph import member_of
from ...scene.scene import Scene, Snapshot
from ...scene.values import Rows
from ...units import format_length
from .remark import Remark, check, things_by_kind

PILE = 10_000  # times as heavy as another, from where on a pile of both is hard to solve
MANY = 2_000
EACH = 55e-6  # s a body, frame and ten small steps, measured on a pyramid of 500 boxes
LISTED = 5  # remarks of one sort


def _bodies(scene: Scene | Snapshot) -> Iterator[tuple[Thing, Thing]]:
    for layer, subject in things_by_kind(scene.doc).get("body", ()):
        yield subject, layer


@check()
def solved_in_nothing(scene: Scene | Snapshot) -> Iterator[Remark]:
    played = set()
    for subject in scene.doc.things:
        for layer in subject.stack:
            if layer.declared is None or not getattr(layer.declared, "ensemble", "") or not layer.on:
                continue
            if layer.declared.solo and not layer.constant("together"):
                continue
            together = scene.doc.find(member_of(layer))
            played.add(together.id if together is not None else None)
            if together is None or not together.on:
                wrong = "is solved in nothing" if together is None else f"is solved in {together.name}, which is off"
                yield Remark(
                    "error",
                    layer.id,
                    f"{layer.name} of {subject.name} {wrong}.",
                    "It does not move.",
                    "Choose one under “Solved in”, or add one." if together is None else "Switch it on.",
                )
    for thing in scene.doc.things:
        if thing.declared is not None and thing.declared.family == "ensemble" and thing.on and thing.id not in played:
            words = f"{thing.name} has nothing to solve."
            mend = f"Add a {_member(thing)} to a subject, or remove it."
            yield Remark("note", thing.id, words, "It does nothing.", mend)


def _member(ensemble: Thing) -> str:
    """The titles of the layers that play in an ensemble."""
    titles = [k.title for k in kinds_in("layer") if getattr(k, "ensemble", "") == ensemble.kind]
    return " or ".join(titles) or "layer"


@check("body", "limp")
def nothing_pulls(scene: Scene | Snapshot, layer: Thing, owner: Thing) -> Iterator[Remark]:
    pushed = (n for n in layer.declared.channels if n.startswith(("speed_", "spin_")))
    if layer.kind == "body" and (layer.constant("moved") != "solve" or any(layer.constant(n) for n in pushed)):
        return
    if giving(scene.doc, ACCELERATION, AIR):
        return
    yield Remark(
        "warning",
        layer.id,
        f"Nothing pulls at {owner.name}: the scene has no gravity and no wind.",
        "It stays where it is until something strikes it.",
        "Add gravity (Alt+1).",
        ("Add gravity", lambda s: add_thing(s, "gravity")),
    )


@check("body")
def of_no_volume(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    if layer.constant("moved") != "solve":
        return
    mesh = scene.mesh(subject.mesh)
    extent = np.ptp(mesh.points, axis=0)
    if extent.min() < 1e-4 * extent.max():
        yield Remark(
            "warning",
            layer.id,
            f"{subject.name} is flat: as a body it has no volume.",
            "It is solved as a thin box, and weighs as much as one.",
            "Thicken it, or set its mass.",
        )
    elif mesh.open_edges and not layer.constant("mass"):
        yield Remark(
            "note",
            layer.id,
            f"{subject.name} is open, so its volume is not known.",
            "Its mass is that of the box around it.",
            "Close the mesh, or set its mass.",
        )
    if layer.constant("shape") == "mesh":
        yield Remark(
            "note",
            layer.id,
            f"{layer.name} of {subject.name} moves, and a moving body cannot have the mesh itself as its shape.",
            "Several hulls are taken instead.",
            "Choose “Several hulls”, or drive it.",
        )


@check()
def masses_far_apart(scene: Scene | Snapshot) -> Iterator[Remark]:
    found = []
    for subject, layer in _bodies(scene):
        if layer.constant("moved") == "solve":
            size = np.ptp(scene.mesh(subject.mesh).points, axis=0)
            found.append((layer.constant("mass") or float(np.prod(size)) * layer.constant("density"), subject, layer))
    found.sort(key=lambda f: f[0])
    if len(found) > 1 and found[-1][0] > PILE * max(found[0][0], 1e-12):
        (light, first, _), (heavy, last, layer) = found[0], found[-1]
        yield Remark(
            "warning",
            layer.id,
            f"{last.name} is {heavy / max(light, 1e-12):,.0f} times as heavy as {first.name}.",
            "Where one lies on the other they sink into one another or shake.",
            "Bring their masses closer together, or raise Substeps.",
        )


@check()
def begin_inside_another(scene: Scene | Snapshot) -> Iterator[Remark]:
    """By the boxes around them, so that it is soon done; what merely touches is left alone."""
    low, high, who = [], [], []
    start = Rows.one(scene.doc.start)
    for subject, layer in _bodies(scene):
        if layer.constant("moved") != "still":
            p = scene.values.place(subject, start).apply(scene.mesh(subject.mesh).points[None])[0]
            low.append(p.min(axis=0))
            high.append(p.max(axis=0))
            who.append((subject, layer))
    if not 1 < len(who) <= 600:
        return
    low, high = np.array(low), np.array(high)
    inside = np.minimum(high[:, None], high[None]) - np.maximum(low[:, None], low[None])
    least = np.minimum((high - low)[:, None], (high - low)[None])
    deep = (inside > 0.25 * np.maximum(least, 1e-9)).all(axis=2)
    for i, j in np.argwhere(np.triu(deep, 1))[:LISTED]:
        yield Remark(
            "note",
            who[i][1].id,
            f"{who[i][0].name} seems to begin inside {who[j][0].name}.",
            "They are pushed apart as the solve begins.",
            "Move one of them, or let them settle and start from that frame.",
        )


@check()
def driven_too_quickly(scene: Scene | Snapshot) -> Iterator[Remark]:
    doc = scene.doc
    frames = np.arange(doc.start, doc.end + 1, dtype=float)
    for subject, layer in _bodies(scene):
        if layer.constant("moved") != "driven" or not any(isinstance(v, Curve) for v in subject.values.values()):
            continue
        path = scene.values.place(subject, Rows.over(frames)).origin
        if len(path) < 2:
            continue
        step = np.linalg.norm(np.diff(path, axis=0), axis=1)
        thick = float(np.ptp(scene.mesh(subject.mesh).points, axis=0).min())
        if step.max() > max(thick, 1e-6):
            frame = int(frames[int(step.argmax())])
            yield Remark(
                "warning",
                layer.id,
                f"{subject.name} goes {format_length(step.max())} from frame {frame} to the next, and is "
                f"{format_length(thick)} thick.",
                "It may pass through small bodies without pushing them.",
                "Slow it down there, raise Substeps of its bodies, or make it thicker.",
            )


@check()
def very_many(scene: Scene | Snapshot) -> Iterator[Remark]:
    count, layers = 0, 0
    for subject, layer in _bodies(scene):
        layers += 1
        mesh = scene.mesh(subject.mesh)
        count += Pieces.each(mesh).count if layer.constant("each") == "pieces" else 1
    if count > MANY:
        seconds = EACH * count
        minutes = seconds * (scene.doc.end - scene.doc.start + 1) / 60
        yield Remark(
            "note",
            "",
            f"{count:,} bodies are solved together.",
            f"Each frame takes some {seconds:.1f} s, {minutes:.0f} minutes for the range; piles take longer.",
            "Join small pieces, or try a shorter range first.",
        )


@check()
def dressed_by_a_skin(scene: Scene | Snapshot) -> Iterator[Remark]:
    for subject, layer in _bodies(scene):
        below = subject.stack[subject.stack.index(layer) + 1 :]
        skin = next((l for l in below if l.on and l.declared is not None and l.declared.binds), None)
        if skin is not None:
            yield Remark(
                "warning",
                skin.id,
                f"{skin.name} stands below {layer.name} on {subject.name}.",
                "It was bound to the shape at rest, and pulls what the solve has moved back to its joints.",
                "Move it above the body, so that the body begins with the posed shape.",
            )
