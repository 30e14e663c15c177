"""Figures that are led back to their pose: how fast each limb must be sped up so that the uppermost one and every joint
go there as damped springs do, whatever hangs on them (computed torque, as in R. M. Murray, Z. Li, S. S. Sastry 1994, "A
mathematical introduction to robotic manipulation", section 4.5).

Springs with a stiffness answer to what hangs on them, and what pulls at the root to all of it: together they throw a
figure about. Here the rates are told, and what they take follows from them.
"""

import math

from .joints import between_turns, relative
from .vectors import (
    add,
    cross,
    inverse,
    length,
    product,
    quaternion,
    scaled,
    shorter,
    single,
    sub,
    turned,
    vector,
)  # fmt: skip


@single
def lead(found, motion, bodies, joints, springs, t, whole):
    """Put into `found` (b, 6) m/s2 and rad/s2 what limbs of figures that are led are sped up by, at a share t of a
    frame of `whole` seconds; nothing for others."""
    found[:] = 0.0
    x, q, v, w = motion.x, motion.q, motion.v, motion.w
    was, goes = springs.lift_before, springs.lift_now
    for f in range(len(springs.led)):
        rate = springs.led[f]
        if rate <= 0.0:
            continue
        i, damp = springs.root[f], 2 * springs.ratio[f] * rate
        way = sub(vector(goes, f), vector(was, f))
        lacks = sub(add(vector(was, f), scaled(way, t)), vector(x, i))
        pull = add(scaled(lacks, rate * rate), scaled(sub(scaled(way, 1 / whole), vector(v, i)), damp))
        turn = _by_turn(product(between_turns(was, goes, f, t), inverse(quaternion(q, i))))
        first, last = between_turns(was, goes, f, 0.0), between_turns(was, goes, f, 1.0)
        spin = scaled(_by_turn(product(last, inverse(first))), 1 / whole)
        bend = add(scaled(turn, rate * rate), scaled(sub(spin, vector(w, i)), damp))
        _put(found, i, pull, bend)
    for j in range(len(joints.own)):
        a, b = joints.up[j], joints.own[j]
        f = bodies.figure[b]
        if springs.led[f] <= 0.0:
            continue
        rate, damp = springs.rate[j], 2 * springs.ratio[f] * springs.rate[j]
        up, own, _ = relative(q, joints.frame_up, joints.frame_own, j, a, b)
        first, last = quaternion(springs.pose_before, j), quaternion(springs.pose, j)
        goal = _mixed(first, last, t)
        turn = _by_turn(product(product(up, goal), inverse(own)))
        spin = turned(up, scaled(_by_turn(product(last, inverse(first))), 1 / whole))
        past = sub(vector(w, b), vector(w, a))
        bend = add(
            (found[a, 3], found[a, 4], found[a, 5]), add(scaled(turn, rate * rate), scaled(sub(spin, past), damp))
        )
        ra, rb = turned(quaternion(q, a), vector(joints.arm_up, j)), turned(quaternion(q, b), vector(joints.arm_own, j))
        at = add((found[a, 0], found[a, 1], found[a, 2]), _swung((found[a, 3], found[a, 4], found[a, 5]), w, a, ra))
        _put(found, b, sub(at, _swung(bend, w, b, rb)), bend)


@single
def _swung(spun, w, i, arm):
    """m/s2 of a place of a limb about its centre, that turns ever faster by `spun`."""
    own = vector(w, i)
    return add(cross(spun, arm), cross(own, cross(own, arm)))


@single
def _by_turn(q):
    """rad, the vector of a turn by the shorter way."""
    d = shorter(q)
    l = length((d[0], d[1], d[2]))
    return scaled((d[0], d[1], d[2]), 2.0 if l < 1e-9 else 2 * math.atan2(l, d[3]) / l)


@single
def _mixed(a, b, t):
    sign = 1.0 if a[0] * b[0] + a[1] * b[1] + a[2] * b[2] + a[3] * b[3] >= 0 else -1.0
    x, y = (1 - t) * a[0] + t * sign * b[0], (1 - t) * a[1] + t * sign * b[1]
    z, w = (1 - t) * a[2] + t * sign * b[2], (1 - t) * a[3] + t * sign * b[3]
    s = 1 / math.sqrt(x * x + y * y + z * z + w * w)
    return x * s, y * s, z * s, w * s


@single
def _put(found, i, pull, bend):
    for s in range(3):
        found[i, s], found[i, 3 + s] = pull[s], bend[s]
