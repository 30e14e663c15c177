"""What limbs touch: capsules against one another, planes, boxes, capsules and triangles that move."""

import math

import numpy as np

from ...geometry.triangle_grid import on_triangle
from .vectors import add, cross, dot, inverse, length, put, quaternion, scaled, single, sub, turned, vector  # fmt: skip

MOST = 40  # touches a limb that there is room for
PAIRS = 60  # pairs of capsules and of capsules with triangles, a capsule, that there is room for


@single
def together(a, b, rule):
    """The friction of two that touch: their mean (0), the larger (1) or their product (2)."""
    if rule == 0:
        return 0.5 * (a + b)
    return max(a, b) if rule == 1 else a * b


@single
def ends_of(motion, capsules, c):
    """(both ends of a capsule in the world)."""
    i = capsules.body[c]
    x, q = vector(motion.x, i), quaternion(motion.q, i)
    return add(x, turned(q, vector(capsules.a, c))), add(x, turned(q, vector(capsules.b, c)))


@single
def nearest(p1, q1, p2, q2):
    """(s, t) where two segments are nearest (Ericson 2004, "Real-Time Collision Detection", 5.1.9)."""
    d1, d2, r = sub(q1, p1), sub(q2, p2), sub(p1, p2)
    a, e, f, c, b = dot(d1, d1), dot(d2, d2), dot(d2, r), dot(d1, r), dot(d1, d2)
    if a < 1e-18 and e < 1e-18:
        return 0.0, 0.0
    if a < 1e-18:
        return 0.0, min(1.0, max(0.0, f / e))
    if e < 1e-18:
        return min(1.0, max(0.0, -c / a)), 0.0
    span = a * e - b * b
    s = min(1.0, max(0.0, (b * f - c * e) / span)) if span > 1e-9 * a * e else 0.5
    t = (b * s + f) / e
    if t < 0:
        return min(1.0, max(0.0, -c / a)), 0.0
    if t > 1:
        return min(1.0, max(0.0, (b - c) / a)), 1.0
    return s, t


@single
def near_capsules(motion, capsules, bodies, figures, ahead, pull, pairs):
    """Put the pairs of capsules of limbs that may touch within so many seconds into `pairs`; returns how many."""
    count, k = len(capsules.body), 0
    if count == 0:
        return k
    middle, far = np.empty((count, 3)), np.empty(count)
    for c in range(count):
        a, b = ends_of(motion, capsules, c)
        put(middle, c, scaled(add(a, b), 0.5))
        fast = length(vector(motion.v, capsules.body[c])) + length(vector(pull, capsules.body[c])) * ahead
        fast += length(vector(motion.w, capsules.body[c])) * length(sub(b, a))
        far[c] = 0.5 * length(sub(b, a)) + capsules.radius[c] + 2 * ahead * fast
    order, widest = np.argsort(middle[:, 0], kind="mergesort"), far.max()
    first, last = spans_of(bodies.figure, len(figures.tall))
    for m in range(count):
        c = order[m]
        for n in range(m + 1, count):
            d = order[n]
            if middle[d, 0] - middle[c, 0] > far[c] + widest:
                break
            i, j = capsules.body[c], capsules.body[d]
            f, g = bodies.figure[i], bodies.figure[j]
            if i == j or (figures.asleep[f] and figures.asleep[g]):
                continue
            if f == g:
                own = last[f] - first[f]
                if not capsules.apart[capsules.apart_start[f] + (i - first[f]) * own + j - first[f]]:
                    continue
            r = far[c] + far[d]
            way = sub(vector(middle, d), vector(middle, c))
            if dot(way, way) < r * r and k < len(pairs):
                pairs[k, 0], pairs[k, 1] = min(c, d), max(c, d)
                k += 1
    return k


@single
def spans_of(figure, count):
    """((f,) the first limb of each figure, (f,) one past its last)."""
    first, last = np.zeros(count, np.int64), np.zeros(count, np.int64)
    for i in range(len(figure)):
        if last[figure[i]] == 0:
            first[figure[i]] = i
        last[figure[i]] = i + 1
    return first, last


