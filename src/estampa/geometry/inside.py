"""Which points are inside a closed mesh: a ray along X crosses its surface an odd number of times."""

import numpy as np
from numba import njit, prange

from .mesh import Mesh

_TILT = np.array([0.0, 1.9e-9, 1.3e-9])  # shares of the size by which rays are shifted, so that none meets an edge


def is_inside(mesh: Mesh, points: np.ndarray) -> np.ndarray:
    """(m,) bool, which of (m, 3) points m are inside a closed mesh. Where surfaces overlap, what an odd number of them
    hold counts."""
    low, high = mesh.bounds
    size = max(float((high - low).max()), 1e-12)
    rows = mesh.cached("rays", lambda: _sorted(mesh.points, mesh.triangles, low, high))
    corners = np.ascontiguousarray(mesh.points).view()
    corners.flags.writeable = False  # of a scene's mesh or of one just made: one sort of argument for the kernel
    return _count(np.ascontiguousarray(points + _TILT * size), corners, mesh.triangles, *rows, low, high) % 2 == 1


def _sorted(points, triangles, low, high):
    """(side, starts, members): the triangles above each cell of a grid across X."""
    side = int(np.clip(np.sqrt(len(triangles)), 1, 512))
    across = np.maximum((high - low)[1:], 1e-12)
    corner = (points[triangles][:, :, 1:] - low[1:]) / across * side
    first = np.clip(corner.min(axis=1) - 1e-6, 0, side - 1).astype(np.int64)
    last = np.clip(corner.max(axis=1) + 1e-6, 0, side - 1).astype(np.int64)
    starts, members = _filled(first, last, side)
    return side, starts, members


@njit(cache=True, nogil=True)
def _filled(first, last, side):
    starts = np.zeros(side * side + 1, np.int64)
    for t in range(len(first)):
        for y in range(first[t, 0], last[t, 0] + 1):
            for z in range(first[t, 1], last[t, 1] + 1):
                starts[y * side + z + 1] += 1
    for k in range(side * side):
        starts[k + 1] += starts[k]
    at, members = starts[:-1].copy(), np.empty(starts[-1], np.int64)
    for t in range(len(first)):
        for y in range(first[t, 0], last[t, 0] + 1):
            for z in range(first[t, 1], last[t, 1] + 1):
                members[at[y * side + z]] = t
                at[y * side + z] += 1
    return starts, members


@njit(cache=True, nogil=True, parallel=True)
def _count(points, at, triangles, side, starts, members, low, high):
    """(m,) how often a ray from each point along X crosses a triangle."""
    found = np.zeros(len(points), np.int64)
    for m in prange(len(points)):
        x, y, z = points[m, 0], points[m, 1], points[m, 2]
        cy = np.int64((y - low[1]) / max(high[1] - low[1], 1e-12) * side)
        cz = np.int64((z - low[2]) / max(high[2] - low[2], 1e-12) * side)
        if y < low[1] or z < low[2] or cy >= side or cz >= side:
            continue
        for q in range(starts[cy * side + cz], starts[cy * side + cz + 1]):
            t = members[q]
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            ay, az = at[a, 1] - y, at[a, 2] - z
            by, bz = at[b, 1] - y, at[b, 2] - z
            cy_, cz_ = at[c, 1] - y, at[c, 2] - z
            wa, wb, wc = by * cz_ - bz * cy_, cy_ * az - cz_ * ay, ay * bz - az * by
            if (wa > 0) != (wb > 0) or (wb > 0) != (wc > 0):
                continue
            total = wa + wb + wc
            if total != 0 and (wa * at[a, 0] + wb * at[b, 0] + wc * at[c, 0]) / total > x:
                found[m] += 1
    return found
