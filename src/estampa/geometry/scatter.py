"""Points scattered over a surface, so many to a square metre."""

import numpy as np

from ..hashing import rand
from ..lazy import spatial
from .mesh import Mesh

TRIES = 64  # places tried for each point that is wanted


def scatter(
    mesh: Mesh,
    points: np.ndarray,
    density: float | None,
    apart: float,
    seed: int,
    most: int,
    count: int = 0,
    weights: np.ndarray | None = None,
    upward: float = np.pi,
):
    """(positions (k, 3), normals (k, 3)) on a surface.

    points  -- (n, 3) where the mesh's vertices are, metres
    density -- points per square metre of surface, in the mean (exact in number for the whole surface); None takes
               `count` of them, fewer only where there is no room
    apart   -- metres; points nearer than this to an earlier one are left out, so the density falls where it binds
    weights -- (n,) 0 to 1: how dense they are at each vertex
    upward  -- rad: only where the surface's normal is within this of +Y

    A point keeps its place when there are to be more: the new ones come between.
    """
    corners = points[mesh.triangles]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    area = 0.5 * np.linalg.norm(normals, axis=1)
    up = normals / np.maximum(2 * area, 1e-300)[:, None]
    # where weights vary within a triangle, places are offered by the largest of its corners, and thinned by their own
    dense = np.ones((len(area), 3)) if weights is None else weights[mesh.triangles].astype(float)
    room = area * dense.max(axis=1)
    if upward < np.pi:
        room = np.where(up[:, 1] >= np.cos(upward) - 1e-9, room, 0.0)
    total = float(room.sum())
    wanted = min(count if density is None else int(round(density * total)), most)
    if wanted == 0 or total <= 0:
        return np.zeros((0, 3)), np.zeros((0, 3))
    tried = wanted
    while True:
        face, at, inside = _places(corners, room, total, tried, seed)
        keep = np.ones(tried, bool)
        if weights is not None:
            share = (dense[face] * inside).sum(axis=1) / dense[face].max(axis=1)
            keep = rand(seed, np.arange(tried), "scatter thin") < share
        if apart > 0:
            there = np.flatnonzero(keep)
            keep[there] = _kept_apart(at[there], apart) if len(there) else keep[there]
        if density is not None or keep.sum() >= wanted or tried >= TRIES * wanted:
            break
        tried *= 2
    chosen = np.flatnonzero(keep)[:wanted]
    return at[chosen], up[face[chosen]]


def spots_on(mesh: Mesh, count: int, seed: int) -> tuple[np.ndarray, np.ndarray]:
    """(vertices (count, 3), shares of them (count, 3)) of places spread over a surface at rest."""
    corners = mesh.points[mesh.triangles]
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1) / 2
    face, _, shares = _places(corners, area, float(area.sum()), count, seed)
    return mesh.triangles[face], shares


def _places(corners, room, total, count, seed):
    """(triangles (count,), positions (count, 3), shares of their corners (count, 3)), more where there is more room."""
    which = np.arange(count)
    # the golden-ratio sequence spreads the points over the area more evenly than chance (Kronecker sequence)
    place = np.mod(rand(seed, 0, "scatter start") + which * 0.6180339887498949, 1.0) * total
    face = np.minimum(np.searchsorted(np.cumsum(room), place, side="right"), len(room) - 1)
    u, v = np.sqrt(rand(seed, which, "scatter u")), rand(seed, which, "scatter v")
    a, b, c = corners[face].transpose(1, 0, 2)
    # uniform over a triangle: Turk 1990, "Generating random points in triangles", Graphics Gems
    inside = np.stack([1 - u, u * (1 - v), u * v], axis=1)
    return face, a * inside[:, :1] + b * inside[:, 1:2] + c * inside[:, 2:], inside


def _kept_apart(at, apart) -> np.ndarray:
    near, keep = spatial.cKDTree(at).query_pairs(apart, output_type="ndarray"), np.ones(len(at), bool)
    for i, j in near[np.lexsort((near[:, 1], near[:, 0]))]:
        if keep[i]:
            keep[j] = False
    return keep
