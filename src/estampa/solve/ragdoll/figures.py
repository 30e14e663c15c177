"""The arrays in which the limbs of all figures stand, side by side. Lengths in m, masses in kg, angles in rad."""

from typing import NamedTuple

import numpy as np


class LimbMotion(NamedTuple):
    """How b limbs stand and move; changed in place."""

    x: np.ndarray  # (b, 3) m, centres of mass
    q: np.ndarray  # (b, 4) turns of their own axes, along which inertia is diagonal
    v: np.ndarray  # (b, 3) m/s
    w: np.ndarray  # (b, 3) rad/s


class LimbBodies(NamedTuple):
    """What limbs are."""

    inverse_mass: np.ndarray  # (b,) 1/kg; 0 is driven
    inverse_inertia: np.ndarray  # (b, 3) 1/(kg m2) about their own axes
    figure: np.ndarray  # (b,) which figure each belongs to; those of one stand together
    friction: np.ndarray  # (b,) Coulomb


class Capsules(NamedTuple):
    """What limbs are to whatever they touch; capsules of a limb stand together."""

    body: np.ndarray  # (c,)
    a: np.ndarray  # (c, 3) m, one end in the limb's own axes
    b: np.ndarray  # (c, 3) m, the other
    radius: np.ndarray  # (c,) m
    apart: np.ndarray  # (pairs,) bool of every two limbs of a figure, row by row: whether they may touch
    apart_start: np.ndarray  # (f,) where a figure's pairs begin


class LimbJoints(NamedTuple):
    """Joints in an order in which each comes after those that its limb hangs on."""

    own: np.ndarray  # (j,) the limb that hangs
    up: np.ndarray  # (j,) the limb that it hangs on
    arm_up: np.ndarray  # (j, 3) m, the joint in the upper limb's own axes
    arm_own: np.ndarray  # (j, 3) m
    frame_up: np.ndarray  # (j, 4) turns in the limbs' own axes; the middle of the reach is where both agree
    frame_own: np.ndarray  # (j, 4)
    cone: np.ndarray  # (j,) rad, how far X of the one may leave X of the other; 0 is a hinge about X
    reach: np.ndarray  # (j,) rad, how far one turns about X, either way
    loss: np.ndarray  # (j,) 1/s, of the rate at which it turns
    dry: np.ndarray  # (j,) rad/s2, that it loses besides


class Springs(NamedTuple):
    """Springs of joints towards a pose, and of figures towards where they are lifted to, over a frame."""

    pose: np.ndarray  # (j, 4) turns of `frame_own` in `frame_up` that they pull to
    stiff: np.ndarray  # (j,) N m/rad, 0 for none
    damp: np.ndarray  # (j,) N m s/rad
    root: np.ndarray  # (f,) the limb of each figure that is lifted
    lift: np.ndarray  # (f,) 1/s2, angular frequency squared; 0 for none
    lift_damp: np.ndarray  # (f,) 1/s
    lift_mass: np.ndarray  # (f,) kg that it bears
    lift_inertia: np.ndarray  # (f,) kg m2
    lift_before: np.ndarray  # (f, 7) place and turn of the lifted limb at the start of the frame
    lift_now: np.ndarray  # (f, 7) and at its end
    led: np.ndarray  # (f,) 1/s, how fast the root of one that is led goes to where it is lifted; 0 for none
    ratio: np.ndarray  # (f,) damping ratio of that
    rate: np.ndarray  # (j,) 1/s, how fast joints of those go to their poses
    pose_before: np.ndarray  # (j, 4) what the pose was at the start of the frame


class Figures(NamedTuple):
    """What is remembered of figures and their joints from frame to frame; changed in place."""

    tall: np.ndarray  # (f,) m, across each at first
    quiet: np.ndarray  # (f,) s, for how long it has all but stood still
    asleep: np.ndarray  # (f,) bool
    slack: np.ndarray  # (j, 2) rad, by how much a joint that began past its cone and reach may still be past them


class Solids(NamedTuple):
    """What limbs run into that does not give way; each goes from where it was to where it is over a frame.

    A capsule of no length is a ball. Triangles are found by a grid over both their places.
    """

    planes: np.ndarray  # (k, 2, 6) m a place on each and its normal, before and now
    plane_friction: np.ndarray  # (k,)
    boxes: np.ndarray  # (k, 2, 10) m middle, turn, half sizes
    box_friction: np.ndarray  # (k,)
    rails: np.ndarray  # (k, 2, 7) m both ends and the radius of a capsule
    rail_friction: np.ndarray  # (k,)
    triangles: np.ndarray  # (t, 2, 3, 3) m corners
    triangle_friction: np.ndarray  # (t,)
    low: np.ndarray  # (3,) m, the grid's corner
    cell: float  # m
    counts: np.ndarray  # (3,) cells along each axis
    starts: np.ndarray  # (cells + 1,) the first of each cell's members
    members: np.ndarray  # triangles, cell by cell
    rubs: int  # how the friction of two is taken together: 0 their mean, 1 the larger, 2 their product


class Touches(NamedTuple):
    """What touches or is about to, of limb b and of limb a, or of what does not give way (a is -1)."""

    who: np.ndarray  # (k, 2) a, b
    normal: np.ndarray  # (k, 3) from a to b
    arm: np.ndarray  # (k, 2, 3) m in the limbs' own axes; of what does not give way, a place in the world
    before: np.ndarray  # (k, 3) m, where that place was as the small step began
    rub: np.ndarray  # (k,) friction of the two together
    wide: np.ndarray  # (k,) m, the radius of b there
    gap: np.ndarray  # (k,) m, the least that is asked for: below 0 while what began deep comes out
    out: np.ndarray  # (k,) m, by which what began deep is let out in this small step
    pushed: np.ndarray  # (k,) impulse along the normal in this small step
