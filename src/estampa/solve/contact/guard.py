"""What no push has parted is kept apart, so that nothing passes through anything within a small step.

Pushes are made one after another, and in a heap that something fast runs into they may not come to an end. So each pair
is followed along its straight ways, from where the step began to where the pushes left it, by conservative
advancement of its distance (M. Li, D. Kaufman, C. Jiang 2021, "Codimensional incremental potential contact", section
5). One that would come nearer than a part of its distance is pushed apart along the line on which it met, as often as
it takes, and may slide. What still meets after that goes as one, with all that it meets in turn: the way of the
collider or of what is held, or the mean of all by their mass, which keeps the momentum (impact zones; D. Harmon and
others 2008, "Robust treatment of simultaneous collisions").
"""

import numpy as np
from numba import njit, prange

from .closest import apart_ee, apart_pt, edge_edge, point_triangle
from .respond import along
from .soup import ROUND
from .tree import root_of

MOST_PUSHES = 30  # rounds in which what meets is pushed apart, and may slide
MOST_ROUNDS = 40  # in which it goes along
MOST_ADVANCES = 64  # along one way; what needs more counts as a hit
NEAREST = 0.1  # of the thickness: nearer than that nothing comes in one step
FLOOR = 0.004  # of the thickness: nearer than that nothing comes at all; a frame is kept in single precision
single = njit(cache=True, nogil=True, error_model="numpy")
inline = njit(cache=True, nogil=True, inline="always", error_model="numpy")
threaded = njit(cache=True, nogil=True, parallel=True, error_model="numpy")
PART = 1024  # pairs that a thread takes at once


@single
def carry(x, start, inverse_mass, watch, soup, radius, grew):
    """Keep apart what would pass. x (N, 3) m is changed; start (N, 3) m is where all was; radius (N,) m at the end of
    the step, grew (N,) m within it.

    Returns (whether anything was moved, pairs that could not be kept apart).
    """
    count = len(x)
    changed, left, moved = np.zeros(count, np.int64), 0, False
    zone, given = np.arange(count), np.zeros((count, 4))  # what goes as one, by its first; ways of what is given to it
    clear_points = _clear(x, start, watch.vt, soup.triangles, True, soup.sort, radius, grew)
    clear_edges = _clear(x, start, watch.ee, soup.edges, False, soup.sort, radius, grew)
    for turn in range(1, MOST_PUSHES + MOST_ROUNDS + 1):
        rigid = turn > MOST_PUSHES
        left = _round(
            x, start, inverse_mass, watch.vt, clear_points, soup.triangles, soup, radius, grew, True, zone, given,
            changed, turn, rigid,
        )  # fmt: skip
        left += _round(
            x, start, inverse_mass, watch.ee, clear_edges, soup.edges, soup, radius, grew, False, zone, given,
            changed, turn, rigid,
        )  # fmt: skip
        if left == 0:
            break
        moved = True
        if rigid:
            _take_one_way(x, start, inverse_mass, zone, given, changed, turn)
    return moved, left


@single
def _round(
    x, start, inverse_mass, pairs, clear, elements, soup, radius, grew, of_points, zone, given, changed, turn, rigid
):
    """Go over all pairs of which a point was moved in this round or the last; returns how many were hits. clear (p,)
    bool, which are none before anything is moved."""
    hits, at, weight, n = 0, np.empty(4, np.int64), np.empty(4), np.empty(3)
    for p in range(len(pairs.at)):
        if pairs.gap[p] == np.inf:
            continue
        if of_points:
            at[0], at[1] = pairs.at[p, 0], elements[pairs.at[p, 1], 0]
            at[2], at[3] = elements[pairs.at[p, 1], 1], elements[pairs.at[p, 1], 2]
        else:
            at[0], at[1] = elements[pairs.at[p, 0], 0], elements[pairs.at[p, 0], 1]
            at[2], at[3] = elements[pairs.at[p, 1], 0], elements[pairs.at[p, 1], 1]
        a, b, c, d = at[0], at[1], at[2], at[3]
        last = max(changed[a], changed[b], changed[c], changed[d])
        if (turn == 1 and clear[p] and last == 0) or (turn > 1 and last < turn - 1):
            continue
        if inverse_mass[a] + inverse_mass[b] + inverse_mass[c] + inverse_mass[d] <= 0:
            continue  # given to both: nothing can be done
        if turn > 1 and _stay_apart(x, start, a, b, c, d, of_points, pairs.side, p, soup.sort, radius, grew):
            continue
        when, least, more = _meets(x, start, a, b, c, d, of_points, pairs, p, soup, radius, grew, weight)
        if when > 1:
            continue
        hits += 1
        if rigid:
            _join(x, start, inverse_mass, at, zone, given)
        else:
            _push(x, start, inverse_mass, at, of_points, when, least + more, more, changed, turn, weight, n)
    return hits


