"""A tree of patches over all that may touch: built once at rest, refitted as things move.

A patch whose normals lie in a narrow cone cannot meet itself, so that most of a sheet is never looked at (P. Volino,
N. Magnenat-Thalmann 1994, "Efficient self-collision detection on smoothly discretized surface animations"). That their
contour does not cross itself is seen to when the tree is built: patches that hang together, without a cut into them.
"""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

from ...lazy import spatial

LEAF = 8  # triangles of the smallest patches
PART = 64  # leaves that a thread takes at once
single = njit(cache=True, nogil=True, error_model="numpy")
threaded = njit(cache=True, nogil=True, parallel=True, error_model="numpy")


class Tree(NamedTuple):
    """Nodes come after their parents. Leaves are numbered in the order of their nodes.

    child (n, 2) nodes, -1 in leaves; leaf (n,) number, -1 if none; leaves (l,) nodes; whole (n,) bool, patches that
    a narrow cone keeps from meeting themselves; roots (o,) of each owner, -1 where it has nothing
    Of each leaf k the rows starts[k] to starts[k + 1] of: corners (all points of its triangles), points, edges and
    triangles (those that it owns; every element has one owner); beside (leaves that share a point with it)
    point_leaf, edge_leaf, triangle_leaf -- which leaf owns each
    """

    child: np.ndarray
    leaf: np.ndarray
    leaves: np.ndarray
    whole: np.ndarray
    roots: np.ndarray
    corner_starts: np.ndarray
    corners: np.ndarray
    point_starts: np.ndarray
    points: np.ndarray
    edge_starts: np.ndarray
    edges: np.ndarray
    triangle_starts: np.ndarray
    triangles: np.ndarray
    beside_starts: np.ndarray
    beside: np.ndarray
    point_leaf: np.ndarray
    edge_leaf: np.ndarray
    triangle_leaf: np.ndarray

    @classmethod
    def of(cls, at: np.ndarray, triangles: np.ndarray, edges: np.ndarray, owner: np.ndarray) -> "Tree":
        """From points (n, 3) m where they are at rest, triangles (t, 3), edges (e, 2) and the owner (n,) of each."""
        bare = np.setdiff1d(np.arange(len(edges)), _sides_in(edges, triangles, len(at)))
        loose = np.setdiff1d(np.arange(len(at)), edges)
        primitives = [triangles, edges[bare][:, [0, 1, 1]], np.repeat(loose[:, None], 3, axis=1)]
        primitives = np.concatenate(primitives).astype(np.int64)
        of = owner[primitives[:, 0]] if len(primitives) else np.zeros(0, np.int64)
        middle = at[primitives].mean(axis=1) if len(primitives) else np.zeros((0, 3))
        owners = int(owner.max(initial=-1)) + 1
        by_owner = np.argsort(of, kind="stable")
        cuts = np.searchsorted(of[by_owner], np.arange(owners + 1))
        child, spans, order, roots = _split(np.ascontiguousarray(middle), by_owner, cuts, LEAF)
        leaf = np.where(child[:, 0] < 0, np.cumsum(child[:, 0] < 0) - 1, -1).astype(np.int32)
        leaves = spans[child[:, 0] < 0]
        of_leaf = np.empty(len(primitives), np.int64)  # leaf of each primitive
        for k, (first, last) in enumerate(leaves):
            of_leaf[order[first:last]] = k
        rows = lambda leaf_of, members: _grouped(leaf_of, members, len(leaves))
        # a point or an edge belongs to the first leaf that has it
        flat, flat_leaf = primitives.ravel(), np.repeat(of_leaf, 3)
        pairs = np.unique(np.stack([flat_leaf, flat], axis=1), axis=0)
        corner_starts, corners = rows(pairs[:, 0], pairs[:, 1])
        points, first = np.unique(pairs[:, 1], return_index=True)
        point_leaf = np.zeros(len(at), np.int64)
        point_leaf[points] = pairs[first, 0]
        point_starts, points = rows(pairs[first, 0], points)
        edge_leaf = np.full(len(edges), len(leaves))
        code = edges[:, 0].astype(np.int64) * len(at) + edges[:, 1]
        sort = np.argsort(code)
        for a, b in ((0, 1), (1, 2), (2, 0)):
            low, high = np.minimum(triangles[:, a], triangles[:, b]), np.maximum(triangles[:, a], triangles[:, b])
            where = sort[np.searchsorted(code, low.astype(np.int64) * len(at) + high, sorter=sort)]
            np.minimum.at(edge_leaf, where, of_leaf[: len(triangles)])
        edge_leaf[bare] = of_leaf[len(triangles) : len(triangles) + len(bare)]
        edge_starts, edge_rows = rows(edge_leaf, np.arange(len(edges)))
        triangle_starts, triangle_rows = rows(of_leaf[: len(triangles)], np.arange(len(triangles)))
        beside_starts, beside = rows(*_meeting(pairs, len(at)).T)
        whole = _connected(primitives, order, spans, len(at)) & ~_cut_into(at, triangles, order, spans)
        return cls(
            child, leaf, np.flatnonzero(child[:, 0] < 0), whole, roots, corner_starts, corners, point_starts, points,
            edge_starts, edge_rows, triangle_starts, triangle_rows, beside_starts, beside, point_leaf, edge_leaf,
            of_leaf[: len(triangles)].copy(),
        )  # fmt: skip


