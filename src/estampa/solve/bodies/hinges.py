"""How the limbs of a ragdoll are tied: joints with limits, springs towards the pose that enters, and one that lifts."""

import numpy as np

from ...geometry import pose as turns
from ..frame import Table


class BodyHinges:
    """Of one skeleton in an ensemble; `Limits` holds them. Bodies keep the axes of the world as they were at first.

    Ties of the engine have numbers in the order in which they are made: of each limb that hangs on another one its
    hinge and its spring, from `number` on; those that lift come last.
    """

    def __init__(self, seen, first: int, centre: np.ndarray, mass: np.ndarray, number: int):
        limbs = seen.limbs
        self.id, self.limbs, self.span = seen.id, limbs, slice(first, first + len(limbs.joint))
        self.turn, self.at = limbs.stand(seen.stood[0])
        self.centre, self.number = centre[self.span], number
        self.tied = np.flatnonzero(limbs.parent >= 0)  # limbs that hang on another one
        self.size = max(float(np.ptp(self.centre, axis=0).max(initial=0.0)), 1e-3)
        self.mass = mass[self.span]
        k, p = self.tied, limbs.parent[self.tied]
        self.theirs = turns.product(turns.product(self.turn[p], limbs.rest[k]), limbs.along[k])  # X along the limb
        self.own = turns.product(self.turn[k], limbs.along[k])
        self.below = np.zeros((len(k), len(limbs.joint)), bool)  # what hangs on each hinge
        for n, limb in enumerate(k):
            self.below[n, limb] = True
            for j in range(len(limbs.joint)):  # limbs come after what they hang on
                self.below[n, j] |= limbs.parent[j] >= 0 and self.below[n, limbs.parent[j]]
        self.bears = self._borne()
        self.stiff = np.sqrt(limbs.stiffness[k])  # of Hz, as the stiffness goes by their square

    def _borne(self) -> np.ndarray:
        """(t,) kg m2 of all that hangs on each hinge, about it, as it is at first."""
        arms = np.linalg.norm(self.centre[None] - self.at[self.tied][:, None], axis=2)
        return 4 / 3 * (self.below * self.mass * arms**2).sum(axis=1)  # rods swing about their ends

    def tie(self, engine) -> None:
        limbs, row = self.limbs, self.span.start
        for n, k in enumerate(self.tied):
            p = int(limbs.parent[k])
            here, there = self.at[k] - self.centre[p], self.at[k] - self.centre[k]
            limits = float(limbs.cone[k]), float(limbs.twist[k])
            engine.hinge(row + p, row + k, (here, self.theirs[n]), (there, self.own[n]), *limits)
            engine.pull(row + p, row + k, here, there, False)

    def hang(self, engine) -> None:
        """A driven body without a shape that goes where the pose has the uppermost limb, and a spring to it."""
        ghost = engine.ghost(self.centre[0])
        engine.pull(ghost, self.span.start, np.zeros(3), np.zeros(3), True)

    def spring(self, engine, crowd, lift: int, ghost: int) -> dict[int, tuple]:
        """Set the springs for a frame; returns the row of the driven body and where it goes. lift -- number of the
        tie."""
        seen = next(s for s in crowd.members if s.id == self.id)
        limbs, v = self.limbs, seen.v
        if v.spring <= 0 and v.lifted <= 0:
            for tie in (*(self.number + 2 * np.arange(len(self.tied)) + 1), lift):
                engine.set_pull(tie, 0.0, 0.0, 0.0)
            return {}
        stood = [limbs.stand(world) for world in seen.stood[1:]]
        turned = [turns.product(turn, turns.inverse(self.turn)) for turn, _ in stood]  # of each body, as posed
        parent = limbs.parent[self.tied]
        wanted = turns.product(turns.inverse(turned[1][parent]), turned[1][self.tied])
        arm = self.at[self.tied] - self.centre[parent]
        for n in range(len(self.tied)):
            frame = (arm[n], wanted[n])
            hertz = float(v.spring) * self.stiff[n]
            engine.set_pull(self.number + 2 * n + 1, hertz, float(v.ratio), self.bears[n], frame=frame)
        engine.set_pull(lift, float(v.lifted), float(v.ratio), float(self.mass.sum()), self.size)
        arm = (self.centre[0] - self.at[0])[None]
        place = lambda turn, at: at[0] + turns.turned(turn[:1], arm)[0]
        path = tuple((place(t, at), t[0]) for t, (_, at) in zip(turned, stood, strict=True))
        engine.put(ghost, *path[0])  # it stays behind while nothing is pulled
        return {ghost: path}


def limb_table(hinges: list[BodyHinges], columns, limp: np.ndarray) -> Table:
    """Which joint each limb is, how that stood at first, and how long it has been limp (l,) s."""
    spans, count = {}, 0
    for own in hinges:
        spans[own.id] = (count, count + len(own.limbs.joint))
        count += len(own.limbs.joint)
    values = {
        "joint": np.concatenate([h.limbs.joint for h in hinges]),
        "stood": np.concatenate([h.turn for h in hinges]),
        "hinge": np.concatenate([h.at for h in hinges]),
        "limp": limp,
    }
    return Table({c.name: c.array(values[c.name]) for c in columns}, None, spans)
