"""Cells that a mesh is broken into: where their middles fall, and the convex shape of each."""

from dataclasses import dataclass

import numpy as np

from ..hashing import rand
from ..lazy import optimize, spatial
from .inside import is_inside
from .mesh import Mesh
from .pieces import CORNERS, corners_of
from .triangle_grid import Grid

TRIES = 400  # points that are tried for each that is wanted
FAR = 12.0  # sizes away, where the dummy points stand that close the outermost cells


@dataclass(frozen=True)
class Density:
    """How thick seeds fall: gather -- a word of GATHER; spread m, over which it fades to a third; thin -- the share
    that is left far away; about (a, 3) m, what they gather around; weights (n,) of the mesh's vertices."""

    gather: str = "even"
    spread: float = 0.25
    thin: float = 0.05
    about: np.ndarray | None = None
    weights: np.ndarray | None = None

    def at(self, mesh: Mesh, points: np.ndarray) -> np.ndarray:
        """(m,) in [0, 1] at (m, 3) points m.

        even 1; middle and near exp(-(r / spread)^2); surface exp(-d / spread), with d from the surface; map the weight
        of the nearest vertex. Of all but even, `thin` is left everywhere.
        """
        if self.gather == "even":
            return np.ones(len(points))
        if self.gather == "map":
            nearest = spatial.cKDTree(mesh.points).query(points)[1]
            full = np.ones(mesh.count) if self.weights is None else self.weights.astype(float)
            felt = full[nearest]
        elif self.gather == "surface":
            felt = np.exp(-_from_surface(mesh, points) / self.spread)
        else:
            low, high = mesh.bounds
            about = (low + high)[None] / 2 if self.gather == "middle" or self.about is None else self.about
            felt = np.exp(-((spatial.cKDTree(about).query(points)[0] / self.spread) ** 2))
        return self.thin + (1 - self.thin) * felt


GATHER = {
    "even": "Evenly",
    "middle": "Towards the middle",
    "surface": "Towards the surface",
    "near": "Around a grip",
    "path": "Along a path",
    "map": "Where a weight map is high",
    "spots": "At the spots of a path, and nowhere else",
}


def _from_surface(mesh: Mesh, points: np.ndarray) -> np.ndarray:
    """(m,) m to the surface; of what is further than a quarter of the size, to its nearest vertex."""
    reach = 0.25 * float(mesh.size.max())
    which, at = mesh.cached("near", lambda: Grid(mesh.points, mesh.triangles, reach)).closest(points)
    apart = np.linalg.norm(at - points, axis=1)
    return np.where(which >= 0, apart, spatial.cKDTree(mesh.points).query(points)[0])


def seeds(mesh: Mesh, count: int, seed: int, density: Density) -> np.ndarray:
    """(s, 3) m, so many points inside a closed mesh, spread by a density. When there are to be more, the others stay.

    Fewer come only where the mesh holds next to none of what is tried.
    """
    low, high = mesh.bounds
    found, tried = np.zeros((0, 3)), 0
    step = max(4 * count, 1000)
    while len(found) < count and tried < TRIES * count + step:
        which = np.arange(tried, tried + step)
        at = np.stack([rand(seed, which, f"cell {axis}") for axis in "xyz"], axis=1)
        at = low + at * (high - low)
        at = at[is_inside(mesh, at) & (rand(seed, which, "cell") < density.at(mesh, at))]
        found, tried = np.concatenate([found, at]), tried + step
    return found[:count]


def voronoi(at: np.ndarray, low: np.ndarray, high: np.ndarray, stretch: np.ndarray | None = None) -> list[np.ndarray]:
    """The corners (c, 3) m of the cell of each seed (s, 3) m: where that seed is the nearest (Voronoi 1908), within
    reach of a box. stretch (3, 3) -- takes places to those in which they are compared, so that cells come out long."""
    if len(at) == 1:
        return [corners_of(low - (high - low) - 1e-3, high + (high - low) + 1e-3)]
    into = np.eye(3) if stretch is None else stretch
    made = spatial.Voronoi(closing(at @ into.T, low, high, into))
    back = np.linalg.inv(into)
    return [made.vertices[made.regions[made.point_region[i]]] @ back.T for i in range(len(at))]


def closing(compared: np.ndarray, low: np.ndarray, high: np.ndarray, into: np.ndarray) -> np.ndarray:
    """Seeds (s, 3) where they are compared, and after them those far away that close the cells about a box."""
    box = corners_of(low, high) @ into.T
    middle, reach = box.mean(axis=0), FAR * max(float(np.ptp(np.concatenate([box, compared]), axis=0).max()), 1e-6)
    sides = np.concatenate([np.eye(3), -np.eye(3), (CORNERS * 2 - 1) / np.sqrt(3)])
    return np.concatenate([compared, middle + reach * sides])


def shrunk(cells: list[np.ndarray], gap: float) -> list[np.ndarray]:
    """Cells whose every side is moved inwards by half the gap, m; what has no room is left out as (0, 3)."""
    found = []
    for corners in cells:
        hull = spatial.ConvexHull(corners)
        sides = np.unique(np.round(hull.equations, 9), axis=0)
        sides[:, 3] += gap / 2
        # the middle of the largest ball within is inside for sure
        lengths = np.linalg.norm(sides[:, :3], axis=1)
        best = optimize.linprog(
            [0, 0, 0, -1], A_ub=np.column_stack([sides[:, :3], lengths]), b_ub=-sides[:, 3],
            bounds=[(None, None)] * 3 + [(0, None)],
        )  # fmt: skip
        if best.status != 0 or best.x[3] < 1e-9:
            found.append(np.zeros((0, 3)))
            continue
        found.append(spatial.HalfspaceIntersection(sides, best.x[:3]).intersections)
    return found


def bricks(low, high, size, jitter: float, seed: int, shifted: bool) -> tuple[np.ndarray, list[np.ndarray]]:
    """(middles (b, 3), corners of each) of boxes of a size (3,) m that fill a box: in courses along Y, every other one
    shifted by half a brick along X; jitter -- share of the size by which the joints of each course move."""
    size = np.maximum(size, 1e-6)
    many = np.maximum(np.ceil((high - low) / size - 1e-9).astype(int), 1)
    lines = lambda axis, n, salt, grow: _joints(low[axis], size[axis], n + grow, jitter, seed, salt)
    boxes = []
    y = lines(1, many[1], "course", 0)
    for j in range(many[1]):
        off = 0.5 * size[0] if shifted and j % 2 else 0.0
        x = lines(0, many[0], f"x {j}", 1 if off else 0) - off
        for i in range(len(x) - 1):
            z = lines(2, many[2], f"z {j} {i}", 0)
            boxes += [
                np.stack([[x[i], y[j], z[k]], [x[i + 1], y[j + 1], z[k + 1]]]) for k in range(len(z) - 1)
            ]  # fmt: skip
    boxes = np.array(boxes)
    return boxes.mean(axis=1), [corners_of(*box) for box in boxes]


def _joints(start, size, count, jitter, seed, salt) -> np.ndarray:
    """(count + 1,) places of the joints along an axis; the outer ones stay outside."""
    at = start + size * np.arange(count + 1)
    at[1:-1] += jitter * size * (rand(seed, np.arange(count - 1), f"brick {salt}") - 0.5)
    at[0] -= 1e-3 * size
    at[-1] += 1e-3 * size
    return at
