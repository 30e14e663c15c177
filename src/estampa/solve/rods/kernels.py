"""Position-based rods: strands of points and segments with stretch, bend and twist, and what they run into.

Small steps with one pass each (Macklin and others 2019), and no iteration within a strand, since its systems are
banded and are solved at once: bending is the quadratic energy of the differences between neighbouring directions
(Bergou, Wardetzky, Harmon, Zorin and Grinspun 2006, there for sheets), taken at the end of the step; then all lengths
together by XPBD (Macklin, Mueller and Chentanez 2016), a tridiagonal system. So a strand of any number of points keeps
its length and its stiffness. Each segment has a turn of its own that follows the line between its points the least way,
and twists against its neighbours, as in Kugelstadt and Schoemer 2016. A strand never reads another one within a step,
but for the contacts between them, which are solved last, one after another.
"""

import numpy as np
from numba import njit, prange

from ...geometry.triangle_grid import closest_to, edge
from .arrays import RodRoom

OUT = 1.0  # m/s at which what began inside something else is let out
LOOKED = 4  # steps between two searches for what may touch


@njit(cache=True, nogil=True, inline="always")
def _turned(q, s, x, y, z):
    """A vector turned as row s of q. Not of a view, since views count references, which threads share."""
    a, b, c, w = q[s, 0], q[s, 1], q[s, 2], q[s, 3]
    c0, c1, c2 = 2 * (b * z - c * y), 2 * (c * x - a * z), 2 * (a * y - b * x)
    return x + w * c0 + b * c2 - c * c1, y + w * c1 + c * c0 - a * c2, z + w * c2 + a * c1 - b * c0


@njit(cache=True, nogil=True, inline="always")
def _turned_back(q, s, x, y, z):
    a, b, c, w = -q[s, 0], -q[s, 1], -q[s, 2], q[s, 3]
    c0, c1, c2 = 2 * (b * z - c * y), 2 * (c * x - a * z), 2 * (a * y - b * x)
    return x + w * c0 + b * c2 - c * c1, y + w * c1 + c * c0 - a * c2, z + w * c2 + a * c1 - b * c0


@njit(cache=True, nogil=True, inline="always")
def _ahead(q, ahead, s):
    """Which way a segment points in the world."""
    return _turned(q, s, ahead[s, 0], ahead[s, 1], ahead[s, 2])


@njit(cache=True, nogil=True, inline="always")
def _turn_on(q, s, x, y, z):
    """Turn a segment a little further, about a vector of the world."""
    a, b, c, w = q[s, 0], q[s, 1], q[s, 2], q[s, 3]
    p0, p1 = a + 0.5 * (x * w + y * c - z * b), b + 0.5 * (y * w + z * a - x * c)
    p2, p3 = c + 0.5 * (z * w + x * b - y * a), w - 0.5 * (x * a + y * b + z * c)
    times = 1 / np.sqrt(p0 * p0 + p1 * p1 + p2 * p2 + p3 * p3)
    q[s, 0], q[s, 1], q[s, 2], q[s, 3] = p0 * times, p1 * times, p2 * times, p3 * times


@njit(cache=True, nogil=True, inline="always")
def _away(q, s, a, t, curve):
    """The small turn (as a vector of the world) from where row t of `a`, turned by the rest curve of s, would have
    segment s, to where it is."""
    a0, a1, a2, a3 = a[t, 0], a[t, 1], a[t, 2], a[t, 3]
    r0, r1, r2, r3 = curve[s, 0], curve[s, 1], curve[s, 2], curve[s, 3]
    ex, ey = a3 * r0 + a0 * r3 + a1 * r2 - a2 * r1, a3 * r1 - a0 * r2 + a1 * r3 + a2 * r0
    ez, ew = a3 * r2 + a0 * r1 - a1 * r0 + a2 * r3, a3 * r3 - a0 * r0 - a1 * r1 - a2 * r2
    # q times the inverse of (ex, ey, ez, ew)
    q0, q1, q2, q3 = q[s, 0], q[s, 1], q[s, 2], q[s, 3]
    x, y = -q3 * ex + q0 * ew - q1 * ez + q2 * ey, -q3 * ey + q0 * ez + q1 * ew - q2 * ex
    z, w = -q3 * ez - q0 * ey + q1 * ex + q2 * ew, q3 * ew + q0 * ex + q1 * ey + q2 * ez
    if w < 0:
        x, y, z, w = -x, -y, -z, -w
    length = np.sqrt(x * x + y * y + z * z)
    times = 2 * np.arctan2(length, w) / length if length > 1e-9 else 2.0
    return x * times, y * times, z * times


