"""The substeps of a cloth.

Position-based dynamics with compliance: M. Macklin, M. Mueller, N. Chentanez 2016, "XPBD"; one iteration per
small substep: M. Macklin and others 2019, "Small steps in physics simulation". All in SI units, float64.
"""

from typing import NamedTuple

import numpy as np
from numba import njit, prange

from .schedule import Schedule

SWEEPS = 6  # over all lengths that are held
ENOUGH = 0.005  # of a length: what is longer than it may be by less counts as held


class Strain(NamedTuple):
    """Triangles with rest shapes along the two yarns."""

    at: np.ndarray  # (t, 3) uint32 vertices; unsigned, since a signed index costs a check for wrapping
    shape: np.ndarray  # (t, 4) inverse of the rest edges in yarn coordinates, row by row, 1/m
    soft: np.ndarray  # (t, 3) compliance along warp, weft and in shear, 1/(N m)
    order: Schedule


class Links(NamedTuple):
    """Pairs of vertices at a rest distance."""

    at: np.ndarray  # (l, 2) uint32
    rest2: np.ndarray  # (l,) rest length squared, m2
    soft: np.ndarray  # (l,) compliance x rest length squared, m3/N
    order: Schedule


class Hinges(NamedTuple):
    """Two triangles on one edge: (a, b, c) and (d, c, b)."""

    at: np.ndarray  # (h, 4) uint32 vertices a, b, c, d
    rest: np.ndarray  # (h,) dihedral angle at rest, rad
    soft: np.ndarray  # (h,) compliance, 1/(N m)
    order: Schedule


class Lengths(NamedTuple):
    """Pairs of vertices and how far they may come apart: edges, and the corners across them as they lie flat."""

    at: np.ndarray  # (l, 2) uint32
    most2: np.ndarray  # (l,) the longest length squared, m2
    order: Schedule


class Faces(NamedTuple):
    """Triangles as the air meets them."""

    at: np.ndarray  # (t, 3) uint32
    order: Schedule


class Holds(NamedTuple):
    """How each vertex is held. `grip` is 1/s2 for a soft hold (its angular frequency squared), 0 for none."""

    grip: np.ndarray  # (n,)
    anchor: np.ndarray  # (n,) the hard-held vertex that a tether runs to, -1 for none
    reach: np.ndarray  # (n,) longest distance to it, m


class Air(NamedTuple):
    density: float  # kg/m3
    drag: np.ndarray  # (t,) of each triangle
    lift: np.ndarray  # (t,)
    velocity: np.ndarray  # (n, 3) m/s


class Particles(NamedTuple):
    """Vertices over a frame: those of cloths first, then those of what they meet. `x` and `v` are changed in place."""

    x: np.ndarray  # (n, 3) m
    v: np.ndarray  # (n, 3) m/s
    inverse_mass: np.ndarray  # (n,) 1/kg, 0 where held hard: those go from `begin` to `end` in a straight line
    begin: np.ndarray  # (n, 3) m
    end: np.ndarray  # (n, 3) m


class Fabric(NamedTuple):
    """What holds the vertices of cloths together."""

    holds: Holds
    strain: Strain
    links: Links
    hinges: Hinges
    faces: Faces
    blocks: np.ndarray  # (s, 2) the vertices of each span of the schedules (`schedule.block_vertices`)
    limit: float  # longest a yarn may get against its rest; beyond it, it does not give
    lengths: Lengths  # the same of all that lie near each other


class Surroundings(NamedTuple):
    """What acts on cloths from outside over a frame."""

    gravity: np.ndarray  # (n, 3) m/s2, what each vertex feels
    air: Air
    floor: float  # m, its height
    friction: float  # of the floor


class SmallStep(NamedTuple):
    """One of the small steps of a frame."""

    t: float  # 0 to 1, the share of the frame that is over at its end
    h: float  # s
    keep: float  # of the speed, after damping


@njit(cache=True, nogil=True, error_model="numpy")
def advance(particles, fabric, surroundings, substeps, dt, damping):
    """Advance particles in place by `dt` seconds in `substeps` small steps; damping in 1/s."""
    h = dt / substeps
    keep = np.exp(-damping * h)
    old = np.empty_like(particles.x)
    last = last_phase(fabric)
    for s in range(substeps):
        step = SmallStep((s + 1) / substeps, h, keep)
        blow(particles, fabric, surroundings.air, h)
        for phase in range(last + 1):
            solve_phase(particles, old, fabric, surroundings, step, phase, phase == 0)
        hold_lengths(particles.x, particles.inverse_mass, fabric.lengths, SWEEPS, ENOUGH)
        finish(particles, old, fabric, surroundings, step)


