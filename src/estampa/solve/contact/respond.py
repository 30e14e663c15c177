"""What is done about pairs that are too near: pushed apart in position, with Coulomb friction.

Each pair remembers on which side of each other its elements were when it was found. So one that went through within
a step is pulled back to its own side, and not pushed out of the other.
"""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

from .closest import edge_edge, point_triangle
from .soup import ROUND, SOLID

single = njit(cache=True, nogil=True, error_model="numpy")
inline = njit(cache=True, nogil=True, inline="always", error_model="numpy")
threaded = njit(cache=True, nogil=True, parallel=True, error_model="numpy")
PART = 1024  # pairs that a thread takes at once
RECOVERY = 0.3  # m/s at which what overlapped when it was found is parted


class Pairs(NamedTuple):
    """Pairs that are watched.

    at (p, 2) a point and a triangle, or two edges; side (p, 3) from the second to the first when it was found; gap (p,)
    m between them then, negative within a solid; most (p,) m that they may come near; thick (p,) m how near they might
    come when it was found, since balls grow; born (p,) s when it was found; judged (p,) when it was last found to be
    far enough apart, in the same count as when points were moved
    """

    at: np.ndarray
    side: np.ndarray
    gap: np.ndarray
    most: np.ndarray
    thick: np.ndarray
    born: np.ndarray
    judged: np.ndarray


@single
def sides_vt(x, watched, which, triangles):
    """Where points are of their triangles, of those pairs `which` (p,) bool."""
    pairs, side, gap = watched.at, watched.side, watched.gap
    for p in range(len(pairs)):
        if not which[p]:
            continue
        i, t = pairs[p, 0], pairs[p, 1]
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        u, v, w, _ = point_triangle(x[i, 0], x[i, 1], x[i, 2], x[a, 0], x[a, 1], x[a, 2],
                                          x[b, 0], x[b, 1], x[b, 2], x[c, 0], x[c, 1], x[c, 2])  # fmt: skip
        d = 0.0
        for j in range(3):
            side[p, j] = x[i, j] - u * x[a, j] - v * x[b, j] - w * x[c, j]
            d += side[p, j] ** 2
        d = np.sqrt(d)
        gap[p] = d
        if d < 1e-12:
            n0, n1, n2 = normal(x, a, b, c)
            side[p, 0], side[p, 1], side[p, 2] = n0, n1, n2
        else:
            for j in range(3):
                side[p, j] /= d


@inline
def normal(x, a, b, c):
    ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    long = max(np.sqrt(nx * nx + ny * ny + nz * nz), 1e-300)
    return nx / long, ny / long, nz / long


@single
def inside_out(x, watched, which, triangles, sort):
    """Turn about the side of points that are within a closed mesh, among pairs `which` (p,) bool in the order of their
    points: of all its triangles near the point the nearest one
    tells, by its normal; where several are as near, the one that faces the point most. Pairs of the same point with
    others of its triangles are left alone then, since they would push it through."""
    pairs, side, gap = watched.at, watched.side, watched.gap
    p = 0
    while p < len(pairs):
        i, last = pairs[p, 0], p
        while last < len(pairs) and pairs[last, 0] == i:
            last += 1
        best, cos, nearest = np.inf, 0.0, -1
        for q in range(p, last):
            t = pairs[q, 1]
            a = triangles[t, 0]
            if not which[q] or sort[a] != SOLID:
                continue
            n0, n1, n2 = normal(x, a, triangles[t, 1], triangles[t, 2])
            facing = n0 * side[q, 0] + n1 * side[q, 1] + n2 * side[q, 2]
            if gap[q] < best * (1 - 1e-9) or (gap[q] <= best * (1 + 1e-9) and abs(facing) > abs(cos)):
                best, cos, nearest = gap[q], facing, q
        if nearest >= 0 and cos < 0:
            for q in range(p, last):
                t = pairs[q, 1]
                if not which[q] or sort[triangles[t, 0]] != SOLID:
                    continue
                if q == nearest:
                    n0, n1, n2 = normal(x, triangles[t, 0], triangles[t, 1], triangles[t, 2])
                    side[q, 0], side[q, 1], side[q, 2] = n0, n1, n2
                    gap[q] = -gap[q]
                else:
                    gap[q] = np.inf  # never felt
        p = last