def _sides_in(edges, triangles, count) -> np.ndarray:
    """Which edges are sides of triangles."""
    sides = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    code = lambda e: e[:, 0].astype(np.int64) * count + e[:, 1]
    return np.flatnonzero(np.isin(code(np.sort(edges, axis=1)), code(sides)))


def _grouped(group, members, count) -> tuple[np.ndarray, np.ndarray]:
    """(starts (count + 1,), members by group)."""
    order = np.lexsort((members, group))
    starts = np.searchsorted(group[order], np.arange(count + 1)).astype(np.int64)
    return starts, np.asarray(members)[order].astype(np.int32)


def _meeting(pairs, count) -> np.ndarray:
    """(m, 2) leaves that share a point, either way round. pairs (p, 2) of (leaf, point)."""
    by_point = pairs[np.argsort(pairs[:, 1], kind="stable")]
    starts = np.searchsorted(by_point[:, 1], np.arange(count + 1))
    many = np.diff(starts)
    found = [np.zeros((0, 2), np.int64)]
    for apart in range(1, int(many.max(initial=1))):
        one = np.flatnonzero((np.arange(len(by_point)) + apart) < starts[by_point[:, 1] + 1])
        a, b = by_point[one, 0], by_point[one + apart, 0]
        found += [np.stack([a, b], axis=1), np.stack([b, a], axis=1)]
    return np.unique(np.concatenate(found), axis=0)


@single
def _split(middle, order, cuts, most):
    """Halve each owner's primitives across their longest side until they are few.

    Returns (child (n, 2), spans (n, 2) of the order, order, roots).
    """
    owners, count = len(cuts) - 1, len(order)
    child, spans = np.full((2 * count + owners, 2), -1, np.int64), np.zeros((2 * count + owners, 2), np.int64)
    roots = np.full(owners, -1, np.int64)
    order, nodes = order.copy(), 0
    for o in range(owners):
        if cuts[o + 1] > cuts[o]:
            roots[o] = nodes
            spans[nodes, 0], spans[nodes, 1] = cuts[o], cuts[o + 1]
            nodes += 1
    at = 0
    while at < nodes:
        first, last = spans[at, 0], spans[at, 1]
        if last - first > most:
            best, axis = -1.0, 0
            for j in range(3):
                low, high = np.inf, -np.inf
                for k in range(first, last):
                    value = middle[order[k], j]
                    low, high = min(low, value), max(high, value)
                if high - low > best * (1 + 1e-9):
                    best, axis = high - low, j
            part = order[first:last].copy()
            keys = np.empty(last - first)
            for k in range(len(part)):
                keys[k] = middle[part[k], axis]
            by = np.argsort(keys, kind="mergesort")
            for k in range(len(part)):
                order[first + k] = part[by[k]]
            half = (first + last) // 2
            for side in range(2):
                child[at, side] = nodes
                spans[nodes, 0], spans[nodes, 1] = (first, half) if side == 0 else (half, last)
                nodes += 1
        at += 1
    return child[:nodes].copy(), spans[:nodes].copy(), order, roots


