"""What plays on the stage: one file, that says what is seen at a moment of its own time."""

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np

from ..formats.bounds import in_words
from ..geometry.material import Material

CLOSED = 1e-5  # m, within which a last pose is the first one again


@dataclass(frozen=True)
class PlayedShape:
    """A mesh as it is seen: points (n, 3) m; triangles (t, 3); colour in linear light; stand (k, 4, 4) where it is in
    several places; ids (k,) of these; material, and where the corners of triangles lie in its picture (t, 3, 2)."""

    points: np.ndarray
    triangles: np.ndarray
    colour: tuple[float, float, float] = (0.8, 0.77, 0.71)
    stand: np.ndarray | None = None
    ids: np.ndarray | None = None
    material: Material | None = None
    uv: np.ndarray | None = None

    def refuse_nonsense(self) -> None:
        """Raises ValueError for what is no number, or names a point that is not there."""
        for numbers in (self.points, self.stand):
            if numbers is not None and not np.isfinite(numbers).all():
                raise ValueError("places that are no numbers")
        corners = np.asarray(self.triangles)
        if corners.size and not (0 <= corners.min() and corners.max() < len(self.points)):
            raise ValueError("triangles of points that are not there")

    def in_world(self) -> np.ndarray:
        """(n, 3) m, or (k n, 3) of all places one after another."""
        if self.stand is None:
            return self.points
        at = np.einsum("kij,nj->kni", self.stand[:, :3, :3], self.points) + self.stand[:, None, :3, 3]
        return at.reshape(-1, 3)


MARK = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 2.0], [0, 0, -1]])  # ahead is +Z
SIDES = np.array([[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]])
MOST_COLOURS = 64  # that places of one mesh are told apart by


def by_colour(colours: np.ndarray) -> list[tuple[tuple[float, float, float], np.ndarray]]:
    """(colour in linear light, rows) of places with colours (k, 3): what is nearly alike is one, of many."""
    for steps in (1024, 32, 12, 6, 3):
        near = np.round(np.sqrt(np.clip(colours, 0, None)) * steps)  # as even to the eye as linear light is not
        kinds, first, which = np.unique(near, axis=0, return_index=True, return_inverse=True)
        if len(kinds) <= MOST_COLOURS or steps == 3:
            break
    which = which.ravel()
    return [(tuple(map(float, colours[first[k]])), np.flatnonzero(which == k)) for k in range(len(kinds))]


def once(shown: list[PlayedShape]) -> list[PlayedShape]:
    """Those whose vertices none before them has: parts of one mesh share theirs."""
    return [s for k, s in enumerate(shown) if not any(s.points is t.points for t in shown[:k])]


@dataclass(frozen=True)
class PlayedClip:
    """A stretch of an actor's own time: seconds from first to last."""

    name: str
    first: float
    last: float
    loops: bool = False

    @property
    def seconds(self) -> float:
        return self.last - self.first


@dataclass
class Actor:
    """Base of what plays. name -- of its file; clips -- at least one; step -- s from one frame to the next."""

    name: str
    clips: list[PlayedClip] = field(default_factory=list)
    step: float = 1 / 24
    left: list[str] = field(default_factory=list)  # what it has that is not shown, in words
    _periods: dict[PlayedClip, float] = field(default_factory=dict)

    def shown(self, clip: PlayedClip, seconds: float) -> list[PlayedShape]:
        """What is seen so many seconds into a clip. Raises EstampaError where the file is damaged there."""
        with in_words(self.name):
            found = list(self.seen(clip, seconds))
            for shown in found:
                shown.refuse_nonsense()
        return found

    def seen(self, clip: PlayedClip, seconds: float) -> Iterable[PlayedShape]:
        """The same, as each sort of file has it; it may stumble."""
        raise NotImplementedError

    def memory(self) -> int:
        """Bytes that it takes on a graphics card, about: what its file holds as numbers."""
        raise NotImplementedError

    def period(self, clip: PlayedClip) -> float:
        """s that a round of a clip takes: from its first frame to its last where that is the first pose again, else a
        step longer, after which the first comes again."""
        if clip not in self._periods:
            first, last = self.points(clip, 0.0), self.points(clip, clip.seconds)
            closes = first.shape == last.shape and np.abs(first - last).max(initial=0.0) < CLOSED
            moves = clip.seconds > 2 * self.step
            self._periods[clip] = clip.seconds if closes and moves else clip.seconds + self.step
        return self._periods[clip]

    def points(self, clip: PlayedClip, seconds: float) -> np.ndarray:
        """(n, 3) m, all that is seen, one after another; parts of one mesh that share their vertices count once."""
        found = [s.in_world() for s in once(self.shown(clip, seconds))]
        return np.concatenate(found) if found else np.zeros((0, 3))


@dataclass
class PlayedPart:
    """An actor on the stage: which clip it plays, how fast (negative plays backwards), whether it goes round, when it
    began and how far it was then; what it fades from."""

    actor: Actor
    clip: PlayedClip
    speed: float = 1.0
    loop: bool = True
    began: float = 0.0
    at: float = 0.0  # s into the clip as it began
    faded: "PlayedPart | None" = None
    fade: float = 0.0  # s

    def own(self, now: float) -> float:
        """s into the clip at a moment of the stage."""
        gone, long = self.at + self.speed * (now - self.began), self.clip.seconds
        if self.loop and long > 0:
            return float(np.mod(gone, self.actor.period(self.clip)))
        return float(np.clip(gone, 0.0, long))

    def points(self, now: float) -> np.ndarray:
        """(n, 3) m; while it fades, between what it was and what it becomes."""
        to = self.actor.points(self.clip, self.own(now))
        if self.faded is None or now >= self.began + self.fade:
            return to
        share = (now - self.began) / max(self.fade, 1e-9)
        before = self.faded.points(now)
        return before + share * (to - before) if before.shape == to.shape else to

    def play(
        self, clip: PlayedClip, now: float, fade: float = 0.0, speed: float = 1.0, loop: bool = True
    ) -> "PlayedPart":
        """The part from now on: another clip, cross-faded over so many seconds. Backwards it begins at its end."""
        at = clip.seconds if speed < 0 else 0.0
        return PlayedPart(self.actor, clip, speed, loop, now, at, self if fade > 0 else None, fade)
