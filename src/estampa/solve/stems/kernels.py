"""The articulated-body algorithm for stems: trees of rigid segments joined by damped rotational springs.

Featherstone 1983, "The calculation of robot dynamics using articulated-body inertias", for ball joints and in axes of
the world: one pass up gathers inertias from tips to roots, one pass down gives accelerations, in a time that grows
with the number of joints. Springs, dampers and the wind's drag are taken at the end of the step (linearly implicit, as
Baraff and Witkin 1998 do for cloth), which adds h d + h^2 k to a joint's inertia and h B to a segment's, so stiff stems
stay stable at any step.
"""

from typing import NamedTuple

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def skew(a):
    m = np.zeros((3, 3))
    m[0, 1], m[0, 2], m[1, 2] = -a[2], a[1], -a[0]
    m[1, 0], m[2, 0], m[2, 1] = a[2], -a[1], a[0]
    return m


@njit(cache=True, nogil=True)
def cross(a, b):
    return np.array([a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]])


@njit(cache=True, nogil=True)
def turned_by(vector):
    """(3, 3) the turn about a vector by its length (Rodrigues)."""
    angle = np.sqrt((vector * vector).sum())
    k = skew(vector)
    if angle < 1e-9:
        return np.eye(3) + k
    return np.eye(3) + np.sin(angle) / angle * k + (1 - np.cos(angle)) / (angle * angle) * (k @ k)


@njit(cache=True, nogil=True)
def turn_vector(m):
    """(3,) axis times angle of a turn (3, 3)."""
    axis = 0.5 * np.array([m[2, 1] - m[1, 2], m[0, 2] - m[2, 0], m[1, 0] - m[0, 1]])
    sine, cosine = np.sqrt((axis * axis).sum()), 0.5 * (m[0, 0] + m[1, 1] + m[2, 2] - 1)
    angle = np.arctan2(sine, cosine)
    if sine > 1e-6:
        return axis * (angle / sine)
    if cosine > 0:
        return axis
    # half a turn: the axis is the largest column of m + 1
    best, big = 0, -1.0
    for c in range(3):
        if m[c, c] > big:
            best, big = c, m[c, c]
    column = m[:, best].copy()
    column[best] += 1
    return column / np.sqrt((column * column).sum()) * angle


@njit(cache=True, nogil=True)
def straightened(m):
    """A turn that gathered rounding, made square again."""
    x, y = m[:, 0].copy(), m[:, 1].copy()
    x /= np.sqrt((x * x).sum())
    y -= x * (x * y).sum()
    y /= np.sqrt((y * y).sum())
    result = np.empty((3, 3))
    result[:, 0], result[:, 1], result[:, 2] = x, y, cross(x, y)
    return result


@njit(cache=True, nogil=True)
def press(big, push, u, c, drag, area, h):
    """Let the air push at a mass whose middle stands c (3,) m from its joint: it passes at u (3,) m/s.

    big (6, 6), push (6,) are changed; drag kg/m3 -- factor x half the density; area m2. The push grows with the square
    of the speed, so a step takes its slope along (linearly implicit), and stays calm however hard it blows.
    """
    fast = np.sqrt((u * u).sum())
    if fast <= 1e-9:
        return
    force = drag * area * fast * u
    push[:3] -= cross(c, force)
    push[3:] -= force
    b = np.empty((3, 3))
    for j in range(3):
        for k in range(3):
            b[j, k] = h * drag * area * u[j] * u[k] / fast
        b[j, j] += h * drag * area * fast
    s = skew(c)
    big[:3, :3] -= s @ b @ s
    big[:3, 3:] += s @ b
    big[3:, :3] -= b @ s
    big[3:, 3:] += b


class StemBase(NamedTuple):
    """What each joint hangs on whose parent is -1, in the world at the start of a frame."""

    turn: np.ndarray  # (m, 3, 3)
    place: np.ndarray  # (m, 3) m
    spin: np.ndarray  # (m, 3) rad/s
    speed: np.ndarray  # (m, 3) m/s
    gain: np.ndarray  # (m, 3) rad/s2, how fast the spin changes
    push: np.ndarray  # (m, 3) m/s2, how fast the speed does


