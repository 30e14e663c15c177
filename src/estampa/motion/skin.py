"""Skin: a mesh follows the joints of a skeleton."""

import numpy as np
from numba import prange

from ..geometry.pose import squared, turns_of
from ..kinds.channels import choice, ref
from .layer import PART, Deformer, inline, kernel, part


class Skin(Deformer):
    """The mesh follows joints by the weights it was bound with.

    Blending matrices is quick and shrinks where a joint twists; dual quaternions (Kavan, Collins, Zara and O'Sullivan
    2007) keep the volume there. Layers above it work on the shape at rest; a relax below it smooths what is crumpled.
    """

    kind, title = "skin", "Skin"
    binds = True
    follows_skeleton = True
    icon = "M3 12 C3 6 6 3.5 8 3.5 S13 6 13 12 M5.5 12 C5.5 8 7 6 8 6 S10.5 8 10.5 12 M8 8.5 V13"
    group = "carry"

    skeleton = ref("skeleton", "The skeleton that it follows; bind it in the Joints panel.")
    method = choice(
        "linear",
        "How the pull of several joints is blended.",
        {"linear": "Linear", "dual": "Dual quaternions, for twists"},
    )

    def apply(self, points, v, now):
        if v.skeleton is None or v.bind is None or not len(v.bind[1]):
            return points
        indices, weights = v.bind
        if v.method == "linear":
            return blend(points, v.skeleton, indices, weights)
        return blend_dual(points, *parts_of(v.skeleton), indices, weights)


@inline
def _sum(palette, k, indices, weights, i, out):
    """The blended matrix of a vertex, as 12 numbers."""
    for c in range(12):
        out[c] = 0.0
    for m in range(indices.shape[1]):
        w = weights[i, m]
        if w != 0:
            j = indices[i, m]
            for r in range(3):
                for c in range(4):
                    out[4 * r + c] += w * palette[k, j, r, c]


@inline
def _move(points, k, i, b, result):
    x, y, z = points[k, i, 0], points[k, i, 1], points[k, i, 2]
    result[k, i, 0] = b[0] * x + b[1] * y + b[2] * z + b[3]
    result[k, i, 1] = b[4] * x + b[5] * y + b[6] * z + b[7]
    result[k, i, 2] = b[8] * x + b[9] * y + b[10] * z + b[11]


@kernel
def blend(points, palette, indices, weights):
    """(k, n, 3) points moved by the weighted sum of matrices. palette (k, j, 3, 4); indices, weights (n, m)."""
    rows, n = points.shape[0], points.shape[1]
    result = np.empty_like(points)
    parts = (n + PART - 1) // PART
    for at in prange(rows * parts):
        k, first, last = part(at, parts, n)
        b = np.empty(12)
        for i in range(first, last):
            _sum(palette, k, indices, weights, i, b)
            _move(points, k, i, b, result)
    return result


@kernel
def blend_normals(points, normals, palette, indices, weights):
    """Points as by `blend`, and (k, n, 3) unit normals turned by the same matrices; for joints without stretch."""
    rows, n = points.shape[0], points.shape[1]
    result, turned = np.empty_like(points), np.empty_like(points)
    parts = (n + PART - 1) // PART
    for at in prange(rows * parts):
        k, first, last = part(at, parts, n)
        b = np.empty(12)
        for i in range(first, last):
            _sum(palette, k, indices, weights, i, b)
            _move(points, k, i, b, result)
            x, y, z = normals[k, i, 0], normals[k, i, 1], normals[k, i, 2]
            p, q, r = b[0] * x + b[1] * y + b[2] * z, b[4] * x + b[5] * y + b[6] * z, b[8] * x + b[9] * y + b[10] * z
            length = np.sqrt(p * p + q * q + r * r)
            length = 1 / length if length > 1e-12 else 0.0
            turned[k, i, 0], turned[k, i, 1], turned[k, i, 2] = p * length, q * length, r * length
    return result, turned


def parts_of(palette: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """((k, j, 4) turns, (k, j, 3, 3) what is stretched before they turn, (k, j, 3) how far they are moved)."""
    k, j = palette.shape[:2]
    linear = palette[..., :3].reshape(-1, 3, 3)
    axes = squared(linear)
    stretch = np.einsum("nji,njl->nil", axes, linear)
    return turns_of(axes).reshape(k, j, 4), stretch.reshape(k, j, 3, 3), palette[..., 3].copy()


@kernel
def blend_dual(points, turns, stretch, moved, indices, weights):
    """(k, n, 3) points by dual quaternion linear blending, stretches blended first (Kavan and others 2007)."""
    rows, n = points.shape[0], points.shape[1]
    result = np.empty_like(points)
    parts = (n + PART - 1) // PART
    for at in prange(rows * parts):
        k, first, last = part(at, parts, n)
        q, d, s = np.empty(4), np.empty(4), np.empty((3, 3))
        for i in range(first, last):
            q[:], d[:], s[:] = 0.0, 0.0, 0.0
            first_j = indices[i, 0]
            for m in range(indices.shape[1]):
                w = weights[i, m]
                if w == 0:
                    continue
                j = indices[i, m]
                x, y, z, u = turns[k, j, 0], turns[k, j, 1], turns[k, j, 2], turns[k, j, 3]
                f = turns[k, first_j]
                sign = w if x * f[0] + y * f[1] + z * f[2] + u * f[3] >= 0 else -w
                a, b, c = moved[k, j, 0], moved[k, j, 1], moved[k, j, 2]
                q[0] += sign * x
                q[1] += sign * y
                q[2] += sign * z
                q[3] += sign * u
                # the dual part: half of the translation times the turn
                d[0] += sign * 0.5 * (a * u + b * z - c * y)
                d[1] += sign * 0.5 * (b * u + c * x - a * z)
                d[2] += sign * 0.5 * (c * u + a * y - b * x)
                d[3] -= sign * 0.5 * (a * x + b * y + c * z)
                for r in range(3):
                    for e in range(3):
                        s[r, e] += w * stretch[k, j, r, e]
            length = np.sqrt(q[0] * q[0] + q[1] * q[1] + q[2] * q[2] + q[3] * q[3])
            if length < 1e-12:
                result[k, i] = points[k, i]
                continue
            x, y, z, u = q[0] / length, q[1] / length, q[2] / length, q[3] / length
            a, b, c, e3 = d[0] / length, d[1] / length, d[2] / length, d[3] / length
            p0, p1, p2 = points[k, i, 0], points[k, i, 1], points[k, i, 2]
            v0 = s[0, 0] * p0 + s[0, 1] * p1 + s[0, 2] * p2
            v1 = s[1, 0] * p0 + s[1, 1] * p1 + s[1, 2] * p2
            v2 = s[2, 0] * p0 + s[2, 1] * p1 + s[2, 2] * p2
            c0, c1, c2 = 2 * (y * v2 - z * v1), 2 * (z * v0 - x * v2), 2 * (x * v1 - y * v0)
            r0, r1, r2 = v0 + u * c0 + y * c2 - z * c1, v1 + u * c1 + z * c0 - x * c2, v2 + u * c2 + x * c1 - y * c0
            result[k, i, 0] = r0 + 2 * (u * a - e3 * x + y * c - z * b)
            result[k, i, 1] = r1 + 2 * (u * b - e3 * y + z * a - x * c)
            result[k, i, 2] = r2 + 2 * (u * c - e3 * z + x * b - y * a)
    return result
