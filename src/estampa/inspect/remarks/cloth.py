"""Remarks on cloth: what holds it, what it meets, and the layers that help it; the checks are run by scene.py."""

from collections.abc import Iterator

import numpy as np

from ...fields.force import AIR_DENSITY, giving
from ...kinds.fields import FLOOR, SOLID
from ...scene.document import Thing
from ...scene.graph import member_of
from ...scene.scene import Scene, Snapshot
from ...scene.values import Rows
from ...solve.aid import aids_below
from ...solve.cloth.sheets import HARD, MOST_ADDED
from ...units import format_length
from .remark import Remark, check, layers_of

THICK = 0.7  # of a usual edge: from there on a cloth that meets itself is felt by its own neighbours


@check("cloth")
def cloth_held_by_nothing(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    if giving(scene.doc, FLOOR, SOLID) or any(a.declared.holds for a in _helpers(subject, layer)):
        return
    held = subject.map(layer.constant("pins"))
    weights = scene.arrays.get(held.weights) if held else None
    if weights is not None and weights.any():
        mesh = scene.mesh(subject.mesh)
        loose = mesh.island_count - len(np.unique(mesh.islands[weights > 0]))
        if loose:
            yield Remark(
                "warning",
                layer.id,
                f"{loose} of the {mesh.island_count} islands of {subject.name} are held by nothing.",
                "They fall or are blown away.",
                f"Give them weights in “{held.name}”, weld the mesh, or add a ground.",
            )
    else:
        yield Remark(
            "error",
            layer.id,
            f"{layer.name} is held by nothing, and there is no ground beneath it.",
            "It falls out of the picture.",
            "Choose a weight map under “Held by”, or add a ground.",
        )


@check()
def aids_that_help_nothing(scene: Scene | Snapshot) -> Iterator[Remark]:
    """What tells a solver something stands below it."""
    for subject, layer in layers_of(scene):
        helps = getattr(layer.declared, "helps", "")
        if not helps or not layer.on:
            continue
        own = [l for l in subject.layers_of(helps) if l.on and subject.on]
        if layer not in [a for l in own for a in _helpers(subject, l)]:
            below = any(l.kind == helps for l in subject.stack[subject.stack.index(layer) + 1 :])
            yield Remark(
                "warning",
                layer.id,
                f"{layer.name} of {subject.name} stands {'above its' if below else 'below no'} {helps}.",
                f"It does nothing: it tells the {helps} right above it something.",
                f"Move {layer.name} below the {helps}." if below else f"Add a {helps} above {layer.name}.",
            )


@check("hold_to")
def holds_to_nothing(scene: Scene | Snapshot, aid: Thing, subject: Thing) -> Iterator[Remark]:
    wanted = {"grip": "grip", "surface": "subject", "path": "path"}[aid.constant("to")]
    if scene.doc.find(aid.constant(wanted)) is None:
        words = f"{aid.name} holds {subject.name} to nothing."
        label = aid.declared.channels[wanted].label
        yield Remark("warning", aid.id, words, "It does nothing yet.", f"Choose one under “{label}”.")


@check("cloth")
def held_twice(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    holds = [a for a in _helpers(subject, layer) if a.declared.holds]
    weights = [_weights(scene, subject, a.constant("map")) for a in holds]
    for i, one in enumerate(holds):
        for k in range(i + 1, len(holds)):
            both = int(((weights[i] >= HARD) & (weights[k] >= HARD)).sum())
            if both:
                yield Remark(
                    "note",
                    holds[k].id,
                    f"{one.name} and {holds[k].name} hold {both:,} of the same vertices of {subject.name}.",
                    f"There {holds[k].name} wins, since it stands lower.",
                    "Take them out of one of the two maps.",
                )


@check("pressure")
def leaks(scene: Scene | Snapshot, aid: Thing, subject: Thing) -> Iterator[Remark]:
    mesh = scene.mesh(subject.mesh)
    if subject.on and not aid.constant("sealed") and mesh.open_edges:
        volume = aid.constant("keeps") == "volume"
        yield Remark(
            "warning",
            aid.id,
            f"{subject.name} has {mesh.open_edges:,} open edges, and {aid.name} leaves them open.",
            "It has no volume to keep, so it does nothing." if volume else "It is blown one way, like a sail.",
            "Switch “Seal borders” on.",
        )


@check("cloth")
def too_thick(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    mesh = scene.mesh(subject.mesh)
    if not layer.constant("itself") or not len(mesh.edges):
        return
    ends = mesh.points[mesh.edges]
    usual = float(np.median(np.linalg.norm(ends[:, 1] - ends[:, 0], axis=1)))
    thickness = float(scene.values.at(layer, "thickness", scene.doc.start))
    if thickness > THICK * usual:
        fits = THICK * usual
        yield Remark(
            "warning",
            layer.id,
            f"{layer.name} of {subject.name} is {format_length(thickness)} thick, and its mesh as fine as "
            f"{format_length(usual)}.",
            "Its own neighbours are too near: it stiffens and trembles.",
            f"The largest thickness that fits is {format_length(fits)}.",
        )


@check("collider")
def colliders_of_no_size(scene: Scene | Snapshot, thing: Thing, _owner: None) -> Iterator[Remark]:
    frames = np.unique(np.linspace(scene.doc.start, scene.doc.end, 25).round())
    sizes = np.ravel(scene.values.place(thing, Rows.over(frames)).size)
    if (np.abs(sizes) < 1e-6).any():
        at = frames[np.argmax(np.abs(np.broadcast_to(sizes, frames.shape)) < 1e-6)]
        words = f"{thing.name} has no size at frame {at:g}."
        yield Remark("warning", thing.id, words, "Nothing meets it there.", "Key its size to a little more than 0.")


@check("cloth")
def held_inside(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    """What is held fast within a collider cannot be pushed out of it."""
    held = _weights(scene, subject, layer.constant("pins")) >= HARD
    if not held.any() or not layer.constant("meets"):
        return
    now = Rows.one(scene.doc.solved_from)
    points = scene.values.place(subject, now).apply(scene.mesh(subject.mesh).points[held][None])[0]
    for thing in _solid(scene):
        inside = int(_within(scene, thing, points, now).sum())
        if inside:
            yield Remark(
                "warning",
                layer.id,
                f"{inside:,} held vertices of {subject.name} are within {thing.name} at the first frame.",
                "The hold wins: the cloth is caught there, and drawn tight around it.",
                f"Move {thing.name} off them, or take them out of “Held by”.",
            )


def _within(scene, thing, points, now) -> np.ndarray:
    """(n,) bool, points inside a collider of a simple shape."""
    shape, at = thing.constant("shape"), lambda n: float(scene.values.at(thing, n, now.frames[0]))
    local = scene.values.place(thing, now).inverse().apply(points[None])[0]
    if shape == "sphere":
        return np.linalg.norm(local, axis=1) < at("radius")
    if shape == "capsule":
        local[:, 1] -= np.clip(local[:, 1], -at("reach"), at("reach"))
        return np.linalg.norm(local, axis=1) < at("radius")
    if shape == "box":
        return (np.abs(local) < [at("wide"), at("tall"), at("deep")]).all(axis=1)
    return local[:, 1] < 0 if shape == "plane" else np.zeros(len(points), bool)


@check("cloth")
def doubled_faces(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    mesh = scene.mesh(subject.mesh)
    faces = np.sort(mesh.triangles, axis=1)
    doubled = len(faces) - len(np.unique(faces, axis=0))
    if doubled:
        yield Remark(
            "warning",
            layer.id,
            f"{doubled:,} triangles of {subject.name} lie on others of the same vertices.",
            "They count twice: the cloth is stiffer and heavier there.",
            "Take the doubled faces out of the mesh.",
        )


@check("cloth")
def too_fine_for_its_load(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    """A cloth adds small steps until its stiffness holds in the wind and weight that it bears (see docs/solver.md), up
    to a limit; beyond that it stretches too far, and says so."""
    at, doc = lambda t, n: scene.values.at(t, n, doc.start), scene.doc
    on = lambda kind: [t for t in doc.of_kind(kind) if t.on]
    mesh = scene.mesh(subject.mesh)
    air = sum(at(w, "speed") * (1 + at(w, "gustiness")) for w in on("wind"))
    pull = sum(at(g, "pull") for g in on("gravity"))
    drag = at(layer, "drag") + at(layer, "lift")
    pull += 0.5 * AIR_DENSITY * drag * air**2 / at(layer, "density")
    edges = mesh.points[mesh.edges]
    step = float(np.median(np.linalg.norm(edges[:, 1] - edges[:, 0], axis=1))) if len(edges) else 0.0
    size = float(mesh.size.max())
    if step <= 0 or size <= 0 or pull <= 0:
        return
    taken = max(at(layer, "substeps"), MOST_ADDED)
    h = 1 / (doc.frame_rate * taken)
    excess = 0.5 * size * pull * h * h / step**2
    if excess > max(2 * at(layer, "excess"), 0.02):
        wanted = int(taken * (excess / at(layer, "excess")) ** 0.5) + 1
        yield Remark(
            "note",
            layer.id,
            f"{layer.name} is very fine for the load that it bears: {mesh.count:,} vertices, {air:.0f} m/s of wind.",
            f"It may stretch some {100 * min(excess, at(layer, 'limit')):.0f} % more than its stiffness says.",
            f"About {wanted:,} substeps would hold it; a coarser mesh that is refined below needs fewer.",
        )


@check()
def passes_through_colliders(scene: Scene | Snapshot) -> Iterator[Remark]:
    solid = _solid(scene)
    for owner in scene.doc.things:
        for layer in owner.stack if solid and owner.on else ():
            if not layer.on or not getattr(layer.declared, "memory", False):
                continue
            solver = scene.doc.find(member_of(layer)) or layer  # a member meets what its ensemble meets
            if SOLID in solver.declared.reads_in(solver):
                continue
            could = layer.declared.channels["meets"].label if "meets" in layer.declared.channels else ""
            names = solid[0].name + (f" and {len(solid) - 1} more" if len(solid) > 1 else "")
            yield Remark(
                "note",
                layer.id,
                f"{layer.name} does not meet {names}: it passes through colliders.",
                "It comes to rest on the ground only." if could else "It meets nothing.",
                f"Switch “{could}” on." if could else "Hold it away with a layer above it.",
            )


def _solid(scene) -> list[Thing]:
    return [t for t in scene.doc.of_kind("collider") if t.on]


def _helpers(subject: Thing, layer: Thing) -> list[Thing]:
    """The layers that help a cloth."""
    return aids_below([l for l in subject.stack if l.declared is not None and l.on], layer)


def _weights(scene, subject, map_id) -> np.ndarray:
    """(n,) of a map; 1 everywhere of none that is named, 0 of one that is gone."""
    count = scene.mesh(subject.mesh).count
    if not map_id:
        return np.zeros(count)
    held = subject.map(map_id)
    return np.asarray(scene.arrays.get(held.weights)) if held is not None else np.zeros(count)
