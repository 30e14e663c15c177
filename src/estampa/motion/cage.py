"""Cage: a mesh of few faces carries a finer one."""

import numpy as np
from numba import njit, prange

from ..errors import EstampaError
from ..kinds.channels import ref
from .layer import Deformer, kernel

MOST_CAGE = 2000  # vertices


class Cage(Deformer):
    """A subject of few faces, around this one, carries it: solve a cloth on the cage, and what is inside goes along.

    Bound once by mean value coordinates (Ju, Schaefer and Warren 2005), which are kept. Prefer joints that aim at the
    cage where keys are wanted: joints can be baked to keys, a cage cannot.
    """

    kind, title = "cage", "Cage"
    binds = True
    icon = "M4 6 L8 3.5 L12 6 V11 L8 13.5 L4 11 Z M4 6 L8 8 L12 6 M8 8 V13.5 M2 2 H5 M11 2 H14 M2 14.5 H5 M11 14.5 H14"
    group = "carry"

    cage = ref("subject", "The subject of few faces that is around this one; bind it in the Joints panel.")

    def apply(self, points, v, now):
        if v.cage is None or v.bind is None:
            return points
        weights = v.bind[1]
        cage = v.cage.points
        if weights.shape[1] != cage.shape[1]:
            raise EstampaError(
                "The cage",
                f"has {cage.shape[1]:,} vertices now, and was bound with {weights.shape[1]:,}.",
                "Bind it again.",
            )
        return carried(cage, weights)


@kernel
def carried(cage, weights):
    """(k, n, 3) points from the cage's (k, c, 3) and weights (n, c) that sum to 1."""
    rows, n, count = cage.shape[0], weights.shape[0], weights.shape[1]
    result = np.empty((rows, n, 3))
    for i in prange(n):
        for k in range(rows):
            x, y, z = 0.0, 0.0, 0.0
            for c in range(count):
                w = weights[i, c]
                x += w * cage[k, c, 0]
                y += w * cage[k, c, 1]
                z += w * cage[k, c, 2]
            result[k, i, 0], result[k, i, 1], result[k, i, 2] = x, y, z
    return result


def coordinates(points: np.ndarray, cage: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(n, c) mean value coordinates of points in a closed cage: rows sum to 1, and give the points back.

    Ju, Schaefer and Warren 2005, "Mean value coordinates for closed triangular meshes", figure 4. Raises EstampaError
    when the cage has too many vertices.
    """
    if len(cage) > MOST_CAGE:
        raise EstampaError(
            "The cage", f"has {len(cage):,} vertices.", f"Use a mesh of few faces; at most {MOST_CAGE:,} vertices."
        )
    result = _coordinates(np.ascontiguousarray(points), np.ascontiguousarray(cage), np.ascontiguousarray(triangles))
    total = result.sum(axis=1, keepdims=True)
    return (result / np.where(np.abs(total) > 1e-300, total, 1)).astype(np.float32)


@njit(parallel=True, cache=True, nogil=True)
def _coordinates(points, cage, triangles):
    n, count = len(points), len(cage)
    result = np.zeros((n, count))
    for i in prange(n):
        d, u = np.empty(count), np.empty((count, 3))
        on = -1
        for c in range(count):
            far = 0.0
            for j in range(3):
                u[c, j] = cage[c, j] - points[i, j]
                far += u[c, j] ** 2
            d[c] = np.sqrt(far)
            if d[c] < 1e-9:
                on = c
            else:
                for j in range(3):
                    u[c, j] /= d[c]
        if on >= 0:
            result[i, on] = 1.0
            continue
        theta, cosines, sines = np.empty(3), np.empty(3), np.empty(3)
        for t in range(len(triangles)):
            half = 0.0
            for k in range(3):
                a, b = triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
                far = 0.0
                for j in range(3):
                    far += (u[a, j] - u[b, j]) ** 2
                theta[k] = 2 * np.arcsin(min(np.sqrt(far) / 2, 1.0))
                half += theta[k] / 2
            if np.pi - half < 1e-9:  # on the triangle: its own two-dimensional coordinates, and nothing else
                result[i, :] = 0.0
                for k in range(3):
                    a, b = triangles[t, (k + 1) % 3], triangles[t, (k + 2) % 3]
                    result[i, triangles[t, k]] = np.sin(theta[k]) * d[a] * d[b]
                break
            det = 0.0
            p, q, r = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            det += u[p, 0] * (u[q, 1] * u[r, 2] - u[q, 2] * u[r, 1])
            det += u[p, 1] * (u[q, 2] * u[r, 0] - u[q, 0] * u[r, 2])
            det += u[p, 2] * (u[q, 0] * u[r, 1] - u[q, 1] * u[r, 0])
            sign = 1.0 if det > 0 else -1.0
            skip = False
            for k in range(3):
                a, b = theta[(k + 1) % 3], theta[(k + 2) % 3]
                below = np.sin(a) * np.sin(b)
                cosines[k] = 2 * np.sin(half) * np.sin(half - theta[k]) / below - 1 if below > 1e-300 else 1.0
                cosines[k] = min(max(cosines[k], -1.0), 1.0)
                sines[k] = sign * np.sqrt(1 - cosines[k] ** 2)
                skip = skip or abs(sines[k]) < 1e-9
            if skip:  # in the triangle's plane, but outside it: no share
                continue
            for k in range(3):
                a, b = (k + 1) % 3, (k + 2) % 3
                share = theta[k] - cosines[a] * theta[b] - cosines[b] * theta[a]
                result[i, triangles[t, k]] += share / (d[triangles[t, k]] * np.sin(theta[a]) * sines[b])
    return result
