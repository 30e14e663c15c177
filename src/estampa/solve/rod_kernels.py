"""Position-based rods: strands of points and segments with stretch, bend and twist, and what they run into.

Small steps with one pass each (Macklin and others 2019), and no iteration within a strand, since its systems are
banded and are solved at once: bending is the quadratic energy of the differences between neighbouring directions
(Bergou, Wardetzky, Harmon, Zorin and Grinspun 2006, there for sheets), taken at the end of the step; then all lengths
together by XPBD (Macklin, Mueller and Chentanez 2016), a tridiagonal system. So a strand of any number of points keeps
its length and its stiffness. Each segment has a turn of its own that follows the line between its points the least way,
and twists against its neighbours, as in Kugelstadt and Schoemer 2016. A strand never reads another one within a step,
but for the contacts between them, which are solved last, one after another.
"""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

from ..geometry.near import edge, on_triangle


class Rods(NamedTuple):
    """Strands side by side. p points, m segments; segment s of a strand runs from its point s to point s + 1."""

    points: np.ndarray  # (strands + 1,) first point of each, and one past the last
    segments: np.ndarray  # (strands + 1,) the same for segments
    weight: np.ndarray  # (p,) 1 / mass, 0 where held
    length: np.ndarray  # (m,) rest length, m
    ahead: np.ndarray  # (m, 3) which way a segment points, in its own frame
    spin_weight: np.ndarray  # (m,) 1 / inertia
    curve: np.ndarray  # (m, 4) rest turn from the segment before (the first: from what it hangs on) to this one
    bend: np.ndarray  # (m,) stiffness of the bend at a segment's start, N m / rad
    twist: np.ndarray  # (m,) compliance of the twist there, rad / (N m)
    stretch: np.ndarray  # (m,) compliance of its length, m / N
    clamp: np.ndarray  # (strands,) whether the first segment keeps the direction of what it hangs on
    radius: np.ndarray  # (p,) m


class Solids(NamedTuple):
    """Obstacles at each small step."""

    shape: np.ndarray  # (c,) 0 sphere, 1 capsule, 2 box, 3 plane
    dims: np.ndarray  # (c, 3)
    friction: np.ndarray  # (c,)
    origin: np.ndarray  # (steps + 1, c, 3)
    axes: np.ndarray  # (steps + 1, c, 3, 3)
    size: np.ndarray  # (steps + 1, c)


class Surface(NamedTuple):
    """Triangles that are solid, and the grid that finds them; they move from `before` to `now` over a frame."""

    before: np.ndarray  # (t, 3, 3)
    now: np.ndarray  # (t, 3, 3)
    friction: np.ndarray  # (t,)
    low: np.ndarray
    cell: float
    counts: np.ndarray
    starts: np.ndarray
    members: np.ndarray


@njit(cache=True, nogil=True, inline="always")
def _turned(q, x, y, z):
    c0, c1, c2 = 2 * (q[1] * z - q[2] * y), 2 * (q[2] * x - q[0] * z), 2 * (q[0] * y - q[1] * x)
    return (
        x + q[3] * c0 + q[1] * c2 - q[2] * c1,
        y + q[3] * c1 + q[2] * c0 - q[0] * c2,
        z + q[3] * c2 + q[0] * c1 - q[1] * c0,
    )


@njit(cache=True, nogil=True, inline="always")
def _turn_on(q, x, y, z):
    """Turn a segment a little further, about a vector of the world."""
    a, b, c, w = q[0], q[1], q[2], q[3]
    q[0] += 0.5 * (x * w + y * c - z * b)
    q[1] += 0.5 * (y * w + z * a - x * c)
    q[2] += 0.5 * (z * w + x * b - y * a)
    q[3] -= 0.5 * (x * a + y * b + z * c)
    length = np.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2] + q[3] * q[3])
    for j in range(4):
        q[j] /= length