@njit(cache=True, nogil=True)
def _bend(rods, strand, x, q, base, h, band, want):
    """Move a strand's points as its bending wants, at the end of the step: (1 + h^2 W K) x = x* + h^2 W (what the rest
    curve wants). Five diagonals, the same for x, y and z. band (p, 5), want (p, 3) are scratch."""
    p0, p1, s0 = rods.points[strand], rods.points[strand + 1], rods.segments[strand]
    bend, curve, ahead, length, weight = rods.bend, rods.curve, rods.ahead, rods.length, rods.weight
    clamped, limp = rods.clamp[strand], True
    for s in range(s0, s0 + p1 - p0 - 1):
        limp = limp and (bend[s] <= 0 or (s == s0 and not clamped))
    if limp:
        return
    for i in range(p0, p1):
        for j in range(5):
            band[i, j] = 1.0 if j == 2 else 0.0
        for j in range(3):
            want[i, j] = x[i, j]
    for s in range(s0, s0 + p1 - p0 - 1):
        k, root = bend[s], s == s0
        if k <= 0 or (root and not clamped):
            continue
        e0, e1, e2 = _ahead(curve, ahead, s)
        i = p0 + s - s0  # the point between the two segments
        right = 1 / length[s]
        if root:  # against what it hangs on, whose direction is given
            u0, u1, u2 = _turned(base, strand, e0, e1, e2)
            left = 0.0
        else:
            # the rest difference of the two directions, seen from either of them
            left = 1 / length[s - 1]
            b0, b1, b2 = ahead[s - 1, 0], ahead[s - 1, 1], ahead[s - 1, 2]
            a0, a1, a2 = _turned(q, s - 1, e0 - b0, e1 - b1, e2 - b2)
            f0, f1, f2 = _turned_back(curve, s, b0, b1, b2)
            g0, g1, g2 = _turned(q, s, ahead[s, 0] - f0, ahead[s, 1] - f1, ahead[s, 2] - f2)
            u0, u1, u2 = 0.5 * (a0 + g0), 0.5 * (a1 + g1), 0.5 * (a2 + g2)
        for m in range(3):
            row = i - 1 + m
            cm = left if m == 0 else (-left - right if m == 1 else right)
            if row < p0 or cm == 0:
                continue
            times = h * h * weight[row] * k * cm
            if i - 1 >= p0:
                band[row, 2 - m] += times * left
            band[row, 3 - m] += times * (-left - right)
            band[row, 4 - m] += times * right
            want[row, 0] += times * u0
            want[row, 1] += times * u1
            want[row, 2] += times * u2
    for i in range(p0, p1):  # Gauss, without exchanging rows: the diagonal is the largest
        for o in range(1, 3):
            if i + o < p1:
                f = band[i + o, 2 - o] / band[i, 2]
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


@njit(cache=True, nogil=True, inline="always")
def _follow(ahead, s, p, x, q):
    """Turn a segment the least way onto the line between its points."""
    d0, d1, d2 = _ahead(q, ahead, s)
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
    p0, p1 = w * x0 + a * w0 + b * z0 - c * y0, w * y0 - a * z0 + b * w0 + c * x0
    p2, p3 = w * z0 + a * y0 - b * x0 + c * w0, w * w0 - a * x0 - b * y0 - c * z0
    times = 1 / np.sqrt(p0 * p0 + p1 * p1 + p2 * p2 + p3 * p3)
    q[s, 0], q[s, 1], q[s, 2], q[s, 3] = p0 * times, p1 * times, p2 * times, p3 * times


