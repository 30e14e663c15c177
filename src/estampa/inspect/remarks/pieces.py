"""Remarks on what is broken, on layers that move pieces, and on ragdolls."""

from collections.abc import Iterator

from ...edits import body_parts, ragdoll
from ...geometry.crossing import crossings
from ...geometry.pieces import Pieces, is_closed
from ...motion.breaking import A_CELL
from ...scene.document import Thing
from ...scene.scene import Scene, Snapshot
from ...scene.values import Rows
from ...solve.bodies.limbs import limbs_of
from .remark import Remark, check

SLOW = 2_000  # cells, from which on a cut takes longer than a hand waits
LIGHT, HEAVY = 100.0, 4000.0  # kg/m3 between which a figure falls as one expects; a body of flesh has about 1,000


def above(subject: Thing, layer: Thing) -> tuple[Thing, ...]:
    """The layers of a stack above one of them."""
    return subject.stack[: subject.stack.index(layer)]


def _pieces(scene):
    for subject in scene.doc.subjects:
        if subject.on:
            for i, layer in enumerate(subject.stack):
                if layer.on and layer.declared is not None:
                    yield subject, i, layer


@check("break")
def breaks_what_is_open(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    if any(l.on and l.declared is not None and l.declared.closes for l in above(subject, layer)):
        return
    mesh = scene.mesh(subject.mesh)
    if not is_closed(mesh.triangles):
        yield Remark(
            "error",
            layer.id,
            f"{subject.name} is open ({mesh.open_edges:,} open edges), so it has no inside to be cut.",
            "It is not broken.",
            "Add Thicken above Break, or close its holes.",
        )


@check("break")
def breaks_what_crosses_itself(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    found = crossings(scene.mesh(subject.mesh))
    if found:
        yield Remark(
            "warning",
            layer.id,
            f"{subject.name} goes through itself at {found:,} of its edges.",
            "Where it does, its inside is told twice, and cells there may be hollow or double.",
            "Unite its parts where it was made, or take them apart (Cut into pieces, by island) and break each.",
        )


@check("break")
def breaks_into_very_many(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    count = layer.constant("count") if layer.constant("how") == "cells" else 0
    if count > SLOW:
        yield Remark(
            "note",
            layer.id,
            f"{layer.name} cuts {subject.name} into {count:,} cells.",
            f"The first time that takes some {A_CELL * count:.0f} s; it is kept then.",
            "Try fewer while you look for the shape of it.",
        )


@check()
def moves_one_piece(scene: Scene | Snapshot) -> Iterator[Remark]:
    for subject, i, layer in _pieces(scene):
        if not layer.declared.of_pieces:
            continue
        parts = lambda layers: any(l.on and l.declared is not None and l.declared.parts_mesh for l in layers)
        if parts(subject.stack[:i]):
            continue
        if parts(subject.stack[i + 1 :]):
            yield Remark(
                "warning",
                layer.id,
                f"{layer.name} of {subject.name} stands above the layer that parts it.",
                "It moves the whole, not the pieces.",
                "Move it below Break or Cut into pieces.",
            )
        elif Pieces.each(scene.mesh(subject.mesh)).count == 1:
            yield Remark(
                "note",
                layer.id,
                f"{subject.name} has one piece, so {layer.name} moves all of it at once.",
                "It moves as a whole.",
                "Add Break or Cut into pieces above it.",
            )


@check("limp")
def ragdolls(scene: Scene | Snapshot, layer: Thing, skeleton: Thing) -> Iterator[Remark]:
    bones = scene.values.bones(skeleton)
    parts = {j.id: j.constant("part") for j in bones.joints if j.constant("part") not in ("none", "limb")}
    lacks = body_parts.missing(parts)
    if lacks:
        yield Remark(
            "note",
            layer.id,
            f"{skeleton.name} has no joint for {', '.join(lacks)}.",
            "What hangs there keeps its pose on the limb above it.",
            "Say which part each joint is, in its sheet.",
        )
    limbs = limbs_of(bones)
    size = float(scene.values.place(skeleton, Rows.one(scene.doc.start)).size[0]) ** 3
    volume = float(limbs.volumes().sum()) * size if len(limbs.joint) else 0.0
    if not volume:
        yield Remark(
            "error", layer.id, f"{skeleton.name} has no limb that is long enough.", "It does not go limp.",
            "Give its joints a length, or say which part each is.",
        )  # fmt: skip
        return
    dense, wanted = layer.constant("weight") / volume, 1000 * volume
    if not LIGHT <= dense <= HEAVY:
        words = "flies off when it is struck" if dense < LIGHT else "hardly answers when it is struck"
        yield Remark(
            "note",
            layer.id,
            f"{skeleton.name} weighs {layer.constant('weight'):.3g} kg; a body of its volume weighs {wanted:.3g} kg.",
            f"It {words}.",
            "Set its mass, unless paper or lead is meant.",
        )
    close = ragdoll.unlike_rest(bones)
    if close:
        yield Remark(
            "note",
            layer.id,
            f"{', '.join(close[:3])} of {skeleton.name} lie along the body at rest.",
            "Limits are taken about the rest, and limbs that overlap are pushed apart.",
            "Rest it with its limbs apart (Make this the rest).",
        )
