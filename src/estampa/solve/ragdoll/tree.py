"""All joints of all figures closed at once: a direct solve along the trees, from the tips to the roots and back.

Each limb, with all that hangs on it, is to the one above it a mass that is felt at their joint (the articulated inertia
of R. Featherstone 1983, here for joints that may turn any way and are apart by a gap). One pass closes them to the
second order, however long a row of limbs is and however light some of them are.
"""

import math
from typing import NamedTuple

import numpy as np

from .joints import gap_of
from .vectors import add, cross, nudge, put, quaternion, single, sub, turned, vector

FIXED = 1e9  # times what it weighs, that a driven limb counts for


class Tree(NamedTuple):
    """Factors of a small step, and room for its solves."""

    factor: np.ndarray  # (b, 6, 6) lower Cholesky factors of what each limb is, with all that hangs on it
    felt: np.ndarray  # (j, 3, 3) kg, what the limb below is at the joint to the one above
    load: np.ndarray  # (b, 6)
    lag: np.ndarray  # (j, 3) m, where the lower limb's end would go by itself
    step: np.ndarray  # (b, 6) m and rad, how each limb moves


@single
def room(limbs, ties):
    return Tree(
        np.zeros((limbs, 6, 6)), np.zeros((ties, 3, 3)), np.zeros((limbs, 6)), np.zeros((ties, 3)),
        np.zeros((limbs, 6)),
    )  # fmt: skip


@single
def _factored(m):
    """Make a (6, 6) matrix its lower Cholesky factor."""
    for i in range(6):
        for j in range(i + 1):
            s = m[i, j]
            for k in range(j):
                s -= m[i, k] * m[j, k]
            m[i, j] = math.sqrt(max(s, 1e-300)) if i == j else s / m[j, j]


@single
def _solved(factor, v):
    """Solve for a vector (6,) in place."""
    for i in range(6):
        s = v[i]
        for k in range(i):
            s -= factor[i, k] * v[k]
        v[i] = s / factor[i, i]
    for i in range(5, -1, -1):
        s = v[i]
        for k in range(i + 1, 6):
            s -= factor[k, i] * v[k]
        v[i] = s / factor[i, i]


@single
def _at(step, i, arm):
    """m that a place of a limb moves."""
    return add(vector(step, i), cross((step[i, 3], step[i, 4], step[i, 5]), arm))


@single
def _inverted(m, s):
    """Put the inverse of a symmetric matrix s (3, 3) into m."""
    a, b, c, d, e, f = s[0, 0], s[0, 1], s[0, 2], s[1, 1], s[1, 2], s[2, 2]
    x, y, z = d * f - e * e, c * e - b * f, b * e - c * d
    w = 1 / (a * x + b * y + c * z)
    m[0, 0], m[0, 1], m[0, 2] = x * w, y * w, z * w
    m[1, 0], m[1, 1], m[1, 2] = y * w, (a * f - c * c) * w, (b * c - a * e) * w
    m[2, 0], m[2, 1], m[2, 2] = z * w, m[1, 2], (a * d - b * b) * w


@single
def factor(tree, motion, bodies, joints, inverse_mass, arms):
    """Work the factors out for limbs as they stand. inverse_mass (b,) is 0 for what is driven or sleeps"""
    for i in range(len(motion.x)):
        heavy = FIXED if inverse_mass[i] == 0.0 else 1.0
        mass = heavy / bodies.inverse_mass[i] if bodies.inverse_mass[i] > 0 else FIXED
        q, own = quaternion(motion.q, i), vector(bodies.inverse_inertia, i)
        for r in range(6):
            for s in range(6):
                tree.factor[i, r, s] = 0.0
        for r in range(3):
            tree.factor[i, r, r] = mass
        for k in range(3):
            axis = turned(q, (1.0 if k == 0 else 0.0, 1.0 if k == 1 else 0.0, 1.0 if k == 2 else 0.0))
            for r in range(3):
                for s in range(3):
                    tree.factor[i, 3 + r, 3 + s] += heavy / own[k] * axis[r] * axis[s]
    place, v = np.empty((3, 3)), np.empty(6)
    for j in range(len(joints.own) - 1, -1, -1):
        a, b = joints.up[j], joints.own[j]
        _factored(tree.factor[b])
        ra, rb = vector(arms[0], j), vector(arms[1], j)
        for k in range(3):  # m that its end moves for a unit of impulse along each axis
            e = (1.0 if k == 0 else 0.0, 1.0 if k == 1 else 0.0, 1.0 if k == 2 else 0.0)
            m = cross(rb, e)
            for s in range(3):
                v[s], v[3 + s] = e[s], m[s]
            _solved(tree.factor[b], v)
            way = add((v[0], v[1], v[2]), cross((v[3], v[4], v[5]), rb))
            for s in range(3):
                place[s, k] = way[s]
        _inverted(tree.felt[j], place)
        _hang(tree.factor[a], tree.felt[j], ra)
    for i in range(len(motion.x)):
        if not _hangs(joints, i):
            _factored(tree.factor[i])


