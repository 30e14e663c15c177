"""Joints: what a unit of impulse does to them, limits, springs. Every correction is a pair of equal impulses.

A turn at a joint is made with the joint held: the response of both limbs about an axis less what holding the joint
takes back (a Schur complement). Turned about the centres instead, the joint's own correction takes three quarters of
it back in a row of rods.
"""

import math

from .vectors import (
    add,
    cross,
    dot,
    inverse,
    length,
    nudge,
    product,
    put_inverse,
    quaternion,
    scaled,
    shorter,
    single,
    sub,
    symmetric,
    turned,
    vector,
)  # fmt: skip

# A call counts references to all arrays that it is handed: what is called for each joint or touch is handed few.


@single
def shift(x, q, inverse_mass, inertia, i, arm, p):
    """Move and turn limb i by an impulse p (kg m) at an arm (m) from its centre."""
    m = inverse_mass[i]
    x[i, 0] += m * p[0]
    x[i, 1] += m * p[1]
    x[i, 2] += m * p[2]
    nudge(q, i, symmetric(inertia, i, cross(arm, p)))


@single
def place_of(x, q, i, arm):
    """Where a place of a limb is in the world; arm in its own axes."""
    return add(vector(x, i), turned(quaternion(q, i), arm))


@single
def joint_response(response, j, inverse_mass, inertia, a, b, ra, rb):
    """Put into row j the inverse of what a unit of impulse at a joint moves its two ends apart."""
    m = inverse_mass[a] + inverse_mass[b]
    xx, xy, xz, yy, yz, zz = m, 0.0, 0.0, m, 0.0, m
    for i, r in ((a, ra), (b, rb)):
        # column k is (J (r x e_k)) x r
        c0 = cross(symmetric(inertia, i, (0.0, r[2], -r[1])), r)
        c1 = cross(symmetric(inertia, i, (-r[2], 0.0, r[0])), r)
        c2 = cross(symmetric(inertia, i, (r[1], -r[0], 0.0)), r)
        xx, xy, xz = xx + c0[0], xy + c0[1], xz + c0[2]
        yy, yz, zz = yy + c1[1], yz + c1[2], zz + c2[2]
    put_inverse(response, j, xx, xy, xz, yy, yz, zz)


@single
def held_response(inertia, response, j, a, b, ra, rb, n):
    """About a unit axis with the joint held: (turns of a and b, impulse at the joint, rad) for a unit of impulse."""
    ta, tb = symmetric(inertia, a, n), symmetric(inertia, b, n)
    g = add(cross(ta, ra), cross(tb, rb))
    p = scaled(symmetric(response, j, g), -1.0)
    return ta, tb, p, dot(ta, n) + dot(tb, n) + dot(g, p)


@single
def bend(x, q, inverse_mass, inertia, response, borne, j, a, b, ra, rb, n, angle):
    """Turn b against a about n by an angle, as a pair, with the joint held. What a limb that is driven bears of it is
    added to row j of `borne` (force and moment as impulses, on a)."""
    ta, tb, p, w = held_response(inertia, response, j, a, b, ra, rb, n)
    if w <= 0.0:
        return
    s = angle / w
    p = scaled(p, s)
    nudge(q, b, scaled(tb, s))
    nudge(q, a, scaled(ta, -s))
    shift(x, q, inverse_mass, inertia, b, rb, p)
    shift(x, q, inverse_mass, inertia, a, ra, scaled(p, -1.0))
    for k in range(3):
        borne[j, k] -= p[k]
        borne[j, 3 + k] -= s * n[k]


@single
def relative(q, frame_up, frame_own, j, a, b):
    """(the frame of joint j in limb a, in b, the turn from the one to the other by the shorter way)."""
    up = product(quaternion(q, a), quaternion(frame_up, j))
    own = product(quaternion(q, b), quaternion(frame_own, j))
    return up, own, shorter(product(inverse(up), own))


@single
def swing_of(q):
    return 2 * math.atan2(math.hypot(q[1], q[2]), math.hypot(q[0], q[3]))


@single
def twist_of(q):
    """Of a turn by the shorter way: within half a turn."""
    return 2 * math.atan2(q[0], q[3])


@single
def hold_limits(motion, figure, joints, inverse_mass, inertia, arms, response, borne, cone, reach, todo, more, past):
    """Turn joints of figures that are to do back to their limits; those that were past them by more than `past` rad
    are marked in `more`.

    cone, reach (j, 2) -- rad, and the squared sine of half the one and the tangent of half the other: of what is within
    no angle is told
    """
    x, q, frame_up, frame_own = motion.x, motion.q, joints.frame_up, joints.frame_own
    count = len(joints.own)
    for j in range(count):
        a, b = joints.up[j], joints.own[j]
        if not todo[figure[b]] or inverse_mass[a] + inverse_mass[b] == 0.0:
            continue
        up, own, r = relative(q, frame_up, frame_own, j, a, b)
        if r[1] * r[1] + r[2] * r[2] <= cone[j, 1] + 1e-18 and abs(r[0]) <= r[3] * reach[j, 1]:
            continue
        ra = (arms[0, j, 0], arms[0, j, 1], arms[0, j, 2])
        rb = (arms[1, j, 0], arms[1, j, 1], arms[1, j, 2])
        worst = 0.0
        tip = turned(r, (1.0, 0.0, 0.0))
        l = math.hypot(tip[1], tip[2])
        if r[1] * r[1] + r[2] * r[2] > cone[j, 1] + 1e-18 and l > 1e-9:
            worst = swing_of(r) - cone[j, 0]
            axis = turned(up, (0.0, -tip[2] / l, tip[1] / l))
            bend(x, q, inverse_mass, inertia, response, borne, j, a, b, ra, rb, axis, -worst)
            up, own, r = relative(q, frame_up, frame_own, j, a, b)
        if abs(r[0]) > r[3] * reach[j, 1]:
            # the twist changes by 2 / |n| of a turn about the mean n of both X
            twist, n = twist_of(r), add(turned(up, (1.0, 0.0, 0.0)), turned(own, (1.0, 0.0, 0.0)))
            l = length(n)
            if l > 0.2:
                back = reach[j, 0] - twist if twist > 0 else -reach[j, 0] - twist
                axis = scaled(n, 1 / l)
                bend(x, q, inverse_mass, inertia, response, borne, j, a, b, ra, rb, axis, back * l * 0.5)
                worst = max(worst, abs(back))
        if worst > past:
            more[figure[b]] = True


