"""Shading of a broken mesh: what is left of the outside has the normals that it had, whatever became of its edges."""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

from .bonds import neighbours
from .mesh import Creased, Mesh, crossed

LEFT = 1e-5  # of the size, from which on two pieces have left each other


class Seamless(NamedTuple):
    """creased -- the broken mesh with its vertices parted where normals, or what lies beside, differ
    corner (m,) one corner of each of them, in the order of the triangles; piece (m,) which piece each is of
    walls (w,) those of what was bared; between (w,) which of `pairs` (q, 2) of pieces each is a wall of
    """

    creased: Creased
    corner: np.ndarray
    piece: np.ndarray
    walls: np.ndarray
    between: np.ndarray
    pairs: np.ndarray

    def without_walls(self, drawn: np.ndarray, axes: np.ndarray, shift: np.ndarray) -> np.ndarray:
        """(m, 3) places of the vertices that are drawn, with the walls of pieces that have not left their neighbour
        drawn together to nothing: at the very edge they would be as near as the outside. axes (p, 3, 3) with sizes,
        shift (p, 3) m -- how each piece moved."""
        still = together(axes, shift, *self.pairs.T, float(self.creased.mesh.size.max()))
        hidden = self.walls[still[self.between]]
        if len(hidden):
            drawn = drawn.copy()
            drawn[hidden] = drawn[hidden[0]]
        return drawn


def together(axes, shift, a, b, size: float) -> np.ndarray:
    """(q,) bool: which pieces a have not left pieces b (q,), as they moved: axes (p, 3, 3) with sizes, shift (p, 3) m;
    size -- m, of all of them."""
    still = (np.abs(axes[a] - axes[b]) < LEFT).all(axis=(1, 2))
    return still & (np.abs(shift[a] - shift[b]) < LEFT * max(size, 1e-9)).all(axis=1)


def seamless(mesh: Mesh, angle: float) -> Seamless:
    """Of a broken mesh, made once for an angle (rad) up to which the edges of the whole look smooth."""
    return mesh.cached("seamless", lambda: _parted(mesh, angle), angle)


def _parted(mesh: Mesh, angle: float) -> Seamless:
    normals = corner_normals(mesh, mesh.cut_from.whole.rest, mesh.rest, angle).reshape(-1, 3)
    of = mesh.triangles.ravel().astype(np.int64)
    beside = np.repeat(neighbours(mesh), 3)
    rows = np.column_stack([of, np.round(normals * 1e4).astype(np.int64), beside])
    order = np.lexsort(rows.T[::-1])
    sorted_rows = rows[order]
    new = np.concatenate([[True], (np.diff(sorted_rows, axis=0) != 0).any(axis=1)])
    group = np.empty(len(of), np.int64)
    group[order] = np.cumsum(new) - 1
    first = order[new]
    vertex = of[first]
    fresh = np.diff(vertex, prepend=-1) != 0
    number = np.empty(len(first), np.int64)
    number[fresh] = vertex[fresh]
    extra = np.flatnonzero(~fresh)
    number[extra] = mesh.count + np.arange(len(extra))
    corner = np.zeros(mesh.count + len(extra), np.int64)
    corner[number] = first
    points = np.concatenate([mesh.points, mesh.points[vertex[extra]]])
    made = Mesh(points, mesh.face_counts, number[group], None, mesh.materials, mesh.face_materials)
    pieces = np.zeros(mesh.count, np.int64) if mesh.pieces is None else mesh.pieces.astype(np.int64)
    pieces = np.unique(pieces, return_inverse=True)[1]
    piece = np.concatenate([pieces, pieces[vertex[extra]]])
    other = beside[corner]
    walls = np.flatnonzero(other >= 0)
    pairs = np.sort(np.stack([piece[walls], other[walls]], axis=1), axis=1)
    pairs, between = np.unique(pairs, axis=0, return_inverse=True)
    return Seamless(Creased(vertex[extra], made), corner, piece, walls, between.ravel(), pairs.reshape(-1, 2))


def corner_normals(mesh: Mesh, whole_points: np.ndarray, points: np.ndarray, angle: float) -> np.ndarray:
    """(t, 3, 3) the normals of each triangle's corners: outside those of the whole mesh at its points (n, 3), inside
    those of the faces at points (m, 3)."""
    cut = mesh.cut_from
    creased = cut.whole.creased(angle)
    lit = creased.mesh.normals(creased.of(whole_points))
    outside = cut.face >= 0
    found = np.empty((len(cut.face), 3, 3))
    found[outside] = np.einsum("tck,tkj->tcj", cut.share[outside], lit[creased.mesh.triangles[cut.face[outside]]])
    at = points[mesh.triangles[~outside]]
    found[~outside] = crossed(at)[:, None]
    return found / np.maximum(np.linalg.norm(found, axis=2, keepdims=True), 1e-300)


@njit(parallel=True, cache=True, nogil=True)
def turned_with(vectors, of, axes):
    """(m, 3) vectors, each turned by the axes (p, 3, 3) of the piece (m,) that it is of."""
    found = np.empty_like(vectors)
    for i in prange(len(vectors)):
        p = of[i]
        x, y, z = vectors[i, 0], vectors[i, 1], vectors[i, 2]
        for j in range(3):
            found[i, j] = axes[p, j, 0] * x + axes[p, j, 1] * y + axes[p, j, 2] * z
    return found