@single
def near_triangles(motion, capsules, bodies, figures, solids, ahead, pull, pairs):
    """Put the capsules and triangles that may touch within so many seconds into `pairs`; returns how many."""
    k = 0
    if len(solids.triangles) == 0:
        return k
    seen = np.full(len(solids.triangles), -1, np.int64)
    low, high = np.empty(3, np.int64), np.empty(3, np.int64)
    for c in range(len(capsules.body)):
        i = capsules.body[c]
        if figures.asleep[bodies.figure[i]]:
            continue
        a, b = ends_of(motion, capsules, c)
        fast = length(vector(motion.v, i)) + length(vector(motion.w, i)) * length(sub(b, a))
        far = capsules.radius[c] * 1.5 + 2 * ahead * (fast + length(vector(pull, i)) * ahead)
        outside = False
        for s in range(3):
            at = (min(a[s], b[s]) - far - solids.low[s]) / solids.cell
            to = (max(a[s], b[s]) + far - solids.low[s]) / solids.cell
            outside = outside or to < 0 or at >= solids.counts[s]
            low[s], high[s] = max(int(at), 0), min(int(max(to, 0.0)), solids.counts[s] - 1)
        if outside:
            continue
        for x in range(low[0], high[0] + 1):
            for y in range(low[1], high[1] + 1):
                for z in range(low[2], high[2] + 1):
                    cell = (x * solids.counts[1] + y) * solids.counts[2] + z
                    for m in range(solids.starts[cell], solids.starts[cell + 1]):
                        t = solids.members[m]
                        if seen[t] != c and k < len(pairs):
                            seen[t] = c
                            pairs[k, 0], pairs[k, 1] = c, t
                            k += 1
    return k


@single
def note(touches, k, a, b, normal, at_a, at_b, before, rub, wide, motion):
    """Put a touch into row k, if there is room; returns the next row. at_a, at_b -- places in the world"""
    if k >= len(touches.who):
        return k
    touches.who[k, 0], touches.who[k, 1] = a, b
    put(touches.normal, k, normal)
    own = turned(inverse(quaternion(motion.q, b)), sub(at_b, vector(motion.x, b)))
    other = at_a if a < 0 else turned(inverse(quaternion(motion.q, a)), sub(at_a, vector(motion.x, a)))
    for s in range(3):
        touches.arm[k, 0, s], touches.arm[k, 1, s] = other[s], own[s]
    put(touches.before, k, before)
    touches.rub[k], touches.wide[k] = rub, wide
    return k + 1


@single
def touch(motion, start, bodies, capsules, figures, solids, pairs, count, on, on_count, t0, t, reach, touches):
    """Put all that touches, or is nearer than `reach` (f,) m to it, into `touches`; returns how many.

    start -- how limbs stood as the small step began, a share t0 of the frame; it ends at t
    """
    count_all = len(capsules.body)
    ends, free = np.empty((count_all, 2, 3)), np.empty(count_all, np.bool_)
    for c in range(count_all):
        i = capsules.body[c]
        free[c] = bodies.inverse_mass[i] > 0.0 and not figures.asleep[bodies.figure[i]]
        a, b = ends_of(motion, capsules, c)
        for s in range(3):
            ends[c, 0, s], ends[c, 1, s] = a[s], b[s]
    # a call counts references to all arrays that it is handed: so it is one for all capsules
    k = _on_planes(motion, bodies, capsules, solids, touches, 0, ends, free, t0, t, reach)
    if len(solids.boxes) > 0:
        k = _on_boxes(motion, bodies, capsules, solids, touches, k, ends, free, t0, t, reach)
    if len(solids.rails) > 0:
        k = _on_rails(motion, bodies, capsules, solids, touches, k, ends, free, t0, t, reach)
    k = _on_triangles(motion, start, bodies, capsules, solids, on, on_count, t0, t, reach, touches, k)
    for m in range(count):
        c, d = pairs[m, 0], pairs[m, 1]
        i, j = capsules.body[c], capsules.body[d]
        if bodies.inverse_mass[i] + bodies.inverse_mass[j] == 0.0:
            continue
        p1, q1 = (ends[c, 0, 0], ends[c, 0, 1], ends[c, 0, 2]), (ends[c, 1, 0], ends[c, 1, 1], ends[c, 1, 2])
        p2, q2 = (ends[d, 0, 0], ends[d, 0, 1], ends[d, 0, 2]), (ends[d, 1, 0], ends[d, 1, 1], ends[d, 1, 2])
        s, u = nearest(p1, q1, p2, q2)
        p, o = add(p1, scaled(sub(q1, p1), s)), add(p2, scaled(sub(q2, p2), u))
        way = sub(o, p)
        far = length(way)
        if 1e-9 < far < capsules.radius[c] + capsules.radius[d] + reach[bodies.figure[i]]:
            n = scaled(way, 1 / far)
            rub = together(bodies.friction[i], bodies.friction[j], solids.rubs)
            at_c, at_d = add(p, scaled(n, capsules.radius[c])), sub(o, scaled(n, capsules.radius[d]))
            k = note(touches, k, i, j, n, at_c, at_d, at_c, rub, capsules.radius[d], motion)
    return k


