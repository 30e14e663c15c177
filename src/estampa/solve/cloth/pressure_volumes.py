"""What is blown up, or keeps what it holds."""

from typing import NamedTuple

import numpy as np
from numba import njit

single = njit(cache=True, nogil=True, error_model="numpy")


class Bags(NamedTuple):
    """Closed triangles, bag by bag, that are blown up or keep their volume.

    at (t, 3) vertices, outwards; starts (b + 1,); pressure (b,) Pa; volume (b,) m3 to be kept, 0 for none
    lid (t,) bool: it closes a border, and is no cloth: what presses on it is not felt
    """

    at: np.ndarray
    starts: np.ndarray
    pressure: np.ndarray
    volume: np.ndarray
    lid: np.ndarray

    @classmethod
    def none(cls) -> "Bags":
        return cls(np.zeros((0, 3), np.int64), np.zeros(1, np.int64), np.zeros(0), np.zeros(0), np.zeros(0, np.bool_))


@single
def blow_up(x, v, inverse_mass, bags, h):
    """Press on the faces of bags for a small step: area x pressure along the normal, a third to each corner."""
    for b in range(len(bags.pressure)):
        if bags.pressure[b] == 0:
            continue
        for t in range(bags.starts[b], bags.starts[b + 1]):
            if bags.lid[t]:
                continue
            i, j, k = bags.at[t, 0], bags.at[t, 1], bags.at[t, 2]
            nx, ny, nz = _twice_area(x, i, j, k)
            s = h * bags.pressure[b] / 6
            for c in range(3):
                q = (i, j, k)[c]
                v[q, 0] += s * inverse_mass[q] * nx
                v[q, 1] += s * inverse_mass[q] * ny
                v[q, 2] += s * inverse_mass[q] * nz


@single
def keep_volume(x, inverse_mass, bags):
    """Give bags that keep it their volume back, moving each vertex along the area around it. After M. Mueller and
    others 2007, "Position based dynamics", section 4.3."""
    push, met = np.zeros((len(inverse_mass), 3)), np.zeros(len(inverse_mass), np.int64)
    for b in range(len(bags.volume)):
        if bags.volume[b] <= 0:
            continue
        first, last, volume = bags.starts[b], bags.starts[b + 1], 0.0
        for t in range(first, last):
            i, j, k = bags.at[t, 0], bags.at[t, 1], bags.at[t, 2]
            nx, ny, nz = _twice_area(x, i, j, k)
            volume += (x[i, 0] * nx + x[i, 1] * ny + x[i, 2] * nz) / 6
            for c in range(3):
                q = (i, j, k)[c]
                push[q, 0] += nx / 6
                push[q, 1] += ny / 6
                push[q, 2] += nz / 6
        low = 0.0
        for t in range(first, last):
            for c in range(3):
                q = bags.at[t, c]
                if met[q] != b + 1:  # each vertex once
                    met[q] = b + 1
                    low += inverse_mass[q] * (push[q, 0] ** 2 + push[q, 1] ** 2 + push[q, 2] ** 2)
        for t in range(first, last):
            for c in range(3):
                q = bags.at[t, c]
                if push[q, 0] == 0 and push[q, 1] == 0 and push[q, 2] == 0:
                    continue
                if low > 0:
                    s = inverse_mass[q] * (bags.volume[b] - volume) / low
                    x[q, 0] += s * push[q, 0]
                    x[q, 1] += s * push[q, 1]
                    x[q, 2] += s * push[q, 2]
                push[q, 0], push[q, 1], push[q, 2] = 0.0, 0.0, 0.0


@single
def _twice_area(x, i, j, k):
    ux, uy, uz = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
    vx, vy, vz = x[k, 0] - x[i, 0], x[k, 1] - x[i, 1], x[k, 2] - x[i, 2]
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
