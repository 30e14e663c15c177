"""Remarks on cloth as it is solved: what it goes through, and where it is longer than it may be."""

from collections.abc import Iterator

import numpy as np

from ... import edits as do
from ...evaluate.evaluator import Evaluator
from ...evaluate.run import Run
from ...solve.cloth.kind import ALARM
from ...solve.contact.soup import solids_of
from ...solve.ensemble import EnsembleInputs
from ...units import format_length
from .remark import Remark, check

COLUMNS = ("crossings", "of")  # what is read of a frame


def _crossed(evaluator: Evaluator, run: Run) -> dict[int, tuple[int, np.ndarray]]:
    """Frame -> (crossings, (c, 2) of what) of the solved frames in which something crosses."""
    found = {}
    for at in range(evaluator.doc.solved_from, evaluator.doc.solved_to + 1):
        frame = evaluator.runs.kept(run, at, COLUMNS)
        count = int(frame["report"]["crossings"][0]) if frame is not None and len(frame["report"]) else 0
        if frame is not None and count:
            found[at] = count, frame["crossings"]["of"]
    return found


def _names(evaluator: Evaluator, run: Run, at: int) -> list[str]:
    """Names of what a cloth may meet, in the order of its soup: cloths first."""
    inputs = evaluator.runs.inputs(run, at)
    cloths = [m.name for m in inputs.members] if isinstance(inputs, EnsembleInputs) else [run.members[0][0].name]
    return cloths + [s.name for s in solids_of(inputs.world.colliders, {})]


def _pair_in_words(names: list[str], one: int, other: int) -> str:
    one_name, other_name = (names[k] if k < len(names) else "a collider" for k in (one, other))
    return f"{one_name} itself" if one == other else f"{one_name} and {other_name}"


@check(worked_out=True)
def goes_through(evaluator: Evaluator) -> Iterator[Remark]:
    for run in evaluator.runs.every():
        found = _crossed(evaluator, run) if run.alarm is ALARM else {}
        if not found:
            continue
        first, worst = min(found), max(found, key=lambda at: found[at][0])
        names = _names(evaluator, run, first)
        pairs = {tuple(sorted(pair)) for pair in found[first][1].tolist()}
        words = sorted(_pair_in_words(names, *pair) for pair in pairs)
        more = f", {found[worst][0]:,} at frame {worst}" if worst != first else ""
        yield Remark(
            "warning",
            run.id,
            f"{run.name} goes through something in {len(found):,} frames: first at {first} ({', '.join(words[:3])}), "
            f"in {found[first][0]:,} places{more}.",
            "It shows as cloth that pokes through, and what crosses stays crossed.",
            "Give it a finer mesh, more thickness or a slower collider; begin it from a shape that crosses nothing.",
            frame=first,
        )


STATE = ("position", "velocity")


@check(worked_out=True)
def starts_with_a_jump(evaluator: Evaluator) -> Iterator[Remark]:
    """The first step goes further off the speed that it began with than its thickness, and than the steps after it."""
    doc = evaluator.doc
    begun = doc.solved_from
    if begun + 1 < doc.start:
        return  # nobody sees it
    more = round(doc.frame_rate)
    run_up = (f"Add {more} frames of run-up", lambda scene: do.set_range(scene, run_up=scene.doc.run_up + more))
    for run in evaluator.runs.every():
        kept = [evaluator.runs.kept(run, begun + k, STATE) for k in range(5)] if run.alarm is ALARM else [None]
        if any(frame is None for frame in kept):
            continue
        x = [frame["points"]["position"].astype(float) for frame in kept]
        if len({p.shape for p in x}) > 1:
            continue
        bend = lambda a, b, c: float(np.linalg.norm(c - 2 * b + a, axis=1).max(initial=0))
        back = x[0] - kept[0]["points"]["velocity"] / doc.frame_rate
        jump, usual = bend(back, x[0], x[1]), max(bend(*x[k : k + 3]) for k in (1, 2))
        thickness = min(float(layer.constant("thickness")) for _, layer in run.members)
        if jump <= max(thickness, 2 * usual):
            continue
        yield Remark(
            "warning",
            run.id,
            f"{run.name} begins with a jump of {format_length(jump)} in its first frame.",
            "What holds it, or acts on it, is not where it was as this start was adopted.",
            "Add a run-up, so that it is over before the first frame; or let what acts ease in over more frames.",
            fix=run_up,
            frame=begun + 1,
        )