@single
def _mixed(rows, k, first, t):
    """Three numbers of row k, a share t of the way from before to now."""
    a, b = rows[k, 0], rows[k, 1]
    return (
        a[first] + t * (b[first] - a[first]), a[first + 1] + t * (b[first + 1] - a[first + 1]),
        a[first + 2] + t * (b[first + 2] - a[first + 2]),
    )  # fmt: skip


@single
def _mixed_turn(rows, k, first, t):
    a, b = rows[k, 0], rows[k, 1]
    d = a[first] * b[first] + a[first + 1] * b[first + 1] + a[first + 2] * b[first + 2] + a[first + 3] * b[first + 3]
    s = t if d >= 0 else -t
    x, y = a[first] * (1 - t) + s * b[first], a[first + 1] * (1 - t) + s * b[first + 1]
    z, w = a[first + 2] * (1 - t) + s * b[first + 2], a[first + 3] * (1 - t) + s * b[first + 3]
    l = 1 / math.sqrt(x * x + y * y + z * z + w * w)
    return x * l, y * l, z * l, w * l


@single
def _on_planes(motion, bodies, capsules, solids, touches, k, ends, free, t0, t, reach):
    for m in range(len(solids.planes)):
        at, n = _mixed(solids.planes, m, 0, t), _mixed(solids.planes, m, 3, t)
        n = scaled(n, 1 / length(n))
        rises = sub(at, _mixed(solids.planes, m, 0, t0))
        for c in range(len(free)):
            i, radius = capsules.body[c], capsules.radius[c]
            for end in range(2 if free[c] else 0):
                p = (ends[c, end, 0], ends[c, end, 1], ends[c, end, 2])
                gap = dot(sub(p, at), n)
                if gap - radius < reach[bodies.figure[i]]:
                    rub = together(bodies.friction[i], solids.plane_friction[m], solids.rubs)
                    on = sub(p, scaled(n, gap))
                    k = note(touches, k, -1, i, n, on, sub(p, scaled(n, radius)), sub(on, rises), rub, radius, motion)
    return k


@single
def _box_gap(p, h):
    """(m that a point is out of a box about the origin, the way out)."""
    o = sub(p, (max(-h[0], min(h[0], p[0])), max(-h[1], min(h[1], p[1])), max(-h[2], min(h[2], p[2]))))
    l = length(o)
    if l > 1e-9:
        return l, scaled(o, 1 / l)
    x, y, z = abs(p[0]) - h[0], abs(p[1]) - h[1], abs(p[2]) - h[2]
    if y >= x and y >= z:
        return y, (0.0, 1.0 if p[1] > 0 else -1.0, 0.0)
    if x >= z:
        return x, (1.0 if p[0] > 0 else -1.0, 0.0, 0.0)
    return z, (0.0, 0.0, 1.0 if p[2] > 0 else -1.0)


