"""Places: where things stand, as rows of origin, axes and size, so that many are worked out at once."""

import warnings
from typing import NamedTuple

import numpy as np
from numba import njit, prange

from ..lazy import transform
from .pose import split, turn_matrices


class Place(NamedTuple):
    """k similarity transforms: x -> origin + axes @ (size * x).

    origin (k, 3) metres; axes (k, 3, 3) with a column per axis; size (k,) factor.
    """

    origin: np.ndarray
    axes: np.ndarray
    size: np.ndarray

    @classmethod
    def still(cls, rows: int = 1) -> "Place":
        return cls(np.zeros((rows, 3)), np.repeat(np.eye(3)[None], rows, axis=0), np.ones(rows))

    @classmethod
    def of(cls, values: dict) -> "Place":
        """From channel values x, y, z, turn_x, turn_y, turn_z (turned axes X, Y, Z in that order) and size, each
        one number or (k,)."""
        columns = [np.atleast_1d(np.asarray(values[n], float)) for n in _NAMES]
        rows = max(map(len, columns))
        x, y, z, a, b, c, size = (np.full(rows, v[0]) if len(v) < rows else v.copy() for v in columns)
        return cls(np.stack([x, y, z], axis=1), _euler(a, b, c), size)

    @classmethod
    def of_matrices(cls, matrices: np.ndarray) -> "Place":
        """From (k, 4, 4) matrices; of one that is stretched, sheared or mirrored, as near as a place can be."""
        linear = matrices[:, :3, :3]
        size = np.maximum(np.abs(np.linalg.det(linear)) ** (1 / 3), 1e-9)
        return cls(matrices[:, :3, 3].copy(), turn_matrices(split(linear)[0]), size)

    @property
    def matrices(self) -> np.ndarray:
        """(k, 4, 4)"""
        result = np.zeros((self.rows, 4, 4))
        result[:, :3, :3] = self.axes * self.size[:, None, None]
        result[:, :3, 3], result[:, 3, 3] = self.origin, 1
        return result

    @property
    def rows(self) -> int:
        return len(self.size)

    @property
    def is_still(self) -> bool:
        return not self.origin.any() and (self.size == 1).all() and (self.axes == np.eye(3)).all()

    def spread(self, rows: int) -> "Place":
        """With this many rows, when there is one."""
        if self.rows == rows:
            return self
        return Place(*(np.repeat(part, rows, axis=0) for part in self))

    def __matmul__(self, inner: "Place") -> "Place":
        """The place of what stands at `inner` within this one."""
        rows = max(self.rows, inner.rows)
        a, b = self.spread(rows), inner.spread(rows)
        origin = a.origin + np.einsum("kij,kj->ki", a.axes, b.origin) * a.size[:, None]
        return Place(origin, a.axes @ b.axes, a.size * b.size)

    def inverse(self) -> "Place":
        back = np.ascontiguousarray(self.axes.transpose(0, 2, 1))
        return Place(-np.einsum("kij,kj->ki", back, self.origin) / self.size[:, None], back, 1 / self.size)

    def at(self, row: int) -> tuple[np.ndarray, np.ndarray, float]:
        return self.origin[row], self.axes[row], float(self.size[row])

    def apply(self, points: np.ndarray) -> np.ndarray:
        """(k, n, 3) points in the world from (k or 1, n, 3) in these places."""
        if self.is_still and len(points) >= self.rows:
            return points
        rows = max(self.rows, len(points))
        return _apply(np.ascontiguousarray(points), *self.spread(rows))

    def moved(self, point: np.ndarray) -> np.ndarray:
        """(k, 3) where one point (3,) comes to, in each of these places."""
        return self.origin + (self.axes @ point) * self.size[:, None]

    def turn(self, vectors: np.ndarray) -> np.ndarray:
        """(n, 3) directions of row 0 into the world."""
        return vectors @ self.axes[0].T

    @property
    def values(self) -> dict:
        """Channel values of row 0."""
        x, y, z = self.origin[0]
        with warnings.catch_warnings():  # where two turns are about one axis, any split of them will do
            warnings.simplefilter("ignore", UserWarning)
            a, b, c = transform.Rotation.from_matrix(self.axes[0]).as_euler("XYZ")
        return dict(zip(_NAMES, map(float, (x, y, z, a, b, c, self.size[0])), strict=True))


_NAMES = ("x", "y", "z", "turn_x", "turn_y", "turn_z", "size")


@njit(cache=True, nogil=True)
def _euler(a, b, c) -> np.ndarray:
    """(k, 3, 3) rotation matrices X then Y then Z on turned axes (intrinsic), as SciPy's "XYZ"."""
    m = np.empty((len(a), 3, 3))
    for k in range(len(a)):
        ca, sa, cb, sb, cc, sc = np.cos(a[k]), np.sin(a[k]), np.cos(b[k]), np.sin(b[k]), np.cos(c[k]), np.sin(c[k])
        m[k, 0, 0], m[k, 0, 1], m[k, 0, 2] = cb * cc, -cb * sc, sb
        m[k, 1, 0], m[k, 1, 1], m[k, 1, 2] = ca * sc + sa * sb * cc, ca * cc - sa * sb * sc, -sa * cb
        m[k, 2, 0], m[k, 2, 1], m[k, 2, 2] = sa * sc - ca * sb * cc, sa * cc + ca * sb * sc, ca * cb
    return m


@njit(parallel=True, cache=True, nogil=True)
def _apply(points, origin, axes, size):
    rows, n = len(size), points.shape[1]
    result = np.empty((rows, n, 3))
    part = 1024
    parts = (n + part - 1) // part
    for at in prange(rows * parts):
        k = at // parts
        r, s = min(k, len(points) - 1), size[k]
        for i in range((at % parts) * part, min((at % parts) * part + part, n)):
            x, y, z = points[r, i, 0] * s, points[r, i, 1] * s, points[r, i, 2] * s
            for j in range(3):
                result[k, i, j] = origin[k, j] + axes[k, j, 0] * x + axes[k, j, 1] * y + axes[k, j, 2] * z
    return result
