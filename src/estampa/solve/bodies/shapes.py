"""Collision shapes of bodies, from the points of a piece about its centre of mass."""

import numpy as np

from ...errors import EstampaError
from ...geometry.pieces import Mass
from ...lazy import spatial

SHRINK = 0.999  # of hulls about their middle: touching cells burst apart otherwise (measured: 300 mm become 0.15 mm)
LEAST = 0.3  # of its size, what is left of the hull of a piece with rough walls


def collider(shape: str, points: np.ndarray, triangles: np.ndarray, what: str, swing: float = 0.0):
    """An engine's collider of the shape's word. points (n, 3) m about the body's centre; triangles (t, 3) of them.
    swing -- m, by which a hull is drawn in: rough walls reach so far into their neighbour's

    Raises EstampaError when the points make no such shape.
    """
    import rapier3d as rp

    low, high = points.min(axis=0), points.max(axis=0)
    half, middle = np.maximum((high - low) / 2, 1e-6), (low + high) / 2
    at = tuple(float(x) for x in middle)
    if shape == "ball":
        return rp.Collider.ball(float(half.mean())).translation(at)
    if shape == "box" or _is_flat(half):
        thick = np.maximum(half, 0.01 * half.max())
        return rp.Collider.cuboid(*(float(h) for h in thick)).translation(at)
    if shape in ("capsule", "cylinder"):
        axis = int(np.argmax(half))
        round_ = float(np.delete(half, axis).mean())
        turn = {0: (0.0, 0.0, -np.pi / 2), 1: (0.0, 0.0, 0.0), 2: (np.pi / 2, 0.0, 0.0)}[axis]
        if shape == "capsule":
            made = rp.Collider.capsule_y(max(float(half[axis]) - round_, 1e-6), round_)
        else:
            made = rp.Collider.cylinder(float(half[axis]), round_)
        return made.position(rp.Isometry3(translation=at, rotation=rp.Rotation3.from_scaled_axis(turn)))
    try:
        if shape == "mesh":
            return rp.Collider.trimesh(points.astype(np.float32), triangles.astype(np.uint32))
        if shape == "hulls":
            return rp.Collider.convex_decomposition(points.astype(np.float32), triangles.astype(np.uint32))
        drawn_in = np.maximum(1 - swing / half, LEAST)
        return rp.Collider.convex_hull((middle + (points - middle) * drawn_in * SHRINK).astype(np.float32))
    except Exception as err:
        raise EstampaError(
            what, "has no usable collision shape: its points lie in one plane or on one line.",
            "Choose Box or Ball as its shape, or give it some thickness.", repr(err),
        ) from err  # fmt: skip


def _is_flat(half: np.ndarray) -> bool:
    """Whether points have no thickness to make a hull of."""
    return half.min() < 1e-4 * half.max()


def mass_properties(mass: Mass, kilograms: float):
    """The engine's mass properties of a body whose centre is its origin."""
    import rapier3d as rp

    inertia = mass.inertia * (kilograms / mass.volume)
    values, axes = np.linalg.eigh(inertia)
    if np.linalg.det(axes) < 0:
        axes[:, 0] *= -1
    values = np.maximum(values, 1e-6 * values.max())
    return rp.MassProperties((0.0, 0.0, 0.0), kilograms, tuple(map(float, values)), rotation(axes))


def rotation(axes: np.ndarray):
    """The engine's rotation of (3, 3) axes."""
    import rapier3d as rp

    from ...geometry.pose import turns_of

    x, y, z, w = (float(v) for v in turns_of(np.asarray(axes, float)[None])[0])
    return rp.Rotation3(w, x, y, z)


def outline(shape: str, points: np.ndarray, triangles: np.ndarray) -> np.ndarray:
    """(s, 2, 3) segments that show a collision shape, about the body's centre as its points are."""
    low, high = points.min(axis=0), points.max(axis=0)
    half, middle = np.maximum((high - low) / 2, 1e-6), (low + high) / 2
    if shape == "box" or _is_flat(half):
        corner = np.array([[x, y, z] for x in (-1, 1) for y in (-1, 1) for z in (-1, 1)]) * half + middle
        pairs = [(i, i ^ bit) for i in range(8) for bit in (1, 2, 4) if not i & bit]
        return corner[np.array(pairs)]
    if shape in ("ball", "capsule", "cylinder"):
        axis = int(np.argmax(half))
        reach = float(half.mean() if shape == "ball" else np.delete(half, axis).mean())
        far = 0.0 if shape == "ball" else max(float(half[axis]) - (reach if shape == "capsule" else 0.0), 0.0)
        return _round(reach, far, axis, shape != "cylinder") + middle
    if shape in ("mesh", "hulls"):
        sides = triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2)
        return points[np.unique(np.sort(sides, axis=1), axis=0)]
    try:
        hull = points[spatial.ConvexHull(points).simplices]
    except spatial.QhullError:
        return np.zeros((0, 2, 3))
    return hull[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2, 3)


def _round(radius: float, far: float, axis: int, domes: bool, count: int = 24) -> np.ndarray:
    """Segments of rings about an axis at both ends, lines between them, and half rings over the ends."""
    turn = np.linspace(0, 2 * np.pi, count + 1)
    ring = np.stack([np.cos(turn), np.zeros_like(turn), np.sin(turn)], axis=1) * radius
    lines = [ring + [0, end, 0] for end in ((-far, far) if far else (0.0,))]
    lines += [np.array([[x, -far, z], [x, far, z]]) for x, z in ((radius, 0), (-radius, 0), (0, radius), (0, -radius))]
    for side in (-1, 1) if domes else ():
        half = np.linspace(0, np.pi, count // 2 + 1)
        arc = np.stack([np.cos(half), np.sin(half), np.zeros_like(half)], axis=1) * radius
        lines += [arc * [1, side, 1] + [0, side * far, 0], (arc * [1, side, 1])[:, [2, 1, 0]] + [0, side * far, 0]]
    found = np.concatenate([np.stack([line[:-1], line[1:]], axis=1) for line in lines])
    return found[..., {0: [1, 0, 2], 1: [0, 1, 2], 2: [0, 2, 1]}[axis]]
