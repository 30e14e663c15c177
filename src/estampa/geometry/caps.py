"""Lids: open meshes closed by a flat fan over each of their rims."""

import numpy as np

from .mesh import Mesh


def rims_of(triangles: np.ndarray) -> list[np.ndarray]:
    """The open borders of a mesh: vertices of each in order, the way in which a lid would go round."""
    t = triangles.astype(np.int64)
    sides = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])
    base = int(t.max(initial=0)) + 1
    code, back = sides[:, 0] * base + sides[:, 1], sides[:, 1] * base + sides[:, 0]
    following = {int(b): int(a) for a, b in sides[~np.isin(code, back)]}  # the lid goes round the other way
    found = []
    while following:
        start = at = next(iter(following))
        loop = []
        while at in following:
            loop.append(at)
            at = following.pop(at)
        if at == start and len(loop) > 2:
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
