"""What is near in a mesh: a grid of its triangles, for sight lines and nearest points."""

from functools import cached_property

import numpy as np
from numba import njit, prange

MOST_CELLS = 2_000_000


class Grid:
    """Triangles sorted into cubic cells. points (n, 3) metres; triangles (t, 3)."""

    def __init__(self, points: np.ndarray, triangles: np.ndarray, reach: float = 0.0):
        """reach -- metres that each triangle is felt around it, for `closest`."""
        self.corners = np.ascontiguousarray(points[triangles], np.float64)  # (t, 3, 3)
        low = self.corners.min(axis=(0, 1), initial=np.inf) if len(triangles) else np.zeros(3)
        high = self.corners.max(axis=(0, 1), initial=-np.inf) if len(triangles) else np.zeros(3)
        low, high = low - reach - 1e-9, high + reach + 1e-9
        size = high - low
        sides = np.linalg.norm(self.corners - np.roll(self.corners, 1, axis=1), axis=2)
        cell = max(float(sides.mean()) * 1.5 if len(triangles) else 1.0, reach, float(size.max()) / 200, 1e-9)
        while np.prod(np.floor(size / cell) + 1) > MOST_CELLS:
            cell *= 1.3
        self.low, self.cell, self.reach = low, cell, reach
        self.counts = (np.floor(size / cell) + 1).astype(np.int64)

    @cached_property
    def cells(self) -> tuple[np.ndarray, np.ndarray]:
        """(first member of each cell and one past the last (c + 1,), triangles (m,) by cell)."""
        return _sorted(self.corners, self.low, self.cell, self.counts, self.reach)

    @property
    def parts(self) -> tuple:
        """What kernels take."""
        return (self.corners, self.low, self.cell, self.counts, *self.cells)

    def closest(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((n,) nearest triangle within reach, -1 where there is none; (n, 3) the point on it)."""
        return _closest(np.ascontiguousarray(points), self.reach, *self.parts)


@njit(cache=True, nogil=True)
def _span(corners, t, low, cell, counts, reach):
    first, last = np.empty(3, np.int64), np.empty(3, np.int64)
    for j in range(3):
        a = min(corners[t, 0, j], corners[t, 1, j], corners[t, 2, j]) - reach
        b = max(corners[t, 0, j], corners[t, 1, j], corners[t, 2, j]) + reach
        first[j] = min(max(int((a - low[j]) / cell), 0), counts[j] - 1)
        last[j] = min(max(int((b - low[j]) / cell), 0), counts[j] - 1)
    return first, last


@njit(cache=True, nogil=True)
def _sorted(corners, low, cell, counts, reach):
    starts = np.zeros(counts[0] * counts[1] * counts[2] + 1, np.int64)
    members = np.empty(0, np.int64)
    filled = starts
    for filling in (False, True):  # count first, then put them in their places
        for t in range(len(corners)):
            first, last = _span(corners, t, low, cell, counts, reach)
            for x in range(first[0], last[0] + 1):
                for y in range(first[1], last[1] + 1):
                    for z in range(first[2], last[2] + 1):
                        c = (x * counts[1] + y) * counts[2] + z
                        if filling:
                            members[filled[c]] = t
                            filled[c] += 1
                        else:
                            starts[c + 1] += 1
        if not filling:
            starts = np.cumsum(starts)
            members = np.empty(starts[-1], np.int64)
            filled = starts[:-1].copy()
    return starts, members


@njit(cache=True, nogil=True, inline="always")
def edge(corners, t, k):
    """From a triangle's first corner to another."""
    return (
        corners[t, k, 0] - corners[t, 0, 0],
        corners[t, k, 1] - corners[t, 0, 1],
        corners[t, k, 2] - corners[t, 0, 2],
    )


@njit(cache=True, nogil=True)
def crosses(a, b, corners, low, cell, counts, starts, members):
    """Whether a triangle stands between two points (Moeller and Trumbore 1997), looked for cell by cell along the way
    (Amanatides and Woo 1987)."""
    d0, d1, d2 = b[0] - a[0], b[1] - a[1], b[2] - a[2]
    way = np.array([d0, d1, d2])
    at, step = np.empty(3, np.int64), np.empty(3, np.int64)
    following, each = np.empty(3), np.empty(3)
    for j in range(3):
        at[j] = int(np.floor((a[j] - low[j]) / cell))
        step[j] = 1 if way[j] > 0 else -1
        if abs(way[j]) < 1e-300:
            following[j], each[j] = np.inf, np.inf
        else:
            border = low[j] + cell * (at[j] + (1 if way[j] > 0 else 0))
            following[j], each[j] = (border - a[j]) / way[j], cell / abs(way[j])
    entered = 0.0
    while entered <= 1.0:
        if 0 <= at[0] < counts[0] and 0 <= at[1] < counts[1] and 0 <= at[2] < counts[2]:
            c = (at[0] * counts[1] + at[1]) * counts[2] + at[2]
            for m in range(starts[c], starts[c + 1]):
                t = members[m]
                e10, e11, e12 = edge(corners, t, 1)
                e20, e21, e22 = edge(corners, t, 2)
                h0, h1, h2 = d1 * e22 - d2 * e21, d2 * e20 - d0 * e22, d0 * e21 - d1 * e20
                det = e10 * h0 + e11 * h1 + e12 * h2
                if abs(det) < 1e-18:
                    continue
                s0, s1, s2 = a[0] - corners[t, 0, 0], a[1] - corners[t, 0, 1], a[2] - corners[t, 0, 2]
                u = (s0 * h0 + s1 * h1 + s2 * h2) / det
                if u < 0 or u > 1:
                    continue
                q0, q1, q2 = s1 * e12 - s2 * e11, s2 * e10 - s0 * e12, s0 * e11 - s1 * e10
                v = (d0 * q0 + d1 * q1 + d2 * q2) / det
                if v < 0 or u + v > 1:
                    continue
                w = (e20 * q0 + e21 * q1 + e22 * q2) / det
                if 1e-6 < w < 1 - 1e-6:
                    return True
        j = (
            0
            if following[0] <= following[1] and following[0] <= following[2]
            else 1
            if following[1] <= following[2]
            else 2
        )
        entered = following[j]
        at[j] += step[j]
        following[j] += each[j]
    return False


@njit(parallel=True, cache=True, nogil=True)
def _closest(points, reach, corners, low, cell, counts, starts, members):
    found, where = np.full(len(points), -1, np.int64), np.zeros((len(points), 3))
    for i in prange(len(points)):
        found[i], where[i, 0], where[i, 1], where[i, 2] = closest_to(
            points[i, 0], points[i, 1], points[i, 2], reach, corners, low, cell, counts, starts, members
        )
    return found, where


@njit(cache=True, nogil=True)
def closest_to(x, y, z, reach, corners, low, cell, counts, starts, members):
    """(nearest triangle within reach or -1, the point on it) of one point."""
    cx, cy, cz = (
        int(np.floor((x - low[0]) / cell)),
        int(np.floor((y - low[1]) / cell)),
        int(np.floor((z - low[2]) / cell)),
    )
    if not (0 <= cx < counts[0] and 0 <= cy < counts[1] and 0 <= cz < counts[2]):
        return -1, 0.0, 0.0, 0.0
    c = (cx * counts[1] + cy) * counts[2] + cz
    best, found = reach * reach, -1
    bx, by, bz = 0.0, 0.0, 0.0
    for m in range(starts[c], starts[c + 1]):
        px, py, pz = on_triangle(x, y, z, corners, members[m])
        far = (px - x) ** 2 + (py - y) ** 2 + (pz - z) ** 2
        if far < best:
            best, found, bx, by, bz = far, members[m], px, py, pz
    return found, bx, by, bz


@njit(cache=True, nogil=True)
def on_triangle(x, y, z, corners, t):
    """The point of a triangle nearest to another (Ericson 2004, "Real-Time Collision Detection", 5.1.5)."""
    ax, ay, az = corners[t, 0, 0], corners[t, 0, 1], corners[t, 0, 2]
    bx, by, bz = corners[t, 1, 0] - ax, corners[t, 1, 1] - ay, corners[t, 1, 2] - az
    cx, cy, cz = corners[t, 2, 0] - ax, corners[t, 2, 1] - ay, corners[t, 2, 2] - az
    px, py, pz = x - ax, y - ay, z - az
    d1, d2 = bx * px + by * py + bz * pz, cx * px + cy * py + cz * pz
    if d1 <= 0 and d2 <= 0:
        return ax, ay, az
    qx, qy, qz = px - bx, py - by, pz - bz
    d3, d4 = bx * qx + by * qy + bz * qz, cx * qx + cy * qy + cz * qz
    if d3 >= 0 and d4 <= d3:
        return ax + bx, ay + by, az + bz
    rx, ry, rz = px - cx, py - cy, pz - cz
    d5, d6 = bx * rx + by * ry + bz * rz, cx * rx + cy * ry + cz * rz
    if d6 >= 0 and d5 <= d6:
        return ax + cx, ay + cy, az + cz
    vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
    if vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / (d1 - d3) if d1 != d3 else 0.0
        return ax + v * bx, ay + v * by, az + v * bz
    if vb <= 0 and d2 >= 0 and d6 <= 0:
        w = d2 / (d2 - d6) if d2 != d6 else 0.0
        return ax + w * cx, ay + w * cy, az + w * cz
    if va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        total = (d4 - d3) + (d5 - d6)
        w = (d4 - d3) / total if total != 0 else 0.0
        return ax + bx + w * (cx - bx), ay + by + w * (cy - by), az + bz + w * (cz - bz)
    total = va + vb + vc
    v, w = (vb / total, vc / total) if total != 0 else (0.0, 0.0)
    return ax + v * bx + w * cx, ay + v * by + w * cy, az + v * bz + w * cz