@njit(cache=True, nogil=True, inline="always")
def _away(q, a, r):
    """The small turn (as a vector of the world) from where `a`, turned by the rest curve r, would have it, to q."""
    ex = a[3] * r[0] + a[0] * r[3] + a[1] * r[2] - a[2] * r[1]
    ey = a[3] * r[1] - a[0] * r[2] + a[1] * r[3] + a[2] * r[0]
    ez = a[3] * r[2] + a[0] * r[1] - a[1] * r[0] + a[2] * r[3]
    ew = a[3] * r[3] - a[0] * r[0] - a[1] * r[1] - a[2] * r[2]
    # q times the inverse of (ex, ey, ez, ew)
    x = -q[3] * ex + q[0] * ew - q[1] * ez + q[2] * ey
    y = -q[3] * ey + q[0] * ez + q[1] * ew - q[2] * ex
    z = -q[3] * ez - q[0] * ey + q[1] * ex + q[2] * ew
    w = q[3] * ew + q[0] * ex + q[1] * ey + q[2] * ez
    if w < 0:
        x, y, z, w = -x, -y, -z, -w
    length = np.sqrt(x * x + y * y + z * z)
    times = 2 * np.arctan2(length, w) / length if length > 1e-9 else 2.0
    return x * times, y * times, z * times


@njit(cache=True, nogil=True)
def _bend(rods, strand, x, q, base, h, band, want):
    """Move a strand's points as its bending wants, at the end of the step: (1 + h^2 W K) x = x* + h^2 W (what the rest
    curve wants). Five diagonals, the same for x, y and z. band (p, 5), want (p, 3) are scratch."""
    p0, p1 = rods.points[strand], rods.points[strand + 1]
    s0 = rods.segments[strand]
    for i in range(p0, p1):
        band[i] = 0.0
        band[i, 2] = 1.0
        for j in range(3):
            want[i, j] = x[i, j]
    c = np.empty(3)
    for s in range(s0, s0 + p1 - p0 - 1):
        k = rods.bend[s]
        root = s == s0
        if k <= 0 or (root and not rods.clamp[strand]):
            continue
        r, d = rods.curve[s], rods.ahead[s]
        e0, e1, e2 = _turned(r, d[0], d[1], d[2])
        i = p0 + s - s0  # the point between the two segments
        right = 1 / rods.length[s]
        if root:  # against what it hangs on, whose direction is given
            u0, u1, u2 = _turned(base, e0, e1, e2)
            left = 0.0
        else:
            # the rest difference of the two directions, seen from either of them
            left = 1 / rods.length[s - 1]
            b = rods.ahead[s - 1]
            a0, a1, a2 = _turned(q[s - 1], e0 - b[0], e1 - b[1], e2 - b[2])
            back = np.array([-r[0], -r[1], -r[2], r[3]])
            f0, f1, f2 = _turned(back, b[0], b[1], b[2])
            g0, g1, g2 = _turned(q[s], d[0] - f0, d[1] - f1, d[2] - f2)
            u0, u1, u2 = 0.5 * (a0 + g0), 0.5 * (a1 + g1), 0.5 * (a2 + g2)
        c[0], c[1], c[2] = left, -left - right, right
        for m in range(3):
            row = i - 1 + m
            if row < p0 or c[m] == 0:
                continue
            times = h * h * rods.weight[row] * k * c[m]
            for n in range(3):
                if i - 1 + n >= p0:
                    band[row, 2 + n - m] += times * c[n]
            want[row, 0] += times * u0
            want[row, 1] += times * u1
            want[row, 2] += times * u2
    for i in range(p0, p1):  # Gauss, without exchanging rows: the diagonal is the largest
        for o in range(1, 3):
            if i + o >= p1:
                break
            f = band[i + o, 2 - o] / band[i, 2]
            if f != 0:
                for n in range(1, 3):
                    band[i + o, 2 - o + n] -= f * band[i, 2 + n]
                for j in range(3):
                    want[i + o, j] -= f * want[i, j]
    for i in range(p1 - 1, p0 - 1, -1):
        for j in range(3):
            total = want[i, j]
            for n in range(1, 3):
                if i + n < p1:
                    total -= band[i, 2 + n] * want[i + n, j]
            want[i, j] = total / band[i, 2]
            x[i, j] = want[i, j]


