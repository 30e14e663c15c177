"""What is near what, and where it is thought to go: patches of the tree first, then points, edges and triangles in
them.

Pairs come in one order whatever the threads: by patch, then by element.
"""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

from .closest import apart_ee, apart_pt
from .tree import fit, together

NARROW = np.pi / 4  # rad, half the width of a cone of normals within which a sheet does not come near itself
THIN = 0.35  # of an edge: a triangle that is less high may turn over within the margin of a look
NEAR_AT_REST = 0.6  # share of their distance at rest that neighbours in a sheet may come near each other
ROOM = 24  # pairs of two patches that are remembered between counting and filling
PART = 64  # pairs of patches that a thread takes at once
MEET = 4  # more than there are pairs below two nodes

single = njit(cache=True, nogil=True, error_model="numpy")
inline = njit(cache=True, nogil=True, inline="always", error_model="numpy")  # a call counts references to its arrays
threaded = njit(cache=True, nogil=True, parallel=True, error_model="numpy")


class Ways(NamedTuple):
    """Where all points are, and are thought to go."""

    x: np.ndarray  # (N, 3) m
    u: np.ndarray  # (N, 3) m, how far
    radius: np.ndarray  # (N,) m
    reach: float  # m, how near counts, beyond touching


class RowBoxes(NamedTuple):
    """Boxes (.., 12) m in the order of the tree: where things are, and after their ways."""

    points: np.ndarray
    edges: np.ndarray
    triangles: np.ndarray


class Found(NamedTuple):
    """Pairs of each two patches: how many there are, and as many of them as there is room for."""

    counts: np.ndarray  # (n, 2) of points and triangles, and of edges
    vt: np.ndarray  # (n, room, 2)
    ee: np.ndarray  # (n, room, 2)


@single
def near(x, u, reach, soup, tree, fitted, leaves, radius):
    """((p, 2) points and triangles, (q, 2) edges) that may come within `reach` of touching on their ways, of which one
    lies in one of `leaves` (l,) bool at least.

    x (N, 3) m where they are; u (N, 3) m how far they are thought to go; radius (N,) m. Neighbours in a sheet count
    where they come nearer than a share of their distance at rest.
    """
    nodes = fit(tree, fitted, x, u, soup.triangles, leaves, THIN * soup.edge)
    ways = Ways(x, u, radius, reach)
    return _elements(ways, soup, tree, fitted, _patches(ways, soup, tree, fitted, nodes))


@threaded
def _patches(ways, soup, tree, fitted, nodes):
    """(p, 2) leaf nodes that come near each other, or themselves, of which one is among `nodes` at least.

    Level by level from the roots, so that there is something for each thread.
    """
    owners, owner, cloths = len(tree.roots), soup.owner, soup.cloths
    fat = np.zeros(owners)  # m, the radius of what each owner has
    by_itself = np.zeros(owners, np.bool_)
    for i in range(len(owner)):
        fat[owner[i]] = ways.radius[i]
        by_itself[owner[i]] = soup.alone[i]
    front, n = np.empty((cloths * owners, 3), np.int32), 0
    fars = np.empty(cloths * owners)
    for o in range(cloths):
        for p in range(o, owners):
            if tree.roots[o] >= 0 and tree.roots[p] >= 0 and not (o == p and by_itself[o]):
                front[n, 0], front[n, 1], front[n, 2] = tree.roots[o], tree.roots[p], o == p
                fars[n] = ways.reach + fat[o] + fat[p]
                n += 1
    found, count = np.empty((4096, 2), np.int32), 0
    while n > 0:
        opened, many = np.empty((n, 3, 2), np.int32), np.empty(n, np.int8)
        parts = (n + PART - 1) // PART
        for part in prange(parts):
            begin, end = np.int64(part * PART), np.int64(min((part + 1) * PART, n))
            _open(ways, tree, fitted, nodes, front, fars, begin, end, opened, many)
        total = count
        for k in range(n):
            total += many[k] == MEET
        if total > len(found):
            more = np.empty((2 * total, 2), np.int32)
            more[:count] = found[:count]
            found = more
        following, far, to = np.empty((3 * n, 3), np.int32), np.empty(3 * n), 0
        for k in range(n):
            if many[k] == MEET:
                found[count, 0], found[count, 1] = front[k, 0], front[k, 1]
                count += 1
                continue
            for q in range(many[k]):
                following[to, 0], following[to, 1], following[to, 2] = opened[k, q, 0], opened[k, q, 1], front[k, 2]
                far[to] = fars[k]
                to += 1
        front, fars, n = following, far, to
    return found[:count].copy()


