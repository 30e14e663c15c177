"""The soup of all that may touch: points, edges and triangles of cloths first, of obstacles after them."""

from typing import NamedTuple

import numpy as np

from ...fields.force import Obstacle
from ...geometry.pieces import is_closed, volume_of
from ...geometry.primitives import box

CLOTH, OPEN, SOLID, ROUND = (
    0,
    1,
    2,
    3,
)  # what an element is: of a cloth, of an open or a closed mesh, a ball or a capsule


class Soup(NamedTuple):
    """Elements that may touch, of N points. The first `cloth` points are of the `cloths` and move; the others are
    given.

    edges (e, 2), triangles (t, 3) int32; rest (cloth, 3) m, where the points of cloths are at rest
    radius (N,) m, half the thickness; rub (N,) friction; owner (N,) int32, which cloth or obstacle; sort (N,) int8
    alone (N,) bool, cloths that do not touch themselves; edge -- m, the usual length of an edge of a cloth
    """

    cloth: int
    cloths: int
    edges: np.ndarray
    triangles: np.ndarray
    rest: np.ndarray
    radius: np.ndarray
    rub: np.ndarray
    owner: np.ndarray
    sort: np.ndarray
    alone: np.ndarray
    edge: float


class Solid(NamedTuple):
    """An obstacle over a frame, as points. before, now (m, 3) m; edges (e, 2); triangles (t, 3); radius m at the end of
    the frame; grown m, how much larger it is than it was."""

    before: np.ndarray
    now: np.ndarray
    edges: np.ndarray
    triangles: np.ndarray
    radius: float
    rub: float
    sort: int
    grown: float = 0.0
    name: str = ""  # for a person


def edges_of(triangles: np.ndarray) -> np.ndarray:
    """(e, 2) int32, each edge of (t, 3) triangles once."""
    pairs = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    return np.unique(pairs, axis=0).astype(np.int32).reshape(-1, 2)


_NO_EDGES, _NO_TRIANGLES = np.zeros((0, 2), np.int32), np.zeros((0, 3), np.int32)
NO_SIZE = 1e-4  # of its own: what is shrunk so far is not there
_BOX = box((-1, -1, -1), (1, 1, 1))


def solid_of(obstacle: Obstacle, meshes: dict) -> Solid | None:
    """An obstacle as points with a radius; a plane has none. meshes -- a cache of (edges, closed) by topology."""
    if obstacle.shape == "mesh":
        key = obstacle.triangles.tobytes()
        if key not in meshes:
            meshes[key] = (edges_of(obstacle.triangles), is_closed(obstacle.triangles))
        edges, closed = meshes[key]
        triangles = obstacle.triangles.astype(np.int32)
        was, now = (np.ascontiguousarray(p, np.float64) for p in obstacle.points)
        if len(was) != len(now):
            was = now
        if closed and volume_of(now, triangles) < 0:  # inside out: turned, so that its outside is out
            triangles = np.ascontiguousarray(triangles[:, ::-1])
        sort = SOLID if closed else OPEN
        return Solid(was, now, edges, triangles, obstacle.margin, obstacle.friction, sort, 0.0, obstacle.name)
    sizes = [float(p.size[0]) for p in obstacle.places]
    if min(sizes) < NO_SIZE:  # a point would hold a sheet up
        return None
    was, dims = obstacle.dims_before or obstacle.dims, obstacle.dims
    radius, grown = dims[0] * sizes[1] + obstacle.margin, dims[0] * sizes[1] - was[0] * sizes[0]
    if obstacle.shape == "sphere":
        at = [p.apply(np.zeros((1, 1, 3)))[0] for p in obstacle.places]
        return Solid(*at, _NO_EDGES, _NO_TRIANGLES, radius, obstacle.friction, ROUND, grown, obstacle.name)
    if obstacle.shape == "capsule":
        at = [
            p.apply(np.array([[[0, -d[1], 0], [0, d[1], 0]]]))[0]
            for p, d in zip(obstacle.places, (was, dims), strict=True)
        ]
        return Solid(
            *at, np.array([[0, 1]], np.int32), _NO_TRIANGLES, radius, obstacle.friction, ROUND, grown, obstacle.name
        )
    if obstacle.shape == "box":
        at = [p.apply((_BOX.points * np.array(d))[None])[0] for p, d in zip(obstacle.places, (was, dims), strict=True)]
        triangles = _BOX.triangles.astype(np.int32)
        return Solid(*at, edges_of(triangles), triangles, obstacle.margin, obstacle.friction, SOLID, 0.0, obstacle.name)
    return None


def solids_of(obstacles: list[Obstacle], meshes: dict) -> list[Solid]:
    """Those that have points, in the order in which a soup has them behind its cloths."""
    found = (solid_of(o, meshes) for o in obstacles)
    return [s for s in found if s is not None and len(s.now)]


def planes_of(obstacles: list[Obstacle]) -> np.ndarray:
    """(k, 13) of planes: a point and the normal before and now, and friction."""
    rows = []
    for o in obstacles:
        if o.shape == "plane":
            both = [(p.origin[0] + p.axes[0][:, 1] * o.margin, p.axes[0][:, 1]) for p in o.places]
            rows.append([*both[0][0], *both[0][1], *both[1][0], *both[1][1], o.friction])
    return np.array(rows, np.float64).reshape(-1, 13)


def soup_of(
    rest: np.ndarray, triangles: np.ndarray, edges: np.ndarray, whose: np.ndarray, thickness: np.ndarray,
    friction: np.ndarray, alone: np.ndarray, solids: list[Solid],
) -> tuple[Soup, np.ndarray, np.ndarray]:  # fmt: skip
    """(soup, (m, 3) points of the obstacles before, and now).

    rest (n, 3) m, triangles (t, 3), edges (e, 2) of all cloths; whose (n,) which cloth; of each cloth: thickness
    (c,) m, friction (c,), alone (c,) whether it does not touch itself
    """
    count, cloths = len(rest), len(thickness)
    all_edges, all_triangles = [edges], [triangles]
    radius, rub, owner = [0.5 * thickness[whose]], [friction[whose]], [whose]
    sort, by_itself = [np.full(count, CLOTH)], [alone[whose]]
    first = count
    for k, solid in enumerate(solids):
        m = len(solid.now)
        all_edges.append(solid.edges + first)
        all_triangles.append(solid.triangles + first)
        for into, value in (
            (radius, solid.radius),
            (rub, solid.rub),
            (owner, cloths + k),
            (sort, solid.sort),
            (by_itself, True),
        ):
            into.append(np.full(m, value))
        first += m
    lengths = np.linalg.norm(rest[edges[:, 1]] - rest[edges[:, 0]], axis=1)
    whole = lambda rows, kind: np.ascontiguousarray(np.concatenate(rows), kind)
    soup = Soup(
        count, cloths, whole(all_edges, np.int32), whole(all_triangles, np.int32), np.ascontiguousarray(rest,
        np.float64), whole(radius, np.float64), whole(rub, np.float64), whole(owner, np.int32), whole(sort, np.int8),
        whole(by_itself, bool),
        float(np.median(lengths)) if len(lengths) else 0.0,
    )  # fmt: skip
    empty = np.zeros((0, 3))
    return soup, np.concatenate([empty, *(s.before for s in solids)]), np.concatenate([empty, *(s.now for s in solids)])