@njit(cache=True, nogil=True)
def _follow(rods, s, p, x, q):
    """Turn a segment the least way onto the line between its points."""
    d = rods.ahead[s]
    d0, d1, d2 = _turned(q[s], d[0], d[1], d[2])
    t0, t1, t2 = x[p + 1, 0] - x[p, 0], x[p + 1, 1] - x[p, 1], x[p + 1, 2] - x[p, 2]
    far = np.sqrt(t0 * t0 + t1 * t1 + t2 * t2)
    if far < 1e-12:
        return
    t0, t1, t2 = t0 / far, t1 / far, t2 / far
    a, b, c, w = d1 * t2 - d2 * t1, d2 * t0 - d0 * t2, d0 * t1 - d1 * t0, 1 + d0 * t0 + d1 * t1 + d2 * t2
    if w < 1e-6:  # it was thrown right round: about any axis across
        a, b, c, w = -d1, d0, 0.0, 0.0
        if abs(d2) > 0.9:
            a, b, c = 0.0, -d2, d1
    x0, y0, z0, w0 = q[s, 0], q[s, 1], q[s, 2], q[s, 3]
    q[s, 0] = w * x0 + a * w0 + b * z0 - c * y0
    q[s, 1] = w * y0 - a * z0 + b * w0 + c * x0
    q[s, 2] = w * z0 + a * y0 - b * x0 + c * w0
    q[s, 3] = w * w0 - a * x0 - b * y0 - c * z0
    length = np.sqrt(q[s, 0] ** 2 + q[s, 1] ** 2 + q[s, 2] ** 2 + q[s, 3] ** 2)
    for j in range(4):
        q[s, j] /= length


@njit(cache=True, nogil=True)
def _twist(rods, s, root, q, base, h):
    """Bring the twist between a segment and the one before it (or what its root hangs on) towards its rest."""
    w1 = 0.0 if root else rods.spin_weight[s - 1]
    ex, ey, ez = _away(q[s], base, rods.curve[s]) if root else _away(q[s], q[s - 1], rods.curve[s])
    d = rods.ahead[s]
    d0, d1, d2 = _turned(q[s], d[0], d[1], d[2])
    w2 = rods.spin_weight[s]
    e = -(ex * d0 + ey * d1 + ez * d2) / (w1 + w2 + rods.twist[s] / (h * h))
    _turn_on(q[s], w2 * e * d0, w2 * e * d1, w2 * e * d2)
    if not root:
        b = rods.ahead[s - 1]
        b0, b1, b2 = _turned(q[s - 1], b[0], b[1], b[2])
        _turn_on(q[s - 1], -w1 * e * b0, -w1 * e * b1, -w1 * e * b2)


@njit(cache=True, nogil=True)
def _lengths(rods, strand, x, h, work):
    """All lengths of a strand at once: (A + compliance / h^2) lambda = -C, tridiagonal. work (4, m) is scratch."""
    p, s = rods.points[strand], rods.segments[strand]
    m = rods.segments[strand + 1] - s
    upper, right = work[0], work[1]
    n = work[2:5]
    for j in range(m):
        far = 0.0
        for k in range(3):
            n[k, s + j] = x[p + j + 1, k] - x[p + j, k]
            far += n[k, s + j] ** 2
        far = np.sqrt(far)
        for k in range(3):
            n[k, s + j] /= max(far, 1e-12)
        a = rods.weight[p + j] + rods.weight[p + j + 1] + rods.stretch[s + j] / (h * h) + 1e-12
        b = -(far - rods.length[s + j])
        if j:
            turn = n[0, s + j] * n[0, s + j - 1] + n[1, s + j] * n[1, s + j - 1] + n[2, s + j] * n[2, s + j - 1]
            lower = -rods.weight[p + j] * turn
            a -= lower * upper[s + j - 1]
            b -= lower * right[s + j - 1]
        if j + 1 < m:
            turn = 0.0
            far2 = 0.0
            for k in range(3):
                d = x[p + j + 2, k] - x[p + j + 1, k]
                turn += n[k, s + j] * d
                far2 += d * d
            upper[s + j] = -rods.weight[p + j + 1] * turn / max(np.sqrt(far2), 1e-12) / a
        right[s + j] = b / a
    for j in range(m - 2, -1, -1):
        right[s + j] -= upper[s + j] * right[s + j + 1]
    for j in range(m):
        for k in range(3):
            x[p + j, k] -= rods.weight[p + j] * right[s + j] * n[k, s + j]
            x[p + j + 1, k] += rods.weight[p + j + 1] * right[s + j] * n[k, s + j]