@single
def pull_springs(motion, inverse_mass, inertia, arms, response, borne, joints, springs, h):
    """Pull joints towards their poses for h seconds, each implicitly within its pair. They are damped later, by how
    fast they turn after all (`damp`): on the way there, what one does to the next would be taken for a rate."""
    for j in range(len(joints.own)):
        a, b = joints.up[j], joints.own[j]
        if springs.stiff[j] <= 0 or inverse_mass[a] + inverse_mass[b] == 0.0:
            continue
        up, own, _ = relative(motion.q, joints.frame_up, joints.frame_own, j, a, b)
        lacks = shorter(product(product(up, quaternion(springs.pose, j)), inverse(own)))
        stiff = h * h * springs.stiff[j]
        l = 2 * stiff * length((lacks[0], lacks[1], lacks[2]))
        if l > 1e-15:
            ra, rb = (arms[0, j, 0], arms[0, j, 1], arms[0, j, 2]), (arms[1, j, 0], arms[1, j, 1], arms[1, j, 2])
            n = scaled((lacks[0], lacks[1], lacks[2]), 2 * stiff / l)
            w = held_response(inertia, response, j, a, b, ra, rb, n)[3]
            bend(
                motion.x, motion.q, inverse_mass, inertia, response, borne, j, a, b, ra, rb, n, l * w / (1 + w * stiff)
            )  # fmt: skip


@single
def lift_of(x, q, before_x, before_q, springs, wanted, f, t0, t, h):
    """Put into row f of `wanted` (f, 6) the impulses (kg m, kg m2) by which the lifted limb of a figure would be pulled
    in h seconds if it stayed where it is; t0, t -- shares of the frame at which the step began and ends."""
    i, k, c = springs.root[f], springs.lift[f], springs.lift_damp[f]
    was, goes = springs.lift_before, springs.lift_now
    way = sub(vector(goes, f), vector(was, f))
    lacks = sub(add(vector(was, f), scaled(way, t)), vector(x, i))
    lacked = sub(add(vector(was, f), scaled(way, t0)), vector(before_x, i))
    turns = shorter(product(between_turns(was, goes, f, t), inverse(quaternion(q, i))))
    turned_before = shorter(product(between_turns(was, goes, f, t0), inverse(quaternion(before_q, i))))
    for s in range(3):
        wanted[f, s] = springs.lift_mass[f] * ((h * h * k + h * c) * lacks[s] - h * c * lacked[s])
        wanted[f, 3 + s] = 2 * springs.lift_inertia[f] * ((h * h * k + h * c) * turns[s] - h * c * turned_before[s])


@single
def between_turns(was, goes, f, t):
    """The turn a share t of the way from row f of the one to that of the other, the shorter way."""
    d = was[f, 3] * goes[f, 3] + was[f, 4] * goes[f, 4] + was[f, 5] * goes[f, 5] + was[f, 6] * goes[f, 6]
    sign = 1.0 if d >= 0 else -1.0
    x, y = was[f, 3] + t * (sign * goes[f, 3] - was[f, 3]), was[f, 4] + t * (sign * goes[f, 4] - was[f, 4])
    z, w = was[f, 5] + t * (sign * goes[f, 5] - was[f, 5]), was[f, 6] + t * (sign * goes[f, 6] - was[f, 6])
    s = 1 / math.sqrt(x * x + y * y + z * z + w * w)
    return x * s, y * s, z * s, w * s


@single
def joints_of_step(motion, bodies, joints, inverse_mass, inertia, arms, response):
    """Put the arms (j, 2, 3) m of all joints in the world and their responses for a small step."""
    for j in range(len(joints.own)):
        a, b = joints.up[j], joints.own[j]
        if inverse_mass[a] + inverse_mass[b] == 0.0:
            continue
        ra = turned(quaternion(motion.q, a), vector(joints.arm_up, j))
        rb = turned(quaternion(motion.q, b), vector(joints.arm_own, j))
        for s in range(3):
            arms[0, j, s], arms[1, j, s] = ra[s], rb[s]
        joint_response(response, j, inverse_mass, inertia, a, b, ra, rb)


@single
def gap_of(x, q, arm_up, arm_own, j, a, b):
    """(3,) m from the end of the lower limb to that of the upper one."""
    return sub(place_of(x, q, a, vector(arm_up, j)), place_of(x, q, b, vector(arm_own, j)))