@njit(cache=True, nogil=True)
def _twist(rods, strand, q, base, h, down):
    """Bring the twist between each segment and the one before it (or what the root hangs on) towards its rest; `down`
    from the root on, else from the tip."""
    s0, s1 = rods.segments[strand], rods.segments[strand + 1]
    ahead, curve, twist, weight = rods.ahead, rods.curve, rods.twist, rods.spin_weight
    for k in range(s1 - s0):
        s = s0 + k if down else s1 - 1 - k
        root = s == s0
        if twist[s] > 1e6 or (root and not rods.clamp[strand]):
            continue
        w1, w2 = (0.0 if root else weight[s - 1]), weight[s]
        if root:
            ex, ey, ez = _away(q, s, base, strand, curve)
        else:
            ex, ey, ez = _away(q, s, q, s - 1, curve)
        d0, d1, d2 = _ahead(q, ahead, s)
        e = -(ex * d0 + ey * d1 + ez * d2) / (w1 + w2 + twist[s] / (h * h))
        _turn_on(q, s, w2 * e * d0, w2 * e * d1, w2 * e * d2)
        if not root:
            d0, d1, d2 = _ahead(q, ahead, s - 1)
            _turn_on(q, s - 1, -w1 * e * d0, -w1 * e * d1, -w1 * e * d2)


@njit(cache=True, nogil=True)
def _lengths(rods, strand, x, h, work):
    """All lengths of a strand at once: (A + compliance / h^2) lambda = -C, tridiagonal. work (m, 6) is scratch: the
    segment's direction and length, and the elimination's upper diagonal and right side."""
    p, s = rods.points[strand], rods.segments[strand]
    m = rods.segments[strand + 1] - s
    weight, length, stretch = rods.weight, rods.length, rods.stretch
    for j in range(m):
        d0, d1, d2 = x[p + j + 1, 0] - x[p + j, 0], x[p + j + 1, 1] - x[p + j, 1], x[p + j + 1, 2] - x[p + j, 2]
        far = np.sqrt(d0 * d0 + d1 * d1 + d2 * d2)
        times = 1 / max(far, 1e-12)
        work[s + j, 0], work[s + j, 1], work[s + j, 2], work[s + j, 3] = d0 * times, d1 * times, d2 * times, far
    for j in range(m):
        k = s + j
        a = weight[p + j] + weight[p + j + 1] + stretch[k] / (h * h) + 1e-12
        b = length[k] - work[k, 3]
        if j:
            turn = work[k, 0] * work[k - 1, 0] + work[k, 1] * work[k - 1, 1] + work[k, 2] * work[k - 1, 2]
            lower = -weight[p + j] * turn
            a -= lower * work[k - 1, 4]
            b -= lower * work[k - 1, 5]
        if j + 1 < m:
            turn = work[k, 0] * work[k + 1, 0] + work[k, 1] * work[k + 1, 1] + work[k, 2] * work[k + 1, 2]
            work[k, 4] = -weight[p + j + 1] * turn / a
        work[k, 5] = b / a
    for k in range(s + m - 2, s - 1, -1):
        work[k, 5] -= work[k, 4] * work[k + 1, 5]
    for j in range(m):
        w0, w1, times = weight[p + j], weight[p + j + 1], work[s + j, 5]
        for k in range(3):
            x[p + j, k] -= w0 * times * work[s + j, k]
            x[p + j + 1, k] += w1 * times * work[s + j, k]


@njit(cache=True, nogil=True)
def _outside(shape, dim0, dim1, dim2, x, y, z):
    """(distance out of a shape, negative inside; its direction) in the shape's own space."""
    if shape == 3:
        return y, 0.0, 1.0, 0.0
    if shape == 2:
        q0, q1, q2 = abs(x) - dim0, abs(y) - dim1, abs(z) - dim2
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
    y = y - min(max(y, -dim1), dim1) if shape == 1 else y
    far = np.sqrt(x * x + y * y + z * z)
    if far < 1e-12:
        return -dim0, 1.0, 0.0, 0.0
    return far - dim0, x / far, y / far, z / far