@single
def _open(ways, tree, fitted, nodes, front, fars, begin, end, opened, many):
    """What is below each pair of nodes from `begin` to `end` that come near each other: so `many` pairs of `opened`
    (n, 3, 2), or MEET where both are leaves."""
    x, u, boxes, last, cones = ways.x, ways.u, fitted.first, fitted.last, fitted.cones
    child, leaf, whole, corner_starts, corners = tree.child, tree.leaf, tree.whole, tree.corner_starts, tree.corners
    beside_starts, beside = tree.beside_starts, tree.beside
    for k in range(begin, end):
        a, b, far = front[k, 0], front[k, 1], fars[k]
        many[k] = 0
        if not (nodes[a] or nodes[b]):
            continue
        if a == b:
            if whole[a] and cones[a, 3] < NARROW:
                continue
            if leaf[a] < 0:
                one, two = child[a, 0], child[a, 1]
                opened[k, 0, 0], opened[k, 0, 1] = one, one
                opened[k, 1, 0], opened[k, 1, 1] = two, two
                opened[k, 2, 0], opened[k, 2, 1] = one, two
                many[k] = 3
                continue
        else:
            if boxes_apart(boxes, last, a, b, far):
                continue
            if leaf[a] < 0 or leaf[b] < 0:
                # the one with the larger box is opened
                first = leaf[b] >= 0 or (leaf[a] >= 0) < 1 and box_long(boxes, a) >= box_long(boxes, b)
                for side in range(2):
                    opened[k, side, 0] = child[a, side] if first else a
                    opened[k, side, 1] = b if first else child[b, side]
                many[k] = 2
                continue
            if front[k, 2] and _beside(beside_starts, beside, leaf[a], leaf[b]) and together(cones, a, b) < NARROW:
                continue
            # boxes overlap where layers lie aslant: they may still be apart across a patch, or from middle to middle
            if _slabs_apart(x, u, corner_starts, corners, leaf[a], leaf[b], cones[a, 0], cones[a, 1], cones[a, 2],
                            far):  # fmt: skip
                continue
            m0 = boxes[b, 0] + boxes[b, 3] - boxes[a, 0] - boxes[a, 3]
            m1 = boxes[b, 1] + boxes[b, 4] - boxes[a, 1] - boxes[a, 4]
            m2 = boxes[b, 2] + boxes[b, 5] - boxes[a, 2] - boxes[a, 5]
            long = np.sqrt(m0 * m0 + m1 * m1 + m2 * m2)
            if long > 0 and _slabs_apart(x, u, corner_starts, corners, leaf[a], leaf[b], m0 / long, m1 / long,
                                         m2 / long, far):  # fmt: skip
                continue
        many[k] = MEET


@inline
def box_long(boxes, n):
    """m, how long the sides of a node's box are together."""
    return boxes[n, 3] - boxes[n, 0] + boxes[n, 4] - boxes[n, 1] + boxes[n, 5] - boxes[n, 2]


@inline
def boxes_apart(first, last, a, b, far):
    """Whether two nodes stay apart along an axis: at both ends of straight ways, and so between them."""
    for j in range(3):
        if first[a, j] > first[b, 3 + j] + far and last[a, j] > last[b, 3 + j] + far:
            return True
        if first[b, j] > first[a, 3 + j] + far and last[b, j] > last[a, 3 + j] + far:
            return True
    return False


@inline
def _slabs_apart(x, u, starts, corners, ka, kb, n0, n1, n2, far):
    """The same along the axis of a cone: layers of a folded sheet lie aslant, where boxes overlap."""
    al, ah, atl, ath = np.inf, -np.inf, np.inf, -np.inf
    for q in range(starts[ka], starts[ka + 1]):
        i = corners[q]
        d = x[i, 0] * n0 + x[i, 1] * n1 + x[i, 2] * n2
        e = d + u[i, 0] * n0 + u[i, 1] * n1 + u[i, 2] * n2
        al, ah, atl, ath = min(al, d), max(ah, d), min(atl, e), max(ath, e)
    bl, bh, btl, bth = np.inf, -np.inf, np.inf, -np.inf
    for q in range(starts[kb], starts[kb + 1]):
        i = corners[q]
        d = x[i, 0] * n0 + x[i, 1] * n1 + x[i, 2] * n2
        e = d + u[i, 0] * n0 + u[i, 1] * n1 + u[i, 2] * n2
        bl, bh, btl, bth = min(bl, d), max(bh, d), min(btl, e), max(bth, e)
    return (al > bh + far and atl > bth + far) or (bl > ah + far and btl > ath + far)


