"""Which grains of a liquid are near one another: sorted by rows of cells along X, and listed for each.

Rows, not cells, have an entry in a table, so that a few drops that fall far away make no large one.
"""

import numpy as np
from numba import njit, prange

from ...errors import EstampaError

MOST_ROWS = 4_000_000
MOST_NEAR = 400  # neighbours, where about 28 belong


def sorted_by_row(place: np.ndarray, size: float):
    """((n,) order by row and along it, (r + 1,) starts of the rows, (n,) which cell each is in along its row, low (3,)
    m, cell m, (2,) rows along Y and Z) of places (n, 3) m."""
    low, high = place.min(axis=0), place.max(axis=0)
    cell = size
    while float(np.prod(np.floor((high - low)[1:] / cell) + 1)) > MOST_ROWS:
        cell *= 1.3
    counts = (np.floor((high - low) / cell) + 1).astype(np.int64)
    at = np.minimum(((place - low) / cell).astype(np.int64), counts - 1)
    row = at[:, 1] + counts[1] * at[:, 2]
    order = np.argsort(row * counts[0] + at[:, 0], kind="stable")
    starts = np.zeros(counts[1] * counts[2] + 1, np.int64)
    np.cumsum(np.bincount(row, minlength=len(starts) - 1), out=starts[1:])
    return order, starts, at[order, 0].astype(np.int32), low, cell, counts[1:]


def listed(at: np.ndarray, starts, along, cell: float, rows, reach: float, wide: int) -> tuple[np.ndarray, np.ndarray]:
    """((n,) int32 how many, (n, w) int32 which) neighbours each has within `reach` m, of places (n, 4) float32 from the
    corner of the cells, sorted so; w is at least `wide`. Raises EstampaError where far too many lie in one place."""
    while True:
        many, near = _listed(at, starts, along, np.float32(cell), rows, np.float32(reach * reach), wide)
        most = int(many.max(initial=0))
        if most <= wide:
            return many, near
        if most > MOST_NEAR:
            cause = f"has {most:,} grains in the room of a few: it is squeezed, or too far from the origin."
            raise EstampaError("The liquid", cause, "Look for what drives it so hard, or bring the scene nearer.")
        wide = most + 8


@njit(cache=True, nogil=True, inline="always")
def _first(along, low, high, cell):
    """The first of a row that is not left of a cell."""
    while low < high:
        middle = (low + high) // 2
        if along[middle] < cell:
            low = middle + 1
        else:
            high = middle
    return low


@njit(parallel=True, cache=True, nogil=True)
def _listed(at, starts, along, cell, rows, reach2, wide):
    n = len(at)
    many, near = np.empty(n, np.int32), np.empty((n, wide), np.int32)
    block = max(256, n // 256)
    for part in prange((n + block - 1) // block):
        here, count = np.int64(-1), 0
        begin, end, last = np.empty(9, np.int64), np.empty(9, np.int64), np.empty(9, np.int64)
        for i in range(part * block, min((part + 1) * block, n)):
            x, y, z = at[i, 0], at[i, 1], at[i, 2]
            left, right = along[i] - 1, along[i] + 1
            b = min(np.int64(y / cell), rows[0] - 1)
            c = min(np.int64(z / cell), rows[1] - 1)
            if b + rows[0] * c != here:
                here, count = b + rows[0] * c, 0
                for v in range(max(c - 1, 0), min(c + 2, rows[1])):
                    for u in range(max(b - 1, 0), min(b + 2, rows[0])):
                        row = u + rows[0] * v
                        begin[count] = _first(along, starts[row], starts[row + 1], left)
                        end[count], last[count] = begin[count], starts[row + 1]
                        count += 1
            found = 0
            for k in range(count):  # along a row both ends only ever go on
                while begin[k] < last[k] and along[begin[k]] < left:
                    begin[k] += 1
                end[k] = max(end[k], begin[k])
                while end[k] < last[k] and along[end[k]] <= right:
                    end[k] += 1
                for j in range(np.uint64(begin[k]), np.uint64(end[k])):
                    dx, dy, dz = at[j, 0] - x, at[j, 1] - y, at[j, 2] - z
                    if dx * dx + dy * dy + dz * dz < reach2 and j != np.uint64(i):
                        if found < wide:
                            near[i, found] = j
                        found += 1
            many[i] = found
    return many, near
