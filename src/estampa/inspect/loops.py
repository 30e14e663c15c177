"""Loops: how far a loop's end is from its start, in pose, turn and speed, and between frames."""

from dataclasses import dataclass
from functools import cache

import numpy as np

from ..evaluate.evaluator import Evaluator
from ..scene.copies import only_in_copies
from ..scene.document import Thing
from ..scene.values import Rows

MOST_JOINTS, LISTED = 400, 8  # joints whose seams are looked at, and that are listed
HALVES = np.arange(-12, 13)  # half frames about a seam


@dataclass(frozen=True)
class Seam:
    """The difference between a loop's end and its start, for a subject, its copies, or a thing that only stands."""

    thing: str  # id
    name: str
    pose: float  # m, the largest distance of a vertex
    turn: float  # rad, between how it stands at both ends
    speed: float  # m/s, the largest difference of a vertex's velocity
    where: str  # words: where it is largest
    solved: bool = True
    between: float = 0.0  # m, the largest swing off its course between frames beside the seam

    @property
    def closed(self) -> bool:
        """Within a tenth of a millimetre and a millimetre a second, which no eye sees; between frames by a millimetre,
        since there a lively motion swings by itself."""
        still = max(self.pose, self.turn) < 1e-4 and max(self.speed, self.between) < 1e-3
        return self.solved and still


def seams(evaluator: Evaluator, seen_from: Thing | None = None) -> list[Seam]:
    """The seam of each subject that is on, and of each set of copies; measured from a thing that may move."""
    found = []
    for thing in judged(evaluator):
        owner = evaluator.owner(thing)
        at = cache(lambda frame, owner=owner, thing=thing: owner.posed(thing, frame))
        whole = _seam(evaluator, thing, at, seen_from)
        found += [whole, *_parts(evaluator, owner, thing, at, seen_from, whole)]
    return found


def judged(evaluator: Evaluator) -> list[Thing]:
    """The things by which the seam of a scene is judged: those that are on, are seen by themselves, and may move."""
    hidden, first = only_in_copies(evaluator.doc), evaluator.doc.loop_range[0]
    seen = (t for t in evaluator.doc.things if t.on and t.id not in hidden and t.declared is not None)
    return [t for t in seen if evaluator.owner(t).posed(t, first) is not None]


def _parts(evaluator, owner, thing, at, seen_from, whole: Seam) -> list[Seam]:
    """Those of its parts that are the most open, where it does not close."""
    if whole.closed or not whole.solved:
        return []
    found = []
    for i, part in enumerate(owner.judged_parts(thing)[:MOST_JOINTS]):
        own = lambda f, i=i: (at(f)[0][i : i + 1], at(f)[1][i : i + 1], at(f)[2])
        found.append(_seam(evaluator, part, own, seen_from))
    return sorted((s for s in found if not s.closed), key=lambda s: -s.pose)[:LISTED]


def _seam(evaluator, thing, at, seen_from):
    first, last = evaluator.doc.loop_range

    def look(frame):
        points, axes, is_current = at(frame)
        if seen_from is not None:
            back = evaluator.values.place(seen_from, Rows.one(frame)).inverse()
            points, axes = back.apply(points[None])[0], back.axes @ axes
        return points, axes, is_current

    solved_motion = evaluator.owner(thing).is_solved(thing)
    # on whole frames where something is solved; else so close that a quick motion is not taken for a seam
    step = 1.0 if solved_motion else 1 / 1024
    frames = [first, first + step, first + 2 * step, last - 2 * step, last - step, last]
    looked = [look(f) for f in frames]
    p = [l[0] for l in looked]
    if not len(p[0]):
        return Seam(thing.id, thing.name, 0.0, 0.0, 0.0, "no copies")
    gap = np.linalg.norm(p[5] - p[0], axis=1)
    # one-sided differences of second order: right for any parabola
    begin, end = (-3 * p[0] + 4 * p[1] - p[2]) / 2, (3 * p[5] - 4 * p[4] + p[3]) / 2
    jump = np.linalg.norm(begin - end, axis=1) * evaluator.doc.frame_rate / step
    if solved_motion:  # it is sampled too coarsely for that: what follows the end must be what follows the start
        following = look(last + 1)
        if following[2]:
            after = np.linalg.norm((following[0] - p[5]) - (p[1] - p[0]), axis=1) * evaluator.doc.frame_rate
            jump = np.minimum(jump, after)
    between = np.einsum("kji,kjl->kil", looked[0][1], looked[5][1])
    turn = np.arccos(np.clip((np.trace(between, axis1=1, axis2=2) - 1) / 2, -1, 1))
    worst = int(gap.argmax() if gap.max() > 1e-9 else jump.argmax())
    where = evaluator.owner(thing).point_name(thing, worst, len(p[0]), len(turn))
    solved = all(l[2] for l in looked)
    if not solved:
        return Seam(thing.id, thing.name, np.nan, np.nan, np.nan, "it is not solved there yet", False)
    swing = 0.0 if solved_motion or gap.max() > 1e-4 else swing_at([look(f)[0] for f in _beside(first, last)])
    return Seam(thing.id, thing.name, float(gap.max()), float(turn.max()), float(jump.max()), where, solved, swing)


def _beside(first: int, last: int) -> np.ndarray:
    """Half frames about a seam, as they are played: up to the end, then on from the start."""
    return np.where(HALVES <= 0, last + HALVES / 2, first + HALVES / 2)


def swing_at(looked: list[np.ndarray]) -> float:
    """m: how much more what is played swings between the two frames on each side of a seam than between those beyond.

    looked -- points (n, 3) at the half frames about it. A swing is the distance, half way between two frames, from the
    cubic through these and the next on each side; a smooth motion has hardly any.
    """
    p = np.stack(looked)
    whole, half = p[::2], p[1::2]
    cubic = (9 * (whole[1:-2] + whole[2:-1]) - whole[:-3] - whole[3:]) / 16
    swings = np.linalg.norm(half[1:-1] - cubic, axis=2)
    middle = len(swings) // 2  # the first beyond the seam
    inner, outer = swings[middle - 1 : middle + 1], np.delete(swings, [middle - 1, middle], axis=0)
    return float(np.maximum(inner.max(axis=0) - 3 * outer.max(axis=0), 0.0).max(initial=0.0))