@single
def _on_boxes(motion, bodies, capsules, solids, touches, k, ends, free, t0, t, reach):
    for m in range(len(solids.boxes)):
        at, half = _mixed(solids.boxes, m, 0, t), _mixed(solids.boxes, m, 7, t)
        turn = _mixed_turn(solids.boxes, m, 3, t)
        was, old = _mixed(solids.boxes, m, 0, t0), _mixed_turn(solids.boxes, m, 3, t0)
        for c in range(len(free)):
            if not free[c]:
                continue
            i, radius = capsules.body[c], capsules.radius[c]
            p = turned(inverse(turn), sub((ends[c, 0, 0], ends[c, 0, 1], ends[c, 0, 2]), at))
            q = turned(inverse(turn), sub((ends[c, 1, 0], ends[c, 1, 1], ends[c, 1, 2]), at))
            far, out = radius + reach[bodies.figure[i]], False
            for s in range(3):
                out = out or min(p[s], q[s]) > half[s] + far or max(p[s], q[s]) < -half[s] - far
            if out:
                continue
            way = sub(q, p)
            span, u = dot(way, way), 0.5
            for _ in range(6):  # where along its middle line it is nearest
                o = add(p, scaled(way, u))
                near = (
                    max(-half[0], min(half[0], o[0])), max(-half[1], min(half[1], o[1])),
                    max(-half[2], min(half[2], o[2])),
                )  # fmt: skip
                u = max(0.0, min(1.0, dot(sub(near, p), way) / span)) if span > 1e-18 else 0.0
            rub = together(bodies.friction[i], solids.box_friction[m], solids.rubs)
            for n in range(3):
                if n == 2 and (u < 0.05 or u > 0.95):
                    continue
                o = p if n == 0 else (q if n == 1 else add(p, scaled(way, u)))
                gap, normal = _box_gap(o, half)
                if gap < far:
                    on = sub(o, scaled(normal, gap))
                    in_world, before = add(at, turned(turn, on)), add(was, turned(old, on))
                    normal = turned(turn, normal)
                    under = sub(add(at, turned(turn, o)), scaled(normal, radius))
                    k = note(touches, k, -1, i, normal, in_world, under, before, rub, radius, motion)
    return k


@single
def _on_rails(motion, bodies, capsules, solids, touches, k, ends, free, t0, t, reach):
    for m in range(len(solids.rails)):
        p, q = _mixed(solids.rails, m, 0, t), _mixed(solids.rails, m, 3, t)
        was_p, was_q = _mixed(solids.rails, m, 0, t0), _mixed(solids.rails, m, 3, t0)
        thick = solids.rails[m, 0, 6] + t * (solids.rails[m, 1, 6] - solids.rails[m, 0, 6])
        for c in range(len(free)):
            if not free[c]:
                continue
            i, radius = capsules.body[c], capsules.radius[c]
            a, b = (ends[c, 0, 0], ends[c, 0, 1], ends[c, 0, 2]), (ends[c, 1, 0], ends[c, 1, 1], ends[c, 1, 2])
            s, u = nearest(a, b, p, q)
            here, there = add(a, scaled(sub(b, a), s)), add(p, scaled(sub(q, p), u))
            way = sub(here, there)
            far = length(way)
            if 1e-9 < far < radius + thick + reach[bodies.figure[i]]:
                n = scaled(way, 1 / far)
                on = add(there, scaled(n, thick))
                moved = sub(there, add(was_p, scaled(sub(was_q, was_p), u)))
                rub = together(bodies.friction[i], solids.rail_friction[m], solids.rubs)
                k = note(touches, k, -1, i, n, on, sub(here, scaled(n, radius)), sub(on, moved), rub, radius, motion)
    return k


@single
def _corner(solids, m, corner, t):
    a, b = solids.triangles[m, 0, corner], solids.triangles[m, 1, corner]
    return a[0] + t * (b[0] - a[0]), a[1] + t * (b[1] - a[1]), a[2] + t * (b[2] - a[2])


@single
def _shares(p, a, b, c):
    """Barycentric coordinates of a point in a triangle."""
    e, f, g = sub(b, a), sub(c, a), sub(p, a)
    ee, ef, ff, ge, gf = dot(e, e), dot(e, f), dot(f, f), dot(g, e), dot(g, f)
    span = ee * ff - ef * ef
    if span <= 1e-30:
        return 1.0, 0.0, 0.0
    v, w = (ff * ge - ef * gf) / span, (ee * gf - ef * ge) / span
    return 1 - v - w, v, w


@single
def _blend(shares, a, b, c):
    return add(add(scaled(a, shares[0]), scaled(b, shares[1])), scaled(c, shares[2]))


