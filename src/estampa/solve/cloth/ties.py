"""What is drawn to points, and may slide one way."""

from typing import NamedTuple

import numpy as np
from numba import njit

SWEEPS = 20  # there and back over the rings of a path
ENOUGH = 1e-5  # m by which they may be nearer

single = njit(cache=True, nogil=True, error_model="numpy")


class Ties(NamedTuple):
    """Vertices that are drawn to points, which may let them slide one way.

    at (k,) vertices; before, now (k, 3) m where they are drawn to; grip (k,) 1/s2, inf of those held fast
    along (k, 3) the way they slide freely, 0 for none
    spot (k,) m along the path of where they are drawn to; room (k,) m that is kept to the next row, -1 where that is on
    another path or on none
    """

    at: np.ndarray
    before: np.ndarray
    now: np.ndarray
    grip: np.ndarray
    along: np.ndarray
    spot: np.ndarray
    room: np.ndarray

    @classmethod
    def none(cls) -> "Ties":
        none, points = np.zeros(0), np.zeros((0, 3))
        return cls(np.zeros(0, np.int64), points, points, none, points, none, none)


@single
def draw(x, inverse_mass, ties, t, h):
    """Draw tied vertices to where they are tied, across the way that they may slide."""
    for k in range(len(ties.at)):
        i = ties.at[k]
        if inverse_mass[i] <= 0:
            continue
        pull = 1 / (1 + 1 / (ties.grip[k] * h * h))
        dx = ties.before[k, 0] + t * (ties.now[k, 0] - ties.before[k, 0]) - x[i, 0]
        dy = ties.before[k, 1] + t * (ties.now[k, 1] - ties.before[k, 1]) - x[i, 1]
        dz = ties.before[k, 2] + t * (ties.now[k, 2] - ties.before[k, 2]) - x[i, 2]
        free = dx * ties.along[k, 0] + dy * ties.along[k, 1] + dz * ties.along[k, 2]
        x[i, 0] += pull * (dx - free * ties.along[k, 0])
        x[i, 1] += pull * (dy - free * ties.along[k, 1])
        x[i, 2] += pull * (dz - free * ties.along[k, 2])
    for _ in range(SWEEPS):
        short, last = 0.0, len(ties.at) - 1
        for k in range(last):
            short = max(short, _push_apart(x, inverse_mass, ties, t, k))
        for k in range(last):
            _push_apart(x, inverse_mass, ties, t, last - 1 - k)
        if short < ENOUGH:
            break


@single
def _push_apart(x, inverse_mass, ties, t, k):
    """Rings on one path keep their order, and the room between them: who is drawn pushes who slides."""
    i, j = ties.at[k], ties.at[k + 1]
    total = inverse_mass[i] + inverse_mass[j]
    if ties.room[k] < 0 or total <= 0:
        return 0.0
    short = ties.room[k] - (_spot(x, ties, t, k + 1) - _spot(x, ties, t, k))
    if short > 0:
        for c in range(3):
            x[i, c] -= short * inverse_mass[i] / total * ties.along[k, c]
            x[j, c] += short * inverse_mass[j] / total * ties.along[k + 1, c]
    return max(short, 0.0)


@single
def _spot(x, ties, t, k):
    """Where a tied vertex is along its path."""
    found = ties.spot[k]
    for c in range(3):
        at = ties.before[k, c] + t * (ties.now[k, c] - ties.before[k, c])
        found += (x[ties.at[k], c] - at) * ties.along[k, c]
    return found
