"""What is solid to grains: how far each is from it, which way is out, and how fast the surface goes there."""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

from ...fields.force import Obstacle, World
from ...geometry.inside import is_inside
from ...geometry.mesh import Mesh, crossed
from ...geometry.pieces import is_closed
from ...geometry.triangle_grid import Grid

SHAPES = ("sphere", "capsule", "box", "plane")
FAR = 1e9


class Met(NamedTuple):
    """Of n grains: depth (n,) m outside the surface, below 0 within it; out (n, 3); speed (n, 3) m/s of the surface."""

    far: np.ndarray
    out: np.ndarray
    speed: np.ndarray


def solids(world: World, reach: float, share: float, rate: float) -> list:
    """What can be met in a world a share into the step: functions (n, 3) m -> Met. Meshes are felt within their reach,
    and throughout their inside."""
    found = [_floor(floor.height) for floor in world.floors]
    return found + [_solid(o, reach, share, rate) for o in world.colliders]


def _floor(height):
    def met(place):
        out = np.zeros_like(place)
        out[:, 1] = 1.0
        return Met(place[:, 1] - height, out, np.zeros_like(place))

    return met


def _solid(obstacle: Obstacle, reach, share, rate):
    if obstacle.shape == "mesh":
        return surface(*obstacle.points, obstacle.triangles, reach, share, rate, obstacle.hollow)
    before, now = obstacle.places
    place = [np.ascontiguousarray(a[0] + share * (b[0] - a[0])) for a, b in zip(before, now, strict=True)]
    dims, stands = np.array(obstacle.dims, float), all(np.array_equal(a, b) for a, b in zip(before, now, strict=True))

    def met(at):
        far, out = _shape(
            np.ascontiguousarray(at), SHAPES.index(obstacle.shape), dims, *place[:2], float(np.ravel(place[2])[0])
        )
        if stands:
            return Met(far, out, np.zeros_like(at))
        own = before.inverse().apply(at[None])[0]
        return Met(far, out, (now.apply(own[None])[0] - at) * rate)

    return met


def surface(before, now, triangles, reach: float, share: float, rate: float, hollow: bool = False):
    """The same of a mesh whose vertices went from (v, 3) m to (v, 3) m; of a hollow one from either side."""
    if before.shape != now.shape:
        before = now
    points = before + share * (now - before)
    grid, closed = Grid(points, triangles, max(reach, 1e-6)), not hollow and is_closed(triangles)
    mesh = Mesh.from_triangles(points, triangles)
    normals = crossed(points[triangles])
    normals /= np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-300)
    low, high = mesh.bounds

    def met(at):
        which, on = grid.closest(np.ascontiguousarray(at))
        near = which >= 0
        far, out, speed = np.full(len(at), FAR), np.zeros_like(at), np.zeros_like(at)
        out[:, 1] = 1.0
        inside = np.zeros(len(at), bool)
        if closed:
            boxed = np.flatnonzero(((at > low) & (at < high)).all(axis=1))
            inside[boxed] = is_inside(mesh, at[boxed])
        lost = inside & ~near  # deep within: out by the nearest vertex
        if lost.any():
            nearest = np.array([np.argmin(((points - p) ** 2).sum(axis=1)) for p in at[lost]])
            on[lost], near = points[nearest], near | lost
        away = at - on
        apart = np.linalg.norm(away, axis=1)
        faces = normals[np.maximum(which, 0)]
        sign = np.where(inside, -1.0, 1.0) if closed else 1.0
        far[near] = (sign * apart)[near]
        way = np.where(
            apart[:, None] > 1e-7, away / np.maximum(apart, 1e-300)[:, None] * np.reshape(sign, (-1, 1)), faces
        )
        out[near] = way[near]
        moved = (now - before)[triangles].mean(axis=1) * rate
        speed[near] = moved[np.maximum(which, 0)][near]
        return Met(far, out, speed)

    met.has_edges = True  # it may be asked for the other sides of an edge
    return met


@njit(parallel=True, cache=True, nogil=True)
def _shape(at, shape, dims, origin, axes, size):
    """((n,) m, (n, 3)) of a sphere, capsule, box or plane at its place."""
    n = len(at)
    far, out = np.empty(n), np.empty((n, 3))
    a, b, c = dims[0] * size, dims[1] * size, dims[2] * size
    for i in prange(n):
        p, q, r = at[i, 0] - origin[0], at[i, 1] - origin[1], at[i, 2] - origin[2]
        x = axes[0, 0] * p + axes[1, 0] * q + axes[2, 0] * r
        y = axes[0, 1] * p + axes[1, 1] * q + axes[2, 1] * r
        z = axes[0, 2] * p + axes[1, 2] * q + axes[2, 2] * r
        u, v, w = 0.0, 1.0, 0.0
        if shape == 3:
            d = y
        elif shape == 2:
            gx, gy, gz = abs(x) - a, abs(y) - b, abs(z) - c
            if max(gx, gy, gz) <= 0:
                d = max(gx, gy, gz)
                u = np.sign(x) if d == gx else 0.0
                v = np.sign(y) if d == gy and d != gx else 0.0
                w = np.sign(z) if d != gx and d != gy else 0.0
            else:
                u, v, w = max(gx, 0.0) * np.sign(x), max(gy, 0.0) * np.sign(y), max(gz, 0.0) * np.sign(z)
                d = np.sqrt(u * u + v * v + w * w)
                u, v, w = u / d, v / d, w / d
        else:
            h = min(max(y, -b), b) if shape == 1 else 0.0
            long = np.sqrt(x * x + (y - h) ** 2 + z * z)
            d = long - a
            if long > 1e-12:
                u, v, w = x / long, (y - h) / long, z / long
        far[i] = d
        for j in range(3):
            out[i, j] = axes[j, 0] * u + axes[j, 1] * v + axes[j, 2] * w
    return far, out
