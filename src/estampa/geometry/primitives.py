"""Simple meshes, for demos, tests and first tries."""

import numpy as np

from .mesh import Mesh


def sheet(width: float, depth: float, columns: int, rows: int) -> Mesh:
    """A flat sheet of quads in the XZ plane, facing +Y. Vertices run along X first.

    width, depth -- metres along X and Z; columns, rows -- vertices along X and Z.
    """
    x, z = np.meshgrid(np.linspace(0, width, columns), np.linspace(0, depth, rows))
    points = np.stack([x.ravel(), np.zeros(x.size), z.ravel()], axis=1)
    i = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)).ravel()
    quads = np.stack([i, i + columns, i + columns + 1, i + 1], axis=1)
    uv = np.stack([x.ravel() / width, z.ravel() / depth], axis=1)
    return Mesh(points, np.full(len(quads), 4), quads.ravel(), uv)


def joined(meshes: list[Mesh]) -> Mesh:
    """Several meshes as one; each stays an island."""
    offsets = np.cumsum([0] + [m.count for m in meshes[:-1]])
    uv = np.concatenate([m.uv for m in meshes]) if all(m.uv is not None for m in meshes) else None
    return Mesh(
        np.concatenate([m.points for m in meshes]),
        np.concatenate([m.face_counts for m in meshes]),
        np.concatenate([m.face_indices + o for m, o in zip(meshes, offsets, strict=True)]),
        uv,
    )