@njit(cache=True, nogil=True)
def _outside(shape, dims, x, y, z):
    """(distance out of a shape, negative inside; its direction) in the shape's own space."""
    if shape == 3:
        return y, 0.0, 1.0, 0.0
    if shape == 2:
        q0, q1, q2 = abs(x) - dims[0], abs(y) - dims[1], abs(z) - dims[2]
        s0, s1, s2 = (1.0 if x >= 0 else -1.0), (1.0 if y >= 0 else -1.0), (1.0 if z >= 0 else -1.0)
        if q0 <= 0 and q1 <= 0 and q2 <= 0:
            if q0 >= q1 and q0 >= q2:
                return q0, s0, 0.0, 0.0
            if q1 >= q2:
                return q1, 0.0, s1, 0.0
            return q2, 0.0, 0.0, s2
        a, b, c = max(q0, 0.0), max(q1, 0.0), max(q2, 0.0)
        far = np.sqrt(a * a + b * b + c * c)
        return far, s0 * a / far, s1 * b / far, s2 * c / far
    y = y - min(max(y, -dims[1]), dims[1]) if shape == 1 else y
    far = np.sqrt(x * x + y * y + z * z)
    if far < 1e-12:
        return -dims[0], 1.0, 0.0, 0.0
    return far - dims[0], x / far, y / far, z / far


@njit(cache=True, nogil=True)
def _push(x, before, i, depth, nx, ny, nz, moved, friction, most):
    """Push a point out along a normal and let it rub against what moved by `moved` since the last step."""
    out = min(depth, most)
    x[i, 0] += out * nx
    x[i, 1] += out * ny
    x[i, 2] += out * nz
    t0, t1, t2 = x[i, 0] - before[i, 0] - moved[0], x[i, 1] - before[i, 1] - moved[1], x[i, 2] - before[i, 2] - moved[2]
    along = t0 * nx + t1 * ny + t2 * nz
    t0, t1, t2 = t0 - along * nx, t1 - along * ny, t2 - along * nz
    slid = np.sqrt(t0 * t0 + t1 * t1 + t2 * t2)
    if slid > 1e-12:
        share = min(friction * out / slid, 1.0)
        x[i, 0] -= share * t0
        x[i, 1] -= share * t1
        x[i, 2] -= share * t2
    if depth > most:  # it began inside: let it out without throwing it
        before[i, 0], before[i, 1], before[i, 2] = x[i, 0] - moved[0], x[i, 1] - moved[1], x[i, 2] - moved[2]


@njit(cache=True, nogil=True)
def _solid(rods, i, x, before, solids, step, most):
    moved, local = np.empty(3), np.empty(3)
    for c in range(len(solids.shape)):
        o, a, size = solids.origin[step + 1, c], solids.axes[step + 1, c], solids.size[step + 1, c]
        for j in range(3):
            local[j] = (a[0, j] * (x[i, 0] - o[0]) + a[1, j] * (x[i, 1] - o[1]) + a[2, j] * (x[i, 2] - o[2])) / size
        far, n0, n1, n2 = _outside(solids.shape[c], solids.dims[c], local[0], local[1], local[2])
        depth = rods.radius[i] - far * size
        if depth > 0:
            o1, a1, size1 = solids.origin[step, c], solids.axes[step, c], solids.size[step, c]
            for j in range(3):
                then = o1[j] + size1 * (a1[j, 0] * local[0] + a1[j, 1] * local[1] + a1[j, 2] * local[2])
                moved[j] = x[i, j] - then
            nx = a[0, 0] * n0 + a[0, 1] * n1 + a[0, 2] * n2
            ny = a[1, 0] * n0 + a[1, 1] * n1 + a[1, 2] * n2
            nz = a[2, 0] * n0 + a[2, 1] * n1 + a[2, 2] * n2
            _push(x, before, i, depth, nx, ny, nz, moved, solids.friction[c], most)


