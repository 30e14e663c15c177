"""Coarse to fine: what keeps a fine sheet from sagging like rubber, in few small steps.

One pass over a mesh carries a pull on by a row of vertices. So some vertices are taken out as a coarser sheet, some of
those again, and each coarser sheet is kept from stretching first: distances between its vertices may not get longer
than they are at rest, over the surface, by more than a bound. What that moves is handed down to the vertices
between. After M. Mueller 2008, "Hierarchical position based dynamics". Nothing resists coming nearer, so that folds
are not felt.
"""

from typing import NamedTuple

import numpy as np
from numba import njit
from scipy.sparse import coo_matrix, csr_matrix, identity

from .kernels import draw_together

FEWEST = 12  # vertices of the coarsest sheet, about
PARENTS = 4
MOST_LEVELS = 6
RINGS, CLOSE_SWEEPS = 12, 8  # around what is held
SWEEPS = 2  # there and back, over each level in each small step


class Levels(NamedTuple):
    """Coarser sheets, the coarsest first; vertices are numbers of the cloth's own.

    at (m, 2), rest (m,) m -- distances that may not get longer; spans (l + 1,) of each level
    child (c,), parents (c, PARENTS), share (c, PARENTS) -- vertices between, in the next finer sheet; given (l + 1,)
    """

    at: np.ndarray
    rest: np.ndarray
    spans: np.ndarray
    child: np.ndarray
    parents: np.ndarray
    share: np.ndarray
    given: np.ndarray
    close: np.ndarray  # (c, 2) edges near what is held, where little cloth bears much, and beside free borders
    close_rest: np.ndarray  # (c,) m

    @classmethod
    def of(cls, points, normals, edges, held=None, border=None) -> "Levels":
        """From points (n, 3) m at rest, their normals (n, 3), edges (e, 2), which are held and which lie on a border
        (n,)."""
        none = np.zeros(len(points), bool)
        held, border = (none if given is None else given for given in (held, border))
        every, below = np.arange(len(points)), _graph(edges, len(points))
        found = []
        while len(every) > FEWEST and len(found) < MOST_LEVELS:
            coarse = _apart(below, held[every])
            if len(coarse) == len(every) or len(coarse) < 3:
                break
            found.append(_level(points, normals, every, below, coarse))
            near = _steps(below, 3)[coarse][:, coarse].tocsr()
            every, below = every[coarse], near
        found.reverse()
        counts = lambda k: np.cumsum([0, *(len(f[k]) for f in found)]).astype(np.int64)
        stack = lambda k, shape, kind: np.concatenate([np.zeros(shape, kind), *(f[k] for f in found)]).astype(kind)
        return cls(stack(0, (0, 2), np.int64), stack(1, (0,), np.float64), counts(0), stack(2, (0,), np.int64),
                   stack(3, (0, PARENTS), np.int64), stack(4, (0, PARENTS), np.float64), counts(2), *_close(points,
                   edges, held, border))  # fmt: skip

    @classmethod
    def none(cls) -> "Levels":
        return cls.of(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros((0, 2), np.int64))


def _graph(edges, count) -> csr_matrix:
    ones = np.ones(len(edges), np.int8)
    graph = coo_matrix((ones, (edges[:, 0], edges[:, 1])), shape=(count, count)).tocsr()
    return ((graph + graph.T) > 0).astype(np.int8).tocsr()


def _steps(graph: csr_matrix, count: int) -> csr_matrix:
    """Which vertices are within so many edges of each other."""
    wide = (graph + identity(graph.shape[0], np.int8, "csr")).tocsr()
    found = wide
    for _ in range(count - 1):
        found = ((found @ wide) > 0).astype(np.int8)
    return found.tocsr()


def _close(points, edges, held, border) -> tuple[np.ndarray, np.ndarray]:
    """(edges within a few rings of what is held, the farthest first, and beside borders, which lash about; their
    lengths at rest)."""
    ring = np.where(held, 0, np.where(border, RINGS - 1, RINGS + 1))
    for k in range(RINGS):
        for a, b in (edges.T, edges[:, ::-1].T):
            np.minimum.at(ring, b, np.where(ring[a] == k, k + 1, RINGS + 1))
    far = ring[edges].max(axis=1) if len(edges) else np.zeros(0, int)
    own = np.flatnonzero((far <= RINGS) & (far > 0))
    own = own[np.argsort(-far[own], kind="stable")]
    at = edges[own].astype(np.int64)
    return at, np.linalg.norm(points[at[:, 1]] - points[at[:, 0]], axis=1)


def _apart(graph: csr_matrix, first: np.ndarray) -> np.ndarray:
    """Vertices of which no two are neighbours, as many as go in when they are taken in order, some `first`."""
    order = np.argsort(~first, kind="stable")
    return np.flatnonzero(_independent(graph.indptr.astype(np.int64), graph.indices.astype(np.int64), order))


@njit(cache=True)
def _independent(starts, members, order):
    count = len(starts) - 1
    state = np.zeros(count, np.int8)  # 1 taken, 2 beside one
    for i in order:
        if state[i] == 0:
            state[i] = 1
            for k in range(starts[i], starts[i + 1]):
                if members[k] != i:
                    state[members[k]] = 2
    return state == 1


