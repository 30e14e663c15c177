"""Eddies by formula: grains go along with whirls that come back as they were after a period."""

import numpy as np
from numba import njit, prange

from ...hashing import rand
from ...kinds.channels import number
from ...motion.layer import sincos
from .formulas import FormulaLayer
from .grains import one

MODES = 8  # waves of which the flow is made
STEP = 0.35  # of the scale, that a grain goes in a step at the most
MOST_STEPS = 48


class Eddies(FormulaLayer):
    """Grains are carried by eddies, each from where it is; after a period all are back, without a seam.

    The flow is a sum of waves whose speeds lie across them, so that it has no divergence (as in Kraichnan 1970,
    "Diffusion by a random velocity field"). A grain is carried on from the period's start and back from its end, and
    passes from the one way to the other.
    """

    kind, title = "grain_eddies", "Eddies (by formula)"
    icon = "M8 8 C8 6 11 6 11 8.5 C11 12 5 12 5 8 C5 3.5 13 3 13 8"
    rank = 34

    flow = number(0.3, "How fast they are carried, on average.", unit="m/s", soft=(0, 3), hard=(0, None))
    scale = number(1.5, "How large the eddies are.", unit="m", soft=(0.1, 10), hard=(1e-3, None))

    def where(self, place, speed, ids, v, share, period, seed):
        waves, across, turns, phase = waves_of(v, seed, *self.rounds(v))
        steps = float(np.clip(np.ceil(float(v.flow) * period / (STEP * float(v.scale))), 2, MOST_STEPS))
        gone = share - np.floor(share)
        _carried(place, speed, waves, across, turns, phase, gone, period, steps, self.felt_at(place, v))


def waves_of(v, seed: int, low: int, many: int):
    """((m, 3) wave vectors 1/m, (m, 3) speeds across them m/s, (m,) whole rounds in a period, (m,) phases rad)."""
    k = np.arange(MODES)
    chance = lambda what: rand(seed, k, f"{v.id} {what}")
    up, round_ = 2 * chance("up") - 1, 2 * np.pi * chance("round")
    flat = np.sqrt(1 - up**2)
    way = np.stack([flat * np.cos(round_), up, flat * np.sin(round_)], axis=1)
    waves = way * (2 * np.pi / float(v.scale) * (0.6 + 0.8 * chance("length")))[:, None]
    side = np.cross(way, np.eye(3)[np.abs(way).argmin(axis=1)])
    side /= np.linalg.norm(side, axis=1, keepdims=True)
    turn = 2 * np.pi * chance("across")[:, None]
    across = np.cos(turn) * side + np.sin(turn) * np.cross(way, side)
    turns = low + np.floor(many * chance("rounds"))
    # the mean square of a sum of cosines is half that of their heights
    return waves, across * float(v.flow) * np.sqrt(2 / MODES), turns, 2 * np.pi * chance("phase")


@njit(cache=True, nogil=True, inline="always")
def _flow(x, y, z, waves, across, at):
    """(3) m/s of the flow at a point, where the waves have come to `at` rad."""
    u = v = w = 0.0
    for m in range(len(waves)):
        _, c = sincos(waves[m, 0] * x + waves[m, 1] * y + waves[m, 2] * z + at[m])
        u, v, w = u + across[m, 0] * c, v + across[m, 1] * c, w + across[m, 2] * c
    return u, v, w


@njit(parallel=True, cache=True, nogil=True)
def _carried(place, speed, waves, across, turns, phase, share, period, steps, felt):
    # the waves at every half step, the same for all grains: on from the start, and back from the end
    ahead, back = max(np.int64(np.ceil(steps * share)), 1), max(np.int64(np.ceil(steps * (1 - share))), 1)
    on = np.empty((2 * ahead + 1, len(waves)))
    off = np.empty((2 * back + 1, len(waves)))
    for m in range(len(waves)):
        for k in range(2 * ahead + 1):
            on[k, m] = phase[m] + 2 * np.pi * turns[m] * share * k / (2 * ahead)
        for k in range(2 * back + 1):
            off[k, m] = phase[m] + 2 * np.pi * turns[m] * (1 - (1 - share) * k / (2 * back))
    w, rises = share * share * (3 - 2 * share), 6 * share * (1 - share) / period
    h, g = share * period / ahead, (1 - share) * period / back
    for i in prange(len(place)):
        x, y, z = place[i, 0], place[i, 1], place[i, 2]
        for k in range(ahead):  # the midpoint rule
            u, v, s = _flow(x, y, z, waves, across, on[2 * k])
            u, v, s = _flow(x + 0.5 * h * u, y + 0.5 * h * v, z + 0.5 * h * s, waves, across, on[2 * k + 1])
            x, y, z = x + h * u, y + h * v, z + h * s
        ux, uy, uz = _flow(x, y, z, waves, across, on[2 * ahead])
        a, b, c = place[i, 0], place[i, 1], place[i, 2]
        for k in range(back):
            u, v, s = _flow(a, b, c, waves, across, off[2 * k])
            u, v, s = _flow(a - 0.5 * g * u, b - 0.5 * g * v, c - 0.5 * g * s, waves, across, off[2 * k + 1])
            a, b, c = a - g * u, b - g * v, c - g * s
        vx, vy, vz = _flow(a, b, c, waves, across, off[2 * back])
        f = one(felt, i)
        speed[i, 0] += f * ((1 - w) * ux + w * vx + rises * (a - x))
        speed[i, 1] += f * ((1 - w) * uy + w * vy + rises * (b - y))
        speed[i, 2] += f * ((1 - w) * uz + w * vz + rises * (c - z))
        place[i, 0] += f * ((1 - w) * x + w * a - place[i, 0])
        place[i, 1] += f * ((1 - w) * y + w * b - place[i, 1])
        place[i, 2] += f * ((1 - w) * z + w * c - place[i, 2])