@threaded
def _clear(x, start, pairs, elements, of_points, sort, radius, grew):
    """(p,) bool, which pairs stay apart along the line on which they were found."""
    at, side, clear = pairs.at, pairs.side, np.empty(len(pairs.at), np.bool_)
    parts = (len(at) + PART - 1) // PART
    for part in prange(parts):
        for p in range(np.int64(part * PART), np.int64(min((part + 1) * PART, len(at)))):
            one, two = at[p, 0], at[p, 1]
            a, b, c, d = one, elements[two, 0], elements[two, 1], elements[two, -1]
            if not of_points:
                a, b, c = elements[one, 0], elements[one, 1], elements[two, 0]
            clear[p] = _stay_apart(x, start, a, b, c, d, of_points, side, p, sort, radius, grew)
    return clear


@inline
def _stay_apart(x, start, a, b, c, d, of_points, side, p, sort, radius, grew):
    """Whether a pair stays apart along the line on which it was found: at both ends of straight ways, and so between
    them. No distance is less than that along a line."""
    base, grown, thick = _skin(a, c, sort, radius, grew)
    least = base + max(grown, 0.0) + NEAREST * thick
    return (_between(start, a, b, c, d, of_points, side, p) > least) & (
        _between(x, a, b, c, d, of_points, side, p) > least
    )


@inline
def _between(x, a, b, c, d, of_points, side, p):
    """m between a pair along the line on which it was found, less than 0 where they overlap on it."""
    at_a, at_b, at_c, at_d = along(x, a, side, p), along(x, b, side, p), along(x, c, side, p), along(x, d, side, p)
    if of_points:
        return at_a - max(at_b, at_c, at_d)
    return min(at_a, at_b) - max(at_c, at_d)


@inline
def _skin(a, c, sort, radius, grew):
    """Of points of two elements: (m, how thick what is round of them is, how far it grows, and how thick both are)."""
    round_a, round_c = sort[a] == ROUND, sort[c] == ROUND
    base, grown = 0.0, 0.0
    if round_a or round_c:
        ball = a if round_a else c
        base, grown = radius[ball] - grew[ball], grew[ball]
    return base, grown, 2 * (radius[c] if round_a else (radius[a] if round_c else max(radius[a], radius[c])))


@single
def _join(x, start, inverse_mass, at, zone, given):
    """The points of a pair go as one from now on; those that are given tell the others their way."""
    head = -1
    for k in range(4):
        if inverse_mass[at[k]] > 0:
            own = root_of(zone, at[k])
            if head < 0:
                head = own
            elif own != head:
                zone[own] = head
    for k in range(4):
        i = at[k]
        if inverse_mass[i] <= 0:
            given[head, 0] += x[i, 0] - start[i, 0]
            given[head, 1] += x[i, 1] - start[i, 1]
            given[head, 2] += x[i, 2] - start[i, 2]
            given[head, 3] += 1


@single
def _take_one_way(x, start, inverse_mass, zone, given, changed, turn):
    """What goes as one takes one way: of what is given to it, else the mean by mass, which keeps the momentum."""
    count = len(x)
    way, total, size = np.zeros((count, 3)), np.zeros(count), np.zeros(count, np.int64)
    for i in range(count):
        head = root_of(zone, i)
        size[head] += 1
        if given[i, 3] > 0 and head != i:  # it was told before it was joined
            given[head] += given[i]
            given[i] = 0.0
    for i in range(count):
        head = root_of(zone, i)
        if inverse_mass[i] > 0 and given[head, 3] == 0:
            total[head] += 1 / inverse_mass[i]
            for j in range(3):
                way[head, j] += (x[i, j] - start[i, j]) / inverse_mass[i]
    for i in range(count):
        head = root_of(zone, i)
        if inverse_mass[i] <= 0 or (size[head] < 2 and given[head, 3] == 0):
            continue
        changed[i] = turn
        for j in range(3):
            if given[head, 3] > 0:
                x[i, j] = start[i, j] + given[head, j] / given[head, 3]
            else:
                x[i, j] = start[i, j] + way[head, j] / total[head]


@single
def _weigh(x, a, b, c, d, of_points, weight):
    """Set weight (4,): their sum over a point and a triangle, or two edges, is the way from the second's closest point
    to the first's."""
    if of_points:
        u, v, w, _ = point_triangle(x[a, 0], x[a, 1], x[a, 2], x[b, 0], x[b, 1], x[b, 2],
                                    x[c, 0], x[c, 1], x[c, 2], x[d, 0], x[d, 1], x[d, 2])  # fmt: skip
        weight[0], weight[1], weight[2], weight[3] = 1.0, -u, -v, -w
    else:
        s, t, _ = edge_edge(x[a, 0], x[a, 1], x[a, 2], x[b, 0], x[b, 1], x[b, 2],
                            x[c, 0], x[c, 1], x[c, 2], x[d, 0], x[d, 1], x[d, 2])  # fmt: skip
        weight[0], weight[1], weight[2], weight[3] = 1 - s, s, t - 1, -t