@inline
def _beside(starts, beside, k, other):
    for q in range(starts[k], starts[k + 1]):
        if beside[q] == other:
            return True
    return False


@threaded
def _elements(ways, soup, tree, fitted, patches):
    """The pairs of points and triangles (p, 2), and of edges (q, 2), of all pairs of patches (n, 2)."""
    n = len(patches)
    used = np.zeros(len(tree.leaves), np.bool_)
    for p in range(n):
        used[tree.leaf[patches[p, 0]]] = used[tree.leaf[patches[p, 1]]] = True
    of_points, of_edges, of_triangles = _row_boxes(ways.x, ways.u, tree, used, soup.edges, soup.triangles)
    boxes = RowBoxes(of_points, of_edges, of_triangles)  # named here: a loop on threads has to see its class
    counts = np.zeros((n, 2), np.int64)
    vt, ee = np.empty((n, ROOM, 2), np.int32), np.empty((n, ROOM, 2), np.int32)
    found = Found(counts, vt, ee)
    parts = (n + PART - 1) // PART
    for part in prange(parts):
        begin, end = np.int64(part * PART), np.int64(min((part + 1) * PART, n))
        _look(ways, soup, tree, patches, fitted, boxes, begin, end, found, np.int64(0))
    points, sides = np.empty((counts[:, 0].sum(), 2), np.int32), np.empty((counts[:, 1].sum(), 2), np.int32)
    at, to = 0, 0
    for p in range(n):
        a, b = counts[p, 0], counts[p, 1]
        if a > ROOM or b > ROOM:
            most = max(a, b)
            every, all_ = np.empty((1, most, 2), np.int32), np.empty((1, most, 2), np.int32)
            _look(ways, soup, tree, patches, fitted, boxes, p, p + 1, Found(counts, every, all_), p)
            for k in range(a):
                points[at + k, 0], points[at + k, 1] = every[0, k, 0], every[0, k, 1]
            for k in range(b):
                sides[to + k, 0], sides[to + k, 1] = all_[0, k, 0], all_[0, k, 1]
        else:
            for k in range(a):
                points[at + k, 0], points[at + k, 1] = vt[p, k, 0], vt[p, k, 1]
            for k in range(b):
                sides[to + k, 0], sides[to + k, 1] = ee[p, k, 0], ee[p, k, 1]
        at, to = at + a, to + b
    return points, sides


@threaded
def _row_boxes(x, u, tree, leaves, edges, triangles):
    """The rows of RowBoxes for what `leaves` (l,) bool own; those of others are left unset."""
    points, sides = np.empty((len(tree.points), 12)), np.empty((len(tree.edges), 12))
    faces = np.empty((len(tree.triangles), 12))
    for leaf in prange(len(leaves)):
        if not leaves[leaf]:
            continue
        for q in range(tree.point_starts[leaf], tree.point_starts[leaf + 1]):
            i = np.uint32(tree.points[q])
            for c in range(3):
                points[q, c] = points[q, 3 + c] = x[i, c]
                points[q, 6 + c] = points[q, 9 + c] = x[i, c] + u[i, c]
        for q in range(tree.edge_starts[leaf], tree.edge_starts[leaf + 1]):
            i, j = np.uint32(edges[tree.edges[q], 0]), np.uint32(edges[tree.edges[q], 1])
            for c in range(3):
                one, two = x[i, c] + u[i, c], x[j, c] + u[j, c]
                sides[q, c], sides[q, 3 + c] = min(x[i, c], x[j, c]), max(x[i, c], x[j, c])
                sides[q, 6 + c], sides[q, 9 + c] = min(one, two), max(one, two)
        for q in range(tree.triangle_starts[leaf], tree.triangle_starts[leaf + 1]):
            t = tree.triangles[q]
            i, j, k = np.uint32(triangles[t, 0]), np.uint32(triangles[t, 1]), np.uint32(triangles[t, 2])
            for c in range(3):
                one, two, three = x[i, c] + u[i, c], x[j, c] + u[j, c], x[k, c] + u[k, c]
                faces[q, c], faces[q, 3 + c] = min(x[i, c], x[j, c], x[k, c]), max(x[i, c], x[j, c], x[k, c])
                faces[q, 6 + c], faces[q, 9 + c] = min(one, two, three), max(one, two, three)
    return points, sides, faces