@njit(cache=True, nogil=True)
def _push(x, before, i, depth, nx, ny, nz, m0, m1, m2, friction, most):
    """Push a point out along a normal and let it rub against what moved by m since the last step.

    It is stopped at once, and what began inside is let out by at most `most` metres, so that nothing is thrown.
    """
    t0, t1, t2 = x[i, 0] - before[i, 0] - m0, x[i, 1] - before[i, 1] - m1, x[i, 2] - before[i, 2] - m2
    out = min(depth, max(-(t0 * nx + t1 * ny + t2 * nz), 0.0) + most)
    x[i, 0] += out * nx
    x[i, 1] += out * ny
    x[i, 2] += out * nz
    t0, t1, t2 = x[i, 0] - before[i, 0] - m0, x[i, 1] - before[i, 1] - m1, x[i, 2] - before[i, 2] - m2
    along = t0 * nx + t1 * ny + t2 * nz
    t0, t1, t2 = t0 - along * nx, t1 - along * ny, t2 - along * nz
    slid = np.sqrt(t0 * t0 + t1 * t1 + t2 * t2)
    if slid > 1e-12:
        share = min(friction * out / slid, 1.0)
        x[i, 0] -= share * t0
        x[i, 1] -= share * t1
        x[i, 2] -= share * t2
    if depth > out:  # it is still inside: it goes along with the obstacle, and gathers no speed
        before[i, 0], before[i, 1], before[i, 2] = x[i, 0] - m0, x[i, 1] - m1, x[i, 2] - m2


@njit(cache=True, nogil=True)
def _solid(rods, first, last, x, before, solids, step, most):
    """Against spheres, capsules, boxes and planes, as they stand at this step."""
    shape, dims, friction, origin, a, size = solids
    weight, radius, n, o = rods.weight, rods.radius, step + 1, step
    for c in range(len(shape)):
        big = 1 / size[n, c]
        for i in range(first, last):
            if weight[i] == 0:
                continue
            r0, r1, r2 = x[i, 0] - origin[n, c, 0], x[i, 1] - origin[n, c, 1], x[i, 2] - origin[n, c, 2]
            l0 = (a[n, c, 0, 0] * r0 + a[n, c, 1, 0] * r1 + a[n, c, 2, 0] * r2) * big
            l1 = (a[n, c, 0, 1] * r0 + a[n, c, 1, 1] * r1 + a[n, c, 2, 1] * r2) * big
            l2 = (a[n, c, 0, 2] * r0 + a[n, c, 1, 2] * r1 + a[n, c, 2, 2] * r2) * big
            far, n0, n1, n2 = _outside(shape[c], dims[c, 0], dims[c, 1], dims[c, 2], l0, l1, l2)
            depth = radius[i] - far * size[n, c]
            if depth > 0:
                was = size[o, c]  # where the same place of the obstacle was a step ago
                m0 = x[i, 0] - origin[o, c, 0] - was * (a[o, c, 0, 0] * l0 + a[o, c, 0, 1] * l1 + a[o, c, 0, 2] * l2)
                m1 = x[i, 1] - origin[o, c, 1] - was * (a[o, c, 1, 0] * l0 + a[o, c, 1, 1] * l1 + a[o, c, 1, 2] * l2)
                m2 = x[i, 2] - origin[o, c, 2] - was * (a[o, c, 2, 0] * l0 + a[o, c, 2, 1] * l1 + a[o, c, 2, 2] * l2)
                nx = a[n, c, 0, 0] * n0 + a[n, c, 0, 1] * n1 + a[n, c, 0, 2] * n2
                ny = a[n, c, 1, 0] * n0 + a[n, c, 1, 1] * n1 + a[n, c, 1, 2] * n2
                nz = a[n, c, 2, 0] * n0 + a[n, c, 2, 1] * n1 + a[n, c, 2, 2] * n2
                _push(x, before, i, depth, nx, ny, nz, m0, m1, m2, friction[c], most)