@njit(cache=True, nogil=True)
def _skin(rods, i, x, before, surface, corners, share, steps, most):
    """Against the nearest triangle, which pushes to the side that it faces. corners -- the triangles at this step."""
    if len(surface.friction) == 0:
        return
    low, cell, counts = surface.low, surface.cell, surface.counts
    cx, cy = int(np.floor((x[i, 0] - low[0]) / cell)), int(np.floor((x[i, 1] - low[1]) / cell))
    cz = int(np.floor((x[i, 2] - low[2]) / cell))
    if not (0 <= cx < counts[0] and 0 <= cy < counts[1] and 0 <= cz < counts[2]):
        return
    at = (cx * counts[1] + cy) * counts[2] + cz
    deep = 4 * rods.radius[i]
    best, found = np.inf, -1
    b0, b1, b2 = 0.0, 0.0, 0.0
    for k in range(surface.starts[at], surface.starts[at + 1]):
        t = surface.members[k]
        p0, p1, p2 = on_triangle(x[i, 0], x[i, 1], x[i, 2], corners, t)
        far = (p0 - x[i, 0]) ** 2 + (p1 - x[i, 1]) ** 2 + (p2 - x[i, 2]) ** 2
        if far < best:
            best, found, b0, b1, b2 = far, t, p0, p1, p2
    if found < 0 or best > deep * deep:
        return
    u0, u1, u2 = edge(corners, found, 1)
    v0, v1, v2 = edge(corners, found, 2)
    n0, n1, n2 = u1 * v2 - u2 * v1, u2 * v0 - u0 * v2, u0 * v1 - u1 * v0
    length = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
    if length < 1e-18:
        return
    n0, n1, n2 = n0 / length, n1 / length, n2 / length
    far = (x[i, 0] - b0) * n0 + (x[i, 1] - b1) * n1 + (x[i, 2] - b2) * n2
    depth = rods.radius[i] - far
    if depth > 0:
        moved = np.empty(3)
        for j in range(3):  # as the middle of the triangle moved
            moved[j] = (surface.now[found, :, j].sum() - surface.before[found, :, j].sum()) / 3 / steps
        _push(x, before, i, depth, n0, n1, n2, moved, surface.friction[found], most)