@inline
def _meet(a, p, b, q, r):
    """Whether rows of boxes come within r of each other along every axis, at one end of their ways or in between."""
    return (
        ((a[p, 0] <= b[q, 3] + r) | (a[p, 6] <= b[q, 9] + r)) & ((a[p, 3] >= b[q, 0] - r) | (a[p, 9] >= b[q, 6] - r))
        & ((a[p, 1] <= b[q, 4] + r) | (a[p, 7] <= b[q, 10] + r))
        & ((a[p, 4] >= b[q, 1] - r) | (a[p, 10] >= b[q, 7] - r))
        & ((a[p, 2] <= b[q, 5] + r) | (a[p, 8] <= b[q, 11] + r))
        & ((a[p, 5] >= b[q, 2] - r) | (a[p, 11] >= b[q, 8] - r))
    )  # fmt: skip


@single
def _look(ways, soup, tree, patches, fitted, boxes, begin, end, found, base):
    """Pairs of each two patches from `begin` to `end`: count them, and keep as many as there is room for. base -- the
    pair of patches whose pairs stand first in `found`."""
    x, u, radius, reach = ways
    rest, triangles, edges, owner = soup.rest, soup.triangles, soup.edges, soup.owner
    first, last = fitted.first, fitted.last
    point_boxes, edge_boxes, triangle_boxes = boxes
    counts, vt, ee = found
    room, room_e = vt.shape[1], ee.shape[1]
    leaf, corner_starts, corners = tree.leaf, tree.corner_starts, tree.corners
    point_starts, points, edge_starts, sides = tree.point_starts, tree.points, tree.edge_starts, tree.edges
    triangle_starts, faces = tree.triangle_starts, tree.triangles
    longest = 0
    for k in range(len(edge_starts) - 1):
        longest = max(longest, edge_starts[k + 1] - edge_starts[k], triangle_starts[k + 1] - triangle_starts[k],
                      point_starts[k + 1] - point_starts[k])  # fmt: skip
    kept, hold, patch = np.empty(longest, np.int64), np.empty(longest, np.int64), np.empty((2, 12))
    for p in range(begin, end):
        points_found, edges_found = 0, 0
        for side in range(2):
            node = patches[p, side]
            for c in range(6):
                patch[side, c], patch[side, 6 + c] = first[node, c], last[node, c]
        a, b = patches[p, 0], patches[p, 1]
        ka, kb = leaf[a], leaf[b]
        ra, rb = radius[corners[corner_starts[ka]]], radius[corners[corner_starts[kb]]]
        far = reach + ra + rb
        own = owner[corners[corner_starts[ka]]] == owner[corners[corner_starts[kb]]]
        for way in range(1 if a == b else 2):
            if way == 1:
                ka, kb = kb, ka
            few, many = 0, 0
            for q in range(triangle_starts[kb], triangle_starts[kb + 1]):
                if _meet(triangle_boxes, q, patch, way, far):
                    kept[few] = q
                    few += 1
            if few > 0:
                for q in range(point_starts[ka], point_starts[ka + 1]):
                    if _meet(point_boxes, q, patch, 1 - way, far):
                        hold[many] = q
                        many += 1
            for m in range(many):
                q = hold[m]
                i = np.uint32(points[q])
                for k in range(few):
                    if not _meet(point_boxes, q, triangle_boxes, kept[k], far):
                        continue
                    t = faces[kept[k]]
                    c, d, e = np.uint32(triangles[t, 0]), np.uint32(triangles[t, 1]), np.uint32(triangles[t, 2])
                    if i == c or i == d or i == e:
                        continue
                    d2 = apart_pt(x[i, 0], x[i, 1], x[i, 2], x[c, 0], x[c, 1], x[c, 2], x[d, 0], x[d, 1], x[d, 2],
                                  x[e, 0], x[e, 1], x[e, 2])  # fmt: skip
                    if d2 >= far * far:
                        r = far + np.sqrt(max(_off(u, i, c), _off(u, i, d), _off(u, i, e)))
                        if d2 >= r * r:
                            continue
                    if own and not _nearer(u, np.sqrt(d2), reach, i, i, c, d, e, apart_pt(
                            rest[i, 0], rest[i, 1], rest[i, 2], rest[c, 0], rest[c, 1], rest[c, 2],
                            rest[d, 0], rest[d, 1], rest[d, 2], rest[e, 0], rest[e, 1], rest[e, 2])):  # fmt: skip
                        continue
                    if points_found < room:
                        vt[p - base, points_found, 0], vt[p - base, points_found, 1] = i, t
                    points_found += 1
        counts[p, 0] = points_found
        ka, kb = leaf[a], leaf[b]
        few, many = 0, 0
        for q in range(edge_starts[kb], edge_starts[kb + 1]):
            if _meet(edge_boxes, q, patch, 0, far):
                kept[few] = q
                few += 1
        if few > 0:
            for q in range(edge_starts[ka], edge_starts[ka + 1]):
                if _meet(edge_boxes, q, patch, 1, far):
                    hold[many] = q
                    many += 1
        for m in range(many):
            e = sides[hold[m]]
            i, j = np.uint32(edges[e, 0]), np.uint32(edges[e, 1])
            for k in range(few):
                if not _meet(edge_boxes, hold[m], edge_boxes, kept[k], far) or (a == b and kept[k] <= hold[m]):
                    continue
                f = sides[kept[k]]
                c, d = np.uint32(edges[f, 0]), np.uint32(edges[f, 1])
                if i == c or i == d or j == c or j == d:
                    continue
                d2 = apart_ee(x[i, 0], x[i, 1], x[i, 2], x[j, 0], x[j, 1], x[j, 2],
                              x[c, 0], x[c, 1], x[c, 2], x[d, 0], x[d, 1], x[d, 2])  # fmt: skip
                if d2 >= far * far:
                    r = far + np.sqrt(max(_off(u, i, c), _off(u, i, d), _off(u, j, c), _off(u, j, d)))
                    if d2 >= r * r:
                        continue
                if own and not _nearer(u, np.sqrt(d2), reach, i, j, c, d, d, apart_ee(
                        rest[i, 0], rest[i, 1], rest[i, 2], rest[j, 0], rest[j, 1], rest[j, 2],
                        rest[c, 0], rest[c, 1], rest[c, 2], rest[d, 0], rest[d, 1], rest[d, 2])):  # fmt: skip
                    continue
                if edges_found < room_e:
                    ee[p - base, edges_found, 0], ee[p - base, edges_found, 1] = e, f
                edges_found += 1
        counts[p, 1] = edges_found


