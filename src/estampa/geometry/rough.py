"""Cells with rough walls: two that lie on each other share the points of their wall, and still fill the whole."""

from typing import NamedTuple

import numpy as np

from ..hashing import rand
from ..lazy import spatial
from .cells import closing

SWING = 0.25  # of the lumps' size, the furthest that a wall is moved: further, and space would fold
FINE = 4  # stretches of a wall for one lump
MOST = 250_000  # triangles of all walls; coarser above
BULGE = 1e-3  # of an edge's length, by which its points are moved out to be told apart from inner ones


class Closed(NamedTuple):
    """A cell as a closed surface: points (n, 3) m, triangles (t, 3)."""

    points: np.ndarray
    triangles: np.ndarray


def rough(
    at: np.ndarray,
    low: np.ndarray,
    high: np.ndarray,
    stretch: np.ndarray | None,
    grain: float,
    amount: float,
    seed: int,
    on_progress=None,
) -> list[Closed]:
    """The cells of seeds (s, 3) m, as `cells.voronoi` has them, with every wall moved by one field of space.

    low, high (3,) m -- the box that matters; grain -- m, the size of the lumps; amount -- 0 to 1 of the most that does
    not fold; told(share) -- called now and then; it may raise to stop
    """
    into = np.eye(3) if stretch is None else stretch
    made = spatial.Voronoi(closing(at @ into.T, low, high, into))
    corners = made.vertices @ np.linalg.inv(into).T
    swing = SWING * grain * amount
    low, high = low - 2 * swing - grain / FINE, high + 2 * swing + grain / FINE
    walls = [
        (pair, ridge)
        for pair, ridge in zip(made.ridge_points, made.ridge_vertices, strict=True)
        if pair.min() < len(at)
    ]
    area = sum(_area(corners[ridge], low, high) for _, ridge in walls)
    fine = max(grain / FINE, np.sqrt(2 * area / MOST))
    points, edges, count = [corners], {}, len(corners)
    own = [[] for _ in at]
    for k, (pair, ridge) in enumerate(walls):
        if on_progress is not None and k % 200 == 0:
            on_progress(k / len(walls))
        border = []
        for i, j in zip(ridge, [*ridge[1:], ridge[0]], strict=True):
            key = (min(i, j), max(i, j))
            if key not in edges:
                more = _along(corners[key[0]], corners[key[1]], low, high, fine)
                edges[key] = np.arange(count, count + len(more)), more
                points.append(more)
                count += len(more)
            numbers, more = edges[key]
            back = i != key[0]
            border.append((i, numbers[::-1] if back else numbers, more[::-1] if back else more))
        normal = into.T @ (made.points[pair[1]] - made.points[pair[0]])  # from the first to the second
        inner, triangles = _filled(corners, border, normal, low, high, fine, count)
        points.append(inner)
        count += len(inner)
        for side, facing in ((pair[0], triangles), (pair[1], triangles[:, ::-1])):
            if side < len(at):
                own[side].append(facing)
    every = np.concatenate(points)
    moved = every + swing * lumps(every, FINE * fine, seed)  # no finer than walls are parted: they would cross
    cells = []
    for parts in own:
        used, triangles = np.unique(np.concatenate(parts), return_inverse=True)
        cells.append(Closed(moved[used], triangles.reshape(-1, 3)))
    return cells


def rough_apart(cells: list[np.ndarray], low, high, grain: float, amount: float, seed: int) -> list[Closed]:
    """The same of convex cells (c, 3) m that do not touch; none of their points is shared."""
    import manifold3d as m3

    swing, fine, found = SWING * grain * amount, grain / FINE, []
    low, high = low - 2 * swing - fine, high + 2 * swing + fine
    box = m3.Manifold.cube(tuple(high - low)).translate(tuple(low))
    for corners in cells:
        made = (box ^ m3.Manifold.hull_points(corners)).refine_to_length(fine).to_mesh64() if len(corners) else None
        if made is None or not len(made.tri_verts):
            found.append(Closed(np.zeros((0, 3)), np.zeros((0, 3), np.int64)))
            continue
        points = made.vert_properties[:, :3]
        found.append(Closed(points + swing * lumps(points, grain, seed), made.tri_verts.astype(np.int64)))
    return found


def lumps(at: np.ndarray, grain: float, seed: int) -> np.ndarray:
    """(n, 3) in about [-1, 1] at points (n, 3) m: two octaves of gradient noise for each axis."""
    from ..motion.gradient_noise import fractal, permutation

    at = at / grain + 100 * rand(seed, np.arange(3), "lumps")
    return np.stack([fractal(at, permutation(seed + 7 * axis + 1), 2) for axis in range(3)], axis=1)