@single
def sides_ee(x, watched, which, edges):
    """Where edges are of each other, of those pairs `which` (p,) bool."""
    pairs, side, gap = watched.at, watched.side, watched.gap
    for p in range(len(pairs)):
        if not which[p]:
            continue
        a, b, c, d = edges[pairs[p, 0], 0], edges[pairs[p, 0], 1], edges[pairs[p, 1], 0], edges[pairs[p, 1], 1]
        s, t, _ = edge_edge(x[a, 0], x[a, 1], x[a, 2], x[b, 0], x[b, 1], x[b, 2],
                                 x[c, 0], x[c, 1], x[c, 2], x[d, 0], x[d, 1], x[d, 2])  # fmt: skip
        q = 0.0
        for j in range(3):
            side[p, j] = x[a, j] + s * (x[b, j] - x[a, j]) - x[c, j] - t * (x[d, j] - x[c, j])
            q += side[p, j] ** 2
        q = np.sqrt(q)
        gap[p] = q
        for j in range(3):
            side[p, j] /= max(q, 1e-300)


@inline
def along(x, i, side, p):
    """m, where a point is along the line on which a pair was found. No distance is less than that along a line."""
    return x[i, 0] * side[p, 0] + x[i, 1] * side[p, 1] + x[i, 2] * side[p, 2]


@inline
def _wanted(thick, gap, age, was):
    """How far apart a pair is to be: as thick as it is; what overlapped when it was found, as thick as it was then, is
    parted no faster than RECOVERY, so that nothing is thrown apart."""
    return min(thick, max(gap, -thick) + max(thick - was, 0.0) + RECOVERY * age)


@threaded
def clear_vt(x, watched, triangles, radius, moved, tick):
    """Judge on all threads which points and triangles are far enough apart, by the line on which they were found: what
    is left for the pushes, which go one after another, is little."""
    pairs, side, gap, most, judged = watched.at, watched.side, watched.gap, watched.most, watched.judged
    parts = (len(pairs) + PART - 1) // PART
    for part in prange(parts):
        begin, end = np.int64(part * PART), np.int64(min((part + 1) * PART, len(pairs)))
        for p in range(begin, end):
            i, t = pairs[p, 0], pairs[p, 1]
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            if gap[p] == np.inf or max(moved[i], moved[a], moved[b], moved[c]) <= judged[p]:
                continue
            over = max(along(x, a, side, p), along(x, b, side, p), along(x, c, side, p))
            if along(x, i, side, p) - over >= min(radius[i] + radius[a], most[p]):
                judged[p] = tick


@threaded
def clear_ee(x, watched, edges, radius, moved, tick):
    """The same of edges."""
    pairs, side, most, judged = watched.at, watched.side, watched.most, watched.judged
    parts = (len(pairs) + PART - 1) // PART
    for part in prange(parts):
        begin, end = np.int64(part * PART), np.int64(min((part + 1) * PART, len(pairs)))
        for p in range(begin, end):
            a, b, c, d = edges[pairs[p, 0], 0], edges[pairs[p, 0], 1], edges[pairs[p, 1], 0], edges[pairs[p, 1], 1]
            if max(moved[a], moved[b], moved[c], moved[d]) <= judged[p]:
                continue
            low, over = min(along(x, a, side, p), along(x, b, side, p)), max(along(x, c, side, p), along(x, d, side, p))
            if low - over >= min(radius[a] + radius[c], most[p]):
                judged[p] = tick