@single
def _hangs(joints, i):
    for j in range(len(joints.own)):
        if joints.own[j] == i:
            return True
    return False


@single
def _hang(m, felt, arm):
    """Add to a limb's matrix m (6, 6) a mass `felt` (3, 3) at an arm: T' C T with T = [1, -[arm]]."""
    cross_arm = np.zeros((3, 3))
    for k in range(3):
        e = (1.0 if k == 0 else 0.0, 1.0 if k == 1 else 0.0, 1.0 if k == 2 else 0.0)
        c = cross(e, arm)  # how the place moves when the limb turns about an axis
        for s in range(3):
            cross_arm[s, k] = c[s]
    for r in range(3):
        for s in range(3):
            m[r, s] += felt[r, s]
            low, both = 0.0, 0.0
            for k in range(3):
                low += cross_arm[k, r] * felt[k, s]
                for l in range(3):
                    both += cross_arm[k, r] * felt[k, l] * cross_arm[l, s]
            m[3 + r, s] += low
            m[s, 3 + r] += low
            m[3 + r, 3 + s] += both


@single
def close(tree, motion, bodies, joints, inverse_mass, arms, borne, todo):
    """Close the gaps of all joints of figures that are to do; what driven limbs bear goes into `borne`."""
    tree.load[:] = 0.0
    v = np.empty(6)
    for j in range(len(joints.own) - 1, -1, -1):
        a, b = joints.up[j], joints.own[j]
        if not todo[bodies.figure[b]]:
            continue
        for s in range(6):
            v[s] = tree.load[b, s]
        _solved(tree.factor[b], v)
        lag = add((v[0], v[1], v[2]), cross((v[3], v[4], v[5]), vector(arms[1], j)))
        put(tree.lag, j, lag)
        force = _times(tree.felt[j], sub(gap_of(motion, joints, j, a, b), lag))
        _bear(tree.load, a, vector(arms[0], j), force, -1.0)
    for i in range(len(motion.x)):
        if todo[bodies.figure[i]] and not _hangs(joints, i):
            _move(tree, i)
    for j in range(len(joints.own)):
        a, b = joints.up[j], joints.own[j]
        if not todo[bodies.figure[b]]:
            continue
        went = _at(tree.step, a, vector(arms[0], j))
        force = _times(tree.felt[j], sub(add(went, gap_of(motion, joints, j, a, b)), vector(tree.lag, j)))
        _bear(tree.load, b, vector(arms[1], j), force, 1.0)
        _move(tree, b)
        for s in range(3):
            borne[j, s] -= force[s]
    for i in range(len(motion.x)):
        if todo[bodies.figure[i]] and inverse_mass[i] > 0:
            put(motion.x, i, add(vector(motion.x, i), vector(tree.step, i)))
            nudge(motion.q, i, (tree.step[i, 3], tree.step[i, 4], tree.step[i, 5]))


@single
def _times(m, v):
    return (
        m[0, 0] * v[0] + m[0, 1] * v[1] + m[0, 2] * v[2], m[1, 0] * v[0] + m[1, 1] * v[1] + m[1, 2] * v[2],
        m[2, 0] * v[0] + m[2, 1] * v[1] + m[2, 2] * v[2],
    )  # fmt: skip


@single
def _bear(load, i, arm, force, sign):
    m = cross(arm, force)
    for s in range(3):
        load[i, s] += sign * force[s]
        load[i, 3 + s] += sign * m[s]


@single
def _move(tree, i):
    for s in range(6):
        tree.step[i, s] = tree.load[i, s]
    _solved(tree.factor[i], tree.step[i])
