"""Where grains come from and are drawn to: places in and on things, each by the number of its grain."""

import numpy as np

from ...geometry.inside import is_inside
from ...geometry.mesh import Mesh, crossed
from ...hashing import rand

TRIES = 400  # places that are tried within a box for each that is wanted inside a mesh


def in_ball(ids: np.ndarray, seed: int) -> np.ndarray:
    """(n, 3) uniform in the unit ball."""
    return on_sphere(ids, seed) * np.cbrt(rand(seed, ids, "ball far"))[:, None]


def on_sphere(ids: np.ndarray, seed: int) -> np.ndarray:
    """(n, 3) uniform directions (Archimedes: the height of a point on a sphere is uniform)."""
    height, around = 2 * rand(seed, ids, "ball high") - 1, 2 * np.pi * rand(seed, ids, "ball round")
    flat = np.sqrt(np.maximum(1 - height**2, 0))
    return np.stack([flat * np.cos(around), height, flat * np.sin(around)], axis=1)


def in_cone(ids: np.ndarray, seed: int, axis: np.ndarray, angle: float) -> np.ndarray:
    """(n, 3) directions spread evenly over a cone of a half angle (rad) about axes (n or 1, 3)."""
    cosine = 1 - rand(seed, ids, "cone high") * (1 - np.cos(angle))
    around = 2 * np.pi * rand(seed, ids, "cone round")
    axis = np.broadcast_to(axis, (len(ids), 3))
    aside = np.where(np.abs(axis[:, :1]) < 0.9, [1.0, 0, 0], [0.0, 1, 0])
    u = np.cross(axis, aside)
    u /= np.maximum(np.linalg.norm(u, axis=1, keepdims=True), 1e-300)
    v = np.cross(axis, u)
    sine = np.sqrt(np.maximum(1 - cosine**2, 0))[:, None]
    return cosine[:, None] * axis + sine * (np.cos(around)[:, None] * u + np.sin(around)[:, None] * v)


def on_surface(
    ids: np.ndarray, seed: int, points: np.ndarray, triangles: np.ndarray, weights: np.ndarray | None = None
) -> tuple[np.ndarray, np.ndarray]:
    """((n,) triangles, (n, 3) shares of their corners), uniform by area, or by area times weights (v,) of the vertices;
    triangles (t, 3) of points (v, 3) m. Raises ValueError where there is nothing to stand on."""
    area = np.linalg.norm(crossed(points[triangles]), axis=1) / 2
    if weights is not None:
        area = area * weights[triangles].mean(axis=1)
    total = np.cumsum(area)
    if not len(total) or not total[-1] > 0:
        raise ValueError("no area")
    which = np.minimum(np.searchsorted(total, rand(seed, ids, "which") * total[-1], side="right"), len(area) - 1)
    root, other = np.sqrt(rand(seed, ids, "root")), rand(seed, ids, "other")
    return which, np.stack([1 - root, root * (1 - other), root * other], axis=1)


def shares_at(points: np.ndarray, triangles: np.ndarray, which: np.ndarray, shares: np.ndarray) -> np.ndarray:
    """(n, 3) m, where those places are when the vertices are at points (v, 3) m."""
    return np.einsum("nc,ncj->nj", shares, points[triangles[which]])


def in_mesh(ids: np.ndarray, seed: int, mesh: Mesh, points: np.ndarray) -> np.ndarray:
    """(n, 3) m uniform inside a closed mesh whose vertices are at points (v, 3) m. Raises ValueError where next to none
    of what is tried lies inside."""
    at = mesh.with_points(points)
    low, high = at.bounds
    found, left = np.zeros((len(ids), 3)), np.arange(len(ids))
    for attempt in range(TRIES):
        own = ids[left]
        tried = np.stack([rand(seed, own, f"inside {attempt} {axis}") for axis in "xyz"], axis=1)
        tried = low + tried * (high - low)
        hit = is_inside(at, tried)
        found[left[hit]] = tried[hit]
        left = left[~hit]
        if not len(left):
            return found
    raise ValueError("no room")
