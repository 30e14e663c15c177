"""What is drawn to points, and may slide one way."""

from typing import NamedTuple

import numpy as np
from numba import njit

single = njit(cache=True, nogil=True, error_model="numpy")


class Ties(NamedTuple):
    """Vertices that are drawn to points, which may let them slide one way.

    at (k,) vertices; before, now (k, 3) m where they are drawn to; grip (k,) 1/s2, inf of those held fast
    along (k, 3) the way they slide freely, 0 for none
    """

    at: np.ndarray
    before: np.ndarray
    now: np.ndarray
    grip: np.ndarray
    along: np.ndarray

    @classmethod
    def none(cls) -> "Ties":
        return cls(np.zeros(0, np.int64), np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0), np.zeros((0, 3)))


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
