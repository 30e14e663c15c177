"""Where a mesh goes through itself."""

import numpy as np

from .mesh import Mesh, crossed

MOST = 6_000_000  # pairs of an edge and a triangle whose boxes meet along one axis; of more nothing is told
CHUNK = 400_000
EDGE = 1e-9  # of a share or a length, what counts as touching and not as going through


def crossings(mesh: Mesh) -> int:
    """How many of its edges go through one of its triangles that they are no part of; 0 too where the mesh is so large
    that looking would take long. Segment against triangle: Moeller and Trumbore 1997."""
    return mesh.cached("crossings", lambda: _count(mesh))


def _count(mesh: Mesh) -> int:
    points, triangles, edges = mesh.points, mesh.triangles.astype(np.int64), mesh.edges.astype(np.int64)
    axis = int(np.argmax(mesh.size))
    low, high = points[triangles].min(axis=1), points[triangles].max(axis=1)
    order = np.argsort(low[:, axis], kind="stable")
    triangles, low, high = triangles[order], low[order], high[order]
    widest = float((high - low)[:, axis].max(initial=0.0))
    ends = points[edges]
    first, last = ends.min(axis=1), ends.max(axis=1)
    begin = np.searchsorted(low[:, axis], first[:, axis] - widest)
    end = np.searchsorted(low[:, axis], last[:, axis], side="right")
    many = end - begin
    if many.sum() > MOST:
        return 0
    found = np.zeros(len(edges), bool)
    for group in np.array_split(np.arange(len(edges)), max(int(many.sum()) // CHUNK, 1)):
        e = np.repeat(group, many[group])
        t = np.arange(len(e)) - np.repeat(np.cumsum(many[group]) - many[group], many[group]) + begin[e]
        near = ((low[t] <= last[e]) & (high[t] >= first[e])).all(axis=1)
        near &= (triangles[t][:, :, None] != edges[e][:, None]).all(axis=(1, 2))
        e, t = e[near], t[near]
        found[e[_goes_through(points[edges[e]], points[triangles[t]])]] = True
    return int(found.sum())


def _goes_through(ends, corners) -> np.ndarray:
    """(k,) bool: which segments (k, 2, 3) cross the inside of their triangle (k, 3, 3)."""
    way, normal = ends[:, 1] - ends[:, 0], crossed(corners)
    slope = np.einsum("ij,ij->i", way, normal)
    flat = np.abs(slope) < 1e-12 * np.linalg.norm(way, axis=1) * np.linalg.norm(normal, axis=1) + 1e-300
    slope = np.where(flat, 1.0, slope)
    t = np.einsum("ij,ij->i", corners[:, 0] - ends[:, 0], normal) / slope
    at = ends[:, 0] + t[:, None] * way
    share = []
    for k in range(3):
        a, b = corners[:, k], corners[:, (k + 1) % 3]
        share.append(np.einsum("ij,ij->i", np.cross(b - a, at - a), normal) / (normal**2).sum(axis=1).clip(1e-300))
    inside = np.min(share, axis=0) > EDGE
    return ~flat & inside & (t > EDGE) & (t < 1 - EDGE)