@single
def push_vt(x, old, inverse_mass, watched, triangles, radius, rub, now, moved, tick):
    """Push points and triangles apart; returns how many had gone through each other, and the count. old (N, 3) m where
    they were when this step began; now -- s; moved (N,) when points were last moved, counted in pairs that were judged:
    what was far enough apart is so still while none of its points is moved."""
    pairs, side, gap, most, born = watched.at, watched.side, watched.gap, watched.most, watched.born
    judged, through = watched.judged, 0
    for p in range(len(pairs)):
        i, t = pairs[p, 0], pairs[p, 1]
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if gap[p] == np.inf or max(moved[i], moved[a], moved[b], moved[c]) <= judged[p]:
            continue
        tick += 1
        judged[p] = tick
        thick = min(radius[i] + radius[a], most[p])
        u, v, w, within = point_triangle(x[i, 0], x[i, 1], x[i, 2], x[a, 0], x[a, 1], x[a, 2],
                                          x[b, 0], x[b, 1], x[b, 2], x[c, 0], x[c, 1], x[c, 2])  # fmt: skip
        nx = x[i, 0] - u * x[a, 0] - v * x[b, 0] - w * x[c, 0]
        ny = x[i, 1] - u * x[a, 1] - v * x[b, 1] - w * x[c, 1]
        nz = x[i, 2] - u * x[a, 2] - v * x[b, 2] - w * x[c, 2]
        apart = np.sqrt(nx * nx + ny * ny + nz * nz)
        across = nx * side[p, 0] + ny * side[p, 1] + nz * side[p, 2]
        if apart < 1e-12:
            nx, ny, nz = side[p, 0], side[p, 1], side[p, 2]
        else:
            back = -1.0 if across < 0 and (within or gap[p] < 0) else 1.0
            nx, ny, nz, apart = back * nx / apart, back * ny / apart, back * nz / apart, back * apart
        deep = _wanted(thick, gap[p], now - born[p], watched.thick[p]) - apart
        if deep <= 0:
            continue
        wi, wa, wb, wc = inverse_mass[i], inverse_mass[a], inverse_mass[b], inverse_mass[c]
        low = wi + u * u * wa + v * v * wb + w * w * wc
        # where what is held bears nearly all of it, the little that is free is not flung away: twice as far at most
        low = max(low, 0.5 * max(wi, u * wa, v * wb, w * wc))
        if low <= 0:
            continue
        through += apart < 0
        judged[p] = 0
        moved[i] = moved[a] = moved[b] = moved[c] = tick
        # how far they slid on each other in this step, before the push
        sx = x[i, 0] - old[i, 0] - u * (x[a, 0] - old[a, 0]) - v * (x[b, 0] - old[b, 0]) - w * (x[c, 0] - old[c, 0])
        sy = x[i, 1] - old[i, 1] - u * (x[a, 1] - old[a, 1]) - v * (x[b, 1] - old[b, 1]) - w * (x[c, 1] - old[c, 1])
        sz = x[i, 2] - old[i, 2] - u * (x[a, 2] - old[a, 2]) - v * (x[b, 2] - old[b, 2]) - w * (x[c, 2] - old[c, 2])
        along = sx * nx + sy * ny + sz * nz
        sx, sy, sz = sx - along * nx, sy - along * ny, sz - along * nz
        slide = np.sqrt(sx * sx + sy * sy + sz * sz)
        stop = min(1.0, 0.5 * (rub[i] + rub[a]) * deep / slide) if slide > 0 else 0.0
        px, py, pz = (deep * nx - stop * sx) / low, (deep * ny - stop * sy) / low, (deep * nz - stop * sz) / low
        x[i, 0] += wi * px
        x[i, 1] += wi * py
        x[i, 2] += wi * pz
        wa, wb, wc = u * wa, v * wb, w * wc
        x[a, 0] -= wa * px
        x[a, 1] -= wa * py
        x[a, 2] -= wa * pz
        x[b, 0] -= wb * px
        x[b, 1] -= wb * py
        x[b, 2] -= wb * pz
        x[c, 0] -= wc * px
        x[c, 1] -= wc * py
        x[c, 2] -= wc * pz
    return through, tick