@single
def _on_triangles(motion, start, bodies, capsules, solids, on, on_count, t0, t, reach, touches, k):
    """From where all stood as the step began, so that the side is known on which a limb is, however fast it goes.

    Of the two ends of a capsule those touches count that lie within a triangle, and of those on edges the nearest: at
    the seams of a flat floor there is nothing to stumble over. So also for its side against edges.
    """
    corners = np.empty((1, 3, 3))
    m = 0
    while m < on_count:
        c, first = on[m, 0], k
        i = capsules.body[c]
        radius, r = capsules.radius[c], reach[bodies.figure[i]]
        a, b = ends_of(start, capsules, c)
        best, edged = np.full(3, np.inf), np.zeros((3, 13))
        a1, b1 = ends_of(motion, capsules, c)
        goes = max(length(sub(a1, a)), length(sub(b1, b)))
        while m < on_count and on[m, 0] == c:
            tri = on[m, 1]
            m += 1
            x, y, z = _corner(solids, tri, 0, t0), _corner(solids, tri, 1, t0), _corner(solids, tri, 2, t0)
            for s in range(3):
                corners[0, 0, s], corners[0, 1, s], corners[0, 2, s] = x[s], y[s], z[s]
            face = cross(sub(y, x), sub(z, x))
            area = length(face)
            if area < 1e-18:
                continue
            face = scaled(face, 1 / area)
            x1, y1, z1 = _corner(solids, tri, 0, t), _corner(solids, tri, 1, t), _corner(solids, tri, 2, t)
            moved = max(length(sub(x1, x)), length(sub(y1, y)), length(sub(z1, z)))
            most = radius + r + goes + moved
            rub = together(bodies.friction[i], solids.triangle_friction[tri], solids.rubs)
            for end in range(2):
                p, p1 = (a, a1) if end == 0 else (b, b1)
                hit = on_triangle(p[0], p[1], p[2], corners, 0)
                way = sub(p, hit)
                far = length(way)
                if far > most:
                    continue
                shares = _shares(hit, x, y, z)
                within = min(shares[0], shares[1], shares[2]) > 1e-6
                if within or far < 1e-9:
                    n = face if dot(sub(p, x), face) >= 0 else scaled(face, -1.0)
                    k = _note_triangle(touches, k, i, n, shares, x1, y1, z1, hit, p1, radius, rub, motion)
                elif far < best[end]:
                    best[end] = far
                    _keep(edged, end, scaled(way, 1 / far), _blend(shares, x1, y1, z1), hit, p1, rub)
            for side in range(3):
                e0, e1 = (x, y) if side == 0 else ((y, z) if side == 1 else (z, x))
                f0, f1 = (x1, y1) if side == 0 else ((y1, z1) if side == 1 else (z1, x1))
                s, u = nearest(a, b, e0, e1)
                if not (0.02 < s < 0.98 and 0.0 < u < 1.0):
                    continue
                here, hit = add(a, scaled(sub(b, a), s)), add(e0, scaled(sub(e1, e0), u))
                way = sub(here, hit)
                far = length(way)
                if 1e-9 < far < min(most, best[2]):
                    best[2] = far
                    now, limb = add(f0, scaled(sub(f1, f0), u)), add(a1, scaled(sub(b1, a1), s))
                    _keep(edged, 2, scaled(way, 1 / far), now, hit, limb, rub)
        faces = k - first
        for end in range(3):
            if best[end] < np.inf and (faces == 0 or end == 2 and faces < 2):
                row = edged[end]
                n, place, before = (row[0], row[1], row[2]), (row[3], row[4], row[5]), (row[6], row[7], row[8])
                limb = (row[9], row[10], row[11])
                under = sub(limb, scaled(n, radius))
                k = note(touches, k, -1, i, n, place, under, before, row[12], radius, motion)
    return k


@single
def _keep(rows, k, n, now, before, limb, rub):
    for s in range(3):
        rows[k, s], rows[k, 3 + s], rows[k, 6 + s], rows[k, 9 + s] = n[s], now[s], before[s], limb[s]
    rows[k, 12] = rub


@single
def _note_triangle(touches, k, i, n, shares, x1, y1, z1, before, limb, radius, rub, motion):
    """A touch within a triangle that stands with its corners at x1, y1, z1 at the end of the step."""
    on = _blend(shares, x1, y1, z1)
    face = cross(sub(y1, x1), sub(z1, x1))
    area = length(face)
    if area > 1e-18:
        now = scaled(face, 1 / area)
        n = now if dot(now, n) >= 0 else scaled(now, -1.0)
    return note(touches, k, -1, i, n, on, sub(limb, scaled(n, radius)), before, rub, radius, motion)