@njit(cache=True, nogil=True)
def _skin(radius, i, x, before, surface, corners, steps, most):
    """Against the nearest triangle, which pushes to the side that it faces. corners -- the triangles at this step."""
    found, b0, b1, b2 = closest_to(
        x[i, 0], x[i, 1], x[i, 2], 4 * radius, corners, surface.low, surface.cell, surface.counts, surface.starts,
        surface.members,
    )  # fmt: skip
    if found < 0:
        return
    u0, u1, u2 = edge(corners, found, 1)
    v0, v1, v2 = edge(corners, found, 2)
    n0, n1, n2 = u1 * v2 - u2 * v1, u2 * v0 - u0 * v2, u0 * v1 - u1 * v0
    length = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
    if length < 1e-18:
        return
    n0, n1, n2 = n0 / length, n1 / length, n2 / length
    depth = radius - ((x[i, 0] - b0) * n0 + (x[i, 1] - b1) * n1 + (x[i, 2] - b2) * n2)
    if depth > 0:
        m = np.zeros(3)
        for j in range(3):  # as the middle of the triangle moved
            for k in range(3):
                m[j] += (surface.now[found, k, j] - surface.before[found, k, j]) / (3 * steps)
        _push(x, before, i, depth, n0, n1, n2, m[0], m[1], m[2], surface.friction[found], most)


@njit(cache=True, nogil=True)
def _apart(pairs, point_of, x, before, weight, radius, most):
    """Push segments of different strands apart, one pair after another."""
    for c in range(len(pairs)):
        _between(point_of[pairs[c, 0]], point_of[pairs[c, 1]], x, before, weight, radius, most)


@njit(cache=True, nogil=True, inline="always")
def _between(p, r, x, before, weight, radius, most):
    """Push two segments apart, from their first points on (closest points of segments: Ericson 2004, 5.1.9)."""
    wide = radius[p] + radius[r]
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
    w0, w1, w2, w3 = weight[p], weight[p + 1], weight[r], weight[r + 1]
    total = w0 * (1 - s) ** 2 + w1 * s * s + w2 * (1 - t) ** 2 + w3 * t * t
    if total <= 0:
        return
    if min(w0, w1, w2, w3) == 0:  # close to where one is held, a push would have a long lever on its other end
        total += 0.25 * max(w0, w1, w2, w3)
    closer = 0.0  # how much nearer they have come in this step, which is taken back at once; the rest little by little
    for j in range(3):
        n = n0 if j == 0 else (n1 if j == 1 else n2)
        a = (1 - s) * (x[p, j] - before[p, j]) + s * (x[p + 1, j] - before[p + 1, j])
        b = (1 - t) * (x[r, j] - before[r, j]) + t * (x[r + 1, j] - before[r + 1, j])
        closer -= n * (a - b) / far
    times = min(wide - far, max(closer, 0.0) + most) / (total * far)
    w0, w1, w2, w3 = w0 * (1 - s) * times, w1 * s * times, w2 * (1 - t) * times, w3 * t * times
    x[p, 0], x[p, 1], x[p, 2] = x[p, 0] + w0 * n0, x[p, 1] + w0 * n1, x[p, 2] + w0 * n2
    x[p + 1, 0], x[p + 1, 1], x[p + 1, 2] = x[p + 1, 0] + w1 * n0, x[p + 1, 1] + w1 * n1, x[p + 1, 2] + w1 * n2
    x[r, 0], x[r, 1], x[r, 2] = x[r, 0] - w2 * n0, x[r, 1] - w2 * n1, x[r, 2] - w2 * n2
    x[r + 1, 0], x[r + 1, 1], x[r + 1, 2] = x[r + 1, 0] - w3 * n0, x[r + 1, 1] - w3 * n1, x[r + 1, 2] - w3 * n2


