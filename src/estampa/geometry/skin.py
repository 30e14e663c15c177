"""A surface around points that fill a room: a field of what they cover, cut at a level.

Each point covers its own share of the room, spread by Wendland's weight and scaled by how crowded it is, so that one
that is alone stays a drop of its own volume, and where many are the surface is level.
"""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

LEVEL = 0.5  # where what is covered is cut: by it a pool and a single drop keep their volume, measured
REACH = 2.0  # of the spacing, over which a point is spread
MOST_NODES = 80_000_000


class SkinField(NamedTuple):
    """values (nx, ny, nz) float32 at nodes `cell` m apart from `low` (3,) m on."""

    values: np.ndarray
    low: np.ndarray
    cell: float


def covered(place: np.ndarray, spacing: float, cell: float) -> SkinField:
    """What points (n, 3) m, so far apart, cover; nodes lie on multiples of the cell in the world, so that a skin does
    not tremble with where its points are. The cell grows where nodes would be too many."""
    reach = REACH * spacing
    low, high = place.min(axis=0) - reach, place.max(axis=0) + reach
    while np.prod((high - low) / cell + 3) > MOST_NODES:
        cell *= 1.3
    first = np.floor(low / cell).astype(np.int64) - 1
    counts = np.ceil(high / cell).astype(np.int64) + 2 - first
    at = np.ascontiguousarray(place - first * cell)
    order, starts, many = _by_cell(at, counts * cell, reach)
    at = at[order]
    room = _rooms(at, starts, many, reach, spacing)
    values = _spread(at, room, starts, many, reach, cell, counts)
    return SkinField(np.ascontiguousarray(values.transpose(2, 1, 0)), first * cell, cell)


def _by_cell(at, size, reach):
    many = np.maximum(np.ceil(size / reach), 1).astype(np.int64)
    cell = np.minimum((at / reach).astype(np.int64), many - 1)
    number = cell[:, 0] + many[0] * (cell[:, 1] + many[1] * cell[:, 2])
    order = np.argsort(number, kind="stable")
    starts = np.searchsorted(number[order], np.arange(int(np.prod(many)) + 1))
    return order, starts, many


@njit(cache=True, nogil=True, inline="always")
def _weight(q):
    s = 1 - q
    return s * s * s * s * (4 * q + 1) if q < 1 else 0.0


@njit(parallel=True, cache=True, nogil=True)
def _rooms(at, starts, many, reach, spacing):
    """(n,) what each weighs for the field: the room that it takes over how crowded it is there."""
    found = np.empty(len(at), np.float32)
    scale = 21 / (2 * np.pi) * (spacing / reach) ** 3
    for i in prange(len(at)):
        c = [min(int(at[i, j] / reach), many[j] - 1) for j in range(3)]
        sum_ = 0.0
        for z in range(max(c[2] - 1, 0), min(c[2] + 2, many[2])):
            for y in range(max(c[1] - 1, 0), min(c[1] + 2, many[1])):
                row = many[0] * (y + many[1] * z)
                for k in range(starts[row + max(c[0] - 1, 0)], starts[row + min(c[0] + 1, many[0] - 1) + 1]):
                    r2 = (at[k, 0] - at[i, 0]) ** 2 + (at[k, 1] - at[i, 1]) ** 2 + (at[k, 2] - at[i, 2]) ** 2
                    sum_ += _weight(np.sqrt(r2) / reach)
        found[i] = scale / max(scale * sum_, 1e-9)
    return found


