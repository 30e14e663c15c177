"""A frame of figures: by themselves, and with the bodies of the engine where they meet any.

A limb that meets a body is put into the engine's world for the frame, without its joints and its weight. What a small
step of the engine does to its speed goes into the small steps of the figure; how the figure then stands goes back.
"""

import numpy as np

from ...geometry import pose as turns
from .advance import advance
from .build import Ragdolls, no_springs
from .figures import Figures, Springs

STRUCK = 1e-5  # m/s, a change of speed below which nothing struck a limb


class RagdollFrame:
    """All figures over one frame, from how a solved frame has them."""

    def __init__(self, model, crowd, frame, columns, held, driven: dict[int, tuple], gone: np.ndarray, dt: float):
        """columns -- place, turn, speed and spin (bodies, ..) of all bodies, of which `end` changes the rows of
        limbs; held (bodies,) bool -- which follow the layers above, as `driven` says; gone (b,) bool -- limbs away."""
        self.ragdolls, self.columns, self.dt, self.step = model.ragdolls, columns, dt, 0
        rag = self.ragdolls
        self.motion = rag.motion(*columns)
        free = ~held[rag.rows] & ~gone
        self.bodies = rag.bodies._replace(inverse_mass=np.where(free, rag.bodies.inverse_mass, 0.0))
        stays = ~gone[rag.capsules.body]
        self.capsules = rag.capsules._replace(
            **{n: getattr(rag.capsules, n)[stays] for n in ("body", "a", "b", "radius")}
        )
        self.figures = _remembered(rag, frame)
        self.springs = _springs(model, crowd)
        self.solids = model.solids(crowd, driven)
        self.pull = crowd.world.acceleration(self.motion.x)
        self.pull *= np.array([h.weight(crowd) for h in model.hinges])[rag.bodies.figure][:, None]
        self.begins = np.concatenate([self.motion.x, self.motion.q], axis=1)
        self.ends = self.begins.copy()
        for n, row in enumerate(rag.rows.tolist()):
            if held[row]:
                place, turn = driven[row][1]
                self.ends[n] = np.r_[place, turns.product(turn[None], rag.axes[n : n + 1])[0]]
        stirs = self.springs.lift + self.springs.led > 0
        stirs[rag.bodies.figure[rag.joints.own[self.springs.stiff > 0]]] = True
        stirs[rag.bodies.figure[(self.begins != self.ends).any(axis=1)]] = True
        self.figures.quiet[stirs] = 0  # what is pulled or driven does not sleep
        self.figures.asleep[stirs] = False

    def meets(self, model, place: np.ndarray, turn: np.ndarray, speed: np.ndarray, free: np.ndarray) -> np.ndarray:
        """(b,) bool, the limbs that may meet a body that the engine moves in this frame. free (bodies,) bool"""
        rows = np.flatnonzero(free)
        found = np.zeros(len(self.motion.x), bool)
        if not len(rows):
            return found
        low, high = model.bounds(rows, place, turn)
        far = (np.linalg.norm(speed[rows], axis=1) * self.dt * 1.5 + 0.01)[:, None]
        radius, body = self.capsules.radius[:, None], self.capsules.body
        ends = [self.motion.x[body] + turns.turned(self.motion.q[body], e) for e in (self.capsules.a, self.capsules.b)]
        reach = radius + (np.linalg.norm(self.motion.v, axis=1)[body] * self.dt * 1.5)[:, None]
        reach = reach + 0.5 * np.linalg.norm(self.pull, axis=1)[body][:, None] * self.dt**2
        lows, highs = np.minimum(*ends) - reach, np.maximum(*ends) + reach
        near = ((lows[:, None] <= (high + far)[None]) & (highs[:, None] >= (low - far)[None])).all(axis=2).any(axis=1)
        found[body[near]] = True
        return found & (self.bodies.inverse_mass > 0)

    def enter(self, engine, met: np.ndarray, held: np.ndarray, gone: np.ndarray) -> None:
        """Have in the engine's world the limbs that meet a body there, and those that are driven and push others."""
        for n, row in enumerate(self.ragdolls.rows.tolist()):
            there = bool((met[n] or held[row]) and not gone[n])
            if engine.body(row).is_enabled != there:
                engine.body(row).is_enabled = there

    def alone(self) -> None:
        """The whole frame, with nothing of the engine."""
        self._advance(0.0, 1.0, self.ragdolls.steps(self.dt))

    def before_step(self, engine, met: np.ndarray) -> None:
        """Put limbs that meet something into the engine as they stand and move."""
        x, q, v, w = self.motion
        turn = turns.product(q, turns.inverse(self.ragdolls.axes))
        for n in np.flatnonzero(met):
            row = int(self.ragdolls.rows[n])
            engine.put(row, x[n], turn[n])
            engine.set_speed(row, v[n], w[n])

    def after_step(self, engine, met: np.ndarray, steps: int) -> None:
        """Take what one of so many steps of the engine did to their speeds, and go on by as much time."""
        for n in np.flatnonzero(met):
            speed, spin = engine.speed_of(int(self.ragdolls.rows[n]))
            if max(np.abs(speed - self.motion.v[n]).max(), np.abs(spin - self.motion.w[n]).max()) > STRUCK:
                f = self.bodies.figure[n]
                if self.figures.asleep[f] and np.abs(speed).max() < 0.01:
                    continue  # something lies on what lies
                self.figures.asleep[f] = False
                self.motion.v[n], self.motion.w[n] = speed, spin
        small = max(1, -(-self.ragdolls.steps(self.dt) // steps))
        self._advance(self.step / steps, (self.step + 1) / steps, small)
        self.step += 1

    def _advance(self, first: float, last: float, steps: int) -> None:
        driven = self.begins + last * (self.ends - self.begins)
        flip = (self.begins[:, 3:] * self.ends[:, 3:]).sum(axis=1) < 0
        driven[flip, 3:] = self.begins[flip, 3:] * (1 - last) - last * self.ends[flip, 3:]
        rag, dt = self.ragdolls, (last - first) * self.dt
        advance(
            self.motion, self.bodies, self.capsules, rag.joints, self.springs, self.figures, self.solids, driven,
            self.pull, rag.damping, (first, last), dt, steps,
        )  # fmt: skip

    def end(self, asleep: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Put what came of it into the columns; returns what is remembered of limbs: quiet (l,) s, slack (l, 2) rad."""
        self.ragdolls.read(self.motion, *self.columns)
        figure = self.bodies.figure
        asleep[self.ragdolls.rows] = self.figures.asleep[figure]
        slack = np.zeros((len(figure), 2))
        slack[self.ragdolls.joints.own] = self.figures.slack
        return self.figures.quiet[figure], slack


def _remembered(ragdolls: Ragdolls, frame) -> Figures:
    table, first = frame["limbs"], np.searchsorted(ragdolls.bodies.figure, np.arange(len(ragdolls.tall)))
    asleep = frame["bodies"]["asleep"][ragdolls.rows].astype(bool)
    return Figures(
        ragdolls.tall, table["quiet"].astype(float)[first], asleep[first].copy(),
        np.ascontiguousarray(table["slack"].astype(float)[ragdolls.joints.own]),
    )  # fmt: skip


def _springs(model, crowd) -> Springs:
    pulls = [h.pulls(crowd) for h in model.hinges]
    of_joints = {n: np.concatenate([p[n] for p in pulls]) for n in ("pose", "stiff", "damp", "rate", "pose_before")}
    of_figures = {n: np.stack([np.asarray(p[n], float) for p in pulls]) for n in pulls[0] if n not in of_joints}
    springs = no_springs(model.ragdolls)._replace(**of_joints, **of_figures)
    for goes in (springs.lift_before, springs.lift_now):  # limbs' own axes stand so in those of their bodies
        goes[:, 3:] = turns.product(goes[:, 3:], model.ragdolls.axes[springs.root])
    return springs
