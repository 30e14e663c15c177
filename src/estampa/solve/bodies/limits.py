"""Limits of joints: what turned past its limit is turned back, of all ragdolls at once.

The engine's own limits give way in a hard fall (measured: 90 degrees from 2 m); these do not, and never add to the
motion.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

SLACK = 0.005  # rad past its limit that is left alone


class Limits(NamedTuple):
    """Of h hinges, in the order of their limbs: row (h,) of each limb among the bodies and of the one that it hangs on;
    first, last (h,) rows of its skeleton; theirs, own (h, 4) which way X lies along the limb, within either body as it
    stood; arm (h, 3) m from the limb's centre to the hinge; cone, twist (h,) rad. above (b,) the row of the body that
    each body hangs on, or -1; it stands before it."""

    row: np.ndarray
    parent: np.ndarray
    first: np.ndarray
    last: np.ndarray
    theirs: np.ndarray
    own: np.ndarray
    arm: np.ndarray
    cone: np.ndarray
    twist: np.ndarray
    above: np.ndarray

    @classmethod
    def of(cls, hinges: list, count: int) -> "Limits":
        """Of the hinges of skeletons, among so many bodies."""
        above = np.full(count, -1)
        for h in hinges:
            above[h.span] = np.where(h.limbs.parent >= 0, h.limbs.parent + h.span.start, -1)
        every = lambda make: np.concatenate([make(h) for h in hinges])
        return cls(
            every(lambda h: h.tied + h.span.start), every(lambda h: h.limbs.parent[h.tied] + h.span.start),
            every(lambda h: np.full(len(h.tied), h.span.start)), every(lambda h: np.full(len(h.tied), h.span.stop)),
            every(lambda h: h.theirs), every(lambda h: h.own), every(lambda h: (h.at - h.centre)[h.tied]),
            every(lambda h: h.limbs.cone[h.tied]), every(lambda h: h.limbs.twist[h.tied]), above,
        )  # fmt: skip

    def hold(self, engine, held: np.ndarray) -> None:
        """Take back what turned past its limits in a small step, with all that hangs on it, and the speed with which it
        went there. held (b,) -- which bodies follow the layers above."""
        if not len(self.row) or not engine.moves:
            return
        bodies = engine.bodies
        turn = np.zeros((len(self.above), 4))
        for i in range(int(self.first.min()), int(self.last.max())):
            r = bodies[i].rotation
            turn[i] = r.i, r.j, r.k, r.w
        wrong = _past(turn, held, *self[:2], *self[4:6], *self[7:9])
        if not wrong.any():
            return
        at, speed, spin = np.zeros((3, len(self.above), 3))
        for first, last in sorted(set(zip(self.first[wrong].tolist(), self.last[wrong].tolist(), strict=True))):
            for i in range(first, last):
                body = bodies[i]
                at[i], speed[i] = body.translation.to_tuple(), body.linvel.to_tuple()
                spin[i] = body.angvel.to_tuple()
        for i in np.flatnonzero(_turn_back(turn, at, speed, spin, wrong, *self)).tolist():
            engine.put(i, at[i], turn[i])
            engine.set_speed(i, speed[i], spin[i])


@njit(cache=True, nogil=True)
def _times(a, b):
    """The turn that is b first, then a."""
    return np.array([
        a[3] * b[0] + b[3] * a[0] + a[1] * b[2] - a[2] * b[1],
        a[3] * b[1] + b[3] * a[1] + a[2] * b[0] - a[0] * b[2],
        a[3] * b[2] + b[3] * a[2] + a[0] * b[1] - a[1] * b[0],
        a[3] * b[3] - a[0] * b[0] - a[1] * b[1] - a[2] * b[2],
    ])  # fmt: skip


@njit(cache=True, nogil=True)
def _crossed(a, b):
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


@njit(cache=True, nogil=True)
def _turned(q, v):
    u = 2 * _crossed(q[:3], v)
    return v + q[3] * u + _crossed(q[:3], u)


@njit(cache=True, nogil=True)
def _away(turn, row, parent, theirs, own):
    """(the turn of a limb from the middle of its reach, rad across it, rad about it)."""
    stands = _times(turn[parent], theirs)
    stands[:3] *= -1
    away = _times(stands, _times(turn[row], own))
    swing = 2 * np.arcsin(min(np.sqrt(away[1] ** 2 + away[2] ** 2), 1.0))
    twist = 2 * np.arctan2(away[0], away[3])
    return away, swing, (twist + np.pi) % (2 * np.pi) - np.pi


@njit(cache=True, nogil=True)
def _past(turn, held, row, parent, theirs, own, cone, twist):
    """(h,) bool: which hinges are past a limit."""
    found = np.zeros(len(row), np.bool_)
    for n in range(len(row)):
        if not held[row[n]] and not held[parent[n]]:
            _, swing, about = _away(turn, row[n], parent[n], theirs[n], own[n])
            found[n] = swing - cone[n] > SLACK or abs(about) - twist[n] > SLACK
    return found


@njit(cache=True, nogil=True)
def _turn_back(turn, at, speed, spin, wrong, row, parent, first, last, theirs, own, arm, cone, twist, above):
    """Change where bodies are and how they go; (b,) bool, which were changed."""
    moved = np.zeros(len(turn), np.bool_)
    for n in np.flatnonzero(wrong):
        away, swing, about = _away(turn, row[n], parent[n], theirs[n], own[n])
        tip = _turned(away, np.array([1.0, 0.0, 0.0]))
        across = np.array([0.0, -tip[2], tip[1]])  # about which X turns into the tip
        long = np.sqrt(across[1] ** 2 + across[2] ** 2)
        across = across / long if long > 1e-9 else np.array([0.0, 0.0, 1.0])
        for past, axis in ((swing - cone[n], across), (abs(about) - twist[n], np.sign(about) * tip)):
            if past <= SLACK:
                continue
            axis = _turned(_times(turn[parent[n]], theirs[n]), axis)
            hinge = at[row[n]] + _turned(turn[row[n]], arm[n])
            back = np.empty(4)
            back[:3], back[3] = -np.sin(past / 2) * axis, np.cos(past / 2)
            gone = max(((spin[row[n]] - spin[parent[n]]) * axis).sum(), 0.0)
            below = np.zeros(len(turn), np.bool_)
            for i in range(row[n], last[n]):
                below[i] = i == row[n] or (above[i] >= 0 and below[above[i]])
                if below[i]:
                    at[i] = hinge + _turned(back, at[i] - hinge)
                    turn[i] = _times(back, turn[i])
                    spin[i] -= gone * axis
                    speed[i] -= gone * _crossed(axis, at[i] - hinge)
                    moved[i] = True
    return moved
