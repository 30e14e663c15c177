"""Remarks on liquids: what they fall through, what casts them out, and what is too thin for their grains."""

from collections.abc import Iterator

from ...edits import liquids
from ...edits.channels import set_value
from ...fields.force import giving
from ...geometry.lids import rims_of
from ...geometry.pieces import is_closed
from ...kinds.fields import ACCELERATION, FLOOR, SOLID
from ...scene.scene import Scene, Snapshot
from ...units import format_bytes, format_length
from .remark import Remark


def _fills(scene):
    """(liquid, Fill layer, the subject that it fills)."""
    for liquid in scene.doc.things:
        if liquid.kind != "liquid" or not liquid.on:
            continue
        for layer in liquid.stack:
            held = scene.doc.find(layer.constant("on")) if layer.on and layer.kind == "fill" else None
            if held is not None and held.mesh is not None and layer.constant("where") == "inside":
                yield liquid, layer, held


def _colliders(scene):
    return giving(scene.doc, SOLID, FLOOR)


def falls_through(scene: Scene | Snapshot) -> Iterator[Remark]:
    falls = giving(scene.doc, ACCELERATION)
    for liquid in scene.doc.things:
        if liquid.kind == "liquid" and liquid.on and falls and not _colliders(scene):
            vessel = next((s for l, _, s in _fills(scene) if l is liquid), None)
            mend, fix = "Add a ground or a collider.", None
            if vessel is not None:
                mend = f"Let {vessel.name} hold it: a hollow collider of its mesh."
                fix = (f"Let {vessel.name} hold it", lambda s, i=vessel.id: liquids.hold(s, i))
            words = f"{liquid.name} meets nothing that is solid."
            yield Remark("warning", liquid.id, words, "It falls through everything.", mend, fix)


def is_cast_out(scene: Scene | Snapshot) -> Iterator[Remark]:
    for liquid, _, vessel in _fills(scene):
        for collider in _colliders(scene):
            same = collider.kind == "collider" and collider.constant("shape") == "mesh"
            if not same or collider.constant("subject") != vessel.id or collider.constant("hollow"):
                continue
            if is_closed(scene.mesh(vessel.mesh).triangles):
                words = f"{vessel.name} is solid inside, and {liquid.name} fills it."
                fix = (f"Make {vessel.name} hollow", lambda s, i=vessel.id: liquids.hold(s, i))
                yield Remark("error", collider.id, words, "There is no room for it.", "Switch Hollow on.", fix)


def is_open_or_thin(scene: Scene | Snapshot) -> Iterator[Remark]:
    for liquid, layer, vessel in _fills(scene):
        mesh, spacing = scene.mesh(vessel.mesh), float(liquid.constant("spacing"))
        rims = len(rims_of(mesh.triangles)) if not is_closed(mesh.triangles) else 0
        if rims:
            words = f"{vessel.name} is open at {rims} rim{'s' if rims > 1 else ''}."
            causes = "It is filled as if each had a flat lid."
            yield Remark("note", layer.id, words, causes, "Close it, or leave it so.")
        thin = float(mesh.size.min())
        if thin < 4 * spacing:
            grain = format_length(spacing)
            words = f"{vessel.name} is {format_length(thin)} thin, and grains of {liquid.name} are {grain}."
            mend = f"Let grains be {format_length(thin / 6)} apart or less."
            yield Remark("warning", liquid.id, words, "It is hardly more than a few grains across.", mend)


def does_not_float(scene: Scene | Snapshot) -> Iterator[Remark]:
    """Bodies that a liquid meets, and that feel nothing of it."""
    solid = {t.constant("subject") for t in _colliders(scene) if t.kind == "collider"}
    met = [s for s in liquids.floats(scene.doc) if s.id in solid]
    named = {t.constant("liquid") for t in scene.doc.things if t.on and t.kind == "immersion"}
    for liquid in scene.doc.things if met else ():
        if liquid.kind == "liquid" and liquid.on and liquid.id not in named:
            words = f"{met[0].name} pushes {liquid.name} aside, and feels nothing of it."
            fix = (f"Let bodies float in {liquid.name}", lambda s, i=liquid.id: liquids.immerse(s, i))
            yield Remark("note", liquid.id, words, "It sinks as in air.", "Add an immersion.", fix)


def names_no_liquid(scene: Scene | Snapshot) -> Iterator[Remark]:
    for force in scene.doc.things:
        if force.kind == "immersion" and force.on and scene.doc.find(force.constant("liquid")) is None:
            words = f"{force.name} names no liquid."
            yield Remark("warning", force.id, words, "Nothing floats.", "Choose one under “In”.")


def is_heavy(scene: Scene | Snapshot) -> Iterator[Remark]:
    """How many grains, memory and time it will be, where that is much."""
    from ...evaluate.evaluator import Evaluator

    own = [t for t in scene.doc.things if t.kind == "liquid" and t.on and t.stack]
    evaluator = Evaluator(scene.doc, scene, None) if own else None
    for liquid in own:
        many = evaluator.swarms.expected(liquid)
        if many > 60_000:
            bytes_, seconds = liquid.declared.a_frame(many)
            words = f"{liquid.name} will have about {many:,} grains."
            causes = f"A frame takes some {seconds:.0f} s and {format_bytes(bytes_)}."
            yield Remark("note", liquid.id, words, causes, "Let grains be further apart while you try.")


def is_printed_as_a_draft(scene: Scene | Snapshot) -> Iterator[Remark]:
    for liquid in scene.doc.things:
        drafts = [l for l in liquid.stack if l.on and l.kind == "grain_skin" and l.constant("quality") == "draft"]
        if drafts and any(p.on and p.kind.startswith("skin_") for p in scene.doc.prints):
            words = f"{drafts[0].name} of {liquid.name} is a draft, and is printed."
            fix = ("Make it final", lambda s, i=drafts[0].id: set_value(s, i, "quality", "final"))
            yield Remark("note", drafts[0].id, words, "The file is coarser than it may be.", "Choose Final.", fix)


CHECKS = (falls_through, is_cast_out, is_open_or_thin, does_not_float, names_no_liquid, is_heavy,
          is_printed_as_a_draft)  # fmt: skip
