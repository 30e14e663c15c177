"""How the limbs of a ragdoll are tied: joints with limits, springs towards the pose that enters, and one that lifts."""

import numpy as np

from ...geometry import pose as turns
from ..frame import Table

SLACK = 0.005  # rad past its limit that is left alone


class Hinges:
    """Of one skeleton in an ensemble. Bodies keep the axes of the world as they were at first.

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

    def hold(self, engine, held) -> None:
        """Take back what turned past its limits in a small step, with all that hangs on it, and the speed with which it
        went there. The engine's own limits give way in a hard fall (measured: 90 degrees from 2 m); these do not, and
        never add to the motion. held (b,) -- which bodies follow the layers above."""
        if not len(self.tied) or held[self.span].any() or not engine.moves:
            return
        limbs, bodies = self.limbs, engine.bodies[self.span]
        turn = np.array([(r.i, r.j, r.k, r.w) for r in (body.rotation for body in bodies)])
        parent = limbs.parent[self.tied]
        stands = turns.product(turn[parent], self.theirs)
        away = turns.product(turns.inverse(stands), turns.product(turn[self.tied], self.own))
        x, y, z, w = away.T
        swing = 2 * np.arcsin(np.minimum(np.sqrt(y * y + z * z), 1.0))
        twist = 2 * np.arctan2(x, w)
        twist = (twist + np.pi) % (2 * np.pi) - np.pi
        over, past = swing - limbs.cone[self.tied], np.abs(twist) - limbs.twist[self.tied]
        wrong = np.flatnonzero((over > SLACK) | (past > SLACK))
        if not len(wrong):
            return
        at, speed, spin = (np.array(x) for x in zip(*map(_state, bodies), strict=True))
        tip = turns.turned(away, np.tile([1.0, 0, 0], (len(away), 1)))
        moved = np.zeros(len(bodies), bool)
        for n in wrong:
            k, p, below = int(self.tied[n]), int(parent[n]), self.below[n]
            for excess, axis in ((over[n], _across(tip[n])), (past[n], np.sign(twist[n]) * tip[n])):
                if excess <= SLACK:
                    continue
                axis = turns.turned(stands[n : n + 1], axis[None])[0]
                hinge = at[k] + turns.turned(turn[k : k + 1], (self.at[k] - self.centre[k])[None])[0]
                back = turns.from_vectors(-excess * axis[None])
                arms = at[below] - hinge
                at[below] = hinge + turns.turned(np.repeat(back, below.sum(), axis=0), arms)
                turn[below] = turns.product(np.repeat(back, below.sum(), axis=0), turn[below])
                gone = max(float((spin[k] - spin[p]) @ axis), 0.0)
                spin[below] -= gone * axis
                speed[below] -= gone * np.cross(axis, at[below] - hinge)
                moved |= below
                with_it = below[parent]
                stands[with_it] = turns.product(np.repeat(back, with_it.sum(), axis=0), stands[with_it])
        for i in np.flatnonzero(moved):
            row = self.span.start + int(i)
            engine.put(row, at[i], turn[i])
            engine.set_speed(row, speed[i], spin[i])

    def hang(self, engine) -> None:
        """A driven body without a shape that goes where the pose has the uppermost limb, and a spring to it."""
        ghost = engine.ghost(self.centre[0])
        engine.pull(ghost, self.span.start, np.zeros(3), np.zeros(3), True)

    def spring(self, engine, crowd, lift: int, ghost: int) -> dict[int, tuple]:
        """Set the springs for a frame; returns the row of the driven body and where it goes. lift -- number of the
        tie."""
        seen = next(s for s in crowd.members if s.id == self.id)
        limbs, v = self.limbs, seen.v
        stood = [limbs.stand(world) for world in seen.stood[1:]]
        turned = [turns.product(turn, turns.inverse(self.turn)) for turn, _ in stood]  # of each body, as posed
        for n, k in enumerate(self.tied):
            p = int(limbs.parent[k])
            wanted = turns.product(turns.inverse(turned[1][p][None]), turned[1][k][None])[0]
            frame = (self.at[k] - self.centre[p], wanted)
            engine.set_pull(self.number + 2 * n + 1, float(v.spring), float(v.ratio), self.bears[n], frame=frame)
        engine.set_pull(lift, float(v.lifted), float(v.ratio), float(self.mass.sum()), self.size)
        arm = (self.centre[0] - self.at[0])[None]
        place = lambda turn, at: at[0] + turns.turned(turn[:1], arm)[0]
        return {ghost: tuple((place(t, at), t[0]) for t, (_, at) in zip(turned, stood, strict=True))}


def _state(body):
    """(place, speed, spin) of an engine's body."""
    return body.translation.to_tuple(), body.linvel.to_tuple(), body.angvel.to_tuple()


def _across(tip) -> np.ndarray:
    """The unit axis about which X turns into a tip."""
    axis = np.array([0.0, -tip[2], tip[1]])
    long = np.linalg.norm(axis)
    return axis / long if long > 1e-9 else np.array([0.0, 0.0, 1.0])


def limb_table(hinges: list[Hinges], columns) -> Table:
    """Which joint each limb is, and how that stood at first."""
    spans, count = {}, 0
    for own in hinges:
        spans[own.id] = (count, count + len(own.limbs.joint))
        count += len(own.limbs.joint)
    values = {
        "joint": np.concatenate([h.limbs.joint for h in hinges]),
        "stood": np.concatenate([h.turn for h in hinges]),
        "hinge": np.concatenate([h.at for h in hinges]),
    }
    return Table({c.name: c.array(values[c.name]) for c in columns}, None, spans)