@njit(cache=True, nogil=True)
def _between(rods, a, b, point_of, x):
    """Push two segments of different strands apart (closest points of segments: Ericson 2004, 5.1.9)."""
    p, r = point_of[a], point_of[b]
    wide = rods.radius[p] + rods.radius[r]
    d10, d11, d12 = x[p + 1, 0] - x[p, 0], x[p + 1, 1] - x[p, 1], x[p + 1, 2] - x[p, 2]
    d20, d21, d22 = x[r + 1, 0] - x[r, 0], x[r + 1, 1] - x[r, 1], x[r + 1, 2] - x[r, 2]
    r0, r1, r2 = x[p, 0] - x[r, 0], x[p, 1] - x[r, 1], x[p, 2] - x[r, 2]
    aa, ee = d10 * d10 + d11 * d11 + d12 * d12, d20 * d20 + d21 * d21 + d22 * d22
    f, c = d20 * r0 + d21 * r1 + d22 * r2, d10 * r0 + d11 * r1 + d12 * r2
    if aa < 1e-18 or ee < 1e-18:
        return
    bb = d10 * d20 + d11 * d21 + d12 * d22
    det = aa * ee - bb * bb
    s = min(max((bb * f - c * ee) / det, 0.0), 1.0) if det > 1e-12 * aa * ee else 0.5
    t = (bb * s + f) / ee
    if t < 0:
        t, s = 0.0, min(max(-c / aa, 0.0), 1.0)
    elif t > 1:
        t, s = 1.0, min(max((bb - c) / aa, 0.0), 1.0)
    n0, n1, n2 = r0 + s * d10 - t * d20, r1 + s * d11 - t * d21, r2 + s * d12 - t * d22
    far = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
    if far >= wide or far < 1e-12:
        return
    w0, w1, w2, w3 = rods.weight[p], rods.weight[p + 1], rods.weight[r], rods.weight[r + 1]
    total = w0 * (1 - s) ** 2 + w1 * s * s + w2 * (1 - t) ** 2 + w3 * t * t
    if total <= 0:
        return
    times = (wide - far) / (total * far)
    for j, n in enumerate((n0, n1, n2)):
        x[p, j] += w0 * (1 - s) * times * n
        x[p + 1, j] += w1 * s * times * n
        x[r, j] -= w2 * (1 - t) * times * n
        x[r + 1, j] -= w3 * t * times * n


@njit(parallel=True, cache=True, nogil=True)
def advance(
    rods, x, speed, q, spin, held_before, held_now, base_before, base_now, hung, gravity, air, pull, damping,
    solids, surface, pairs, point_of, steps, h,
):  # fmt: skip
    """Move strands on by `steps` steps of h seconds, in place.

    x, speed (p, 3); q (m, 4) turns of the segments in the world; spin (m, 3) rad/s
    held_before, held_now (p, 3) -- where held points are at the start and the end; base_* (strands, 4) what a clamped
                                    first segment hangs on
    hung (strands,)              -- a point of another strand that the first point follows, or -1
    gravity, air (p, 3)          -- m/s2 and m/s; pull (p,) half density x drag x area, kg/m; damping 1/s
    pairs (c, 2)                 -- segments of different strands that are close
    """
    strands = len(rods.clamp)
    count = len(x)
    before, turned = np.empty_like(x), np.empty_like(q)
    work, band, want = np.empty((5, max(len(q), 1))), np.empty((count, 5)), np.empty((count, 3))
    most = 3.0 * h  # m: nothing is pushed out faster than 3 m/s
    corners = np.empty_like(surface.before)
    for step in range(steps):
        share = (step + 1) / steps
        for t in range(len(corners)):
            for j in range(3):
                for k in range(3):
                    corners[t, j, k] = surface.before[t, j, k] + share * (
                        surface.now[t, j, k] - surface.before[t, j, k]
                    )
        for strand in prange(strands):
            first, last = rods.points[strand], rods.points[strand + 1]
            s0, s1 = rods.segments[strand], rods.segments[strand + 1]
            calm = np.exp(-damping * h)
            for i in range(first, last):
                for j in range(3):
                    before[i, j] = x[i, j]
                if rods.weight[i] == 0:
                    for j in range(3):
                        x[i, j] = held_before[i, j] + share * (held_now[i, j] - held_before[i, j])
                    continue
                u0, u1, u2 = air[i, 0] - speed[i, 0], air[i, 1] - speed[i, 1], air[i, 2] - speed[i, 2]
                fast = np.sqrt(u0 * u0 + u1 * u1 + u2 * u2)
                # drag at the end of the step, so that light strands go with the wind and no faster
                caught = h * pull[i] * fast * rods.weight[i]
                caught = caught / (1 + caught)
                for j, u in enumerate((u0, u1, u2)):
                    speed[i, j] = (speed[i, j] + h * gravity[i, j]) * calm + caught * u
                    x[i, j] += h * speed[i, j]
            base = np.empty(4)
            dot = 0.0
            for j in range(4):
                dot += base_before[strand, j] * base_now[strand, j]
            length = 0.0
            for j in range(4):
                base[j] = base_before[strand, j] * (1 - share) + (1 if dot >= 0 else -1) * base_now[strand, j] * share
                length += base[j] * base[j]
            for j in range(4):
                base[j] /= np.sqrt(length)
            for s in range(s0, s1):
                for j in range(4):
                    turned[s, j] = q[s, j]
                # it goes on twisting; its direction is that of its points
                d = rods.ahead[s]
                d0, d1, d2 = _turned(q[s], d[0], d[1], d[2])
                e = h * calm * (spin[s, 0] * d0 + spin[s, 1] * d1 + spin[s, 2] * d2)
                _turn_on(q[s], e * d0, e * d1, e * d2)
            _bend(rods, strand, x, q, base, h, band, want)
            _lengths(rods, strand, x, h, work)
            for s in range(s0, s1):
                _follow(rods, s, first + s - s0, x, q)
            down = step % 2 == 0  # from the root and from the tip by turns, so that neither is favoured
            for k in range(s1 - s0):
                s = s0 + k if down else s1 - 1 - k
                if s > s0 or rods.clamp[strand]:
                    _twist(rods, s, s == s0, q, base, h)
            for i in range(first, last):
                if rods.weight[i] > 0:
                    _solid(rods, i, x, before, solids, step, most)
                    _skin(rods, i, x, before, surface, corners, share, steps, most)
        for c in range(len(pairs)):
            _between(rods, pairs[c, 0], pairs[c, 1], point_of, x)
        for strand in range(strands):
            if hung[strand] >= 0 and rods.weight[rods.points[strand]] == 0:
                i = rods.points[strand]
                for j in range(3):
                    x[i, j] = x[hung[strand], j]
        for s in range(len(q)):  # contacts have moved the points once more
            _follow(rods, s, point_of[s], x, q)
        for i in range(count):
            for j in range(3):
                speed[i, j] = (x[i, j] - before[i, j]) / h
        for s in range(len(q)):
            r = turned[s]
            # the turn since the step began, as a rate
            a = -q[s, 3] * r[0] + q[s, 0] * r[3] - q[s, 1] * r[2] + q[s, 2] * r[1]
            b = -q[s, 3] * r[1] + q[s, 0] * r[2] + q[s, 1] * r[3] - q[s, 2] * r[0]
            c = -q[s, 3] * r[2] - q[s, 0] * r[1] + q[s, 1] * r[0] + q[s, 2] * r[3]
            w = q[s, 3] * r[3] + q[s, 0] * r[0] + q[s, 1] * r[1] + q[s, 2] * r[2]
            sign = 2.0 if w >= 0 else -2.0
            spin[s, 0], spin[s, 1], spin[s, 2] = sign * a / h, sign * b / h, sign * c / h


