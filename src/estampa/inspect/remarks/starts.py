"""Remarks on what is begun from and kept: start states in which something finds no place, and clips that are stale."""

from collections.abc import Iterator

from ...baking.keys import stale_clips
from ...edits import clips
from ...evaluate.evaluator import Evaluator
from ...evaluate.starts import begun
from ...scene.document import Thing
from ...scene.scene import Scene
from .remark import Remark, check


@check(worked_out=True)
def begins_without_some(evaluator: Evaluator) -> Iterator[Remark]:
    for run in evaluator.runs.every():
        if run.thing.adopted is None:
            continue
        inputs = evaluator.runs.inputs(run, evaluator.doc.solved_from)
        solver = run.thing.declared()
        lost = begun(evaluator.scene.arrays, run.thing, solver.start(inputs), solver.rests(inputs))[1]
        if lost:
            words = ", ".join(f"{count:,} of its {name}" for name, count in lost.items())
            yield Remark(
                "warning",
                run.thing.id,
                f"{run.name} begins from {run.thing.adopted.words}, in which {words} find nothing to begin from.",
                "They begin from rest.",
                "Adopt a frame again (Start from this frame), or start from rest.",
            )


@check(worked_out=True)
def clip_is_stale(evaluator: Evaluator) -> Iterator[Remark]:
    for skeleton in evaluator.doc.skeletons:
        stale = stale_clips(evaluator, skeleton)
        for clip in (c for c in skeleton.clips if c.id in stale):
            yield Remark(
                "note",
                skeleton.id,
                f"The clip “{clip.name}” of {skeleton.name} was baked before something that it reads was changed.",
                "It is printed as it is, and no longer plays what the layers do.",
                "Bake it again under its name, remove it, or leave it if it was mended by hand since.",
            )


@check("skeleton")
def clip_moves_twice(scene: Scene, skeleton: Thing, owner: Thing | None) -> Iterator[Remark]:
    layers, clip = clips.twice_moved(skeleton), clips.present(skeleton)
    if layers and clip is not None:
        names = ", ".join(layer.name for layer in layers)
        yield Remark(
            "warning",
            skeleton.id,
            f"{skeleton.name} plays the clip “{clip.name}”, which was baked from {names}, while that is still on.",
            "It moves twice: by the keys, and by what they were baked from.",
            "Switch the layers off, or go back to live and play no clip.",
            fix=(f"Switch off {names}", lambda scene: clips.switch_off_baked(scene, skeleton.id)),
        )