@njit(cache=True, nogil=True)
def advance(turn, spin, parts, base, rest, gravity, air, drag, steps, h):
    """Move m joints on by `steps` steps of h seconds.

    turn (m, 3, 3), spin (m, 3)  -- of each within what it hangs on: its turn, and rate of turn in that frame (rad/s)
    rest (m, 3, 3)               -- the turn that the spring goes back to
    parts                        -- StemParts of `kind`
    gravity (m, 3) m/s2; air (m, 3) m/s at the middles; drag -- factor x half the density of the air
    """
    parents, offset, middle, inertia, mass, stiff, damp, area = parts
    base_turn, base_place, base_spin, base_speed, base_gain, base_push = base
    m = len(parents)
    axes, place = np.empty((m, 3, 3)), np.empty((m, 3))
    speed, whirl = np.empty((m, 3)), np.empty((m, 3))
    big, push = np.empty((m, 6, 6)), np.empty((m, 6))
    left = np.empty((m, 3, 3))
    torque, onward = np.empty((m, 3)), np.empty((m, 6))
    gain = np.empty((m, 6))
    for step in range(steps):
        t = step * h
        for i in range(m):  # where they are and how fast
            p = parents[i]
            if p < 0:
                frame = turned_by(base_spin[i] * t + 0.5 * base_gain[i] * t * t) @ base_turn[i]
                w, r = base_spin[i] + base_gain[i] * t, np.zeros(3)
                place[i] = base_place[i] + base_speed[i] * t + 0.5 * base_push[i] * t * t
                v = base_speed[i] + base_push[i] * t
            else:
                frame, w = axes[p].copy(), whirl[p].copy()
                r = frame @ offset[i]
                place[i] = place[p] + r
                v = speed[p] + cross(w, r)
            axes[i] = frame @ turn[i]
            own = frame @ spin[i]
            whirl[i], speed[i] = w + own, v
            # accelerations that come of the turning alone
            onward[i, :3] = cross(w, own)
            onward[i, 3:] = cross(w, cross(w, r))
            a = axes[i].copy()
            c = a @ middle[i]
            about = a @ inertia[i] @ a.T
            sc = mass[i] * skew(c)
            big[i] = 0.0
            big[i, :3, :3], big[i, :3, 3:] = about, sc
            big[i, 3:, :3] = -sc
            for j in range(3):
                big[i, 3 + j, 3 + j] = mass[i]
            wi = whirl[i].copy()
            weight = mass[i] * gravity[i]
            push[i, :3] = cross(wi, about @ wi) - cross(c, weight)
            push[i, 3:] = mass[i] * cross(wi, cross(wi, c)) - weight
            u = air[i] - (v + cross(wi, c))
            if drag * area[i] > 0:
                press(big[i], push[i], u, c, drag, area[i], h)
            angle = frame @ rest[i] @ turn_vector(rest[i].T @ turn[i])
            torque[i] = -stiff[i] * (angle + h * own) - damp[i] * own
        for i in range(m - 1, -1, -1):  # gather inertias from the tips down to the roots
            inner = big[i, :3, :3].copy()
            for j in range(3):
                inner[j, j] += h * damp[i] + h * h * stiff[i]
            left[i] = np.linalg.inv(inner)
            p = parents[i]
            if p < 0:
                continue
            columns = np.ascontiguousarray(big[i, :, :3])
            share = columns @ left[i]
            felt = big[i] - share @ columns.T
            force = push[i] + felt @ onward[i] + share @ (torque[i] - push[i, :3])
            s = skew(axes[p] @ offset[i])
            x = np.eye(6)
            x[3:, :3] = -s
            big[p] += x.T @ felt @ x
            push[p] += x.T @ force
        for i in range(m):  # and give the accelerations from the roots on
            p = parents[i]
            entering = onward[i].copy()
            if p < 0:
                entering[:3] += base_gain[i]
                entering[3:] += base_push[i]
                frame = turned_by(base_spin[i] * t + 0.5 * base_gain[i] * t * t) @ base_turn[i]
            else:
                r = axes[p] @ offset[i]
                entering[:3] += gain[p, :3]
                entering[3:] += gain[p, 3:] + cross(gain[p, :3], r)
                frame = axes[p].copy()
            up = np.ascontiguousarray(big[i, :3, :])
            own = left[i] @ (torque[i] - push[i, :3] - up @ entering)
            gain[i] = entering
            gain[i, :3] += own
            spin[i] += h * (frame.T @ own)
            turn[i] = straightened(turned_by(h * spin[i]) @ turn[i])
