"""The energy of figures, and the guard: those that touch may not end a small step with more than they had and were
given by what is driven.

Where limits and touches cannot all be kept, what is left over of the corrections would become speed (a jammed limb:
405 J in one of 300 falls). It is taken from how the figures move within themselves; only where that is too little, from
all of it; and where a weight was lifted by corrections alone, the step is not taken.
"""

import math
from typing import NamedTuple

import numpy as np

from .joints import relative
from .vectors import (
    add,
    angle_of,
    dot,
    inverse,
    length,
    product,
    put,
    put_turn,
    quaternion,
    scaled,
    single,
    sub,
    turned,
    vector,
)  # fmt: skip

SPARED = 1e-6  # of weight times height, that rounding and touches may give in a step: less would hold what balances
LED = 1e-4  # the same where a figure is lifted: what lifts it and its joints' springs act one after another
LIFTED = 2e-5  # of weight times height, by which a step may rise without any speed to take it from


class Energies(NamedTuple):
    """Of f figures."""

    all: np.ndarray  # (f,) J, of motion, of height, of springs
    inner: np.ndarray  # (f,) J, of motion about the centre of each
    speed: np.ndarray  # (f, 3) m/s of the centre
    mass: np.ndarray  # (f,) kg, of what is not driven


@single
def none(count):
    return Energies(np.zeros(count), np.zeros(count), np.zeros((count, 3)), np.zeros(count))


@single
def tell(found, motion, bodies, joints, springs, pull):
    """Put the energies of all figures into `found`. pull (b, 3) m/s2, what each limb feels"""
    found.all[:] = 0.0
    found.inner[:] = 0.0
    found.speed[:] = 0.0
    found.mass[:] = 0.0
    for i in range(len(motion.x)):
        if bodies.inverse_mass[i] == 0.0:
            continue
        f, mass = bodies.figure[i], 1 / bodies.inverse_mass[i]
        w, v = turned(inverse(quaternion(motion.q, i)), vector(motion.w, i)), vector(motion.v, i)
        own = bodies.inverse_inertia
        e = 0.5 * (w[0] * w[0] / own[i, 0] + w[1] * w[1] / own[i, 1] + w[2] * w[2] / own[i, 2] + mass * dot(v, v))
        found.all[f] += e - mass * dot(vector(pull, i), vector(motion.x, i))
        found.inner[f] += e
        found.mass[f] += mass
        put(found.speed, f, add(vector(found.speed, f), scaled(v, mass)))
    for f in range(len(found.all)):
        if found.mass[f] > 0:
            put(found.speed, f, scaled(vector(found.speed, f), 1 / found.mass[f]))
            found.inner[f] -= 0.5 * found.mass[f] * dot(vector(found.speed, f), vector(found.speed, f))
    for j in range(len(joints.own)):
        if springs.stiff[j] > 0:
            q = relative(motion.q, joints.frame_up, joints.frame_own, j, joints.up[j], joints.own[j])[2]
            angle = angle_of(product(q, inverse(quaternion(springs.pose, j))))
            found.all[bodies.figure[joints.own[j]]] += 0.5 * springs.stiff[j] * angle * angle