@njit(cache=True, nogil=True)
def _strand(rods, strand, motion, holds, forces, calm, solids, surface, room, step, steps, h):
    """One small step of a strand, but for what it touches of others. calm -- what damping leaves of a speed"""
    first, last = rods.points[strand], rods.points[strand + 1]
    s0, s1 = rods.segments[strand], rods.segments[strand + 1]
    weight, ahead, radius = rods.weight, rods.ahead, rods.radius
    x, speed, q, spin = motion
    before, turned, base, corners, work, band, want = room
    held_before, held_now = holds.before, holds.now
    gravity, air, pull = forces.gravity, forces.air, forces.pull
    share = (step + 1) / steps
    for i in range(first, last):
        for j in range(3):
            before[i, j] = x[i, j]
        if weight[i] == 0:
            for j in range(3):
                x[i, j] = held_before[i, j] + share * (held_now[i, j] - held_before[i, j])
            continue
        u0, u1, u2 = air[i, 0] - speed[i, 0], air[i, 1] - speed[i, 1], air[i, 2] - speed[i, 2]
        # drag at the end of the step, so that light strands go with the wind and no faster
        caught = h * pull[i] * np.sqrt(u0 * u0 + u1 * u1 + u2 * u2) * weight[i]
        caught = caught / (1 + caught)
        speed[i, 0] = (speed[i, 0] + h * gravity[i, 0]) * calm + caught * u0
        speed[i, 1] = (speed[i, 1] + h * gravity[i, 1]) * calm + caught * u1
        speed[i, 2] = (speed[i, 2] + h * gravity[i, 2]) * calm + caught * u2
        for j in range(3):
            x[i, j] += h * speed[i, j]
    for s in range(s0, s1):
        for j in range(4):
            turned[s, j] = q[s, j]
        # it goes on twisting; its direction is that of its points
        d0, d1, d2 = _ahead(q, ahead, s)
        e = h * calm * (spin[s, 0] * d0 + spin[s, 1] * d1 + spin[s, 2] * d2)
        _turn_on(q, s, e * d0, e * d1, e * d2)
    _bend(rods, strand, x, q, base, h, band, want)
    _lengths(rods, strand, x, h, work)
    for s in range(s0, s1):
        _follow(ahead, s, first + s - s0, x, q)
    # from the root and from the tip by turns, so that neither is favoured
    _twist(rods, strand, q, base, h, step % 2 == 0)
    most = OUT * h
    if len(solids.shape):
        _solid(rods, first, last, x, before, solids, step, most)
    if len(corners):
        for i in range(first, last):
            if weight[i] > 0:
                _skin(radius[i], i, x, before, surface, corners, steps, most)


@njit(parallel=True, cache=True, nogil=True)
def advance(rods, motion, holds, forces, solids, surface, touch, steps, h):
    """Move strands on by `steps` steps of h seconds, in place. touch -- whether strands meet one another"""
    x, q = motion.x, motion.q
    strands, count, segments = len(rods.clamp), len(x), max(len(q), 1)
    before, turned = np.empty_like(x), np.empty_like(q)
    base, corners = np.empty_like(holds.base_now), np.empty_like(surface.before)
    room = RodRoom(
        before, turned, base, corners, np.empty((segments, 6)), np.empty((count, 5)), np.empty((count, 3))
    )  # fmt: skip
    calm = np.exp(-forces.damping * h)
    pairs = np.empty((0, 2), np.int64)
    for step in range(steps):
        share = (step + 1) / steps
        for t in range(len(corners)):
            for j in range(3):
                for k in range(3):
                    a, b = surface.before[t, j, k], surface.now[t, j, k]
                    corners[t, j, k] = a + share * (b - a)
        for strand in range(strands):
            _mixed(holds.base_before, holds.base_now, share, base, strand)
        for strand in prange(strands):
            _strand(rods, strand, motion, holds, forces, calm, solids, surface, room, step, steps, h)
        if touch and step % LOOKED == 0:  # who is near enough to touch before it is looked again
            fast = 0.0
            for i in range(count):
                for j in range(3):
                    fast = max(fast, abs(x[i, j] - before[i, j]))
            pairs = close_pairs(x, rods.point_of, rods.strand_of, rods.radius, 2 * LOOKED * fast + 1e-3)
        _apart(pairs, rods.point_of, x, before, rods.weight, rods.radius, OUT * h)
        for strand in range(strands):
            i = rods.points[strand]
            if rods.hung[strand] >= 0 and rods.weight[i] == 0:
                for j in range(3):
                    x[i, j] = x[rods.hung[strand], j]
        _rates(rods, motion, room, h, len(pairs) > 0)


