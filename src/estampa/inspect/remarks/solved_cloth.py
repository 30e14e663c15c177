"""Remarks on cloth as it is solved: what it goes through, and where it is longer than it may be."""

from collections.abc import Iterator
from functools import partial

import numpy as np

from ... import edits as do
from ...edits.cloth import untangle_from
from ...evaluate.evaluator import Evaluator
from ...evaluate.run import Run
from ...scene.scene import Scene
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
            "Untangle it from the next frame; or give it a finer mesh, more thickness or a slower collider.",
            fix=(f"Untangle from frame {first + 1}", partial(_untangle, run, first + 1)),
            frame=first,
        )


def _untangle(run: Run, frame: int, scene: Scene) -> None:
    owner, layer = run.members[0]
    untangle_from(scene, owner.id, layer.id, frame)


@check(worked_out=True)
def cannot_be_untangled(evaluator: Evaluator) -> Iterator[Remark]:
    for run in evaluator.runs.every():
        aids = [a for o, l in run.members for a in evaluator.aids(o, l) if getattr(a.declared, "undoes", False)]
        found = _crossed(evaluator, run) if aids and run.alarm is ALARM else {}
        for aid in aids:
            done = max(int(aid.constant("at")), evaluator.doc.solved_from + 1) + int(aid.constant("over"))
            if done in found:
                yield Remark(
                    "warning",
                    aid.id,
                    f"{aid.name} leaves {found[done][0]:,} crossings of {run.name} at frame {done}.",
                    "No way out was found: what is linked, or held across, cannot be undone by moving it aside.",
                    "Let go what holds it, begin it from a shape that crosses nothing, or part what is linked.",
                    frame=done,
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
        every = [evaluator.runs.kept(run, begun + k, STATE) for k in range(5)] if run.alarm is ALARM else []
        kept = [frame for frame in every if frame is not None]
        if len(kept) < 5:
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


SHARP = np.radians(120)  # an edge that is bent further is folded over
IN_A_FOLD = 4  # edges that a fold of the cloth's own thickness wants
MUCH = 1.2  # limits of the yarns


@check(worked_out=True)
def folds_too_tightly(evaluator: Evaluator) -> Iterator[Remark]:
    """Where a solved cloth crosses, or is longer than it may be, and is folded over single edges there."""
    for run in evaluator.runs.every():
        worst = _worst_frame(evaluator, run) if run.alarm is ALARM else None
        frame = evaluator.runs.kept(run, worst, STATE) if worst is not None else None
        if frame is None:
            continue
        for owner, layer in run.members:
            mesh = evaluator.topology.sized(owner, layer)
            place = frame["points"].own(layer.id)["position"].astype(float)
            if len(place) != mesh.count:
                continue
            bent = int(np.count_nonzero(bends(place, mesh.triangles) > SHARP))
            edge = float(np.median(np.linalg.norm(np.diff(mesh.points[mesh.edges], axis=1), axis=2)))
            wanted = np.pi * float(layer.constant("thickness")) / IN_A_FOLD
            levels = int(np.ceil(np.log2(max(edge / wanted, 1))))
            if bent and levels:
                yield Remark(
                    "warning",
                    layer.id,
                    f"{owner.name} is folded more tightly than its mesh has edges for: over {bent:,} single edges at "
                    f"frame {worst}.",
                    "Edges are stretched and go through one another there.",
                    f"Its edges are {format_length(edge)} long; a fold as thick as it wants {format_length(wanted)}: "
                    f"put a Refine of {levels} {'level' if levels == 1 else 'levels'} above it, or make it thicker.",
                    frame=worst,
                )


def _worst_frame(evaluator: Evaluator, run: Run) -> int | None:
    """The solved frame in which the most crosses, or edges are the longest, of those in which that is too much."""
    limit = min(float(layer.constant("limit")) for _, layer in run.members)
    found = {}
    for at in range(evaluator.doc.solved_from, evaluator.doc.solved_to + 1):
        frame = evaluator.runs.kept(run, at, ("crossings", "stretch"))
        if frame is not None and len(frame["report"]):
            crossed, stretch = (float(frame["report"][n][0]) for n in ("crossings", "stretch"))
            if crossed or stretch > MUCH * limit:
                found[at] = crossed, stretch
    return max(found, key=lambda at: found[at]) if found else None


def bends(points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(e,) rad by which the two triangles at each inner edge are turned against each other; 0 is flat."""
    sides = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).astype(np.int64)
    key = np.sort(sides, axis=1) @ [len(points), 1]
    order = np.argsort(key, kind="stable")
    of = np.tile(np.arange(len(triangles)), 3)[order]
    two = np.flatnonzero(key[order][1:] == key[order][:-1])
    corners = points[triangles]
    normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    return np.arccos(np.clip((normal[of[two]] * normal[of[two + 1]]).sum(axis=1), -1, 1))
