"""Edges of a cloth that lies between two others: as long as between those, by sweeps of projections."""

import numpy as np
from numba import njit

SWEEPS = 60
STANDS = 1e-7  # m; what differs less between the two is held there


def lengths_kept(
    position: np.ndarray, one: np.ndarray, other: np.ndarray, share: float, edges: np.ndarray
) -> np.ndarray:
    """position (n, 3) m between two shapes (n, 3), moved until its edges (e, 2) are as long as between those."""
    long = lambda p: np.linalg.norm(p[edges[:, 1]] - p[edges[:, 0]], axis=1)
    one, other = one.astype(float), other.astype(float)
    lengths = long(one) + share * (long(other) - long(one))
    held = np.linalg.norm(one - other, axis=1) < STANDS
    found = position.astype(float)
    project(found, np.ascontiguousarray(edges, np.int64), lengths, held, SWEEPS)
    return found


@njit(cache=True, nogil=True)
def project(x, edges, lengths, held, sweeps):
    """Each edge in turn to its length, by as much at both ends that are not held; there and back in turns."""
    for sweep in range(sweeps):
        for n in range(len(edges)):
            k = n if sweep % 2 == 0 else len(edges) - 1 - n
            a, b = edges[k, 0], edges[k, 1]
            if held[a] and held[b]:
                continue
            dx, dy, dz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
            long = np.sqrt(dx * dx + dy * dy + dz * dz)
            if long < 1e-12:
                continue
            part = (long - lengths[k]) / long * (1.0 if held[a] or held[b] else 0.5)
            if not held[a]:
                x[a, 0] += part * dx
                x[a, 1] += part * dy
                x[a, 2] += part * dz
            if not held[b]:
                x[b, 0] -= part * dx
                x[b, 1] -= part * dy
                x[b, 2] -= part * dz
