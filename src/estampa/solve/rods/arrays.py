"""The arrays that rods travel in."""

from typing import NamedTuple

import numpy as np


class Rods(NamedTuple):
    """Strands side by side. p points, m segments; segment s of a strand runs from its point s to point s + 1."""

    points: np.ndarray  # (strands + 1,) first point of each, and one past the last
    segments: np.ndarray  # (strands + 1,) the same for segments
    weight: np.ndarray  # (p,) 1 / mass, 0 where held
    length: np.ndarray  # (m,) rest length, m
    ahead: np.ndarray  # (m, 3) which way a segment points, in its own frame
    spin_weight: np.ndarray  # (m,) 1 / inertia
    curve: np.ndarray  # (m, 4) rest turn from the segment before (the first: from what it hangs on) to this one
    bend: np.ndarray  # (m,) stiffness of the bend at a segment's start, N m / rad
    twist: np.ndarray  # (m,) compliance of the twist there, rad / (N m)
    stretch: np.ndarray  # (m,) compliance of its length, m / N
    clamp: np.ndarray  # (strands,) whether the first segment keeps the direction of what it hangs on
    radius: np.ndarray  # (p,) m
    point_of: np.ndarray  # (m,) first point of each segment
    strand_of: np.ndarray  # (m,)
    hung: np.ndarray  # (strands,) a point of another strand that the first point follows, or -1


class RodMotion(NamedTuple):
    """How rods stand and move; changed in place."""

    x: np.ndarray  # (p, 3) m
    speed: np.ndarray  # (p, 3) m/s
    q: np.ndarray  # (m, 4) turns of the segments in the world
    spin: np.ndarray  # (m, 3) rad/s


class RodHolds(NamedTuple):
    """What rods hang on, at the start of a frame and at its end."""

    before: np.ndarray  # (p, 3) m where held points are
    now: np.ndarray  # (p, 3) m
    base_before: np.ndarray  # (strands, 4) turn of what a clamped first segment hangs on
    base_now: np.ndarray  # (strands, 4)


class RodForces(NamedTuple):
    """What acts on points over a frame."""

    gravity: np.ndarray  # (p, 3) m/s2
    air: np.ndarray  # (p, 3) m/s
    pull: np.ndarray  # (p,) half density x drag x area, kg/m
    damping: float  # 1/s


class RodRoom(NamedTuple):
    """Room for what a small step works out."""

    before: np.ndarray  # (p, 3) m where the points were
    turned: np.ndarray  # (m, 4) how the segments stood
    base: np.ndarray  # (strands, 4) what they hang on at this step
    corners: np.ndarray  # (t, 3, 3) m the solid triangles at this step
    work: np.ndarray  # (m, 6) of `_lengths`
    band: np.ndarray  # (p, 5) of `_bend`
    want: np.ndarray  # (p, 3)


class RodSolids(NamedTuple):
    """Obstacles at each small step."""

    shape: np.ndarray  # (c,) 0 sphere, 1 capsule, 2 box, 3 plane
    dims: np.ndarray  # (c, 3)
    friction: np.ndarray  # (c,)
    origin: np.ndarray  # (steps + 1, c, 3)
    axes: np.ndarray  # (steps + 1, c, 3, 3)
    size: np.ndarray  # (steps + 1, c)


class SolidSurface(NamedTuple):
    """Triangles that are solid, and the grid that finds them; they move from `before` to `now` over a frame."""

    before: np.ndarray  # (t, 3, 3)
    now: np.ndarray  # (t, 3, 3)
    friction: np.ndarray  # (t,)
    low: np.ndarray
    cell: float
    counts: np.ndarray
    starts: np.ndarray
    members: np.ndarray
