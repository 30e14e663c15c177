"""What goes through what, as it is: every edge against every triangle, whatever was pushed before.

Nodes of the tree whose boxes are apart are passed over; what is left is judged by the signs of the volumes of
tetrahedra (T. Moeller and B. Trumbore 1997 do the same by cross products). A round obstacle is crossed by triangles and
edges that come nearer to its middle than its radius.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from .closest import apart_ee, apart_pt
from .find import box_long, boxes_apart
from .soup import ROUND, Soup
from .tree import Tree, fit, unfitted

DEPTH = 0.05  # of the thickness, from which on a round thing counts as crossed: its skin is no mesh
single = njit(cache=True, nogil=True, error_model="numpy")


class Crossings(NamedTuple):
    """edge (c, 2), triangle (c, 3) points of the soup; of a round obstacle its own points, and those that cross it."""

    edge: np.ndarray
    triangle: np.ndarray

    def owners(self, soup: Soup) -> np.ndarray:
        """(c, 2) which cloth or obstacle each is of."""
        return np.stack([soup.owner[self.edge[:, 0]], soup.owner[self.triangle[:, 0]]], axis=1)


def crossings(x: np.ndarray, soup: Soup, tree: Tree, radius: np.ndarray) -> Crossings:
    """All that cross where points are at x (N, 3) m, of what may touch; radius (N,) m."""
    fitted = unfitted(tree)
    fit(tree, fitted, x, np.zeros_like(x), soup.triangles, np.ones(len(tree.leaves), np.bool_), 0.0)
    found = _crossings(x, soup, tree, fitted.first, radius)
    return Crossings(found[:, :2], found[:, 2:])


@single
def _crossings(x, soup, tree, boxes, radius):
    found, count = np.empty((64, 5), np.int32), 0
    owners = len(tree.roots)
    fat, round_, alone = np.zeros(owners), np.zeros(owners, np.bool_), np.zeros(owners, np.bool_)
    for i in range(len(soup.owner)):
        o = soup.owner[i]
        round_[o], alone[o] = soup.sort[i] == ROUND, soup.alone[i]
        fat[o] = radius[i] if round_[o] else 0.0
    stack = np.empty((256, 2), np.int32)
    for o in range(soup.cloths):
        for p in range(o, owners):
            if tree.roots[o] < 0 or tree.roots[p] < 0 or (o == p and alone[o]):
                continue
            far = fat[p]
            stack[0, 0], stack[0, 1] = tree.roots[o], tree.roots[p]
            n = 1
            while n > 0:
                n -= 1
                a, b = stack[n, 0], stack[n, 1]
                if a != b and boxes_apart(boxes, boxes, a, b, far):
                    continue
                leaf_a, leaf_b = tree.leaf[a] >= 0, tree.leaf[b] >= 0
                if n + 4 > len(stack):
                    wider = np.empty((2 * len(stack), 2), np.int32)
                    wider[: len(stack)] = stack
                    stack = wider
                if leaf_a and leaf_b:
                    if count + 4096 > len(found):
                        more = np.empty((2 * len(found) + 4096, 5), np.int32)
                        more[:count] = found[:count]
                        found = more
                    if round_[p]:
                        count = _in_round(x, soup, tree, a, b, far, radius, found, count)
                    else:
                        count = _leaves(x, soup, tree, a, b, found, count)
                        if a != b:
                            count = _leaves(x, soup, tree, b, a, found, count)
                elif a == b:
                    one, two = tree.child[a, 0], tree.child[a, 1]
                    stack[n, 0], stack[n, 1] = one, one
                    stack[n + 1, 0], stack[n + 1, 1] = two, two
                    stack[n + 2, 0], stack[n + 2, 1] = one, two
                    n += 3
                else:
                    first = leaf_b or (not leaf_a and box_long(boxes, a) >= box_long(boxes, b))
                    for side in range(2):
                        stack[n, 0] = tree.child[a, side] if first else a
                        stack[n, 1] = b if first else tree.child[b, side]
                        n += 1
    return found[:count].copy()


@single
def _leaves(x, soup, tree, a, b, found, count):
    """Edges of leaf a against triangles of leaf b; each edge and triangle belongs to one leaf only."""
    ka, kb = tree.leaf[a], tree.leaf[b]
    for q in range(tree.edge_starts[ka], tree.edge_starts[ka + 1]):
        i, j = soup.edges[tree.edges[q], 0], soup.edges[tree.edges[q], 1]
        for r in range(tree.triangle_starts[kb], tree.triangle_starts[kb + 1]):
            t = tree.triangles[r]
            c, d, e = soup.triangles[t, 0], soup.triangles[t, 1], soup.triangles[t, 2]
            if i == c or i == d or i == e or j == c or j == d or j == e:
                continue
            if not _boxes_meet(x, i, j, c, d, e):
                continue
            above, below = _volume(x, c, d, e, i), _volume(x, c, d, e, j)
            if above * below >= 0:
                continue
            one, two, three = _volume(x, i, j, c, d), _volume(x, i, j, d, e), _volume(x, i, j, e, c)
            if (one > 0) == (two > 0) and (two > 0) == (three > 0):
                found[count, 0], found[count, 1] = i, j
                found[count, 2], found[count, 3], found[count, 4] = c, d, e
                count += 1
    return count


@single
def _boxes_meet(x, i, j, c, d, e):
    for k in range(3):
        low, high = min(x[i, k], x[j, k]), max(x[i, k], x[j, k])
        if low > max(x[c, k], x[d, k], x[e, k]) or high < min(x[c, k], x[d, k], x[e, k]):
            return False
    return True


@single
def _volume(x, a, b, c, d):
    """Six times the volume of a tetrahedron, with its sign."""
    ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
    wx, wy, wz = x[d, 0] - x[a, 0], x[d, 1] - x[a, 1], x[d, 2] - x[a, 2]
    return wx * (uy * vz - uz * vy) + wy * (uz * vx - ux * vz) + wz * (ux * vy - uy * vx)


@single
def _in_round(x, soup, tree, a, b, far, radius, found, count):
    """Triangles of a cloth's leaf a that are in the ball, or whose edges are in the capsule, of leaf b."""
    ka, kb = tree.leaf[a], tree.leaf[b]
    for r in range(tree.triangle_starts[ka], tree.triangle_starts[ka + 1]):
        t = tree.triangles[r]
        c, d, e = soup.triangles[t, 0], soup.triangles[t, 1], soup.triangles[t, 2]
        least = far - 2 * DEPTH * radius[c]
        for q in range(tree.point_starts[kb], tree.point_starts[kb + 1]):
            i = tree.points[q]
            near = apart_pt(x[i, 0], x[i, 1], x[i, 2], x[c, 0], x[c, 1], x[c, 2],
                            x[d, 0], x[d, 1], x[d, 2], x[e, 0], x[e, 1], x[e, 2])  # fmt: skip
            if least > 0 and near < least * least:
                found[count, 0], found[count, 1] = i, i
                found[count, 2], found[count, 3], found[count, 4] = c, d, e
                count += 1
    for q in range(tree.edge_starts[kb], tree.edge_starts[kb + 1]):
        i, j = soup.edges[tree.edges[q], 0], soup.edges[tree.edges[q], 1]
        for r in range(tree.edge_starts[ka], tree.edge_starts[ka + 1]):
            c, d = soup.edges[tree.edges[r], 0], soup.edges[tree.edges[r], 1]
            least = far - 2 * DEPTH * radius[c]
            near = apart_ee(x[i, 0], x[i, 1], x[i, 2], x[j, 0], x[j, 1], x[j, 2],
                            x[c, 0], x[c, 1], x[c, 2], x[d, 0], x[d, 1], x[d, 2])  # fmt: skip
            if least > 0 and near < least * least:
                found[count, 0], found[count, 1] = i, j
                found[count, 2], found[count, 3], found[count, 4] = c, d, d
                count += 1
    return count
