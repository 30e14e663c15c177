"""Remarks on liquids: what they fall through, what casts them out, and what is too thin for their grains."""

from collections.abc import Iterator

from ...edits import liquids
from ...edits.channels import set_value
from ...evaluate.evaluator import Evaluator
from ...fields.force import giving
from ...geometry.caps import rims_of
from ...geometry.pieces import is_closed
from ...kinds.fields import ACCELERATION, FLOOR, SOLID
from ...scene.document import Thing
from ...scene.scene import Scene, Snapshot
from ...units import format_bytes, format_length
from .remark import Remark, check, things_by_kind


def _fills(scene):
    """(liquid, Fill layer, the subject that it fills)."""
    for layer, liquid in things_by_kind(scene.doc).get("fill", ()):
        held = scene.doc.find(layer.constant("on"))
        if held is not None and held.mesh is not None and layer.constant("where") == "inside":
            yield liquid, layer, held


def _colliders(scene):
    return giving(scene.doc, SOLID, FLOOR)


@check("liquid")
def falls_through(scene: Scene | Snapshot, liquid: Thing, _owner: None) -> Iterator[Remark]:
    if not giving(scene.doc, ACCELERATION) or _colliders(scene):
        return
    vessel = next((s for l, _, s in _fills(scene) if l is liquid), None)
    mend, fix = "Add a ground or a collider.", None
    if vessel is not None:
        mend = f"Let {vessel.name} hold it: a hollow collider of its mesh."
        fix = (f"Let {vessel.name} hold it", lambda s, i=vessel.id: liquids.hold(s, i))
    words = f"{liquid.name} meets nothing that is solid."
    yield Remark("warning", liquid.id, words, "It falls through everything.", mend, fix)


@check()
def is_cast_out(scene: Scene | Snapshot) -> Iterator[Remark]:
    for liquid, _, vessel in _fills(scene):
        for collider in (t for t in scene.doc.of_kind("collider") if t.on):
            if collider.constant("shape") != "mesh" or collider.constant("hollow"):
                continue
            if collider.constant("subject") != vessel.id:
                continue
            if is_closed(scene.mesh(vessel.mesh).triangles):
                words = f"{vessel.name} is solid inside, and {liquid.name} fills it."
                fix = (f"Make {vessel.name} hollow", lambda s, i=vessel.id: liquids.hold(s, i))
                yield Remark("error", collider.id, words, "There is no room for it.", "Switch Hollow on.", fix)


@check()
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


@check()
def does_not_float(scene: Scene | Snapshot) -> Iterator[Remark]:
    """Bodies that a liquid meets, and that feel nothing of it."""
    by_kind = things_by_kind(scene.doc)
    solid = {t.constant("subject") for t, _ in by_kind.get("collider", ())}
    met = [s for s in liquids.floats(scene.doc) if s.id in solid]
    named = {t.constant("liquid") for t, _ in by_kind.get("immersion", ())}
    for liquid, _ in by_kind.get("liquid", ()) if met else ():
        if liquid.id not in named:
            words = f"{met[0].name} pushes {liquid.name} aside, and feels nothing of it."
            fix = (f"Let bodies float in {liquid.name}", lambda s, i=liquid.id: liquids.immerse(s, i))
            yield Remark("note", liquid.id, words, "It sinks as in air.", "Add an immersion.", fix)


@check("immersion")
def names_no_liquid(scene: Scene | Snapshot, force: Thing, _owner: None) -> Iterator[Remark]:
    if scene.doc.find(force.constant("liquid")) is None:
        words = f"{force.name} names no liquid."
        yield Remark("warning", force.id, words, "Nothing floats.", "Choose one under “In”.")


@check("liquid", worked_out=True)
def is_heavy(evaluator: Evaluator, liquid: Thing, _owner: None) -> Iterator[Remark]:
    """How many grains, memory and time it will be, where that is much."""
    many = evaluator.swarms.expected(liquid) if liquid.stack else 0
    if many > 60_000:
        bytes_, seconds = liquid.declared.a_frame(many)
        words = f"{liquid.name} will have about {many:,} grains."
        causes = f"A frame takes some {seconds:.0f} s and {format_bytes(bytes_)}."
        yield Remark("note", liquid.id, words, causes, "Let grains be further apart while you try.")


@check("grain_skin")
def is_printed_as_a_draft(scene: Scene | Snapshot, layer: Thing, liquid: Thing) -> Iterator[Remark]:
    prints = (p for p in scene.doc.prints if p.on and p.declared is not None)
    if layer.constant("quality") == "draft" and any(p.declared.takes_surface for p in prints):
        words = f"{layer.name} of {liquid.name} is a draft, and is printed."
        fix = ("Make it final", lambda s, i=layer.id: set_value(s, i, "quality", "final"))
        yield Remark("note", layer.id, words, "The file is coarser than it may be.", "Choose Final.", fix)