@njit(cache=True, nogil=True)
def close_pairs(x, point_of, strand_of, radius, margin):
    """(c, 2) pairs of segments of different strands whose middles are near enough to touch within a frame."""
    m = len(point_of)
    cell = 1e-6
    middle = np.empty((m, 3))
    for s in range(m):
        p = point_of[s]
        long = 0.0
        for j in range(3):
            middle[s, j] = 0.5 * (x[p, j] + x[p + 1, j])
            long += (x[p + 1, j] - x[p, j]) ** 2
        cell = max(cell, np.sqrt(long) + 2 * max(radius[p], radius[p + 1]) + margin)
    order = np.argsort(middle[:, 0])
    found = np.empty((max(8 * m, 16), 2), np.int64)
    count = 0
    for k in range(m):
        a = order[k]
        for l in range(k + 1, m):
            b = order[l]
            if middle[b, 0] - middle[a, 0] > cell:
                break
            if strand_of[a] == strand_of[b] or abs(middle[b, 1] - middle[a, 1]) > cell:
                continue
            if abs(middle[b, 2] - middle[a, 2]) > cell:
                continue
            if count == len(found):
                more = np.empty((2 * count, 2), np.int64)
                more[:count] = found
                found = more
            found[count, 0], found[count, 1] = min(a, b), max(a, b)
            count += 1
    return found[:count]
