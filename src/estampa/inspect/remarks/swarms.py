"""Remarks on swarms: what is missing before anything is seen, and what does nothing as it is set."""

from collections.abc import Iterator

from ...edits import strips
from ...evaluate.evaluator import Evaluator
from ...fields.force import giving
from ...kinds.fields import FLOOR, SOLID
from ...scene.document import Thing
from ...scene.scene import Scene, Snapshot
from .remark import Remark, check


def _layers(scene):
    for swarm in scene.doc.swarms:
        if swarm.on:
            yield swarm, swarm.layers_on


@check()
def has_no_source(scene: Scene | Snapshot) -> Iterator[Remark]:
    for swarm, layers in _layers(scene):
        if not any(l.declared.is_source() for l in layers):
            yield Remark(
                "error", swarm.id, f"{swarm.name} has no source of grains.", "It stays empty.",
                "Add Sow for so many at once, or Emit for those that are born over time.",
            )  # fmt: skip


@check()
def does_nothing_as_it_goes(scene: Scene | Snapshot) -> Iterator[Remark]:
    """Layers for steps in a swarm by formula, and the other way round."""
    for swarm, layers in _layers(scene):
        formula = swarm.declared.by_formula(swarm)
        for layer in layers:
            kind = layer.declared
            if kind.dresses or kind.sows or kind.by_formula == formula:
                continue
            words = "goes by formula" if formula else "goes step by step"
            yield Remark(
                "warning", layer.id, f"{layer.name} does nothing: {swarm.name} {words}.", "It is left out.",
                f"Set “Goes” of {swarm.name} the other way, or switch the layer off.",
            )  # fmt: skip


@check("grain_show")
def shows_nothing(scene: Scene | Snapshot, layer: Thing, _swarm: Thing) -> Iterator[Remark]:
    held = scene.doc.find(layer.constant("subject"))
    if held is None or held.mesh is None:
        cure = "Choose one under “Subject”."
        yield Remark("note", layer.id, f"{layer.name} names no subject.", "Grains are drawn as small lumps.", cure)
    elif not len(scene.mesh(held.mesh).face_counts):
        words = f"{held.name}, which {layer.name} shows, has no faces."
        yield Remark("warning", layer.id, words, "Nothing is seen.", "Choose another subject.")


@check()
def falls_through(scene: Scene | Snapshot) -> Iterator[Remark]:
    """What falls needs something that stops it."""
    solid = giving(scene.doc, FLOOR, SOLID)
    for swarm, layers in _layers(scene):
        if solid and any(l.declared.pulls for l in layers) and not any(l.declared.stops for l in layers):
            yield Remark(
                "note", swarm.id, f"{swarm.name} falls, and meets nothing that is solid.",
                "It falls through the ground.", "Add Avoid what is solid, or Settle.",
            )  # fmt: skip


@check("flip", worked_out=True)
def strip_is_stale(evaluator: Evaluator, flip: Thing, strip: Thing) -> Iterator[Remark]:
    if strips.is_stale(evaluator, flip, len(strip.targets)):
        original = evaluator.doc.find(flip.constant("of")).name
        yield Remark(
            "warning", strip.id, f"{original} has changed since {strip.name} was frozen of it.",
            "The strip shows it as it was.", "Freeze it again (Rig menu).",
        )  # fmt: skip
