"""Eddies by formula: grains go along with whirls that come back as they were after a period."""

import numpy as np
from numba import njit, prange

from ...hashing import rand
from ...kinds.channels import number
from .formulas import FormulaLayer
from .grains import one

BLOCK = 256  # grains that are carried together
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
        rows = np.ascontiguousarray(np.concatenate([waves / (2 * np.pi), across], axis=1).T, np.float32)
        _carried(place, speed, rows, turns, phase / (2 * np.pi), gone, period, steps, self.felt_at(place, v))


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


@njit(cache=True, nogil=True, fastmath={"contract", "reassoc", "nsz", "nnan", "ninf"})
def _flow(at, begin, reach, flow, many, waves, phase):
    """Put the flow, m/s, into rows `flow`.. of `at` (9, b): where each of so many is `reach` s on along the flow of
    rows `begin`.. from its place in the first three rows; the waves (6, m) have come to `phase` (m,), in rounds.

    A row for each axis of a block of grains, narrow, so that the processor takes eight of them at once; the cosine by
    its series in the part of a round that is left, to 5e-6.
    """
    for j in range(np.uint64(many)):
        at[flow, j] = at[flow + 1, j] = at[flow + 2, j] = np.float32(0)
    for m in range(waves.shape[1]):
        kx, ky, kz, ax, ay, az = waves[0, m], waves[1, m], waves[2, m], waves[3, m], waves[4, m], waves[5, m]
        for j in range(np.uint64(many)):
            r = kx * (at[0, j] + reach * at[begin, j]) + ky * (at[1, j] + reach * at[begin + 1, j])
            r += kz * (at[2, j] + reach * at[begin + 2, j]) + phase[m]
            r -= np.floor(r + np.float32(0.5))
            s = r * r
            c = np.float32(-1.7143907) * s + np.float32(7.9035364)
            c = (c * s + np.float32(-26.4262568)) * s + np.float32(60.2446414)
            c = (c * s + np.float32(-85.4568172)) * s + np.float32(64.9393940)
            c = (c * s + np.float32(-19.7392088)) * s + np.float32(1.0)
            at[flow, j], at[flow + 1, j], at[flow + 2, j] = (
                at[flow, j] + ax * c, at[flow + 1, j] + ay * c, at[flow + 2, j] + az * c
            )  # fmt: skip


@njit(cache=True, nogil=True)
def _course(turns, phase, begin, end, steps):
    """(2 steps + 1, m) how far the waves have come at every half step, in rounds."""
    at = np.empty((2 * steps + 1, len(turns)), np.float32)
    for k in range(len(at)):
        share = begin + (end - begin) * k / (2 * steps)
        for m in range(len(turns)):
            at[k, m] = np.float32(phase[m] + turns[m] * share)
    return at


@njit(cache=True, nogil=True)
def _along(at, many, waves, course, h):
    """Carry a block of grains along the flow in the steps of a course, of h s each (below 0: back), by the midpoint
    rule; rows 3 to 5 of `at` are how fast they go there."""
    for k in range(len(course) // 2):
        _flow(at, 3, np.float32(0), 3, many, waves, course[2 * k])
        _flow(at, 3, np.float32(0.5) * h, 6, many, waves, course[2 * k + 1])
        for i in range(3):
            for j in range(np.uint64(many)):
                at[i, j] += h * at[6 + i, j]
    _flow(at, 3, np.float32(0), 3, many, waves, course[len(course) - 1])


@njit(parallel=True, cache=True, nogil=True)
def _carried(place, speed, waves, turns, phase, share, period, steps, felt):
    ahead, back = max(np.int64(np.ceil(steps * share)), 1), max(np.int64(np.ceil(steps * (1 - share))), 1)
    on, off = _course(turns, phase, 0.0, share, ahead), _course(turns, phase, 1.0, share, back)
    w, rises = share * share * (3 - 2 * share), 6 * share * (1 - share) / period
    h, g = np.float32(share * period / ahead), np.float32(-(1 - share) * period / back)
    for block in prange((len(place) + BLOCK - 1) // BLOCK):
        first = np.int64(block) * BLOCK
        many = min(BLOCK, len(place) - first)
        a, b = np.zeros((9, BLOCK), np.float32), np.zeros((9, BLOCK), np.float32)
        for i in range(3):
            for j in range(many):
                a[i, j] = b[i, j] = np.float32(place[first + j, i])
        _along(a, many, waves, on, h)
        _along(b, many, waves, off, g)
        for j in range(many):
            f = one(felt, first + j)
            for i in range(3):
                own = np.float64(np.float32(place[first + j, i]))
                speed[first + j, i] += f * ((1 - w) * a[3 + i, j] + w * b[3 + i, j] + rises * (b[i, j] - a[i, j]))
                place[first + j, i] += f * ((1 - w) * (a[i, j] - own) + w * (b[i, j] - own))
