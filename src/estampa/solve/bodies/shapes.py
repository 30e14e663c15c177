"""Collision shapes of bodies, from the points of a piece about its centre of mass."""

from typing import NamedTuple

import numpy as np

from ...errors import EstampaError
from ...geometry.pieces import mass_of
from ...lazy import spatial

SHRINK = 0.999  # of hulls about their middle: touching cells burst apart otherwise (measured: 300 mm become 0.15 mm)
FLAT = 1e-4  # of its size, below which a thing has no thickness to make a hull of
LEAST = 0.3  # of its size, what is left of the hull of a piece with rough walls


class Fitted(NamedTuple):
    """A box around points: its middle (3,) m and axes (3, 3) in columns, and half its sides along them (3,) m."""

    middle: np.ndarray
    axes: np.ndarray
    half: np.ndarray

    @classmethod
    def along(cls, points: np.ndarray, axes: np.ndarray) -> "Fitted":
        own = points @ axes
        low, high = own.min(axis=0), own.max(axis=0)
        return cls(axes @ (low + high) / 2, axes, np.maximum((high - low) / 2, 1e-9))


def fitted(points: np.ndarray, triangles: np.ndarray, axes: np.ndarray) -> Fitted:
    """The tightest box around points (n, 3) m: along the body's own axes (3, 3) in columns, those of its inertia, or
    those of the smallest box there is; one that is hardly smaller (1 %) does not take the place of one before it."""
    best = Fitted.along(points, axes)
    for other in (np.eye(3), _inertia_axes(points, triangles), _smallest_axes(points)):
        found = None if other is None else Fitted.along(points, other)
        if found is not None and found.half.prod() < 0.99 * best.half.prod():
            best = found
    return best


