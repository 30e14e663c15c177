"""Relax: smooth what a deformation crumpled, and keep the detail of the rest shape."""

import numpy as np
from numba import prange

from ..kinds.channels import number, switch, whole
from .layer import PART, Deformer, kernel, part


class Relax(Deformer):
    """Smooths the shape over its neighbours, then puts the rest shape's detail back in turned local axes.

    After Mancewicz, Derksen, Rijpkema and Wilson 2014, "Delta mush: smoothing deformations while preserving detail".
    A shape that was only moved and turned stays as it is.
    """

    kind, title = "relax", "Relax"
    smooths = True
    icon = "M2 5 L4 3 L6 6 L8 3.5 L10 5.5 L12 3.5 L14 5 M2 11 C5 9.5 11 9.5 14 11"
    group = "carry"

    rounds = whole(8, "How often it is smoothed.", soft=(0, 40), hard=(0, 400))
    detail = number(1, "How much of the rest shape's detail is put back.", unit="fraction", soft=(0, 1))
    hold = switch(True, "Open borders stay where they are.", title="Hold borders")

    def apply(self, points, v, now):
        if v.rounds == 0:
            return points
        start, around, free = now.kept(f"relax {v.hold}", lambda: neighbours(now.mesh, v.hold))
        smooth = _smoothed(points, start, around, free, v.rounds)
        if not v.detail.any():
            return smooth

        def rest_detail():
            rest = now.mesh.rest[None]
            flat = _smoothed(rest, start, around, free, v.rounds)
            axes = local_axes(flat, now.mesh.normals(flat), start, around)
            return np.einsum("knji,knj->kni", axes, rest - flat)

        kept = now.kept(f"relax detail {v.hold} {v.rounds}", rest_detail)
        axes = local_axes(smooth, now.mesh.normals(smooth), start, around)
        return smooth + v.detail[:, None, None] * np.einsum("knij,knj->kni", axes, np.broadcast_to(kept, smooth.shape))


def neighbours(mesh, hold: bool):
    """(start (n+1,), neighbour ids, free (n,) bool) of the edge graph; borders are not free when held."""
    e = mesh.edges
    both = np.concatenate([e, e[:, ::-1]])
    both = both[np.argsort(both[:, 0], kind="stable")]
    start = np.zeros(mesh.count + 1, np.int64)
    np.cumsum(np.bincount(both[:, 0], minlength=mesh.count), out=start[1:])
    free = np.ones(mesh.count, np.bool_)
    if hold:
        free[np.unique(mesh.border)] = False
    return start, np.ascontiguousarray(both[:, 1]), free


@kernel
def _smoothed(points, start, around, free, rounds):
    rows, n = points.shape[0], points.shape[1]
    now, following = points.copy(), points.copy()
    for _ in range(rounds):
        parts = (n + PART - 1) // PART
        for at in prange(rows * parts):
            k, first, last = part(at, parts, n)
            for i in range(first, last):
                count = start[i + 1] - start[i]
                if count == 0 or not free[i]:
                    continue
                for j in range(3):
                    total = 0.0
                    for m in range(start[i], start[i + 1]):
                        total += now[k, around[m], j]
                    following[k, i, j] = 0.5 * (now[k, i, j] + total / count)
        now, following = following, now
    return now


@kernel
def local_axes(points, normals, start, around):
    """(k, n, 3, 3) axes at each vertex: towards its first neighbour, the normal, and across; columns."""
    rows, n = points.shape[0], points.shape[1]
    axes = np.zeros((rows, n, 3, 3))
    parts = (n + PART - 1) // PART
    for at in prange(rows * parts):
        k, first, last = part(at, parts, n)
        for i in range(first, last):
            nx, ny, nz = normals[k, i, 0], normals[k, i, 1], normals[k, i, 2]
            tx = ty = tz = 0.0
            if start[i + 1] > start[i]:
                m = around[start[i]]
                tx, ty, tz = (
                    points[k, m, 0] - points[k, i, 0],
                    points[k, m, 1] - points[k, i, 1],
                    points[k, m, 2] - points[k, i, 2],
                )
            along = tx * nx + ty * ny + tz * nz
            tx, ty, tz = tx - along * nx, ty - along * ny, tz - along * nz
            length = np.sqrt(tx * tx + ty * ty + tz * tz)
            if length <= 1e-12:
                axes[k, i, 0, 0] = axes[k, i, 1, 1] = axes[k, i, 2, 2] = 1.0
                continue
            tx, ty, tz = tx / length, ty / length, tz / length
            axes[k, i, 0, 0], axes[k, i, 1, 0], axes[k, i, 2, 0] = tx, ty, tz
            axes[k, i, 0, 1], axes[k, i, 1, 1], axes[k, i, 2, 1] = nx, ny, nz
            axes[k, i, 0, 2] = ty * nz - tz * ny
            axes[k, i, 1, 2] = tz * nx - tx * nz
            axes[k, i, 2, 2] = tx * ny - ty * nx
    return axes
