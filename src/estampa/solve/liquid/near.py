"""Which grains of a liquid are near one another: sorted by cell, and listed for each."""

import numpy as np
from numba import njit, prange

from ..swarm.cells import sorted_cells


def sorted_by_cell(place: np.ndarray, reach: float):
    """((n,) order by cell, starts, counts, low (3,) m, cell m) of places (n, 3) m."""
    order, starts, low, cell, counts = sorted_cells(place, reach)
    return order, starts, counts, low, cell


def listed(at: np.ndarray, starts, counts, cell: float, reach: float, wide: int) -> tuple[np.ndarray, np.ndarray]:
    """((n,) int32 how many, (n, w) int32 which) neighbours each has within `reach` m, of places (n, 4) float32 from the
    corner of the cells, by cell; w is at least `wide`."""
    while True:
        many, near = _listed(at, starts, counts, np.float32(cell), np.float32(reach * reach), wide)
        most = int(many.max(initial=0))
        if most <= wide:
            return many, near
        wide = most + 8


@njit(cache=True, nogil=True, inline="always")
def _rows(p, cell, counts, j):
    c = min(np.int64(p / cell), counts[j] - 1)
    return max(c - 1, 0), min(c + 1, counts[j] - 1)


@njit(parallel=True, cache=True, nogil=True)
def _listed(at, starts, counts, cell, reach2, wide):
    n = len(at)
    many, near = np.empty(n, np.int32), np.empty((n, wide), np.int32)
    for i in prange(n):
        x, y, z = at[i, 0], at[i, 1], at[i, 2]
        x0, x1 = _rows(x, cell, counts, 0)
        y0, y1 = _rows(y, cell, counts, 1)
        z0, z1 = _rows(z, cell, counts, 2)
        found = 0
        for c in range(z0, z1 + 1):
            for b in range(y0, y1 + 1):
                row = counts[0] * (b + counts[1] * c)
                for j in range(np.uint64(starts[row + x0]), np.uint64(starts[row + x1 + 1])):
                    dx, dy, dz = at[j, 0] - x, at[j, 1] - y, at[j, 2] - z
                    if dx * dx + dy * dy + dz * dz < reach2 and j != np.uint64(i):
                        if found < wide:
                            near[i, found] = j
                        found += 1
        many[i] = found
    return many, near