@single
def _connected(primitives, order, spans, count):
    """(n,) bool, nodes whose primitives hang together by their points."""
    found, group = np.zeros(len(spans), np.bool_), np.arange(count)
    for node in range(len(spans)):
        first, last = spans[node, 0], spans[node, 1]
        for k in range(first, last):
            for q in range(3):
                group[primitives[order[k], q]] = primitives[order[k], q]
        for k in range(first, last):
            a = root_of(group, primitives[order[k], 0])
            for q in range(1, 3):
                b = root_of(group, primitives[order[k], q])
                if a != b:
                    group[max(a, b)] = min(a, b)
                    a = min(a, b)
        top, one = root_of(group, primitives[order[first], 0]), True
        for k in range(first, last):
            one = one and root_of(group, primitives[order[k], 0]) == top
        found[node] = one
    return found


@single
def root_of(group, i):
    """The one by which a group of what was joined is known."""
    while group[i] != i:
        group[i] = group[group[i]]
        i = group[i]
    return i


def _cut_into(at, triangles, order, spans) -> np.ndarray:
    """(n,) bool, nodes into which a border of their mesh runs: the two sides of a cut may slide over each other in a
    patch that is flat all over."""
    cut = np.zeros(len(spans), bool)
    if not len(triangles):
        return cut
    sides = np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]).astype(np.int64)
    low, high = sides.min(axis=1), sides.max(axis=1)
    code = low * len(at) + high
    _, where, uses = np.unique(code, return_inverse=True, return_counts=True)
    border = uses[where.ravel()] == 1  # by side: all first sides, then all second, then all third
    on_border = np.zeros(len(at), bool)
    on_border[sides[border].ravel()] = True
    long = float(np.median(np.linalg.norm(at[sides[:, 1]] - at[sides[:, 0]], axis=1)))
    bordered = np.concatenate([on_border[triangles].any(axis=1), np.zeros(len(order) - len(triangles), bool)])
    has = np.cumsum(np.concatenate([[0], bordered[order]]))
    for node in np.flatnonzero(has[spans[:, 1]] > has[spans[:, 0]]):
        members = order[spans[node, 0] : spans[node, 1]]
        members = members[members < len(triangles)]
        points = np.unique(triangles[members])
        edge = points[on_border[points]]
        cut[node] = len(edge) > 2 and _deepest(at[points], at[edge]) > 1.5 * long
    return cut


def _deepest(points, edge) -> float:
    """m that border points (e, 3) of a patch (p, 3) lie within its outline at the most, seen along its thinnest
    side."""
    middle = points.mean(axis=0)
    _, _, axes = np.linalg.svd(points - middle, full_matrices=False)
    flat, own = (points - middle) @ axes[:2].T, (edge - middle) @ axes[:2].T
    try:
        hull = spatial.ConvexHull(flat)
    except spatial.QhullError:
        return np.inf
    return float(-(own @ hull.equations[:, :2].T + hull.equations[:, 2]).max(axis=1).min())


# --- fitted to where things are ---


class Fitted(NamedTuple):
    """A tree as things lie. first, last (n, 6) m boxes of each node at both ends of the ways; cones (n, 4) axis and
    rad, pi wide where there is no normal."""

    first: np.ndarray
    last: np.ndarray
    cones: np.ndarray


@single
def unfitted(tree):
    count = len(tree.child)
    return Fitted(np.empty((count, 6)), np.empty((count, 6)), np.empty((count, 4)))


@threaded
def fit(tree, fitted, x, u, triangles, leaves, thin):
    """Fit boxes to points x (N, 3) m that go u (N, 3) m, and cones above `leaves` (l,) bool, and of those:
    others hold for the rest of their ways. What is thinner than `thin` m may turn over before it is
    looked at again: it has no normal. Returns (n,) bool, which were fitted."""
    first, last, cones, child = fitted.first, fitted.last, fitted.cones, tree.child
    parts = (len(leaves) + PART - 1) // PART
    for part in prange(parts):
        begin, end = np.int64(part * PART), np.int64(min((part + 1) * PART, len(leaves)))
        _fit_leaves(tree, x, u, triangles, begin, end, leaves, first, last, cones, thin)
    nodes = np.zeros(len(child), np.bool_)
    for node in range(len(child) - 1, -1, -1):
        a, b = child[node, 0], child[node, 1]
        if a < 0:
            nodes[node] = leaves[tree.leaf[node]]
            continue
        nodes[node] = nodes[a] or nodes[b]
        for j in range(3):
            first[node, j], first[node, 3 + j] = min(first[a, j], first[b, j]), max(first[a, 3 + j], first[b, 3 + j])
            last[node, j], last[node, 3 + j] = min(last[a, j], last[b, j]), max(last[a, 3 + j], last[b, 3 + j])
        if nodes[node]:
            _join(cones[a], cones[b], cones[node])
    return nodes


