"""How the limbs of a ragdoll are tied: joints with limits, and springs towards the pose that enters."""

import numpy as np

from ...geometry import pose as turns
from ..frame import Table

# Of the inertia of all of it, stretched out, what a pull bears that turns the uppermost limb: with all of it, it and
# the springs of the joints, which act one after another, throw a figure about from 6 Hz on
LED = 0.05
CARRIED = 1.0  # Hz of both springs, from where on a figure that is pulled up to its pose weighs nothing


class BodyHinges:
    """Of one skeleton in an ensemble, for `solve.ragdoll`. Bodies keep the axes of the world as they were at first."""

    def __init__(self, seen, first: int, centre: np.ndarray, mass: np.ndarray):
        limbs = seen.limbs
        self.id, self.limbs, self.span = seen.id, limbs, slice(first, first + len(limbs.joint))
        self.turn, self.at = limbs.stand(seen.stood[0])
        self.centre = centre[self.span]
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
        v = seen.v
        self.friction, self.joint_damping = float(v.friction), float(v.joint_damping)
        self.damping = np.array([v.damping, v.turn_damping], float)
        self.capsules = limbs.capsules(seen.stood[0])
        self.stiff = np.sqrt(limbs.stiffness[k])  # of Hz, as the stiffness goes by their square

    def _borne(self) -> np.ndarray:
        """(t,) kg m2 of all that hangs on each hinge, about it, as it is at first."""
        arms = np.linalg.norm(self.centre[None] - self.at[self.tied][:, None], axis=2)
        return 4 / 3 * (self.below * self.mass * arms**2).sum(axis=1)  # rods swing about their ends

    def pulls(self, crowd) -> dict[str, np.ndarray]:
        """What the fields of Springs are for this figure over a frame, but for the number of its root."""
        seen = next(s for s in crowd.members if s.id == self.id)
        limbs, v = self.limbs, seen.v
        stood = [limbs.stand(world) for world in seen.stood[1:]]
        turned = [turns.product(turn, turns.inverse(self.turn)) for turn, _ in stood]  # of each body, as posed
        parent = limbs.parent[self.tied]
        wanted = [turns.product(turns.inverse(turn[parent]), turn[self.tied]) for turn in turned]
        before, pose = (turns.product(turns.product(turns.inverse(self.theirs), turn), self.own) for turn in wanted)
        pace, lift = 2 * np.pi * float(v.spring) * self.stiff, 2 * np.pi * float(v.lifted)
        arm = (self.centre[0] - self.at[0])[None]
        goes = [
            np.r_[at[0] + turns.turned(turn[:1], arm)[0], turn[0]] for turn, (_, at) in zip(turned, stood, strict=True)
        ]
        mass = float(self.mass.sum())
        is_led = v.lifted > 0 and v.spring > 0 and v.carried > 0
        stiff, lift, led = (0.0, 0.0, lift) if is_led else (self.bears, lift, 0.0)
        return {
            "pose": pose, "pose_before": before, "rate": pace, "led": led, "ratio": float(v.ratio),
            "stiff": stiff * pace**2, "damp": 2 * float(v.ratio) * stiff * pace,
            "lift": lift**2, "lift_damp": 2 * float(v.ratio) * lift, "lift_mass": mass,
            "lift_inertia": LED * mass * self.size**2 / 12, "lift_before": goes[0], "lift_now": goes[1],
        }  # fmt: skip

    def weight(self, crowd) -> float:
        """The share of its weight that it feels: one that is pulled up to its pose is carried by what pulls it."""
        v = next(s.v for s in crowd.members if s.id == self.id)
        return 1 - float(v.carried) * min(float(v.lifted) / CARRIED, 1.0) * min(float(v.spring) / CARRIED, 1.0)


def limb_table(hinges: list[BodyHinges], columns, limp: np.ndarray, quiet: np.ndarray, slack: np.ndarray) -> Table:
    """Which joint each limb is, how that stood at first, and what is remembered of it: for how long it has been limp
    (l,) s, its figure quiet (l,) s, its joint past its limits (l, 2) rad."""
    spans, count = {}, 0
    for own in hinges:
        spans[own.id] = (count, count + len(own.limbs.joint))
        count += len(own.limbs.joint)
    values = {
        "joint": np.concatenate([h.limbs.joint for h in hinges]),
        "stood": np.concatenate([h.turn for h in hinges]),
        "hinge": np.concatenate([h.at for h in hinges]),
        "limp": limp,
        "quiet": quiet,
        "slack": slack,
    }
    return Table({c.name: c.array(values[c.name]) for c in columns}, None, spans)