@single
def _push(x, start, inverse_mass, at, of_points, when, wanted, more, changed, turn, weight, n):
    """Push the points of a pair apart, along where they were of each other when they met, so that they end `wanted` m
    apart."""
    p = np.empty((4, 3))
    for k in range(4):
        i = at[k]
        for j in range(3):
            p[k, j] = start[i, j] + when * (x[i, j] - start[i, j])
    _weigh(p, 0, 1, 2, 3, of_points, weight)
    long = apart = low = 0.0
    for j in range(3):
        n[j] = weight[0] * p[0, j] + weight[1] * p[1, j] + weight[2] * p[2, j] + weight[3] * p[3, j]
        long += n[j] ** 2
    long = np.sqrt(long)
    if long < 1e-15:
        return
    for k in range(4):
        i = at[k]
        low += weight[k] ** 2 * inverse_mass[i]
        for j in range(3):
            apart += weight[k] * x[i, j] * n[j] / long
    if low <= 0:
        return
    most = 0.0
    for k in range(4):
        most = max(most, abs(weight[k]) * inverse_mass[at[k]])
    push = max(wanted - apart, more) / max(low, 0.5 * most)
    for k in range(4):
        i = at[k]
        if inverse_mass[i] > 0:
            changed[i] = turn
            for j in range(3):
                x[i, j] += push * inverse_mass[i] * weight[k] * n[j] / long


@inline
def _apart(x, start, t, a, b, c, d, of_points):
    """m between a pair at share t of its ways."""
    r = 1 - t
    ax, ay, az = r * start[a, 0] + t * x[a, 0], r * start[a, 1] + t * x[a, 1], r * start[a, 2] + t * x[a, 2]
    bx, by, bz = r * start[b, 0] + t * x[b, 0], r * start[b, 1] + t * x[b, 1], r * start[b, 2] + t * x[b, 2]
    cx, cy, cz = r * start[c, 0] + t * x[c, 0], r * start[c, 1] + t * x[c, 1], r * start[c, 2] + t * x[c, 2]
    dx, dy, dz = r * start[d, 0] + t * x[d, 0], r * start[d, 1] + t * x[d, 1], r * start[d, 2] + t * x[d, 2]
    if of_points:
        return np.sqrt(apart_pt(ax, ay, az, bx, by, bz, cx, cy, cz, dx, dy, dz))
    return np.sqrt(apart_ee(ax, ay, az, bx, by, bz, cx, cy, cz, dx, dy, dz))


@single
def _meets(x, start, a, b, c, d, of_points, pairs, p, soup, radius, grew, weight):
    """(the share of its ways at which a pair comes nearer than it may, 2 if it does not; how near it may be at the end,
    and how much further it is pushed, m)."""
    # how far they go against each other at the most: what they share is taken off
    m0 = m1 = m2 = 0.0
    for i in (a, b, c, d):
        m0 += 0.25 * (x[i, 0] - start[i, 0])
        m1 += 0.25 * (x[i, 1] - start[i, 1])
        m2 += 0.25 * (x[i, 2] - start[i, 2])
    one, two = 0.0, 0.0
    for k in range(4):
        i = (a, b, c, d)[k]
        far = ((x[i, 0] - start[i, 0] - m0) ** 2 + (x[i, 1] - start[i, 1] - m1) ** 2
               + (x[i, 2] - start[i, 2] - m2) ** 2)  # fmt: skip
        if k == 0 or (k == 1 and not of_points):
            one = max(one, far)
        else:
            two = max(two, far)
    way = np.sqrt(one) + np.sqrt(two)
    base, grown, thick = _skin(a, c, soup.sort, radius, grew)
    way += max(grown, 0.0)
    near = _apart(start, start, 0.0, a, b, c, d, of_points)
    if near - way > base + NEAREST * thick:
        return 2.0, 0.0, 0.0
    floor = FLOOR * thick
    if near <= base:  # within it already: no deeper, and out by pushes
        least, more = 0.98 * near - base, 0.01 * near
    elif near - base <= floor:
        least, more = 0.999 * (near - base), 0.2 * floor
    else:
        more = 0.5 * min(NEAREST * thick, 0.5 * (near - base))
        least = max(2 * more, floor)
    if near <= 0 or way <= 0:
        return 2.0, 0.0, 0.0
    clear = near - base
    if clear - way > least:
        return 2.0, 0.0, 0.0
    if _is_through(start, a, b, c, d, of_points, pairs.side, p, weight):
        return 2.0, 0.0, 0.0
    t, end = 0.0, base + grown + least
    for _ in range(MOST_ADVANCES):
        t += (clear - least + 0.5 * more) / way
        if t >= 1:
            t = 1.0
        clear = _apart(x, start, t, a, b, c, d, of_points) - base - t * grown
        if clear < least:
            return t, end, more
        if t >= 1:
            return 2.0, 0.0, 0.0
    return t, end, more


@single
def _is_through(x, a, b, c, d, of_points, side, p, weight):
    """Whether a pair has gone through each other already: it may come back then."""
    _weigh(x, a, b, c, d, of_points, weight)
    across = 0.0
    for j in range(3):
        off = weight[0] * x[a, j] + weight[1] * x[b, j] + weight[2] * x[c, j] + weight[3] * x[d, j]
        across += off * side[p, j]
    return across < 0