def principal(inertia: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((3,) moments, (3, 3) right-handed axes in columns) of an inertia (3, 3)."""
    values, axes = np.linalg.eigh(inertia)
    return values, _right_handed(axes)


def _inertia_axes(points, triangles) -> np.ndarray | None:
    axes = principal(mass_of(points, triangles).inertia)[1]
    return axes if np.isfinite(axes).all() else None


def _smallest_axes(points) -> np.ndarray | None:
    """Those of the smallest box: a hull, and for each of its faces the smallest rectangle (trimesh)."""
    from trimesh.bounds import oriented_bounds

    try:
        return _right_handed(oriented_bounds(points)[0][:3, :3].T)
    except Exception:  # points in one plane have none
        return None


def _right_handed(axes) -> np.ndarray:
    return axes if np.linalg.det(axes) > 0 else axes * [-1, 1, 1]


class Round(NamedTuple):
    """A capsule or a cylinder: its middle (3,) m, the way along it (3,), its radius, and half its length (m; of a
    capsule, that of the middle line)."""

    middle: np.ndarray
    way: np.ndarray
    radius: float
    half: float


def round_fitted(shape: str, points: np.ndarray, box: Fitted) -> Round:
    """The capsule along a box's longest side, or the smallest cylinder along any of its sides: a coin is one."""
    own = (points - box.middle) @ box.axes
    radius = [float(np.linalg.norm(np.delete(own, k, axis=1), axis=1).max()) for k in range(3)]
    if shape == "capsule":
        k = int(np.argmax(box.half))
        return Round(box.middle, box.axes[:, k], radius[k], max(float(box.half[k]) - radius[k], 1e-6 * radius[k]))
    k = int(np.argmin([radius[i] ** 2 * box.half[i] for i in range(3)]))
    return Round(box.middle, box.axes[:, k], radius[k], float(box.half[k]))


def collider(
    shape: str, points: np.ndarray, triangles: np.ndarray, what: str, axes: np.ndarray, swing: float = 0.0,
    touching: bool = False,
):  # fmt: skip
    """An engine's collider of the shape's word. points (n, 3) about the body's centre, in the engine's unit; triangles
    (t, 3) of them; axes (3, 3) -- the body's own, in columns; swing -- by which a hull is drawn in: rough walls reach
    so far into their neighbour's; touching -- whether it touches others as it begins, as pieces do

    Raises EstampaError when the points make no such shape.
    """
    import rapier3d as rp

    plain = Fitted.along(points, np.eye(3))
    if shape == "ball":
        return rp.Collider.ball(float(plain.half.mean())).translation(tuple(map(float, plain.middle)))
    if shape in ("box", "capsule", "cylinder") or _is_flat(plain.half):
        box = fitted(points, triangles, axes)
        if shape in ("capsule", "cylinder") and not _is_flat(box.half):
            own = round_fitted(shape, points, box)
            make = rp.Collider.capsule_y if shape == "capsule" else rp.Collider.cylinder
            made, turn = make(own.half, own.radius), rotation(_about(own.way))
        else:
            thick = np.maximum(box.half, FLAT * box.half.max())
            made, turn = rp.Collider.cuboid(*(float(h) for h in thick)), rotation(box.axes)
        return made.position(rp.Isometry3(translation=tuple(map(float, box.middle)), rotation=turn))
    try:
        if shape == "mesh":
            return rp.Collider.trimesh(points.astype(np.float32), triangles.astype(np.uint32))
        if shape == "hulls":
            return rp.Collider.convex_decomposition(points.astype(np.float32), triangles.astype(np.uint32))
        drawn_in = np.maximum(1 - swing / plain.half, LEAST)
        hull = plain.middle + (points - plain.middle) * drawn_in * (SHRINK if touching else 1.0)
        return rp.Collider.convex_hull(hull.astype(np.float32))
    except Exception as err:
        raise EstampaError(
            what, "has no usable collision shape: its points lie in one plane or on one line.",
            "Choose Box or Ball as its shape, or give it some thickness.", repr(err),
        ) from err  # fmt: skip


def _about(way: np.ndarray) -> np.ndarray:
    """(3, 3) axes in columns, of which Y goes that way."""
    side = np.cross(way, np.eye(3)[np.abs(way).argmin()])
    side /= np.linalg.norm(side)
    return np.stack([side, way, np.cross(side, way)], axis=1)


def solid_shape(shape: str, points: np.ndarray, triangles: np.ndarray, axes: np.ndarray):
    """What limbs of ragdolls run into, of the same words: a Round, a Fitted box, or (points, triangles)."""
    plain = Fitted.along(points, np.eye(3))
    if shape == "ball":
        return Round(plain.middle, np.array([0.0, 1, 0]), float(plain.half.mean()), 0.0)
    if shape in ("box", "capsule"):
        box = fitted(points, triangles, axes)
        return box if shape == "box" or _is_flat(box.half) else round_fitted(shape, points, box)
    if shape == "hull" and not _is_flat(plain.half):
        return points, spatial.ConvexHull(points).simplices
    return points, triangles


def _is_flat(half: np.ndarray) -> bool:
    """Whether points have no thickness to make a hull of."""
    return half.min() < FLAT * half.max()


def rotation(axes: np.ndarray):
    """The engine's rotation of (3, 3) axes."""
    import rapier3d as rp

    from ...geometry.pose import turns_of

    x, y, z, w = (float(v) for v in turns_of(np.asarray(axes, float)[None])[0])
    return rp.Rotation3(w, x, y, z)


def outline(shape: str, points: np.ndarray, triangles: np.ndarray, axes: np.ndarray | None = None) -> np.ndarray:
    """(s, 2, 3) segments that show a collision shape, about the body's centre as its points are."""
    plain = Fitted.along(points, np.eye(3))
    if shape == "ball":
        return _round(float(plain.half.mean()), 0.0, True) + plain.middle
    if shape in ("box", "capsule", "cylinder") or _is_flat(plain.half):
        box = fitted(points, triangles, np.eye(3) if axes is None else axes)
        if shape in ("capsule", "cylinder") and not _is_flat(box.half):
            own = round_fitted(shape, points, box)
            return _round(own.radius, own.half, shape == "capsule") @ _about(own.way).T + own.middle
        corner = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * box.half
        pairs = [(i, i ^ bit) for i in range(8) for bit in (1, 2, 4) if not i & bit]
        return (corner @ box.axes.T + box.middle)[np.array(pairs)]
    if shape in ("mesh", "hulls"):
        sides = triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
        return points[np.unique(np.sort(sides, axis=1), axis=0)]
    try:
        hull = points[spatial.ConvexHull(points).simplices]
    except spatial.QhullError:
        return np.zeros((0, 2, 3))
    return hull[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2, 3)


def _round(radius: float, far: float, domes: bool, count: int = 24) -> np.ndarray:
    """Segments of rings about Y at both ends, lines between them, and half rings over the ends."""
    turn = np.linspace(0, 2 * np.pi, count + 1)
    ring = np.stack([np.cos(turn), np.zeros_like(turn), np.sin(turn)], axis=1) * radius
    lines = [ring + [0, end, 0] for end in ((-far, far) if far else (0.0,))]
    lines += [np.array([[x, -far, z], [x, far, z]]) for x, z in ((radius, 0), (-radius, 0), (0, radius), (0, -radius))]
    for side in (-1, 1) if domes else ():
        half = np.linspace(0, np.pi, count // 2 + 1)
        arc = np.stack([np.cos(half), np.sin(half), np.zeros_like(half)], axis=1) * radius
        lines += [arc * [1, side, 1] + [0, side * far, 0], (arc * [1, side, 1])[:, [2, 1, 0]] + [0, side * far, 0]]
    return np.concatenate([np.stack([line[:-1], line[1:]], axis=1) for line in lines])
