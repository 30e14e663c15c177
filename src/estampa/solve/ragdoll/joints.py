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
    put,
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


@single
def shift(motion, inverse_mass, inertia, i, arm, p):
    """Move and turn limb i by an impulse p (kg m) at an arm (m) from its centre."""
    x, m = motion.x, inverse_mass[i]
    x[i, 0] += m * p[0]
    x[i, 1] += m * p[1]
    x[i, 2] += m * p[2]
    nudge(motion.q, i, symmetric(inertia, i, cross(arm, p)))


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
def bend(motion, inverse_mass, inertia, response, borne, j, a, b, ra, rb, n, angle):
    """Turn b against a about n by an angle, as a pair, with the joint held. What a limb that is driven bears of it is
    added to row j of `borne` (force and moment as impulses, on a)."""
    ta, tb, p, w = held_response(inertia, response, j, a, b, ra, rb, n)
    if w <= 0.0:
        return
    s = angle / w
    p = scaled(p, s)
    nudge(motion.q, b, scaled(tb, s))
    nudge(motion.q, a, scaled(ta, -s))
    shift(motion, inverse_mass, inertia, b, rb, p)
    shift(motion, inverse_mass, inertia, a, ra, scaled(p, -1.0))
    for k in range(3):
        borne[j, k] -= p[k]
        borne[j, 3 + k] -= s * n[k]


@single
def relative(q, joints, j, a, b):
    """(the frame of the joint in a, in b, the turn from the one to the other by the shorter way)."""
    up = product(quaternion(q, a), quaternion(joints.frame_up, j))
    own = product(quaternion(q, b), quaternion(joints.frame_own, j))
    return up, own, shorter(product(inverse(up), own))


@single
def swing_of(q):
    return 2 * math.atan2(math.hypot(q[1], q[2]), math.hypot(q[0], q[3]))


@single
def twist_of(q):
    """Of a turn by the shorter way: within half a turn."""
    return 2 * math.atan2(q[0], q[3])


@single
def limit(motion, inverse_mass, inertia, response, borne, joints, j, a, b, ra, rb, cone, reach):
    """Turn a joint back to its limits; returns how far it was past them (rad)."""
    past = 0.0
    up, own, q = relative(motion.q, joints, j, a, b)
    swing = swing_of(q)
    if swing > cone and swing > 1e-9:
        x = turned(q, (1.0, 0.0, 0.0))
        l = math.hypot(x[1], x[2])
        if l > 1e-9:
            past = swing - cone
            axis = turned(up, (0.0, -x[2] / l, x[1] / l))
            bend(motion, inverse_mass, inertia, response, borne, j, a, b, ra, rb, axis, -past)
            up, own, q = relative(motion.q, joints, j, a, b)
    twist = twist_of(q)
    if abs(twist) > reach:
        # the twist changes by 2 / |n| of a turn about the mean n of both X
        n = add(turned(up, (1.0, 0.0, 0.0)), turned(own, (1.0, 0.0, 0.0)))
        l = length(n)
        if l > 0.2:
            back = reach - twist if twist > 0 else -reach - twist
            bend(motion, inverse_mass, inertia, response, borne, j, a, b, ra, rb, scaled(n, 1 / l), back * l * 0.5)
            past = max(past, abs(back))
    return past


@single
def spring_joint(motion, before, inverse_mass, inertia, response, borne, joints, springs, j, a, b, ra, rb, h):
    """Pull a joint towards its pose for h seconds, implicitly within its pair. before -- turns as the step began"""
    stiff, damp = springs.stiff[j], springs.damp[j]
    pose = quaternion(springs.pose, j)
    up, own, _ = relative(motion.q, joints, j, a, b)
    lacks = shorter(product(product(up, pose), inverse(own)))
    up, own, _ = relative(before, joints, j, a, b)
    lacked = shorter(product(product(up, pose), inverse(own)))
    d = (0.0, 0.0, 0.0)
    for lack, times in ((lacks, 2 * (h * h * stiff + h * damp)), (lacked, -2 * h * damp)):
        d = add(d, scaled((lack[0], lack[1], lack[2]), times))
    l = length(d)
    if l > 1e-15:
        n = scaled(d, 1 / l)
        w = held_response(inertia, response, j, a, b, ra, rb, n)[3]
        turn = l * w / (1 + w * (h * h * stiff + h * damp))
        bend(motion, inverse_mass, inertia, response, borne, j, a, b, ra, rb, n, turn)


@single
def lift_root(motion, bodies, inertia, springs, before_x, before_q, lifted, f, t0, t, h):
    """Pull the lifted limb of a figure, by a spring that bears all of its mass, to where it is wanted. What that took
    is put into row f of `lifted` (force and moment as impulses)."""
    i, mass, about = springs.root[f], springs.lift_mass[f], springs.lift_inertia[f]
    k, c = springs.lift[f], springs.lift_damp[f]
    was, goes = springs.lift_before[f], springs.lift_now[f]
    lacks, lacked = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
    for late in range(2):
        share = t if late == 1 else t0
        here = vector(motion.x, i) if late == 1 else vector(before_x, i)
        way = sub(vector(springs.lift_now, f), vector(springs.lift_before, f))
        there = add(vector(springs.lift_before, f), scaled(way, share))
        if late == 1:
            lacks = sub(there, here)
        else:
            lacked = sub(there, here)
    d = add(scaled(lacks, mass * (h * h * k + h * c)), scaled(lacked, -mass * h * c))
    p = scaled(d, 1 / (1 + bodies.inverse_mass[i] * mass * (h * h * k + h * c)))
    put(motion.x, i, add(vector(motion.x, i), scaled(p, bodies.inverse_mass[i])))
    turn_lacks = shorter(product(_between_turns(was, goes, t), inverse(quaternion(motion.q, i))))
    turn_lacked = shorter(product(_between_turns(was, goes, t0), inverse(quaternion(before_q, i))))
    d = scaled((turn_lacks[0], turn_lacks[1], turn_lacks[2]), 2 * about * (h * h * k + h * c))
    d = add(d, scaled((turn_lacked[0], turn_lacked[1], turn_lacked[2]), -2 * about * h * c))
    l = length(d)
    if l > 1e-15:
        n = scaled(d, 1 / l)
        m = scaled(n, l / (1 + dot(n, symmetric(inertia, i, n)) * about * (h * h * k + h * c)))
        nudge(motion.q, i, symmetric(inertia, i, m))
        for s in range(3):
            lifted[f, 3 + s] = m[s]
    for s in range(3):
        lifted[f, s] = p[s]


@single
def _between_turns(was, goes, t):
    """The turn a share t of the way from the one to the other, the shorter way."""
    sign = 1.0 if was[3] * goes[3] + was[4] * goes[4] + was[5] * goes[5] + was[6] * goes[6] >= 0 else -1.0
    x, y = was[3] + t * (sign * goes[3] - was[3]), was[4] + t * (sign * goes[4] - was[4])
    z, w = was[5] + t * (sign * goes[5] - was[5]), was[6] + t * (sign * goes[6] - was[6])
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
        put(arms[0], j, ra)
        put(arms[1], j, rb)
        joint_response(response, j, inverse_mass, inertia, a, b, ra, rb)


@single
def gap_of(motion, joints, j, a, b):
    """(3,) m from the end of the lower limb to that of the upper one."""
    up = add(vector(motion.x, a), turned(quaternion(motion.q, a), vector(joints.arm_up, j)))
    own = add(vector(motion.x, b), turned(quaternion(motion.q, b), vector(joints.arm_own, j)))
    return sub(up, own)
