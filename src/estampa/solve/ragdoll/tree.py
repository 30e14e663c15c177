"""All joints of all figures closed at once: a direct solve along the trees, from the tips to the roots and back.

Each limb, with all that hangs on it, is to the one above it a mass that is felt at their joint (the articulated inertia
of R. Featherstone 1983, here for joints that may turn any way and are apart by a gap). One pass closes them to the
second order, however long a row of limbs is and however light some of them are.
"""

import math
from typing import NamedTuple

import numpy as np

from .joints import gap_of
from .vectors import add, cross, dot, nudge, put, quaternion, single, sub, turned, vector

FIXED = 1e9  # times what it weighs, that a driven limb counts for


class Tree(NamedTuple):
    """Factors of a small step, and room for its solves."""

    factor: np.ndarray  # (b, 6, 6) lower Cholesky factors of what each limb is, with all that hangs on it
    felt: np.ndarray  # (j, 3, 3) kg, what the limb below is at the joint to the one above
    load: np.ndarray  # (b, 6)
    gap: np.ndarray  # (j, 3) m, from the lower limb's end to the upper one's
    lag: np.ndarray  # (j, 3) m, where the lower limb's end would go by itself
    step: np.ndarray  # (b, 6) m and rad, how each limb moves
    root: np.ndarray  # (b,) bool, which hang on nothing
    lifted: np.ndarray  # (f, 6, 6) the factors of roots that are lifted, with the springs that lift them


@single
def room(limbs, joints, figures):
    ties, root = len(joints.own), np.ones(limbs, np.bool_)
    for j in range(ties):
        root[joints.own[j]] = False
    return Tree(
        np.zeros((limbs, 6, 6)), np.zeros((ties, 3, 3)), np.zeros((limbs, 6)), np.zeros((ties, 3)), np.zeros((ties, 3)),
        np.zeros((limbs, 6)), root, np.zeros((figures, 6, 6)),
    )  # fmt: skip


@single
def _factored(rows, b):
    """Make matrix b of rows (.., 6, 6) its lower Cholesky factor, with the diagonal inverted."""
    for i in range(6):
        for j in range(i + 1):
            s = rows[b, i, j]
            for k in range(j):
                s -= rows[b, i, k] * rows[b, j, k]
            rows[b, i, j] = 1 / math.sqrt(max(s, 1e-300)) if i == j else s * rows[b, j, j]


@single
def _solved(rows, b, vectors, n):
    """Solve matrix b for row n of vectors (.., 6) in place. Rows are named by numbers: a view counts references."""
    for i in range(6):
        s = vectors[n, i]
        for k in range(i):
            s -= rows[b, i, k] * vectors[n, k]
        vectors[n, i] = s * rows[b, i, i]
    for i in range(5, -1, -1):
        s = vectors[n, i]
        for k in range(i + 1, 6):
            s -= rows[b, k, i] * vectors[n, k]
        vectors[n, i] = s * rows[b, i, i]


@single
def _at(step, i, arm):
    """m that a place of a limb moves."""
    return add(vector(step, i), cross((step[i, 3], step[i, 4], step[i, 5]), arm))


@single
def _inverted(rows, j, s):
    """Put the inverse of a symmetric matrix s (3, 3) into matrix j of rows."""
    a, b, c, d, e, f = s[0, 0], s[0, 1], s[0, 2], s[1, 1], s[1, 2], s[2, 2]
    x, y, z = d * f - e * e, c * e - b * f, b * e - c * d
    w = 1 / (a * x + b * y + c * z)
    rows[j, 0, 0], rows[j, 0, 1], rows[j, 0, 2] = x * w, y * w, z * w
    rows[j, 1, 0], rows[j, 1, 1], rows[j, 1, 2] = y * w, (a * f - c * c) * w, (b * c - a * e) * w
    rows[j, 2, 0], rows[j, 2, 1], rows[j, 2, 2] = z * w, rows[j, 1, 2], (a * d - b * b) * w


@single
def factor(tree, motion, bodies, joints, springs, inverse_mass, arms, h):
    """Work the factors out for limbs as they stand, for a step of h seconds. inverse_mass (b,) is 0 for what is driven
    or sleeps"""
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
    place, v = np.empty((3, 3)), np.empty((1, 6))
    for j in range(len(joints.own) - 1, -1, -1):
        a, b = joints.up[j], joints.own[j]
        _factored(tree.factor, b)
        ra = (arms[0, j, 0], arms[0, j, 1], arms[0, j, 2])
        rb = (arms[1, j, 0], arms[1, j, 1], arms[1, j, 2])
        for k in range(3):  # m that its end moves for a unit of impulse along each axis
            e = (1.0 if k == 0 else 0.0, 1.0 if k == 1 else 0.0, 1.0 if k == 2 else 0.0)
            m = cross(rb, e)
            for s in range(3):
                v[0, s], v[0, 3 + s] = e[s], m[s]
            _solved(tree.factor, b, v, 0)
            way = _at(v, 0, rb)
            for s in range(3):
                place[s, k] = way[s]
        _inverted(tree.felt, j, place)
        _hang(tree.factor, a, tree.felt, j, ra)
    for f in range(len(springs.lift)):
        if springs.lift[f] > 0:
            i, stiff = springs.root[f], h * h * springs.lift[f] + h * springs.lift_damp[f]
            for r in range(6):
                for s in range(6):
                    tree.lifted[f, r, s] = tree.factor[i, r, s]
                tree.lifted[f, r, r] += stiff * (springs.lift_mass[f] if r < 3 else springs.lift_inertia[f])
            _factored(tree.lifted, f)
    for i in range(len(motion.x)):
        if tree.root[i]:
            _factored(tree.factor, i)