@inline
def _off(u, i, j):
    """m2, square of how far two points go against each other."""
    return (u[i, 0] - u[j, 0]) ** 2 + (u[i, 1] - u[j, 1]) ** 2 + (u[i, 2] - u[j, 2]) ** 2


@inline
def _nearer(u, apart, reach, i, j, c, d, e, rest2):
    """Whether neighbours in a sheet come nearer than they may by their rest, on their ways or astray from these."""
    way = np.sqrt(max(_off(u, i, c), _off(u, i, d), _off(u, i, e), _off(u, j, c), _off(u, j, d), _off(u, j, e)))
    return apart - way - reach < NEAR_AT_REST * np.sqrt(rest2)


@single
def most_vt(rest, pairs, triangles, owner):
    """(p,) m that points and triangles may come near: those of one sheet, by their rest."""
    most = np.full(len(pairs), np.inf)
    for p in range(len(pairs)):
        i, t = pairs[p, 0], pairs[p, 1]
        a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        if owner[i] == owner[a]:
            most[p] = NEAR_AT_REST * np.sqrt(
                apart_pt(rest[i, 0], rest[i, 1], rest[i, 2], rest[a, 0], rest[a, 1], rest[a, 2],
                         rest[b, 0], rest[b, 1], rest[b, 2], rest[c, 0], rest[c, 1], rest[c, 2])
            )  # fmt: skip
    return most


@single
def most_ee(rest, pairs, edges, owner):
    """The same of edges."""
    most = np.full(len(pairs), np.inf)
    for p in range(len(pairs)):
        a, b, c, d = edges[pairs[p, 0], 0], edges[pairs[p, 0], 1], edges[pairs[p, 1], 0], edges[pairs[p, 1], 1]
        if owner[a] == owner[c]:
            most[p] = NEAR_AT_REST * np.sqrt(
                apart_ee(rest[a, 0], rest[a, 1], rest[a, 2], rest[b, 0], rest[b, 1], rest[b, 2],
                         rest[c, 0], rest[c, 1], rest[c, 2], rest[d, 0], rest[d, 1], rest[d, 2])
            )  # fmt: skip
    return most
