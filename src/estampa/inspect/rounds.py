"""Solved loops: what drives them goes round, the run-up grows until rounds agree, and what stays open is faded."""

from dataclasses import dataclass

import numpy as np

from ..errors import Cancelled, EstampaError
from ..evaluate.evaluator import Evaluator
from ..scene.document import Document, Thing
from ..scene.limits import MOST_RUN_UP
from ..scene.scene import Scene
from ..units import format_length
from .closing import offers, with_keys_round

AGREES = 1e-4  # m; two rounds that differ less, and by less than ten times that a second, are one motion
MOST_ROUNDS = 8  # of run-up
NEARER = 0.7  # of the gap two rounds ago; a gap that does not fall to this does not get nearer
FADE = 12  # frames, at the least


@dataclass(frozen=True)
class Closed:
    """A document whose solved loops close, and what that took."""

    doc: Document
    drivers: tuple[str, ...]  # words: what was made to go round
    rounds: int  # of run-up
    gap: float  # m, between the loop's end and its start after that run-up
    fade: int  # frames over which the rest is faded
    change: float  # m by which the fade moves anything
    held_back: tuple[str, ...]  # names of what is solved and cannot be faded

    def words(self) -> str:
        made = f"{len(self.drivers)} made to go round; " if self.drivers else ""
        often = f"{self.rounds} round{'' if self.rounds == 1 else 's'} of run-up"
        if not self.fade:
            return f"{made}{often}: end and start are {format_length(self.gap)} apart"
        rest = f"the last {self.fade} frames are faded into what came before, by up to {format_length(self.change)}"
        left = f". {', '.join(self.held_back)} cannot be faded, since rows come and go" if self.held_back else ""
        return f"{made}{often} leave {format_length(self.gap)}; {rest}{left}"


def close_solved(
    scene: Scene,
    store=None,
    fade: int | None = None,
    within: float = AGREES,
    most_rounds: int = MOST_ROUNDS,
    progress=lambda share, words: None,
    cancelled=lambda: False,
) -> Closed:
    """Work out how the solved things of a scene close their loop. Nothing is changed yet: see `put`.

    fade -- frames over which what stays open is faded, a third of the loop and 12 at the least unless told; 0 leaves it
    open. within -- metres. Raises EstampaError where nothing is solved or no loop is chosen, and Cancelled.
    """
    doc = scene.doc
    if doc.loop is None:
        raise EstampaError("The loop", "is not chosen.", "Tick Loop from, and give the frame that comes again.")
    if not _solved(Evaluator(doc, scene, store)):
        raise EstampaError("The scene", "has nothing that is solved.", "Close the seam by the offers.")
    first, last = doc.loop
    round_ = last - first
    fade = max(FADE, round_ // 3) if fade is None else fade
    drivers = [o for o in offers(doc, min(fade or FADE, round_)) if o.thing]
    for offer in drivers:
        doc = offer.applied(doc)
    doc, cycled = with_keys_round(doc)
    tried, gaps = 0, []
    while tried < most_rounds:
        more = min(2 if not tried else 2 * tried, most_rounds)
        run_up = doc.start - first + more * round_
        if run_up > MOST_RUN_UP:
            break
        tried = more
        evaluator = Evaluator(doc.with_(run_up=max(run_up, 0)), scene, store)
        step = lambda share, words, n=more: progress(0.9 * n / most_rounds * share, f"{n} rounds: {words}")
        evaluator.solve_through(last + 1, step, cancelled)
        gaps = _gaps(evaluator, [first - k * round_ for k in range(more, -2, -1)])
        if min(gaps) <= within or not _nearer(gaps):
            break
    if not gaps:
        words = f"is {round_:,} frames long, and no round of run-up can be solved before it."
        raise EstampaError("The loop", words, f"Shorten it: a run-up has {MOST_RUN_UP:,} frames at the most.")
    close = [k for k, gap in enumerate(gaps) if gap <= within]
    rounds = close[0] if close else int(np.argmin(gaps[1:])) + 1
    doc = doc.with_(run_up=max(doc.start - first + rounds * round_, 0), fade=0)
    gap, change = gaps[rounds], 0.0
    left: tuple[str, ...] = ()
    if gap > within and fade:
        doc = doc.with_(fade=min(fade, round_ - 1))
        if cancelled():
            raise Cancelled
        change, left = _change(scene, store, doc, lambda share, words: progress(0.9 + 0.1 * share, words), cancelled)
    return Closed(doc, (*(o.words for o in drivers), *cycled), rounds, gap, doc.fade, change, left)


def put(scene: Scene, closed: Closed) -> None:
    """Take over what closes the solved loops, in one step of the history."""
    scene.apply("Close solved loops", closed.doc)


def _solved(evaluator: Evaluator) -> list[Thing]:
    """What is solved, each once."""
    return list({owner.id: owner for run in evaluator.runs.every() for owner, _ in run.members}.values())


def _gaps(evaluator: Evaluator, frames: list[int]) -> list[float]:
    """m between each of these frames and the next, or a tenth of what their speeds differ by in m/s; the largest of all
    that is solved."""
    found = []
    for thing in _solved(evaluator):
        looks = [[_points(evaluator, thing, f + k) for k in (0, 1)] for f in frames]
        found.append([_gap(*pair, evaluator.doc.frame_rate) for pair in zip(looks, looks[1:], strict=False)])
    return [max(column) for column in zip(*found, strict=True)]


def _points(evaluator: Evaluator, thing: Thing, frame: int) -> np.ndarray:
    """(n, 3) m by which a seam is judged."""
    found = evaluator.owner(thing).posed(thing, float(frame))
    return np.zeros((0, 3)) if found is None else found[0]


def _gap(one, other, rate) -> float:
    if len({p.shape for p in (*one, *other)}) > 1:
        return float("inf")
    pose, after = (np.linalg.norm(b - a, axis=1).max(initial=0) for a, b in zip(one, other, strict=True))
    speed = rate * np.linalg.norm((other[1] - other[0]) - (one[1] - one[0]), axis=1).max(initial=0)
    return float(max(pose, after, 0.1 * speed))


def _nearer(gaps: list[float]) -> bool:
    """Whether rounds still come nearer to one another."""
    half = len(gaps) // 2
    return min(gaps[half:]) < NEARER * min(gaps[:half])


def _change(scene, store, doc, progress, cancelled) -> tuple[float, tuple[str, ...]]:
    """(m by which the fade moves anything, names of what it cannot fade)"""
    plain, faded = Evaluator(doc.with_(fade=0), scene, store), Evaluator(doc, scene, store)
    last, most, left = doc.loop_range[1], 0.0, []
    plain.solve_through(last + 1, progress, cancelled)
    for thing in _solved(faded):
        own = 0.0
        for frame in range(last - doc.fade + 1, last + 1):
            a, b = (_points(e, thing, frame) for e in (plain, faded))
            own = max(own, float(np.linalg.norm(a - b, axis=1).max(initial=0)) if a.shape == b.shape else np.inf)
        ends = [_points(faded, thing, f) for f in doc.loop_range]
        if ends[0].shape != ends[1].shape or np.linalg.norm(ends[0] - ends[1], axis=1).max(initial=0) > AGREES:
            left.append(thing.name)
        else:
            most = max(most, own)
    return most, tuple(left)
