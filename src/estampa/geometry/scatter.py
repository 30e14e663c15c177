"""Points scattered over a surface, so many to a square metre."""

import numpy as np
from scipy.spatial import cKDTree

from ..hashing import rand
from .mesh import Mesh


def scatter(mesh: Mesh, points: np.ndarray, density: float, apart: float, seed: int, most: int):
    """(positions (k, 3), normals (k, 3)) on a surface.

    points  -- (n, 3) where the mesh's vertices are, metres
    density -- points per square metre of surface, in the mean (exact in number for the whole surface)
    apart   -- metres; points nearer than this to an earlier one are left out, so the density falls where it binds

    A point keeps its place when the density is raised: the new ones come between.
    """
    corners = points[mesh.triangles]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = 0.5 * np.linalg.norm(normals, axis=1)
    count = min(int(round(density * area.sum())), most)
    if count == 0:
        return np.zeros((0, 3)), np.zeros((0, 3))
    which = np.arange(count)
    # the golden-ratio sequence spreads the points over the area more evenly than chance (Kronecker sequence)
    place = np.mod(rand(seed, 0, "scatter start") + which * 0.6180339887498949, 1.0) * area.sum()
    face = np.minimum(np.searchsorted(np.cumsum(area), place, side="right"), len(area) - 1)
    u, v = np.sqrt(rand(seed, which, "scatter u")), rand(seed, which, "scatter v")
    a, b, c = corners[face].transpose(1, 0, 2)
    # uniform over a triangle: Turk 1990, "Generating random points in triangles", Graphics Gems
    at = a * (1 - u)[:, None] + b * (u * (1 - v))[:, None] + c * (u * v)[:, None]
    up = normals[face] / np.maximum(2 * area[face], 1e-300)[:, None]
    if apart > 0:
        near = cKDTree(at).query_pairs(apart, output_type="ndarray")
        keep = np.ones(count, bool)
        for i, j in near[np.lexsort((near[:, 1], near[:, 0]))]:
            if keep[i]:
                keep[j] = False
        at, up = at[keep], up[keep]
    return at, up