@njit(cache=True, nogil=True)
def _rates(rods, motion, room, h, met):
    """Speeds and rates of turn from where a step began and ended."""
    x, q = motion.x, motion.q
    for i in range(len(x)):
        for j in range(3):
            motion.speed[i, j] = (x[i, j] - room.before[i, j]) / h
    for s in range(len(q)):
        if met:  # contacts have moved the points once more
            _follow(rods.ahead, s, rods.point_of[s], x, q)
        _spun(q, room.turned, motion.spin, s, h)


@njit(cache=True, nogil=True)
def _mixed(a, b, share, result, s):
    """Between two turns, the shorter way, normalised."""
    dot, length = 0.0, 0.0
    for j in range(4):
        dot += a[s, j] * b[s, j]
    for j in range(4):
        result[s, j] = a[s, j] * (1 - share) + (1.0 if dot >= 0 else -1.0) * b[s, j] * share
        length += result[s, j] ** 2
    for j in range(4):
        result[s, j] /= np.sqrt(length)


@njit(cache=True, nogil=True, inline="always")
def _spun(q, r, spin, s, h):
    """The turn from r to q as a rate."""
    q0, q1, q2, q3, r0, r1, r2, r3 = q[s, 0], q[s, 1], q[s, 2], q[s, 3], r[s, 0], r[s, 1], r[s, 2], r[s, 3]
    sign = (2.0 if q3 * r3 + q0 * r0 + q1 * r1 + q2 * r2 >= 0 else -2.0) / h
    spin[s, 0] = sign * (-q3 * r0 + q0 * r3 - q1 * r2 + q2 * r1)
    spin[s, 1] = sign * (-q3 * r1 + q1 * r3 - q2 * r0 + q0 * r2)
    spin[s, 2] = sign * (-q3 * r2 + q2 * r3 - q0 * r1 + q1 * r0)


@njit(cache=True, nogil=True)
def close_pairs(x, point_of, strand_of, radius, margin):
    """(c, 2) pairs of segments of different strands that are nearer than their radii and a margin, by their bounds."""
    m = len(point_of)
    low, high = np.empty((m, 3)), np.empty((m, 3))
    widest = 0.0
    for s in range(m):
        p = point_of[s]
        wide = max(radius[p], radius[p + 1]) + 0.5 * margin
        for j in range(3):
            low[s, j] = min(x[p, j], x[p + 1, j]) - wide
            high[s, j] = max(x[p, j], x[p + 1, j]) + wide
    # along the axis on which they are spread most
    axis = 0
    for j in range(3):
        spread = low[:, j].max() - low[:, j].min()
        if spread > widest:
            axis, widest = j, spread
    order = np.argsort(low[:, axis])
    found = np.empty((max(8 * m, 16), 2), np.int64)
    count = 0
    other, third = (axis + 1) % 3, (axis + 2) % 3
    for k in range(m):
        a = order[k]
        for l in range(k + 1, m):
            b = order[l]
            if low[b, axis] > high[a, axis]:
                break
            if low[b, other] > high[a, other] or low[a, other] > high[b, other] or strand_of[a] == strand_of[b]:
                continue
            if low[b, third] > high[a, third] or low[a, third] > high[b, third]:
                continue
            if count == len(found):
                more = np.empty((2 * count, 2), np.int64)
                more[:count] = found
                found = more
            found[count, 0], found[count, 1] = min(a, b), max(a, b)
            count += 1
    return found[:count]
