"""Trail: pieces follow late, and swing past."""

import numpy as np
from scipy.linalg import expm

from ...geometry import pose as turns
from ...geometry.pieces import Pieces
from ...hashing import rand
from ...kinds.channels import number, whole
from ..frame import Column, Frame
from ..solver import Solver


class Trail(Solver):
    """Each piece follows where the layers above have it as if on a spring: late, and past it at first.

    Below Toss, Part and their like, in the world, so that pieces also trail behind a subject that is moved.
    """

    kind, title = "trail", "Trail"
    icon = "M10.5 3 H14 V6.5 H10.5 Z M5.5 6 H8.5 V9 H5.5 Z M2 9.5 H4.2 V11.7 H2 Z M9.5 7.5 L8.5 8.5"
    group = "swing"
    rank = 30
    reads = frozenset()
    moves_pieces = True
    tables = {
        "pieces": (
            Column("position", (3,), "m", "Where its middle is in the world."),
            Column("velocity", (3,), "m/s", "How fast it goes."),
            Column("turn", (4,), "", "How it is turned since its rest: a unit quaternion x, y, z, w."),
            Column("spin", (3,), "rad/s", "How fast it turns."),
        )
    }
    shown = ("position", "turn")

    hertz = number(2.5, "How fast its spring is: lower follows later.", title="Frequency", unit="Hz", soft=(0.3, 8),
                   hard=(0.01, 100))  # fmt: skip
    ratio = number(0.4, "Damping: below 1 it swings past, at 1 just not.", title="Damping ratio", unit="factor",
                   soft=(0, 2), hard=(0, 20))  # fmt: skip
    uneven = number(0.3, "How unlike the frequencies of pieces are, by chance.", unit="fraction", soft=(0, 1),
                    hard=(0, 0.95))  # fmt: skip
    seed = whole(1, "Another throw of the dice.", soft=(1, 99), hard=(0, None))

    def start(self, inputs):
        pieces = Pieces.each(inputs.mesh)
        place, turn = _stand(pieces, inputs.now)
        still = np.zeros_like(place)
        return Frame.of(self.tables, "pieces", position=place, velocity=still, turn=turn, spin=still)

    def step(self, frame, inputs, dt):
        """Exact for a target that goes straight through the frame: the spring, its target and that one's speed are one
        linear system, taken on by its matrix exponential."""
        pieces, v, rows = Pieces.each(inputs.mesh), inputs.v, frame["pieces"]
        (p0, q0), (p1, q1) = (_stand(pieces, x) for x in (inputs.before, inputs.now))
        chance = rand(int(v.seed), np.arange(pieces.count), "trail")
        onward = taken_on(2 * np.pi * float(v.hertz) * (1 + float(v.uneven) * (2 * chance - 1)), float(v.ratio), dt)
        turn = rows["turn"].astype(float)
        since = lambda q: turns.turn_vectors(turns.product(q, turns.inverse(q0)))
        place, speed = _moved(onward, rows["position"].astype(float) - p0, rows["velocity"].astype(float), p1 - p0, dt)
        angle, spin = _moved(onward, since(turn), rows["spin"].astype(float), since(q1), dt)
        turn = turns.product(turns.from_vectors(angle), q0)
        turn /= np.linalg.norm(turn, axis=1, keepdims=True)
        return Frame.of(self.tables, "pieces", position=p0 + place, velocity=speed, turn=turn, spin=spin)

    def rests(self, inputs):
        return {"pieces": Pieces.each(inputs.mesh).middles(inputs.mesh.points[None])[0]}

    def points(self, frame, entering):
        rows, now, pieces = frame["pieces"], entering.now(), Pieces.each(entering.mesh)
        if len(rows["position"]) != pieces.count:
            return None
        middle, entered = _stand(pieces, now)
        turn = turns.turn_matrices(turns.product(rows["turn"].astype(float), turns.inverse(entered)))
        of = pieces.of_vertex
        return rows["position"].astype(float)[of] + np.einsum("nij,nj->ni", turn[of], now - middle[of])


def _stand(pieces: Pieces, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((p, 3) middles, (p, 4) turns since the rest) of pieces at points (n, 3)."""
    return pieces.middles(points[None])[0], turns.turns_of(pieces.turns(pieces.mesh.points, points))


def taken_on(pace: np.ndarray, ratio: float, dt: float) -> np.ndarray:
    """(p, 4, 4) what takes (place, speed, target, speed of the target) on by dt s: x'' = pace^2 (target - x) - 2 ratio
    pace x', with a pace (p,) rad/s of each."""
    system = np.zeros((len(pace), 4, 4))
    system[:, 0, 1] = system[:, 2, 3] = 1.0
    system[:, 1, 0], system[:, 1, 1], system[:, 1, 2] = -(pace**2), -2 * ratio * pace, pace**2
    return expm(system * dt)


def _moved(onward, place, speed, target, dt) -> tuple[np.ndarray, np.ndarray]:
    """(place, speed) (p, 3) after a frame in which the target goes from 0 to `target` (p, 3)."""
    state = np.stack([place, speed, np.zeros_like(target), target / dt], axis=1)
    after = onward @ state
    return after[:, 0], after[:, 1]