@single
def work_of_driven(given, motion, before, bodies, joints, springs, touches, count, borne, lifted, leads, h):
    """Put into `given` (f,) J what driven limbs, lifting springs, what leads and moving solids did to each figure in a
    small step of h seconds. before -- how limbs stood as it began"""
    given[:] = 0.0
    for j in range(len(joints.own)):
        a, b = joints.up[j], joints.own[j]
        if (bodies.inverse_mass[a] == 0.0) == (bodies.inverse_mass[b] == 0.0):
            continue
        driven, sign = (a, -1.0) if bodies.inverse_mass[a] == 0.0 else (b, 1.0)
        arms = joints.arm_up if driven == a else joints.arm_own
        arm = turned(quaternion(motion.q, driven), vector(arms, j))
        old = turned(quaternion(before.q, driven), vector(arms, j))
        went = sub(add(vector(motion.x, driven), arm), add(vector(before.x, driven), old))
        q = product(quaternion(motion.q, driven), inverse(quaternion(before.q, driven)))
        turn = scaled((q[0], q[1], q[2]), 2.0 if q[3] >= 0 else -2.0)
        force, moment = (borne[j, 0], borne[j, 1], borne[j, 2]), (borne[j, 3], borne[j, 4], borne[j, 5])
        given[bodies.figure[joints.own[j]]] += sign * (dot(force, went) + dot(moment, turn)) / (h * h)
    for i in range(len(motion.x)):
        if springs.led[bodies.figure[i]] > 0.0 and bodies.inverse_mass[i] > 0.0:
            old = quaternion(before.q, i)
            q = product(quaternion(motion.q, i), inverse(old))
            turn = turned(inverse(old), scaled((q[0], q[1], q[2]), 2.0 if q[3] >= 0 else -2.0))
            bend = turned(inverse(old), (leads[i, 3], leads[i, 4], leads[i, 5]))
            went, own = sub(vector(motion.x, i), vector(before.x, i)), bodies.inverse_inertia
            done = dot((leads[i, 0], leads[i, 1], leads[i, 2]), went) / bodies.inverse_mass[i]
            for s in range(3):
                done += bend[s] * turn[s] / own[i, s]
            given[bodies.figure[i]] += done
    for f in range(len(given)):
        i = springs.root[f]
        if springs.lift[f] > 0:
            q = product(quaternion(motion.q, i), inverse(quaternion(before.q, i)))
            turn = scaled((q[0], q[1], q[2]), 2.0 if q[3] >= 0 else -2.0)
            went = sub(vector(motion.x, i), vector(before.x, i))
            force, moment = (lifted[f, 0], lifted[f, 1], lifted[f, 2]), (lifted[f, 3], lifted[f, 4], lifted[f, 5])
            given[f] += (dot(force, went) + dot(moment, turn)) / (h * h)
    for c in range(count):
        if touches.pushed[c] <= 0:
            continue
        a, b = touches.who[c, 0], touches.who[c, 1]
        n, force = vector(touches.normal, c), touches.pushed[c] / (h * h)
        given[bodies.figure[b]] += force * touches.out[c]
        if a < 0:
            place = (touches.arm[c, 0, 0], touches.arm[c, 0, 1], touches.arm[c, 0, 2])
            given[bodies.figure[b]] += _of_touch(sub(place, vector(touches.before, c)), n, force, touches.rub[c])
            continue
        for side in range(2):
            driven = touches.who[c, side]
            if bodies.inverse_mass[driven] == 0.0:
                arm = (touches.arm[c, side, 0], touches.arm[c, side, 1], touches.arm[c, side, 2])
                here = add(vector(motion.x, driven), turned(quaternion(motion.q, driven), arm))
                old = add(vector(before.x, driven), turned(quaternion(before.q, driven), arm))
                n = n if side == 0 else scaled(n, -1.0)
                other = b if side == 0 else a
                given[bodies.figure[other]] += _of_touch(sub(here, old), n, force, touches.rub[c])


@single
def _of_touch(went, n, force, rub):
    """J that what moves can do at the most by pushing, and by rubbing along."""
    along = dot(went, n)
    return max(0.0, force * along) + rub * force * length(sub(went, scaled(n, along)))


@single
def islands(island, bodies, touches, count):
    """Put into `island` (f,) the least figure of all that touch one another."""
    for f in range(len(island)):
        island[f] = f
    for c in range(count):
        a = touches.who[c, 0]
        if a < 0 or touches.pushed[c] <= 0:
            continue
        one, other = island[bodies.figure[a]], island[bodies.figure[touches.who[c, 1]]]
        if one != other:
            for f in range(len(island)):
                if island[f] == max(one, other):
                    island[f] = min(one, other)


@single
def guard(motion, before, bodies, springs, was, now, given, island, weight):
    """Take away what an island of figures has more than it had and was given.

    was, now -- Energies as the step began and ended; weight (f,) J, of mass, pull and size
    """
    for f in range(len(island)):
        if island[f] != f:
            continue
        extra, inner, outer, heavy = 0.0, 1e-12, 1e-12, 0.0
        for o in range(len(island)):
            if island[o] == f:
                v = vector(now.speed, o)
                extra += now.all[o] - was.all[o] - given[o]
                inner += now.inner[o]
                outer += 0.5 * now.mass[o] * dot(v, v)
                heavy += weight[o]
                extra -= (LED if springs.lift[o] + springs.led[o] > 0 else SPARED) * weight[o]
        if extra <= 0.0:
            continue
        within = math.sqrt(max(0.0, 1 - extra / inner))
        along = 1.0 if extra < inner else math.sqrt(max(0.0, 1 - (extra - inner) / outer))
        undone = extra > inner + outer + LIFTED * heavy
        for i in range(len(motion.x)):
            o = bodies.figure[i]
            if island[o] != f or bodies.inverse_mass[i] == 0.0:
                continue
            if undone:
                put(motion.x, i, vector(before.x, i))
                put_turn(motion.q, i, quaternion(before.q, i))
            v = vector(now.speed, o)
            put(motion.v, i, add(scaled(v, along), scaled(sub(vector(motion.v, i), v), within)))
            put(motion.w, i, scaled(vector(motion.w, i), within))
