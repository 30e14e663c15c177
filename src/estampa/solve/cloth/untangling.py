"""What has gone through is taken back out: crossings are undone by the shorter way.

The line along which two parts of cloth go through each other is made shorter until it is gone (the intersection contour
of P. Volino and N. Magnenat-Thalmann 2006, "Resolving surface collisions through intersection contour minimization"):
each edge that goes through a triangle is moved along the triangle, and the triangle against it, the way in which the
line shortens the most, while the edges keep their lengths. It needs no side that was right before.
"""

from typing import NamedTuple

import numpy as np

from ..contact.crossings import Crossings, crossings
from ..contact.soup import ROUND, Soup
from ..contact.tree import Tree
from .fading import project

MOST_TURNS = 600
STEP = 0.08  # of the usual edge, that a vertex goes in a turn at the most
STILL = 40  # turns in which fewer cross, before the way is widened
WIDER = 1.5  # times as far, when turns bring nothing
SWEEPS = 4  # of keeping lengths, in a turn


class Untangled(NamedTuple):
    """x (N, 3) m of all points; left -- crossings that no way out was found for."""

    x: np.ndarray
    left: int


def untangled(x: np.ndarray, soup: Soup, tree: Tree, inverse_mass: np.ndarray, lengths: np.ndarray) -> Untangled:
    """Points of a soup without crossings, as near to x (N, 3) m as the shorter ways are.

    inverse_mass (N,) 1/kg, 0 of what is held or given; lengths (e,) m of the soup's edges, those of cloths being kept
    """
    x, free = x.copy(), inverse_mass > 0
    beside = _Beside(soup, len(x))
    own = soup.edges[:, 1] < soup.cloth
    edges, lengths = np.ascontiguousarray(soup.edges[own], np.int64), np.ascontiguousarray(lengths[own])
    step, fewest, since = STEP * soup.edge, np.inf, 0
    for _ in range(MOST_TURNS):
        found = _of_meshes(crossings(x, soup, tree, soup.radius), soup)
        count = len(found.edge)
        if not count:
            return Untangled(x, 0)
        fewest, since = (count, 0) if count < fewest else (fewest, since + 1)
        if since and since % STILL == 0:
            step = min(WIDER * step, 0.5 * soup.edge)
        x += _evened(_shorter(x, found, beside, inverse_mass), edges, step) * free[:, None]
        project(x, edges, lengths, ~free, SWEEPS)
    return Untangled(x, len(_of_meshes(crossings(x, soup, tree, soup.radius), soup).edge))


def _of_meshes(found: Crossings, soup: Soup) -> Crossings:
    """Without those of balls and capsules, which pushes part by themselves."""
    flat = soup.sort[found.edge[:, 0]] != ROUND
    return Crossings(found.edge[flat], found.triangle[flat])


class _Beside:
    """The corners opposite each edge, in the one or two triangles that have it."""

    def __init__(self, soup: Soup, count: int) -> None:
        t = soup.triangles.astype(np.int64)
        sides = np.concatenate([t[:, [0, 1, 2]], t[:, [1, 2, 0]], t[:, [2, 0, 1]]])
        self._count = count
        keys = self._key(sides[:, 0], sides[:, 1])
        order = np.argsort(keys, kind="stable")
        self._keys, self._third = keys[order], sides[order, 2]

    def _key(self, a, b):
        return np.minimum(a, b).astype(np.int64) * self._count + np.maximum(a, b)

    def of(self, edges: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((c,) row of an edge (k, 2), (c,) third corner) for each triangle that has one of the edges."""
        keys = self._key(edges[:, 0], edges[:, 1])
        first, last = (np.searchsorted(self._keys, keys, side=s) for s in ("left", "right"))
        rows = np.repeat(np.arange(len(edges)), last - first)
        within = np.arange(len(rows)) - np.repeat(np.cumsum(last - first) - (last - first), last - first)
        return rows, self._third[first[rows] + within]


def _evened(way, edges, step) -> np.ndarray:
    """(N, 3) m: ways shared with the neighbours, so that a part of the cloth goes along; the farthest goes a step."""
    found, of = way.copy(), np.ones(len(way))
    for one, other in (edges.T, edges.T[::-1]):
        np.add.at(found, one, way[other])
        np.add.at(of, one, 1)
    found /= of[:, None]
    return found * (step / max(float(np.linalg.norm(found, axis=1).max()), 1e-12))


def _shorter(x, found, beside, inverse_mass) -> np.ndarray:
    """(N, 3) which way points go, so that the lines of crossing become shorter."""
    a, b = found.edge.T.astype(np.int64)
    c, d, e = found.triangle.T.astype(np.int64)
    along = _unit(x[b] - x[a])
    normal = _unit(np.cross(x[d] - x[c], x[e] - x[c]))
    lean = (along * normal).sum(axis=1)
    lean = np.where(np.abs(lean) < 0.05, np.where(lean < 0, -0.05, 0.05), lean)
    rows, third = beside.of(found.edge)
    # along the line of crossing, into each triangle beside the edge
    inward = x[third] - x[a[rows]]
    inward -= (inward * along[rows]).sum(axis=1, keepdims=True) * along[rows]
    line = np.cross(np.cross(along[rows], inward), normal[rows])
    line = _unit(line * np.sign((line * inward).sum(axis=1, keepdims=True) + 1e-300))
    each = line - ((along[rows] * line).sum(axis=1) / lean[rows])[:, None] * normal[rows]
    way = np.zeros(along.shape)
    np.add.at(way, rows, each)
    way = _unit(way)
    # where they meet: its place along the edge and in the triangle
    from_c = x[c] - x[a]
    share = np.clip((from_c * normal).sum(axis=1) / ((x[b] - x[a]) * normal).sum(axis=1), 0, 1)
    corners = _barycentric(x[a] + share[:, None] * (x[b] - x[a]), x[c], x[d], x[e])
    points = np.stack([a, b, c, d, e], axis=1)
    weight = np.concatenate([(1 - share)[:, None], share[:, None], -corners], axis=1)
    heavy = weight * inverse_mass[points]
    heavy /= np.maximum(np.abs(heavy).max(axis=1, keepdims=True), 1e-300)
    moved, parts = np.zeros(x.shape), np.zeros(len(x))
    np.add.at(moved, points, heavy[..., None] * way[:, None])
    np.add.at(parts, points, np.abs(heavy))
    moved /= np.maximum(parts, 1)[:, None]
    return moved


def _barycentric(p, a, b, c) -> np.ndarray:
    """(k, 3) shares of corners in points of triangles."""
    u, v, w = b - a, c - a, p - a
    uu, uv, vv = (u * u).sum(axis=1), (u * v).sum(axis=1), (v * v).sum(axis=1)
    wu, wv = (w * u).sum(axis=1), (w * v).sum(axis=1)
    low = np.maximum(uu * vv - uv * uv, 1e-300)
    s, t = (vv * wu - uv * wv) / low, (uu * wv - uv * wu) / low
    return np.clip(np.stack([1 - s - t, s, t], axis=1), 0, 1)


def _unit(v: np.ndarray) -> np.ndarray:
    return v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-300)