@njit(parallel=True, cache=True, nogil=True)
def _spread(at, room, starts, many, reach, cell, counts):
    """(nz, ny, nx): every layer of nodes by itself, so that threads share nothing."""
    values = np.zeros((counts[2], counts[1], counts[0]), np.float32)
    for k in prange(counts[2]):
        height = np.int64(k) * cell
        for z in range(max(int((height - reach) / reach), 0), min(int((height + reach) / reach), many[2] - 1) + 1):
            row = many[0] * many[1] * z
            for p in range(starts[row], starts[row + many[0] * many[1]]):
                dz = at[p, 2] - height
                left = reach * reach - dz * dz
                if left <= 0:
                    continue
                wide = np.sqrt(left)
                for y in range(int(np.ceil((at[p, 1] - wide) / cell)), int((at[p, 1] + wide) / cell) + 1):
                    dy = at[p, 1] - y * cell
                    more = left - dy * dy
                    if more <= 0:
                        continue
                    half = np.sqrt(more)
                    for x in range(int(np.ceil((at[p, 0] - half) / cell)), int((at[p, 0] + half) / cell) + 1):
                        dx = at[p, 0] - x * cell
                        values[k, y, x] += room[p] * _weight(np.sqrt(dx * dx + dy * dy + dz * dz) / reach)
    return values


def cut(values: np.ndarray, low: np.ndarray, cell: float, level: float) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3) m, (t, 3)) the surface at a level of a field, by marching cubes."""
    import pysplashsurf

    mesh = pysplashsurf.marching_cubes(values, iso_surface_threshold=level, cube_size=cell)
    return np.asarray(mesh.vertices, float) + low, np.asarray(mesh.triangles).astype(np.int32)


def neighbours(count: int, triangles: np.ndarray):
    """(n, n) sparse, which gives the mean of the neighbours of each of so many points."""
    from scipy import sparse

    a, b = triangles[:, [0, 1, 2, 1, 2, 0]].ravel(), triangles[:, [1, 2, 0, 0, 1, 2]].ravel()
    near = sparse.csr_matrix((np.ones(len(a)), (a, b)), (count, count))
    near.data[:] = 1.0
    return sparse.diags(1 / np.maximum(np.asarray(near.sum(axis=1)).ravel(), 1)) @ near


def smoothed(points: np.ndarray, triangles: np.ndarray, rounds: int) -> np.ndarray:
    """(n, 3) points smoothed so many times without shrinking (Taubin 1995, "A signal processing approach to fair
    surface design")."""
    if not rounds or not len(triangles):
        return points
    near = neighbours(len(points), triangles)
    for _ in range(rounds):
        for step in (0.5, -0.53):
            points = points + step * (near @ points - points)
    return points


@njit(parallel=True, cache=True, nogil=True)
def _carried(at, values, starts, many, reach, points):
    """(m, w) values of points (m, 3), of what is near them by weight."""
    wide = values.shape[1]
    found = np.zeros((len(points), wide))
    for i in prange(len(points)):
        c = [min(max(int(points[i, j] / reach), 0), many[j] - 1) for j in range(3)]
        sum_, nearest, best = 0.0, -1, 1e300
        for z in range(max(c[2] - 1, 0), min(c[2] + 2, many[2])):
            for y in range(max(c[1] - 1, 0), min(c[1] + 2, many[1])):
                row = many[0] * (y + many[1] * z)
                for k in range(starts[row + max(c[0] - 1, 0)], starts[row + min(c[0] + 1, many[0] - 1) + 1]):
                    dx, dy, dz = at[k, 0] - points[i, 0], at[k, 1] - points[i, 1], at[k, 2] - points[i, 2]
                    r2 = dx * dx + dy * dy + dz * dz
                    w = _weight(np.sqrt(r2) / reach)
                    if r2 < best:
                        nearest, best = k, r2
                    if w > 0:
                        sum_ += w
                        for j in range(wide):
                            found[i, j] += w * values[k, j]
        if sum_ > 1e-12:
            for j in range(wide):
                found[i, j] /= sum_
        elif nearest >= 0:
            for j in range(wide):
                found[i, j] = values[nearest, j]
    return found


def carried(place: np.ndarray, values: np.ndarray, spacing: float, points: np.ndarray) -> np.ndarray:
    """(m, w) values that points (n, 3) m have, (n, w), at other points (m, 3) m near them."""
    reach = REACH * spacing
    low = np.minimum(place.min(axis=0), points.min(axis=0)) - 1e-9
    size = np.maximum(place.max(axis=0), points.max(axis=0)) - low + 1e-9
    order, starts, many = _by_cell(place - low, size, reach)
    return _carried((place - low)[order], np.ascontiguousarray(values[order], float), starts, many, reach, points - low)
