"""Collision shapes of bodies, from the points of a piece about its centre of mass."""

import numpy as np

from ...errors import EstampaError
from ...geometry.pieces import Mass

SHRINK = 0.999  # of hulls about their middle: touching cells burst apart otherwise (measured: 300 mm become 0.15 mm)


def collider(shape: str, points: np.ndarray, triangles: np.ndarray, what: str):
    """An engine's collider of the shape's word. points (n, 3) m about the body's centre; triangles (t, 3) of them.

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
        return rp.Collider.convex_hull((middle + (points - middle) * SHRINK).astype(np.float32))
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