def _area(polygon, low, high) -> float:
    """m2, about, of a wall within the box."""
    return _long(_normal(np.clip(polygon, low, high))) / 2


def _normal(polygon) -> np.ndarray:
    """Twice the area of a flat polygon (c, 3), along its normal."""
    return np.cross(polygon[1:-1] - polygon[0], polygon[2:] - polygon[0]).sum(axis=0)


def _long(vector) -> float:
    return float(np.linalg.norm(vector))


def _along(a, b, low, high, fine) -> np.ndarray:
    """(k, 3) m, points that part the edge between two corners, as far as it lies within the box."""
    way = b - a
    with np.errstate(divide="ignore", invalid="ignore"):
        t = np.stack([(low - a) / way, (high - a) / way])
    t = np.where(way == 0, np.array([[-np.inf], [np.inf]]), np.sort(t, axis=0))
    first, last = max(float(t[0].max()), 0.0), min(float(t[1].min()), 1.0)
    if first >= last:
        return np.zeros((0, 3))
    many = max(int(np.ceil((last - first) * _long(way) / fine)), 1)
    share = np.linspace(first, last, many + 1)
    share = share[(share > 1e-9) & (share < 1 - 1e-9)]
    return a + share[:, None] * way


def _filled(corners, border, normal, low, high, fine, count):
    """(inner points (k, 3) m, which are numbered from count on; triangles by number, seen from where normal points)."""
    names = np.concatenate([np.concatenate([[i], numbers]) for i, numbers, _ in border]).astype(np.int64)
    line = np.concatenate([np.concatenate([corners[i][None], more]) for i, _, more in border])
    u, v = _axes(normal)
    middle = line.mean(axis=0)
    flat = np.stack([(line - middle) @ u, (line - middle) @ v], axis=1)
    start = np.cumsum([0, *(1 + len(more) for _, _, more in border)])
    bulged, ends = flat.copy(), [flat[i] for i in start[:-1]]
    for k in range(len(border)):  # points of one edge are moved out a little, so that none is left off the outline
        a, b = ends[k], ends[(k + 1) % len(border)]
        way = b - a
        own = flat[start[k] : start[k + 1]]
        t = (own - a) @ way / max(float(way @ way), 1e-300)
        out = np.array([way[1], -way[0]])
        out *= np.sign(out @ (a + b)) or 1.0
        bulged[start[k] : start[k + 1]] += BULGE * (t * (1 - t))[:, None] * out
    reach = np.clip(line, low, high)
    reach = np.stack([(reach - middle) @ u, (reach - middle) @ v], axis=1)
    x, y = (np.arange(reach[:, j].min() + fine / 2, reach[:, j].max(), fine) for j in (0, 1))
    grid = np.stack([a.ravel() for a in np.meshgrid(x, y)], axis=1)
    turn = np.sign(np.sum(flat[:, 0] * np.roll(flat[:, 1], -1) - flat[:, 1] * np.roll(flat[:, 0], -1)))
    for k in range(len(border)):  # inside, and not too near to an edge
        a, b = ends[k], ends[(k + 1) % len(border)]
        way = (b - a) / max(_long(b - a), 1e-300)
        grid = grid[turn * (way[0] * (grid[:, 1] - a[1]) - way[1] * (grid[:, 0] - a[0])) > 0.4 * fine]
    inner = middle + grid[:, :1] * u + grid[:, 1:] * v
    inside = ((inner > low) & (inner < high)).all(axis=1)
    grid, inner = grid[inside], inner[inside]
    try:
        triangles = spatial.Delaunay(np.concatenate([bulged, grid])).simplices  # counter-clockwise
    except spatial.QhullError:  # a wall of next to no area: a fan has the same outline
        triangles = np.array([[0, k, k + 1][:: int(turn or 1)] for k in range(1, len(bulged) - 1)]).reshape(-1, 3)
        inner = inner[:0]
    return inner, np.concatenate([names, np.arange(count, count + len(inner))])[triangles]


def _axes(normal) -> tuple[np.ndarray, np.ndarray]:
    """Two unit axes of the plane across a normal, right-handed with it."""
    normal = normal / max(_long(normal), 1e-300)
    u = np.cross(normal, np.eye(3)[np.argmin(np.abs(normal))])
    u /= max(_long(u), 1e-300)
    return u, np.cross(normal, u)