@single
def _fit_leaves(tree, x, u, triangles, begin, end, leaves, first, last, cones, thin):
    for k in range(begin, end):
        node = tree.leaves[k]
        for j in range(3):
            a, b, c, d = np.inf, -np.inf, np.inf, -np.inf
            for q in range(tree.corner_starts[k], tree.corner_starts[k + 1]):
                i = tree.corners[q]
                to = x[i, j] + u[i, j]
                a, b, c, d = min(a, x[i, j]), max(b, x[i, j]), min(c, to), max(d, to)
            first[node, j], first[node, 3 + j], last[node, j], last[node, 3 + j] = a, b, c, d
        if leaves[k]:
            _cone_of(tree, k, x, u, triangles, cones[node], thin)


@single
def _cone_of(tree, k, x, u, triangles, cone, thin):
    """The cone about the normals of a leaf where it is, and after its way: within one it may fold over."""
    n0, n1, n2 = 0.0, 0.0, 0.0
    first, last = tree.triangle_starts[k], tree.triangle_starts[k + 1]
    own, count, is_thin, turns = np.empty((2 * LEAF, 3)), 0, False, 0.0
    for q in range(first, last):
        a, b, c = triangles[tree.triangles[q], 0], triangles[tree.triangles[q], 1], triangles[tree.triangles[q], 2]
        for j in range(3):
            turns = max(turns, abs(u[b, j] - u[a, j]), abs(u[c, j] - u[a, j]), abs(u[c, j] - u[b, j]))
    for end in range(2):
        for q in range(first, last):
            t = tree.triangles[q]
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
            vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
            if end == 1:
                ux, uy, uz = ux + u[b, 0] - u[a, 0], uy + u[b, 1] - u[a, 1], uz + u[b, 2] - u[a, 2]
                vx, vy, vz = vx + u[c, 0] - u[a, 0], vy + u[c, 1] - u[a, 1], vz + u[c, 2] - u[a, 2]
            mx, my, mz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            long = max(np.sqrt(mx * mx + my * my + mz * mz), 1e-300)
            wx, wy, wz = vx - ux, vy - uy, vz - uz
            side2 = max(ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz, wx * wx + wy * wy + wz * wz)
            high = thin + turns  # it has to be higher than it is distorted on its way
            is_thin |= long * long < high * high * side2
            own[count, 0], own[count, 1], own[count, 2] = mx / long, my / long, mz / long
            n0, n1, n2 = n0 + mx / long, n1 + my / long, n2 + mz / long
            count += 1
    long = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
    cone[3] = np.pi
    if long < 1e-9 or is_thin:
        cone[0], cone[1], cone[2] = 0.0, 1.0, 0.0
        return
    cone[0], cone[1], cone[2] = n0 / long, n1 / long, n2 / long
    least = 1.0
    for q in range(count):
        least = min(least, own[q, 0] * cone[0] + own[q, 1] * cone[1] + own[q, 2] * cone[2])
    cone[3] = np.arccos(max(least, -1.0))


@single
def _join(a, b, cone):
    """The cone about two cones."""
    n0, n1, n2 = a[0] + b[0], a[1] + b[1], a[2] + b[2]
    long = np.sqrt(n0 * n0 + n1 * n1 + n2 * n2)
    if long < 1e-9 or a[3] >= np.pi or b[3] >= np.pi:
        cone[0], cone[1], cone[2], cone[3] = 0.0, 1.0, 0.0, np.pi
        return
    cone[0], cone[1], cone[2] = n0 / long, n1 / long, n2 / long
    half = np.arccos(min((n0 * a[0] + n1 * a[1] + n2 * a[2]) / long, 1.0))
    cone[3] = min(half + max(a[3], b[3]), np.pi)


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def together(cones, a, b):
    """rad, half the width of the cone about two cones."""
    cos = cones[a, 0] * cones[b, 0] + cones[a, 1] * cones[b, 1] + cones[a, 2] * cones[b, 2]
    return 0.5 * np.arccos(min(max(cos, -1.0), 1.0)) + max(cones[a, 3], cones[b, 3])