@njit(cache=True, nogil=True, inline="always")
def _crossing(order):
    """How much work stands in the last span, which holds what crosses every cut."""
    rest = len(order.spans) - 1
    return order.spans[rest, 1] - order.spans[rest, 0]


@njit(cache=True, nogil=True)
def last_phase(fabric):
    """The phase that closes a small step: the third where anything crosses every cut, else the second."""
    crossing = _crossing(fabric.strain.order) + _crossing(fabric.links.order) + _crossing(fabric.hinges.order)
    return 2 if crossing > 0 else 1


@njit(cache=True, nogil=True, error_model="numpy")
def blow(particles, fabric, air, h):
    """The air pushes at all triangles for h seconds."""
    if air.density > 0:
        for phase in range(3 if _crossing(fabric.faces.order) > 0 else 2):
            _blow_phase(particles, fabric.faces, air, h, phase)


# A phase runs its blocks side by side, and the work of a block in order. Everything that a block's vertices need is
# done in one go: each meeting of the threads costs more than a block of a small sheet does, and its vertices are near.
# Arrays are taken out of their tuples before the loop, which is handed to threads with what it names.


@njit(parallel=True, cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _blow_phase(particles, faces, air, h, phase):
    x, v, inverse_mass = particles.x, particles.v, particles.inverse_mass
    at, spans = faces.at, faces.order.spans
    density, drag, lift, velocity = air.density, air.drag, air.lift, air.velocity
    for k in prange(faces.order.phases[phase], faces.order.phases[phase + 1]):
        for c in range(spans[k, 0], spans[k, 1]):
            _blow(x, v, inverse_mass, at, np.uint64(c), density, drag, lift, velocity, h)


@njit(parallel=True, cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def solve_phase(particles, old, fabric, surroundings, step, phase, opening):
    """One phase of a small step: what is held together, and, where it opens the step, the vertices before. old (n, 3) m
    is where they were."""
    x, v, inverse_mass, begin, end = particles.x, particles.v, particles.inverse_mass, particles.begin, particles.end
    strain_at, shape, strain_soft = fabric.strain.at, fabric.strain.shape, fabric.strain.soft
    link_at, rest2, link_soft = fabric.links.at, fabric.links.rest2, fabric.links.soft
    hinge_at, rest, hinge_soft = fabric.hinges.at, fabric.hinges.rest, fabric.hinges.soft
    strain_spans, link_spans = fabric.strain.order.spans, fabric.links.order.spans
    hinge_spans, blocks = fabric.hinges.order.spans, fabric.blocks
    gravity, t, h = surroundings.gravity, step.t, step.h
    per_hh, limit2 = 1 / (h * h), fabric.limit * fabric.limit
    phases = fabric.faces.order.phases
    for k in prange(phases[phase], phases[phase + 1]):
        if opening:
            for i in range(blocks[k, 0], blocks[k, 1]):
                _predict(x, v, old, inverse_mass, begin, end, t, gravity, h, np.uint64(i))
        for c in range(strain_spans[k, 0], strain_spans[k, 1]):
            _solve_strain(x, inverse_mass, strain_at, shape, strain_soft, np.uint64(c), per_hh, limit2)
        for c in range(link_spans[k, 0], link_spans[k, 1]):
            _solve_link(x, inverse_mass, link_at, rest2, link_soft, np.uint64(c), per_hh, limit2)
        for c in range(hinge_spans[k, 0], hinge_spans[k, 1]):
            _solve_hinge(x, inverse_mass, hinge_at, rest, hinge_soft, np.uint64(c), per_hh)


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _predict(x, v, old, inverse_mass, begin, end, t, gravity, h, i):
    for a in range(3):
        old[i, a] = x[i, a]
        if inverse_mass[i] > 0:
            x[i, a] += h * (v[i, a] + h * gravity[i, a])
        else:
            x[i, a] = begin[i, a] + (end[i, a] - begin[i, a]) * t


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def draw_together(x, i, j, wi, wj, dx, dy, dz):
    """Move two vertices towards each other by shares of the way from i to j."""
    x[i, 0] += wi * dx
    x[i, 1] += wi * dy
    x[i, 2] += wi * dz
    x[j, 0] -= wj * dx
    x[j, 1] -= wj * dy
    x[j, 2] -= wj * dz


@njit(cache=True, nogil=True, error_model="numpy")
def hold_lengths(x, inverse_mass, lengths, sweeps, enough):
    """Draw together what is longer than it may be, in so many sweeps at the most.

    enough -- how much longer counts as held, as a share. Returns the longest share that the last sweep began with.
    """
    worst, over = 0.0, np.zeros(len(lengths.order.spans))
    for _ in range(sweeps):
        over[:] = 1.0
        for phase in range(3):
            _lengths_phase(x, inverse_mass, lengths, over, phase)
        worst = np.sqrt(over.max())
        if worst <= 1 + enough:
            break
    return worst


@njit(cache=True, nogil=True, error_model="numpy")
def longest(x, lengths):
    """How much longer the longest is than it may be, as a factor; 1 where all are held."""
    at, worst = lengths.at, 1.0
    for c in range(len(at)):
        i, j = at[c, 0], at[c, 1]
        dx, dy, dz = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
        worst = max(worst, (dx * dx + dy * dy + dz * dz) / lengths.most2[c])
    return np.sqrt(worst)


@njit(parallel=True, cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def _lengths_phase(x, inverse_mass, lengths, over, phase):
    at, most2, spans, phases = lengths.at, lengths.most2, lengths.order.spans, lengths.order.phases
    for k in prange(phases[phase], phases[phase + 1]):
        worst = 1.0
        for c in range(spans[k, 0], spans[k, 1]):
            i, j = at[c, 0], at[c, 1]
            dx, dy, dz = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
            d2, wi, wj = dx * dx + dy * dy + dz * dz, inverse_mass[i], inverse_mass[j]
            if d2 <= most2[c] or wi + wj == 0:
                continue
            worst = max(worst, d2 / most2[c])
            s = (1 - np.sqrt(most2[c] / d2)) / (wi + wj)
            draw_together(x, i, j, wi * s, wj * s, dx, dy, dz)
        over[k] = worst


@njit(cache=True, nogil=True, error_model="numpy")
def predict(particles, old, gravity, step, count):
    """Where the first `count` vertices would be at the end of a small step if nothing held them together."""
    x, v, inverse_mass, begin, end = particles.x, particles.v, particles.inverse_mass, particles.begin, particles.end
    t, h = step.t, step.h
    for i in range(count):
        _predict(x, v, old, inverse_mass, begin, end, t, gravity, h, np.uint64(i))


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _finish(x, v, old, inverse_mass, begin, end, t, grip, anchor, reach, h, keep, floor, friction, i):
    """Holds, tether and floor; then the velocity from what the substep moved."""
    if inverse_mass[i] > 0:
        _hold(x, begin, end, t, grip, anchor, reach, i, h)
        if x[i, 1] < floor:
            _land(x, old, i, floor, friction)
    for a in range(3):
        v[i, a] = (x[i, a] - old[i, a]) / h
        if inverse_mass[i] > 0:
            v[i, a] *= keep


@njit(parallel=True, cache=True, nogil=True, error_model="numpy", fastmath={"contract"})
def finish(particles, old, fabric, surroundings, step):
    """Close a small step for all vertices."""
    x, v, inverse_mass, begin, end = particles.x, particles.v, particles.inverse_mass, particles.begin, particles.end
    grip, anchor, reach = fabric.holds.grip, fabric.holds.anchor, fabric.holds.reach
    floor, friction, blocks = surroundings.floor, surroundings.friction, fabric.blocks
    t, h, keep = step.t, step.h, step.keep
    for k in prange(fabric.faces.order.phases[0], fabric.faces.order.phases[1]):
        for i in range(blocks[k, 0], blocks[k, 1]):
            _finish(x, v, old, inverse_mass, begin, end, t, grip, anchor, reach, h, keep, floor, friction, np.uint64(i))


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _pull(u2, mobile, soft, limit2):
    """How far a yarn of length^2 u2 (1 at rest) is pulled back: as its compliance says, and fully from the limit on."""
    s = -0.5 * (u2 - 1) / (mobile + soft) if mobile + soft > 0 else 0.0
    if u2 > limit2 and mobile > 0:
        s = min(s, -0.5 * (u2 - limit2) / mobile)
    return s


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _solve_link(x, inverse_mass, at, rest2, soft, c, per_hh, limit2):
    """Distance in its quadratic form C = (|d|^2 - L^2) / 2L, which needs no root."""
    i, j = at[c, 0], at[c, 1]
    wi, wj = inverse_mass[i], inverse_mass[j]
    dx, dy, dz = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
    d2 = dx * dx + dy * dy + dz * dz
    mobile, give = (wi + wj) * d2, soft[c] * per_hh
    k = 0.5 * (rest2[c] - d2) / (mobile + give) if mobile + give > 0 else 0.0
    most = limit2 * rest2[c]
    if d2 > most and mobile > 0:
        k = min(k, 0.5 * (most - d2) / mobile)
    draw_together(x, i, j, -wi * k, -wj * k, dx, dy, dz)


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _solve_strain(x, inverse_mass, at, shape, soft, c, per_hh, limit2):
    """Green strain along warp, along weft, and the shear between them, one after the other."""
    i, j, k = at[c, 0], at[c, 1], at[c, 2]
    w0, w1, w2 = inverse_mass[i], inverse_mass[j], inverse_mass[k]
    if w0 + w1 + w2 == 0:
        return
    m00, m01, m10, m11 = shape[c, 0], shape[c, 1], shape[c, 2], shape[c, 3]
    ax, ay, az = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
    bx, by, bz = x[k, 0] - x[i, 0], x[k, 1] - x[i, 1], x[k, 2] - x[i, 2]
    # warp: u is the deformed unit yarn; moving corner j moves it by m00, corner k by m10
    ux, uy, uz = ax * m00 + bx * m10, ay * m00 + by * m10, az * m00 + bz * m10
    u2 = ux * ux + uy * uy + uz * uz
    g0 = -(m00 + m10)
    s = _pull(u2, (w0 * g0 * g0 + w1 * m00 * m00 + w2 * m10 * m10) * u2, soft[c, 0] * per_hh, limit2)
    p0, p1, p2 = s * w0 * g0, s * w1 * m00, s * w2 * m10
    e1, e2 = p1 - p0, p2 - p0
    x0x, x0y, x0z = p0 * ux, p0 * uy, p0 * uz
    ax, ay, az = ax + e1 * ux, ay + e1 * uy, az + e1 * uz
    bx, by, bz = bx + e2 * ux, by + e2 * uy, bz + e2 * uz
    # weft
    vx, vy, vz = ax * m01 + bx * m11, ay * m01 + by * m11, az * m01 + bz * m11
    v2 = vx * vx + vy * vy + vz * vz
    q0 = -(m01 + m11)
    s = _pull(v2, (w0 * q0 * q0 + w1 * m01 * m01 + w2 * m11 * m11) * v2, soft[c, 1] * per_hh, limit2)
    p0, p1, p2 = s * w0 * q0, s * w1 * m01, s * w2 * m11
    e1, e2 = p1 - p0, p2 - p0
    x0x, x0y, x0z = x0x + p0 * vx, x0y + p0 * vy, x0z + p0 * vz
    ax, ay, az = ax + e1 * vx, ay + e1 * vy, az + e1 * vz
    bx, by, bz = bx + e2 * vx, by + e2 * vy, bz + e2 * vz
    # shear: C = u . v
    ux, uy, uz = ax * m00 + bx * m10, ay * m00 + by * m10, az * m00 + bz * m10
    vx, vy, vz = ax * m01 + bx * m11, ay * m01 + by * m11, az * m01 + bz * m11
    g1x, g1y, g1z = m00 * vx + m01 * ux, m00 * vy + m01 * uy, m00 * vz + m01 * uz
    g2x, g2y, g2z = m10 * vx + m11 * ux, m10 * vy + m11 * uy, m10 * vz + m11 * uz
    g0x, g0y, g0z = -g1x - g2x, -g1y - g2y, -g1z - g2z
    low = (
        w0 * (g0x * g0x + g0y * g0y + g0z * g0z)
        + w1 * (g1x * g1x + g1y * g1y + g1z * g1z)
        + w2 * (g2x * g2x + g2y * g2y + g2z * g2z)
        + soft[c, 2] * per_hh
    )
    s = -(ux * vx + uy * vy + uz * vz) / low if low > 0 else 0.0
    x0x, x0y, x0z = x0x + s * w0 * g0x, x0y + s * w0 * g0y, x0z + s * w0 * g0z
    e1, e2 = s * w1, s * w2
    e0 = s * w0
    ax, ay, az = ax + e1 * g1x - e0 * g0x, ay + e1 * g1y - e0 * g0y, az + e1 * g1z - e0 * g0z
    bx, by, bz = bx + e2 * g2x - e0 * g0x, by + e2 * g2y - e0 * g0y, bz + e2 * g2z - e0 * g0z
    x[i, 0] += x0x
    x[i, 1] += x0y
    x[i, 2] += x0z
    if w1 > 0:
        x[j, 0], x[j, 1], x[j, 2] = x[i, 0] + ax, x[i, 1] + ay, x[i, 2] + az
    if w2 > 0:
        x[k, 0], x[k, 1], x[k, 2] = x[i, 0] + bx, x[i, 1] + by, x[i, 2] + bz


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _angle(sin, cos):
    """arctan2; for the small angles that most hinges have, by its series (error below 1e-7), which is far quicker."""
    if cos <= 0 or abs(sin) > 0.4 * cos:
        return np.arctan2(sin, cos)
    t = sin / cos
    q = t * t
    return t * (1 - q * (1 / 3 - q * (1 / 5 - q * (1 / 7 - q * (1 / 9 - q * (1 / 11 - q / 13))))))


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def dihedral(x, a, b, c, d):
    """Angle between the triangles (a, b, c) and (d, c, b), 0 when flat, and its gradient at a, d, b and c.

    Gradient after R. Bridson, S. Marino, R. Fedkiw 2003, "Simulation of clothing with folds and wrinkles".
    Returns (angle, |edge|, n1, n2, shares of the two normals at b and c); |edge| is 0 where there is no angle.
    """
    ex, ey, ez = x[c, 0] - x[b, 0], x[c, 1] - x[b, 1], x[c, 2] - x[b, 2]
    abx, aby, abz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
    dbx, dby, dbz = x[b, 0] - x[d, 0], x[b, 1] - x[d, 1], x[b, 2] - x[d, 2]
    n1x, n1y, n1z = aby * ez - abz * ey, abz * ex - abx * ez, abx * ey - aby * ex
    n2x, n2y, n2z = ey * dbz - ez * dby, ez * dbx - ex * dbz, ex * dby - ey * dbx
    l1, l2 = n1x * n1x + n1y * n1y + n1z * n1z, n2x * n2x + n2y * n2y + n2z * n2z
    e2 = ex * ex + ey * ey + ez * ez
    if l1 <= 1e-30 or l2 <= 1e-30 or e2 <= 1e-30:
        return 0.0, 0.0, n1x, n1y, n1z, n2x, n2y, n2z, 0.0, 0.0, 0.0, 0.0
    e = np.sqrt(e2)
    per_e, per_l1, per_l2 = 1 / e, 1 / l1, 1 / l2
    sin = ((n1y * n2z - n1z * n2y) * ex + (n1z * n2x - n1x * n2z) * ey + (n1x * n2y - n1y * n2x) * ez) * per_e
    angle = _angle(sin, n1x * n2x + n1y * n2y + n1z * n2z)
    n1x, n1y, n1z = n1x * per_l1, n1y * per_l1, n1z * per_l1
    n2x, n2y, n2z = n2x * per_l2, n2y * per_l2, n2z * per_l2
    # how far along the edge a and d stand, as lengths: they share their gradient between b and c
    ab = -(abx * ex + aby * ey + abz * ez) * per_e
    db = -(dbx * ex + dby * ey + dbz * ez) * per_e
    return angle, e, n1x, n1y, n1z, n2x, n2y, n2z, e - ab, e - db, ab, db


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _solve_hinge(x, inverse_mass, at, rest, soft, k, per_hh):
    a, b, c, d = at[k, 0], at[k, 1], at[k, 2], at[k, 3]
    wa, wb, wc, wd = inverse_mass[a], inverse_mass[b], inverse_mass[c], inverse_mass[d]
    angle, e, n1x, n1y, n1z, n2x, n2y, n2z, s1b, s2b, s1c, s2c = dihedral(x, a, b, c, d)
    if e == 0:
        return
    wrong = angle - rest[k]
    if wrong > np.pi:
        wrong -= 2 * np.pi
    elif wrong < -np.pi:
        wrong += 2 * np.pi
    bx, by, bz = s1b * n1x + s2b * n2x, s1b * n1y + s2b * n2y, s1b * n1z + s2b * n2z
    cx, cy, cz = s1c * n1x + s2c * n2x, s1c * n1y + s2c * n2y, s1c * n1z + s2c * n2z
    low = (
        wa * e * e * (n1x * n1x + n1y * n1y + n1z * n1z)
        + wd * e * e * (n2x * n2x + n2y * n2y + n2z * n2z)
        + wb * (bx * bx + by * by + bz * bz)
        + wc * (cx * cx + cy * cy + cz * cz)
        + soft[k] * per_hh
    )
    s = wrong / low if low > 0 else 0.0
    sa, sb, sc, sd = s * wa * e, s * wb, s * wc, s * wd * e
    x[a, 0] += sa * n1x
    x[a, 1] += sa * n1y
    x[a, 2] += sa * n1z
    x[d, 0] += sd * n2x
    x[d, 1] += sd * n2y
    x[d, 2] += sd * n2z
    x[b, 0] -= sb * bx
    x[b, 1] -= sb * by
    x[b, 2] -= sb * bz
    x[c, 0] -= sc * cx
    x[c, 1] -= sc * cy
    x[c, 2] -= sc * cz


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _blow(x, v, inverse_mass, at, f, density, drags, lifts, air, h):
    """Drag and lift of one triangle from the relative wind, shared among its corners.

    Drag = 1/2 rho A |w|^2 Cd cos(a) along the wind, lift = 1/2 rho A |w|^2 Cl sin(a) cos(a) across it, with `a` the
    angle between the wind and the normal. Taken implicitly along the wind, so that no storm flings a light cloth.
    """
    i, j, k = at[f, 0], at[f, 1], at[f, 2]
    drag, lift = drags[f], lifts[f]
    w = (inverse_mass[i] + inverse_mass[j] + inverse_mass[k]) / 3
    if w == 0:
        return
    wx = (air[i, 0] + air[j, 0] + air[k, 0] - v[i, 0] - v[j, 0] - v[k, 0]) / 3
    wy = (air[i, 1] + air[j, 1] + air[k, 1] - v[i, 1] - v[j, 1] - v[k, 1]) / 3
    wz = (air[i, 2] + air[j, 2] + air[k, 2] - v[i, 2] - v[j, 2] - v[k, 2]) / 3
    ax, ay, az = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
    bx, by, bz = x[k, 0] - x[i, 0], x[k, 1] - x[i, 1], x[k, 2] - x[i, 2]
    nx, ny, nz = ay * bz - az * by, az * bx - ax * bz, ax * by - ay * bx
    twice = np.sqrt(nx * nx + ny * ny + nz * nz)
    speed = np.sqrt(wx * wx + wy * wy + wz * wz)
    if twice == 0 or speed == 0:
        return
    cos = (nx * wx + ny * wy + nz * wz) / (twice * speed)
    if cos < 0:
        cos, nx, ny, nz = -cos, -nx, -ny, -nz
    force = 0.25 * density * twice * speed * cos  # 1/2 rho A |w| cos: times w is the drag for Cd = 1
    force /= 1 + h * w * force * (drag + lift) / 3
    along, across = force * (drag - lift * cos), force * lift * speed / twice
    share = h / 3
    for c in range(3):
        i = at[f, c]
        s = share * inverse_mass[i]
        v[i, 0] += s * (along * wx + across * nx)
        v[i, 1] += s * (along * wy + across * ny)
        v[i, 2] += s * (along * wz + across * nz)


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _hold(x, begin, end, t, grip, anchor, reach, i, h):
    """Soft hold towards the moving target, then the tether to the nearest held vertex."""
    if grip[i] > 0:
        pull = 1 / (1 + 1 / (grip[i] * h * h))
        for a in range(3):
            x[i, a] += pull * (begin[i, a] + (end[i, a] - begin[i, a]) * t - x[i, a])
    k = anchor[i]
    if k >= 0:
        dx, dy, dz = x[i, 0] - x[k, 0], x[i, 1] - x[k, 1], x[i, 2] - x[k, 2]
        d2 = dx * dx + dy * dy + dz * dz
        if d2 > reach[i] * reach[i]:
            s = reach[i] / np.sqrt(d2)
            x[i, 0], x[i, 1], x[i, 2] = x[k, 0] + s * dx, x[k, 1] + s * dy, x[k, 2] + s * dz


@njit(cache=True, nogil=True, inline="always", error_model="numpy")
def _land(x, old, i, floor, friction):
    """Push out of the floor, and rub by at most friction times the push (Coulomb)."""
    depth = floor - x[i, 1]
    x[i, 1] = floor
    dx, dz = x[i, 0] - old[i, 0], x[i, 2] - old[i, 2]
    slide = np.sqrt(dx * dx + dz * dz)
    if slide > 0:
        stop = min(1.0, friction * depth / slide)
        x[i, 0] -= stop * dx
        x[i, 2] -= stop * dz