@single
def push_ee(x, old, inverse_mass, watched, edges, sort, radius, rub, now, moved, tick):
    """The same of edges."""
    pairs, side, gap, most, born = watched.at, watched.side, watched.gap, watched.most, watched.born
    judged, through = watched.judged, 0
    for p in range(len(pairs)):
        a, b, c, d = edges[pairs[p, 0], 0], edges[pairs[p, 0], 1], edges[pairs[p, 1], 0], edges[pairs[p, 1], 1]
        if max(moved[a], moved[b], moved[c], moved[d]) <= judged[p]:
            continue
        tick += 1
        judged[p] = tick
        thick = min(radius[a] + radius[c], most[p])
        s, t, within = edge_edge(x[a, 0], x[a, 1], x[a, 2], x[b, 0], x[b, 1], x[b, 2],
                                 x[c, 0], x[c, 1], x[c, 2], x[d, 0], x[d, 1], x[d, 2])  # fmt: skip
        if not within and sort[c] != ROUND:  # a capsule has no triangles that would tell
            continue
        nx = x[a, 0] + s * (x[b, 0] - x[a, 0]) - x[c, 0] - t * (x[d, 0] - x[c, 0])
        ny = x[a, 1] + s * (x[b, 1] - x[a, 1]) - x[c, 1] - t * (x[d, 1] - x[c, 1])
        nz = x[a, 2] + s * (x[b, 2] - x[a, 2]) - x[c, 2] - t * (x[d, 2] - x[c, 2])
        apart = np.sqrt(nx * nx + ny * ny + nz * nz)
        across = nx * side[p, 0] + ny * side[p, 1] + nz * side[p, 2]
        if apart < 1e-12:
            nx, ny, nz = side[p, 0], side[p, 1], side[p, 2]
        else:
            back = -1.0 if across < 0 else 1.0
            nx, ny, nz, apart = back * nx / apart, back * ny / apart, back * nz / apart, back * apart
        deep = _wanted(thick, gap[p], now - born[p], watched.thick[p]) - apart
        if deep <= 0:
            continue
        wa, wb, wc, wd = inverse_mass[a], inverse_mass[b], inverse_mass[c], inverse_mass[d]
        low = (1 - s) ** 2 * wa + s * s * wb + (1 - t) ** 2 * wc + t * t * wd
        low = max(low, 0.5 * max((1 - s) * wa, s * wb, (1 - t) * wc, t * wd))
        if low <= 0:
            continue
        through += apart < 0
        judged[p] = 0
        moved[a] = moved[b] = moved[c] = moved[d] = tick
        ga, gb, gc, gd = 1 - s, s, t - 1, -t
        sx = (ga * (x[a, 0] - old[a, 0]) + gb * (x[b, 0] - old[b, 0])
              + gc * (x[c, 0] - old[c, 0]) + gd * (x[d, 0] - old[d, 0]))  # fmt: skip
        sy = (ga * (x[a, 1] - old[a, 1]) + gb * (x[b, 1] - old[b, 1])
              + gc * (x[c, 1] - old[c, 1]) + gd * (x[d, 1] - old[d, 1]))  # fmt: skip
        sz = (ga * (x[a, 2] - old[a, 2]) + gb * (x[b, 2] - old[b, 2])
              + gc * (x[c, 2] - old[c, 2]) + gd * (x[d, 2] - old[d, 2]))  # fmt: skip
        along = sx * nx + sy * ny + sz * nz
        sx, sy, sz = sx - along * nx, sy - along * ny, sz - along * nz
        slide = np.sqrt(sx * sx + sy * sy + sz * sz)
        stop = min(1.0, 0.5 * (rub[a] + rub[c]) * deep / slide) if slide > 0 else 0.0
        px, py, pz = (deep * nx - stop * sx) / low, (deep * ny - stop * sy) / low, (deep * nz - stop * sz) / low
        for k in range(4):
            i = (a, b, c, d)[k]
            g = (ga * wa, gb * wb, gc * wc, gd * wd)[k]
            x[i, 0] += g * px
            x[i, 1] += g * py
            x[i, 2] += g * pz
    return through, tick


@single
def push_planes(x, old, inverse_mass, cloth, radius, rub, planes, t, t0, moved, tick):
    """Push points of cloths out of half-spaces. planes (k, 13): a point and the normal before and now, and friction."""
    for k in range(len(planes)):
        q = planes[k]
        g0, g1, g2 = q[6] - q[0], q[7] - q[1], q[8] - q[2]
        o0, o1, o2 = q[0] + t * g0, q[1] + t * g1, q[2] + t * g2
        n0, n1, n2 = q[3] + t * (q[9] - q[3]), q[4] + t * (q[10] - q[4]), q[5] + t * (q[11] - q[5])
        m0, m1, m2 = (t - t0) * g0, (t - t0) * g1, (t - t0) * g2  # how far it went in this step
        for i in range(cloth):
            if inverse_mass[i] <= 0:
                continue
            deep = radius[i] - (x[i, 0] - o0) * n0 - (x[i, 1] - o1) * n1 - (x[i, 2] - o2) * n2
            if deep <= 0:
                continue
            sx, sy, sz = x[i, 0] - old[i, 0] - m0, x[i, 1] - old[i, 1] - m1, x[i, 2] - old[i, 2] - m2
            along = sx * n0 + sy * n1 + sz * n2
            sx, sy, sz = sx - along * n0, sy - along * n1, sz - along * n2
            slide = np.sqrt(sx * sx + sy * sy + sz * sz)
            stop = min(1.0, 0.5 * (planes[k, 12] + rub[i]) * deep / slide) if slide > 0 else 0.0
            moved[i] = tick + 1
            x[i, 0] += deep * n0 - stop * sx
            x[i, 1] += deep * n1 - stop * sy
            x[i, 2] += deep * n2 - stop * sz