def _level(points, normals, every, below, coarse):
    """(at, rest, child, parents, share) between the vertices `every` and the coarse ones among them."""
    near = _steps(below, 3)[coarse][:, coarse].tocoo()
    one = near.row < near.col
    at = np.stack([every[coarse[near.row[one]]], every[coarse[near.col[one]]]], axis=1)
    child = np.setdiff1d(np.arange(len(every)), coarse)
    close = _steps(below, 2)[child][:, coarse].tocsr()
    parents = np.zeros((len(child), PARENTS), np.int64)
    share = np.zeros((len(child), PARENTS))
    for k in range(len(child)):
        own = coarse[close.indices[close.indptr[k] : close.indptr[k + 1]]]
        apart = np.linalg.norm(points[every[own]] - points[every[child[k]]], axis=1)
        order = np.argsort(apart, kind="stable")[:PARENTS]
        weight = 1 / np.maximum(apart[order], 1e-12) ** 2
        parents[k, : len(order)] = every[own[order]]
        share[k, : len(order)] = weight / weight.sum()
    return at, surface_distance(points, normals, at), every[child], parents, share


def surface_distance(points: np.ndarray, normals: np.ndarray, at: np.ndarray) -> np.ndarray:
    """(m,) m between vertices over the surface: the arc that turns as their normals do."""
    chord = np.linalg.norm(points[at[:, 1]] - points[at[:, 0]], axis=1)
    cos = np.clip((normals[at[:, 0]] * normals[at[:, 1]]).sum(axis=1), -1, 1)
    half = 0.5 * np.arccos(cos)
    return chord * np.where(half > 1e-4, half / np.maximum(np.sin(half), 1e-9), 1.0)


@njit(cache=True, nogil=True, error_model="numpy")
def coarse_masses(inverse_mass, levels):
    """(l, n) 1/kg: of each vertex in each coarser sheet, with its share of the vertices between. So what is handed down
    keeps the momentum."""
    count = len(levels.given) - 1
    found = np.zeros((count, len(inverse_mass)))
    mass = np.where(inverse_mass > 0, 1 / np.maximum(inverse_mass, 1e-30), 0.0)
    for level in range(count - 1, -1, -1):  # the finest first
        for k in range(levels.given[level], levels.given[level + 1]):
            for q in range(levels.parents.shape[1]):
                mass[levels.parents[k, q]] += levels.share[k, q] * mass[levels.child[k]]
        for i in range(len(mass)):
            if inverse_mass[i] > 0:
                found[level, i] = 1 / mass[i]
    return found


@njit(cache=True, nogil=True, error_model="numpy")
def hold_close(x, inverse_mass, levels, most):
    """Keep edges near what is held from stretching beyond `most` times their rest: there a few of them bear it all, and
    one pass over the mesh is too few."""
    count, most2 = len(levels.close_rest), most * most
    for sweep in range(CLOSE_SWEEPS):
        all_hold = True
        for q in range(count):
            k = q if sweep % 2 == 0 else count - 1 - q
            i, j, rest = levels.close[k, 0], levels.close[k, 1], levels.close_rest[k]
            wi, wj = inverse_mass[i], inverse_mass[j]
            dx, dy, dz = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
            d2 = dx * dx + dy * dy + dz * dz
            if d2 <= most2 * rest * rest or wi + wj == 0:
                continue
            all_hold = False
            d = np.sqrt(d2)
            s = (d - most * rest) / (d * (wi + wj))
            draw_together(x, i, j, s * wi, s * wj, dx, dy, dz)
        if all_hold:
            break


@njit(cache=True, nogil=True, error_model="numpy")
def hold_together(x, was, inverse_mass, heavy, levels, most):
    """Keep coarser sheets from stretching beyond `most` times their rest, the coarsest first, and hand down what moved.

    x (n, 3) m; was (n, 3) room for what they are at first; heavy (l, n) of `coarse_masses`
    """
    count = len(levels.spans) - 1
    for i in range(len(was)):
        for j in range(3):
            was[i, j] = x[i, j]
    for level in range(count):
        first, last = levels.spans[level], levels.spans[level + 1]
        for sweep in range(SWEEPS):
            for q in range(first, last):
                k = q if sweep % 2 == 0 else first + last - 1 - q
                i, j = levels.at[k, 0], levels.at[k, 1]
                wi, wj = heavy[level, i], heavy[level, j]
                dx, dy, dz = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
                d2, far = dx * dx + dy * dy + dz * dz, most * levels.rest[k]
                if d2 <= far * far or wi + wj == 0:
                    continue
                d = np.sqrt(d2)
                s = (d - far) / (d * (wi + wj))
                draw_together(x, i, j, s * wi, s * wj, dx, dy, dz)
        for k in range(levels.given[level], levels.given[level + 1]):
            c = levels.child[k]
            if inverse_mass[c] == 0:
                continue
            for q in range(levels.parents.shape[1]):
                share = levels.share[k, q]
                if share > 0:
                    p = levels.parents[k, q]
                    for j in range(3):
                        x[c, j] += share * (x[p, j] - was[p, j])
