"""Remarks on bodies as they are solved: how they are held together, what they pass through, and how unlike they are."""

from collections.abc import Iterator
from itertools import combinations

import numpy as np

from ...evaluate.evaluator import Evaluator
from ...evaluate.run import Run
from ...lazy import spatial
from ...solve.bodies.limbs import Limbs
from ...solve.bodies.model import Model
from ...solve.ensemble import EnsembleInputs
from ...solve.frame import ALL_BUT_BLOB
from ...units import format_length, format_value
from .remark import Remark, check

UNLIKE = 10_000.0  # times as large as the smallest that moves, up to which both rest right (measured on boxes)
LOOKED_AT = 24  # frames, of all that are solved
DEEP = 0.03  # of its height, from where on a figure begins under a ground
INSIDE = 0.5  # of the sum of two half sizes, within which one body is in another


def _runs(evaluator: Evaluator) -> Iterator[Run]:
    for run in evaluator.runs.every():
        if run.thing.kind == "bodies":
            yield run


def _crowd(evaluator: Evaluator, run: Run) -> EnsembleInputs:
    inputs = evaluator.runs.inputs(run, evaluator.doc.solved_from)
    assert isinstance(inputs, EnsembleInputs)
    return inputs


def _model(evaluator: Evaluator, run: Run) -> Model:
    return Model.of(_crowd(evaluator, run))


@check(worked_out=True)
def breaks_by_its_own_weight(evaluator: Evaluator) -> Iterator[Remark]:
    for run in _runs(evaluator):
        frame = evaluator.runs.kept(run, evaluator.doc.solved_from, ALL_BUT_BLOB)
        if frame is None:
            continue
        bears, borne = (float(frame["report"][name][0]) for name in ("bears", "borne"))
        if 0 < bears < 1:
            yield Remark(
                "warning",
                run.id,
                f"What is bonded in {run.name} breaks by its own weight: it bears {bears:.2g} of it, which pulls by "
                f"{format_value(borne, 'stress', 3)} where it pulls most.",
                "It falls apart as soon as it is let go.",
                "Raise what its bonds hold (a material of the Body says how much), or make it lighter.",
            )


@check(worked_out=True)
def sizes_far_apart(evaluator: Evaluator) -> Iterator[Remark]:
    for run in _runs(evaluator):
        model = _model(evaluator, run)
        if not model.solved.any() or model.largest <= UNLIKE * model.smallest:
            continue
        sizes = model.across
        moves = np.flatnonzero(model.solved)
        small, large = (model.parts[moves[pick(sizes[moves])]][0].name for pick in (np.argmin, np.argmax))
        yield Remark(
            "warning",
            run.id,
            f"{large} is {format_length(model.largest)} across, {small} {format_length(model.smallest)}: "
            f"{model.largest / model.smallest:,.0f} times.",
            "They are solved in single precision by the size of the smallest: the largest may shake or rise.",
            "Solve the small ones in bodies of their own, or join crumbs to their neighbours (Join smaller than).",
        )


@check(worked_out=True)
def figures_that_begin_in_something(evaluator: Evaluator) -> Iterator[Remark]:
    for run in _runs(evaluator):
        crowd = _crowd(evaluator, run)
        for seen in crowd.members:
            if seen.limbs is None or not len(seen.limbs.joint):
                continue
            a, b, radius = seen.limbs.capsules(seen.stood[0])
            tall = float(np.ptp(np.concatenate([a, b]), axis=0).max())
            low = float((np.minimum(a[:, 1], b[:, 1]) - radius).min())
            under = max((floor.height - low for floor in crowd.world.floors), default=0.0)
            if under > DEEP * tall:
                yield Remark(
                    "warning",
                    seen.id,
                    f"{seen.name} begins {format_length(under)} under the ground.",
                    "It is let out slowly before it falls.",
                    "Lift it, or let it go limp later.",
                )
            folded = _folded(seen.limbs, a, b, radius)
            if folded:
                yield Remark(
                    "note",
                    seen.id,
                    f"{', '.join(folded[:3])} of {seen.name} begin within other limbs.",
                    "Those two never meet in this solve.",
                    "Pose them apart at the frame at which it goes limp.",
                )


def _folded(limbs: Limbs, a: np.ndarray, b: np.ndarray, radius: np.ndarray) -> list[str]:
    """Names of the joints of limbs whose capsules' middles lie in those of limbs that are no neighbours."""
    middle, of, parent = (a + b) / 2, limbs.capsule_of, limbs.parent
    apart = np.linalg.norm(middle[:, None] - middle[None], axis=2)
    near = apart < 0.7 * np.minimum(radius[:, None], radius[None])
    i, j = of[:, None], of[None]
    kin = (i == j) | (parent[i] == j) | (parent[j] == i) | ((parent[i] == parent[j]) & (parent[i] >= 0))
    which = np.unique(np.maximum(i, j)[near & ~kin])
    return [limbs.bones.joints[limbs.joint[k]].name for k in which]


@check(worked_out=True)
def passes_through_another(evaluator: Evaluator) -> Iterator[Remark]:
    runs = list(_runs(evaluator))
    first, last = evaluator.doc.solved_from, evaluator.doc.solved_to
    looked = np.unique(np.linspace(first, last, LOOKED_AT).astype(int)).tolist()
    half = {run.id: np.ptp(_model(evaluator, run).corners, axis=1).min(axis=1) / 2 for run in runs if len(runs) > 1}
    for a, b in combinations(runs, 2):
        for at in looked:
            frames = [evaluator.runs.kept(run, at, ALL_BUT_BLOB) for run in (a, b)]
            stood = [f["bodies"]["position"].astype(float) for f in frames if f is not None]
            if len(stood) < 2:
                break
            if _is_inside(stood[0], stood[1], half[a.id], half[b.id]):
                yield Remark(
                    "warning",
                    b.id,
                    f"{a.name} and {b.name} pass through one another, as at frame {at}.",
                    "Bodies that are solved apart do not meet.",
                    "Solve them together: choose the same under “Solved in”.",
                )
                break


def _is_inside(a: np.ndarray, b: np.ndarray, half_a: np.ndarray, half_b: np.ndarray) -> bool:
    """Whether a body of those at a (m, 3) m is within one of those at b (n, 3) m, by half their least sides."""
    reach = INSIDE * (half_a.max(initial=0.0) + half_b.max(initial=0.0))
    near = spatial.cKDTree(a).query_ball_point(b, reach)
    return any(
        (np.linalg.norm(a[own] - b[n], axis=1) < INSIDE * (half_a[own] + half_b[n])).any()
        for n, own in enumerate(near)
        if own
    )
