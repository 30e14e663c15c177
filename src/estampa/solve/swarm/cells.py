"""Grains sorted into cubic cells, so that what is near is found without looking at all of them."""

import numpy as np
from numba import njit

MOST_CELLS = 4_000_000


def sorted_cells(place: np.ndarray, size: float) -> tuple[np.ndarray, np.ndarray, np.ndarray, float, np.ndarray]:
    """(order (n,) of the grains by cell, starts (c + 1,) of each cell in it, low (3,) m, cell m, counts (3,)).

    Cells run along X first, so that three neighbours along X are one stretch; within a cell grains keep their order.
    """
    low, high = place.min(axis=0), place.max(axis=0)
    cell = max(size, 1e-9)
    while np.prod(np.floor((high - low) / cell) + 1) > MOST_CELLS:
        cell *= 1.3
    counts = (np.floor((high - low) / cell) + 1).astype(np.int64)
    order, starts = _count(place, low, cell, counts)
    return order, starts, low, cell, counts


@njit(cache=True, nogil=True)
def _count(place, low, cell, counts):
    n = len(place)
    which = np.empty(n, np.int64)
    starts = np.zeros(counts[0] * counts[1] * counts[2] + 1, np.int64)
    for i in range(n):
        x = min(int((place[i, 0] - low[0]) / cell), counts[0] - 1)
        y = min(int((place[i, 1] - low[1]) / cell), counts[1] - 1)
        z = min(int((place[i, 2] - low[2]) / cell), counts[2] - 1)
        which[i] = x + counts[0] * (y + counts[1] * z)
        starts[which[i] + 1] += 1
    for c in range(len(starts) - 1):
        starts[c + 1] += starts[c]
    order, at = np.empty(n, np.int64), starts[:-1].copy()
    for i in range(n):
        order[at[which[i]]] = i
        at[which[i]] += 1
    return order, starts
