"""Lids: open meshes closed by a flat fan over each of their rims."""

import numpy as np

from .mesh import Mesh


def rims_of(triangles: np.ndarray) -> list[np.ndarray]:
    """The open borders of a mesh: vertices of each in order, the way in which a lid would go round."""
    a = triangles[:, [0, 1, 2]].ravel().astype(np.int64)
    b = triangles[:, [1, 2, 0]].ravel().astype(np.int64)
    base = int(triangles.max(initial=0)) + 1
    open_ = ~np.isin(a * base + b, b * base + a)
    follows = {int(q): int(p) for p, q in zip(a[open_], b[open_], strict=True)}
    found = []
    while follows:
        start, at = next(iter(follows.items()))
        loop = [start]
        follows.pop(start)
        while at in follows and at != start:
            loop.append(at)
            at = follows.pop(at)
        if len(loop) > 2:
            found.append(np.array(loop))
    return found


def lidded(mesh: Mesh) -> Mesh:
    """The mesh as triangles, closed by a fan about the middle of each of its rims."""
    points, triangles = [mesh.points], [mesh.triangles]
    count = mesh.count
    for loop in rims_of(mesh.triangles):
        points.append(mesh.points[loop].mean(axis=0, keepdims=True))
        triangles.append(np.stack([loop, np.roll(loop, -1), np.full(len(loop), count)], axis=1))
        count += 1
    return Mesh.from_triangles(np.concatenate(points), np.concatenate(triangles))


def room_of(mesh: Mesh) -> float:
    """m3, the volume inside a mesh, with a lid on each of its rims."""
    closed = lidded(mesh)
    a, b, c = closed.points[closed.triangles].transpose(1, 0, 2)
    return abs(float(np.einsum("ij,ij->", a, np.cross(b, c)))) / 6