@single
def _hang(rows, a, felt, j, arm):
    """Add to matrix a of rows the mass of matrix j of `felt` at an arm: T' C T with T = [1, -[arm]]."""
    for s in range(3):
        low = cross(arm, (felt[j, 0, s], felt[j, 1, s], felt[j, 2, s]))  # [arm] C, a column of the lower left
        for r in range(3):
            rows[a, r, s] += felt[j, r, s]
            rows[a, 3 + r, s] += low[r]
            rows[a, s, 3 + r] += low[r]
    for r in range(3):
        # a row of [arm] C, crossed once more: [arm] C [arm]'
        e = (1.0 if r == 0 else 0.0, 1.0 if r == 1 else 0.0, 1.0 if r == 2 else 0.0)
        side = cross(e, arm)
        c = _times(felt, j, side)
        both = cross(arm, c)
        for s in range(3):
            rows[a, 3 + s, 3 + r] += both[s]


@single
def close(tree, motion, bodies, joints, springs, inverse_mass, arms, borne, wanted, lifts, todo, more, near, h):
    """Close the gaps of all joints of figures that are to do; what driven limbs bear goes into `borne`. Figures with a
    gap of more than a tenth of `near` (f,) m are marked in `more`.

    lifts -- whether figures are lifted too, by `wanted` (f, 6) of `joints.lift_of`: once in a small step, with all that
    hangs on a root; what that took is put into `wanted`
    """
    tree.load[:] = 0.0
    v = np.empty((1, 6))
    for j in range(len(joints.own) - 1, -1, -1):
        a, b = joints.up[j], joints.own[j]
        if not todo[bodies.figure[b]]:
            continue
        for s in range(6):
            v[0, s] = tree.load[b, s]
        _solved(tree.factor, b, v, 0)
        lag = _at(v, 0, (arms[1, j, 0], arms[1, j, 1], arms[1, j, 2]))
        put(tree.lag, j, lag)
        gap = gap_of(motion.x, motion.q, joints.arm_up, joints.arm_own, j, a, b)
        put(tree.gap, j, gap)
        if dot(gap, gap) > (0.1 * near[bodies.figure[b]]) ** 2:
            more[bodies.figure[b]] = True
        force = _times(tree.felt, j, sub(gap, lag))
        _bear(tree.load, a, (arms[0, j, 0], arms[0, j, 1], arms[0, j, 2]), force, -1.0)
    for i in range(len(motion.x)):
        f = bodies.figure[i]
        if todo[f] and tree.root[i]:
            if lifts and springs.lift[f] > 0 and i == springs.root[f] and inverse_mass[i] > 0:
                for s in range(6):
                    tree.step[i, s] = tree.load[i, s] + wanted[f, s]
                _solved(tree.lifted, f, tree.step, i)
                stiff = h * h * springs.lift[f] + h * springs.lift_damp[f]
                for s in range(6):
                    wanted[f, s] -= (
                        stiff * (springs.lift_mass[f] if s < 3 else springs.lift_inertia[f]) * tree.step[i, s]
                    )
            else:
                _move(tree, i)
    for j in range(len(joints.own)):
        a, b = joints.up[j], joints.own[j]
        if not todo[bodies.figure[b]]:
            continue
        went = _at(tree.step, a, (arms[0, j, 0], arms[0, j, 1], arms[0, j, 2]))
        force = _times(tree.felt, j, sub(add(went, vector(tree.gap, j)), vector(tree.lag, j)))
        _bear(tree.load, b, (arms[1, j, 0], arms[1, j, 1], arms[1, j, 2]), force, 1.0)
        _move(tree, b)
        for s in range(3):
            borne[j, s] -= force[s]
    for i in range(len(motion.x)):
        if todo[bodies.figure[i]] and inverse_mass[i] > 0:
            put(motion.x, i, add(vector(motion.x, i), vector(tree.step, i)))
            nudge(motion.q, i, (tree.step[i, 3], tree.step[i, 4], tree.step[i, 5]))


@single
def _times(rows, j, v):
    """Matrix j of rows (.., 3, 3) times a vector."""
    return (
        rows[j, 0, 0] * v[0] + rows[j, 0, 1] * v[1] + rows[j, 0, 2] * v[2],
        rows[j, 1, 0] * v[0] + rows[j, 1, 1] * v[1] + rows[j, 1, 2] * v[2],
        rows[j, 2, 0] * v[0] + rows[j, 2, 1] * v[1] + rows[j, 2, 2] * v[2],
    )


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
    _solved(tree.factor, i, tree.step, i)
