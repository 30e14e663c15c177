"""A small step of all that touches: what is near is watched, and pushed apart.

What is near is looked for along the ways that all went, with a margin. A point that strays from its way by more than
half of it is looked at again, with all in the patches that it is a corner of; the rest of what is watched stays. So
no two elements pass each other unseen, however fast they are, and what moves little is hardly looked for.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from .find import most_ee, most_vt, near
from .guard import carry
from .respond import Pairs, clear_ee, clear_vt, inside_out, push_ee, push_planes, push_vt, sides_ee, sides_vt
from .soup import SOLID, Soup
from .tree import Fitted, Tree, unfitted

PASSES = 2  # without anything through
MOST_PASSES = 24  # while something is through
MOST_LOOKS = 8  # in a small step
MARGIN = 0.28  # of an edge: how much nearer than touching is looked
NOWHERE = 1e9  # m
single = njit(cache=True, nogil=True, error_model="numpy")


class Times(NamedTuple):
    """A small step: t0, t -- the shares of the frame at which it begins and ends; before, now -- s the same."""

    t0: float
    t: float
    before: float
    now: float


class Watch(NamedTuple):
    """at, way (N, 3) m where all was when it was last looked at, and how far it was thought to go; fitted -- the tree
    then; vt of points and triangles, by point; ee of edges."""

    at: np.ndarray
    way: np.ndarray
    fitted: Fitted
    vt: Pairs
    ee: Pairs


class Watcher:
    """Watches what may touch over a frame, and parts it."""

    def __init__(self, soup: Soup, tree: Tree, planes: np.ndarray, inverse_mass: np.ndarray):
        """planes (k, 13) of `planes_of`; inverse_mass (N,) 1/kg, 0 of what is given."""
        none, count = _pairs(np.zeros((0, 2), np.int32)), len(inverse_mass)
        empty = Watch(np.full((count, 3), NOWHERE), np.zeros((count, 3)), unfitted(tree), none, none)
        self.soup, self.tree, self.planes, self.inverse_mass, self.watch = soup, tree, planes, inverse_mass, empty
        self.margin = MARGIN * soup.edge
        self.looks = 0  # in this small step
        self.radius, self.grew = soup.radius, np.zeros(count)
        self._moved, self._tick = np.ones(count, np.int64), 1

    @property
    def near(self) -> int:
        """Pairs that are watched."""
        return len(self.watch.vt.at) + len(self.watch.ee.at)

    def met(self) -> np.ndarray:
        """(owners,) pairs that are watched of each cloth and obstacle."""
        soup, vt, ee = self.soup, self.watch.vt.at, self.watch.ee.at
        points = vt[:, 0], soup.triangles[vt[:, 1], 0], soup.edges[ee[:, 0], 0], soup.edges[ee[:, 1], 0]
        of = [soup.owner[at] for at in points]
        return np.bincount(np.concatenate(of), minlength=int(soup.owner.max(initial=0)) + 1)

    def begin(self, radius: np.ndarray, grew: np.ndarray) -> None:
        """A small step begins: what was thought to go has gone. radius (N,) m at its end; grew (N,) m within it."""
        self.radius, self.grew = radius, grew
        self.watch.at[:] += self.watch.way
        self.watch.way[:] = 0.0
        self.looks = 0

    def forget(self) -> None:
        """All was put back: what is near is looked for anew."""
        self.watch.at[:] = NOWHERE
        self.watch.way[:] = 0.0

    def part(self, x: np.ndarray, start: np.ndarray, step: Times) -> None:
        """Part all that came too near on its way from `start` to x (N, 3) m, which is moved."""
        self._moved[:], self._tick = 1, 1
        self.watch.vt.judged[:] = 0
        self.watch.ee.judged[:] = 0
        # what touched before most likely does so again: when it is pushed first, less strays from its way later
        self._push(x, start, step, 1, np.inf)
        passes = 0
        while passes < MOST_PASSES:
            far = 0.5 * self.margin if self.looks < MOST_LOOKS else np.inf
            if far < np.inf:
                self._look(x, start, step)
            made, is_clean = self._push(x, start, step, MOST_PASSES - passes, far)
            passes += made
            if is_clean and (far == np.inf or not strayed(x, self.watch, far).any()):
                break

    def _push(self, x, start, step, passes, far):
        made, is_clean, self._tick = push(
            x, start, self.inverse_mass, self.watch, self.soup, self.radius, self.planes, step, passes, far,
            self._moved, self._tick,
        )  # fmt: skip
        return made, is_clean

    def _look(self, x, start, step) -> None:
        """Look again at what strayed."""
        off = strayed(x, self.watch, 0.5 * self.margin)
        if off.any():
            self.watch = look(
                x, start, off, self.watch, self.margin, self.soup, self.tree, self.radius, self.grew, step.before
            )
            self.looks += 1

    def guard(self, x: np.ndarray, start: np.ndarray, step: Times) -> int:
        """Let go along what no push has parted; returns pairs that could not be kept apart."""
        left = 0
        for _ in range(MOST_LOOKS):
            self._look(x, start, step)
            moved, left = carry(x, start, self.inverse_mass, self.watch, self.soup, self.radius, self.grew)
            if not moved:
                break
        return left


@single
def _pairs(at):
    count = len(at)
    gap, most, thick, born = np.zeros(count), np.zeros(count), np.zeros(count), np.zeros(count)
    return Pairs(at, np.zeros((count, 3)), gap, most, thick, born, np.zeros(count, np.int64))


@single
def push(x, start, inverse_mass, watch, soup, radius, planes, step, passes, far, moved, tick):
    """Push apart in so many passes at the most, until nothing is through or something strays by more than `far` m.

    moved (N,) when each point was last moved, counted in pairs that were judged; tick -- the count. Returns (passes
    that were made, whether it ended with nothing through, the count).
    """
    cloth, rub = soup.cloth, soup.rub
    clean, made = 0, 0
    while made < passes:
        made += 1
        push_planes(x, start, inverse_mass, cloth, radius, rub, planes, step.t, step.t0, moved, tick)
        clear_vt(x, watch.vt, soup.triangles, radius, moved, tick)
        clear_ee(x, watch.ee, soup.edges, radius, moved, tick)
        points, tick = push_vt(x, start, inverse_mass, watch.vt, soup.triangles, radius, rub, step.now, moved, tick)
        sides, tick = push_ee(
            x, start, inverse_mass, watch.ee, soup.edges, soup.sort, radius, rub, step.now, moved, tick
        )  # fmt: skip
        clean = clean + 1 if points + sides == 0 else 0
        # a push may put through what came before it in the same pass: only a second clean one tells
        if clean >= PASSES or (far < np.inf and strayed(x, watch, far).any()):
            break
    return made, clean >= PASSES, tick


@single
def strayed(x, watch, far):
    """(N,) bool, what is off its way by more than `far` m."""
    found = np.empty(len(x), np.bool_)
    for i in range(len(x)):
        d = 0.0
        for j in range(3):
            d += (x[i, j] - watch.at[i, j] - watch.way[i, j]) ** 2
        found[i] = d > far * far
    return found


@single
def look(x, start, strayed, watch, margin, soup, tree, radius, grew, now):
    """Look again at what strayed; returns the new watch. grew (N,) m in the step; now -- s when it began"""
    for i in range(len(x)):
        if strayed[i]:
            for j in range(3):
                watch.at[i, j], watch.way[i, j] = start[i, j], x[i, j] - start[i, j]
    leaves = np.zeros(len(tree.leaves), np.bool_)
    for k in range(len(leaves)):
        for q in range(tree.corner_starts[k], tree.corner_starts[k + 1]):
            leaves[k] |= strayed[tree.corners[q]]
    points, sides = near(watch.at, watch.way, margin, soup, tree, watch.fitted, leaves, radius)

    kept = np.empty(len(watch.vt.at), np.bool_)
    for p in range(len(kept)):
        kept[p] = not (leaves[tree.point_leaf[watch.vt.at[p, 0]]] or leaves[tree.triangle_leaf[watch.vt.at[p, 1]]])
    vt, which = _by_point(*_merged(watch.vt, kept, points), len(x))
    _with_their_solids(vt, which, soup.triangles, soup.sort)
    sides_vt(start, vt, which, soup.triangles)
    inside_out(start, vt, which, soup.triangles, soup.sort)
    vt.most[which] = most_vt(soup.rest, vt.at[which], soup.triangles, soup.owner)

    kept = np.empty(len(watch.ee.at), np.bool_)
    for p in range(len(kept)):
        kept[p] = not (leaves[tree.edge_leaf[watch.ee.at[p, 0]]] or leaves[tree.edge_leaf[watch.ee.at[p, 1]]])
    ee, new = _merged(watch.ee, kept, sides)
    sides_ee(start, ee, new, soup.edges)
    ee.most[new] = most_ee(soup.rest, ee.at[new], soup.edges, soup.owner)
    vt.born[which], ee.born[new] = now, now
    for p in range(len(which)):
        if which[p]:
            i, a = vt.at[p, 0], soup.triangles[vt.at[p, 1], 0]
            vt.thick[p] = min(radius[i] - grew[i] + radius[a] - grew[a], vt.most[p])
    for p in range(len(new)):
        if new[p]:
            a, c = soup.edges[ee.at[p, 0], 0], soup.edges[ee.at[p, 1], 0]
            ee.thick[p] = min(radius[a] - grew[a] + radius[c] - grew[c], ee.most[p])
    return Watch(watch.at, watch.way, watch.fitted, vt, ee)


@single
def _merged(watched, kept, found):
    """(those of `watched` that are kept and all that were found, (p,) bool which are new)."""
    old, count = kept.sum(), kept.sum() + len(found)
    pairs, new, at = _pairs(np.empty((count, 2), np.int32)), np.zeros(count, np.bool_), 0
    for p in range(len(kept)):
        if kept[p]:
            _copy(watched, p, pairs, at)
            at += 1
    pairs.at[old:] = found
    new[old:] = True
    return pairs, new


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _copy(pairs, p, to, q):
    to.at[q, 0], to.at[q, 1] = pairs.at[p, 0], pairs.at[p, 1]
    to.side[q, 0], to.side[q, 1], to.side[q, 2] = pairs.side[p, 0], pairs.side[p, 1], pairs.side[p, 2]
    to.gap[q], to.most[q], to.thick[q] = pairs.gap[p], pairs.most[p], pairs.thick[p]
    to.born[q], to.judged[q] = pairs.born[p], pairs.judged[p]


@single
def _by_point(pairs, new, count):
    """Both in the order of the points; those of a point in the order that they had."""
    starts = np.zeros(count + 1, np.int64)
    for p in range(len(new)):
        starts[pairs.at[p, 0] + 1] += 1
    for i in range(count):
        starts[i + 1] += starts[i]
    sorted_pairs, sorted_new = _pairs(np.empty_like(pairs.at)), np.empty_like(new)
    for p in range(len(new)):
        q = starts[pairs.at[p, 0]]
        _copy(pairs, p, sorted_pairs, q)
        sorted_new[q] = new[p]
        starts[pairs.at[p, 0]] += 1
    return sorted_pairs, sorted_new


@single
def _with_their_solids(vt, which, triangles, sort):
    """Add to `which` are new all pairs of their points with closed meshes: only together they tell inside from out."""
    p = 0
    while p < len(which):
        i, last, any_new = vt.at[p, 0], p, False
        while last < len(which) and vt.at[last, 0] == i:
            any_new |= which[last] and sort[triangles[vt.at[last, 1], 0]] == SOLID
            last += 1
        for q in range(p, last):
            which[q] |= any_new and sort[triangles[vt.at[q, 1], 0]] == SOLID
        p = last
