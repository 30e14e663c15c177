"""Bonds: which pieces of a broken mesh lie on each other, and over how large an area."""

from typing import NamedTuple

import numpy as np

from ..lazy import spatial
from .mesh import Mesh, crossed
from .pieces import Pieces

NEAREST = 12  # samples of bared faces that are looked at for the one that lies on each
EVEN = 16  # samples a triangle, where the two sides of a cut need not be parted alike


class Bonds(NamedTuple):
    """Which two pieces lie on each other: a, b (q,); area (q,) m2; and of which bared triangles each is made, as rows
    (triangle, bond, m2)."""

    a: np.ndarray
    b: np.ndarray
    area: np.ndarray
    triangle: np.ndarray
    bond: np.ndarray
    share: np.ndarray

    def middles(self, mesh: Mesh, points: np.ndarray) -> np.ndarray:
        """(q, 3) m, the middle of what each two share, where the mesh's vertices are at points (n, 3)."""
        at = points[mesh.triangles[self.triangle]].mean(axis=1) * self.share[:, None]
        return _summed(at, self.bond, len(self.a)) / (2 * np.maximum(self.area, 1e-300))[:, None]

    def normals(self, mesh: Mesh, points: np.ndarray) -> np.ndarray:
        """(q, 3) units, across what each two share, from a to b."""
        normal = _unit(crossed(points[mesh.triangles[self.triangle]]))
        own = Pieces.each(mesh).of_vertex[mesh.triangles[self.triangle, 0]]
        way = np.where(own == self.a[self.bond], 1.0, -1.0) * self.share
        return _unit(_summed(normal * way[:, None], self.bond, len(self.a)))

    def second_moments(self, mesh: Mesh, points: np.ndarray) -> np.ndarray:
        """(q, 3, 3) m4, the second moments of area of what each two share, about its middle."""
        corners = points[mesh.triangles[self.triangle]] - self.middles(mesh, points)[self.bond][:, None]
        total = corners.sum(axis=1)
        # of a triangle about a place: area / 12 times the sum over its corners and over three times its middle
        own = np.einsum("tci,tcj->tij", corners, corners) + total[:, :, None] * total[:, None]
        own *= (self.share / 24)[:, None, None]  # both sides of the cut are counted
        return _summed(own.reshape(-1, 9), self.bond, len(self.a)).reshape(-1, 3, 3)


def bonds(mesh: Mesh) -> Bonds:
    """Of a mesh that was broken; none of any other."""

    def make():
        pieces = Pieces.each(mesh)
        inner = np.zeros(0, np.int64) if mesh.cut_from is None else np.flatnonzero(mesh.cut_from.face < 0)
        triangles = mesh.triangles[inner]
        found = shared(mesh.points, triangles, pieces.of_vertex[triangles[:, 0]])
        return found._replace(triangle=inner[found.triangle])

    return mesh.cached("bonds", make)


def neighbours(mesh: Mesh) -> np.ndarray:
    """(t,) which piece each triangle of a broken mesh lies on; -1 outside, and where there is none."""

    def make():
        found = np.full(len(mesh.triangles), -1)
        inner = np.flatnonzero(mesh.cut_from.face < 0)
        if len(inner):
            at = mesh.points[mesh.triangles[inner]]
            of = Pieces.each(mesh).of_vertex[mesh.triangles[inner, 0]]
            owner, other = _lies_on(at, of, _flat(mesh.points), 1)
            found[inner[owner]] = other
            left = np.flatnonzero(found[inner] < 0)  # where the two sides of a cut are parted otherwise
            if len(left):
                owner, other = _lies_on(at, of, _flat(mesh.points), EVEN, left, 8 * NEAREST)
                found[inner[owner]] = other
        return found

    return mesh.cached("neighbours", make)


def shared(points, triangles, of, samples: int = 4) -> Bonds:
    """Of bared triangles (t, 3), of which each is of a piece (t,).

    Places spread over each triangle tell on which other pieces it lies, and in what shares; its whole area is theirs.
    Of cells that lie side on side, each triangle lies on one other, so that the areas are exact.
    """
    none = np.zeros(0, np.int64)
    if not len(triangles):
        return Bonds(none, none, np.zeros(0), none, none, np.zeros(0))
    at, flat = points[triangles], _flat(points)
    area = np.linalg.norm(crossed(at), axis=1) / 2
    owner, other = _lies_on(at, of, flat, samples)
    left = np.setdiff1d(np.flatnonzero(area > 0), owner)  # slivers whose places found none
    if len(left) and samples < EVEN:
        more = _lies_on(at, of, flat, EVEN, left, 8 * NEAREST)
        owner, other = np.concatenate([owner, more[0]]), np.concatenate([other, more[1]])
    share = area[owner] / np.bincount(owner, minlength=len(area))[owner]
    low, high = np.minimum(of[owner], other), np.maximum(of[owner], other)
    pairs, which = np.unique(np.stack([low, high], axis=1), axis=0, return_inverse=True)
    area = np.bincount(which.ravel(), share, len(pairs)) / 2
    return Bonds(pairs[:, 0], pairs[:, 1], area, owner, which.ravel(), share)


def _summed(values: np.ndarray, of: np.ndarray, count: int) -> np.ndarray:
    """(count, k) sums of rows (n, k) by what they are of (n,)."""
    return np.stack([np.bincount(of, values[:, j], count) for j in range(values.shape[1])], axis=1)


def _unit(vectors: np.ndarray) -> np.ndarray:
    return vectors / np.maximum(np.linalg.norm(vectors, axis=1), 1e-300)[:, None]


def _flat(points) -> float:
    """m, how far from a plane two sides of a cut may be."""
    return 1e-6 * max(float(np.ptp(points, axis=0).max()), 1e-9)


def _lies_on(at, of, flat, samples, only=None, nearest=NEAREST) -> tuple[np.ndarray, np.ndarray]:
    """(triangles, the piece that each lies on at one of its places), as often as places tell."""
    weights, normal = _even(samples), _unit(crossed(at))
    every = np.einsum("sk,tkj->tsj", weights, at).reshape(-1, 3)
    owner = np.repeat(np.arange(len(at)), len(weights))
    asks = np.arange(len(every)) if only is None else np.flatnonzero(np.isin(owner, only))
    near = spatial.cKDTree(every).query(every[asks], k=min(nearest, len(every)))[1].reshape(len(asks), -1)
    mine, found = owner[asks], np.full(len(asks), -1)
    for k in range(near.shape[1]):
        j = owner[near[:, k]]
        hit = (found < 0) & (of[j] != of[mine]) & (np.einsum("ij,ij->i", normal[j], normal[mine]) < -0.999)
        hit &= np.abs(np.einsum("ij,ij->i", every[near[:, k]] - every[asks], normal[mine])) < flat
        found[hit] = of[j[hit]]
    return mine[found >= 0], found[found >= 0]


def _even(samples: int) -> np.ndarray:
    """(s, 3) shares of the corners at the middles of as many equal parts of a triangle; samples a square number."""
    side, found = int(round(np.sqrt(samples))), []
    for i in range(side):
        for j in range(side - i):
            found.append([i + 1 / 3, j + 1 / 3])
            if j < side - i - 1:
                found.append([i + 2 / 3, j + 2 / 3])
    two = np.array(found) / side
    return np.column_stack([1 - two.sum(axis=1), two])
