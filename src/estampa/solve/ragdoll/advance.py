"""The small steps of ragdolls: position-based rigid bodies (M. Mueller, M. Macklin, N. Chentanez, S. Jeschke, T. Kim
2020, "Detailed rigid body simulation with extended position based dynamics"), float64.

One order for all, down the tree and then up, and nothing carried over but how limbs stand and move, and what Figures
remember: any frame goes on with the same bits.
"""

import math

import numpy as np

from . import energy, tree
from .contacts import MOST, PAIRS, near_capsules, near_triangles, touch
from .figures import LimbMotion, Touches
from .joints import (
    held_response,
    hold_limits,
    joints_of_step,
    lift_of,
    place_of,
    pull_springs,
    relative,
    shift,
    swing_of,
    twist_of,
)
from .leading import lead
from .vectors import (
    add,
    by_vector,
    cross,
    dot,
    inverse,
    length,
    product,
    put,
    put_turn,
    quaternion,
    scaled,
    shorter,
    single,
    sub,
    symmetric,
    turned,
    vector,
)  # fmt: skip

# Shares of a figure's height, or of its root: how near is looked at and to what joints are held (m), how fast what
# began deep comes out (m/s), and below what speed a figure all but stands still (m/s)
NEAR, PACE, CALM = 0.003, 0.3, 0.03
RESTS = 0.25  # s of all but standing still, after which a figure sleeps
# A figure that all but stands still, its middle so many times its height above all that it touches, balances: no limp
# one does. It is swayed by so much of its weight, its limbs this way and that in turn, until it falls.
BALANCES, SWAY, SWAYED = 0.15, 0.02, 1.2  # SWAYED s
BACK = 2.0  # rad/s at which a joint that began past its limits comes back
WEIGHS = 9.8  # m/s2 at the least, by which it is told what is little: without gravity rounding would seem much
SWEEPS = 32  # the most in a small step
ROLL = 0.3  # of its radius: how far from its middle the pressure of a touch may lie
PAST = 0.005  # rad past a limit, for which sweeps go on


@single
def advance(motion, bodies, capsules, joints, springs, figures, solids, driven, pull, damping, span, dt, steps):
    """Take limbs on by dt seconds in so many small steps, from a share span[0] of the frame to span[1]; motion and
    figures are changed.

    driven (b, 7) place and turn at the end of what is driven (inverse mass 0); pull (b, 3) m/s2; damping (b, 2) 1/s of
    speed and of spin
    """
    count, ties, many, h = len(motion.x), len(joints.own), len(figures.tall), dt / steps
    pull = _swayed(bodies, figures, pull)
    begins = LimbMotion(motion.x.copy(), motion.q.copy(), motion.v, motion.w)
    before = LimbMotion(motion.x.copy(), motion.q.copy(), motion.v.copy(), motion.w.copy())
    inverse_mass, inertia = np.zeros(count), np.zeros((count, 6))
    response, arms, borne = np.zeros((ties, 6)), np.zeros((2, ties, 3)), np.zeros((ties, 6))
    leads, whole = np.zeros((count, 6)), dt / (span[1] - span[0])
    lifted, room = np.zeros((many, 6)), MOST * len(capsules.body) + 64
    trees, kept = tree.room(count, joints, many), np.exp(-damping * h)
    touches = Touches(
        np.zeros((room, 2), np.int64), np.zeros((room, 3)), np.zeros((room, 2, 3)), np.zeros((room, 3)),
        np.zeros(room), np.zeros(room), np.zeros(room), np.zeros(room), np.zeros(room),
    )  # fmt: skip
    pairs = np.zeros((PAIRS * len(capsules.body) + 64, 2), np.int64)
    on, on_count, count_pairs, found = np.zeros_like(pairs), 0, 0, 0
    was, now, given, island = energy.none(many), energy.none(many), np.zeros(many), np.zeros(many, np.int64)
    near, pace, weight = NEAR * figures.tall, PACE * np.sqrt(figures.tall), np.zeros(many)
    for i in range(count):
        if bodies.inverse_mass[i] > 0:
            f = bodies.figure[i]
            weight[f] += max(length(vector(pull, i)), WEIGHS) / bodies.inverse_mass[i] * figures.tall[f]
    cone, reach = _limits_of_frame(motion, joints, figures, dt)
    looked = max(1, steps // 4)
    for step in range(steps):
        t0 = span[0] + (span[1] - span[0]) * step / steps
        t = span[0] + (span[1] - span[0]) * (step + 1) / steps
        if step % looked == 0:
            count_pairs = near_capsules(motion, capsules, bodies, figures, looked * h, pull, pairs)
            on_count = near_triangles(motion, capsules, bodies, figures, solids, looked * h, pull, on)
        energy.tell(was, motion, bodies, joints, springs, pull)
        borne[:] = 0.0
        lifted[:] = 0.0
        lead(leads, motion, bodies, joints, springs, t0, whole)
        _speed_up(motion, bodies, springs, leads, h)
        _predict(motion, before, bodies, figures, begins, driven, pull, inverse_mass, inertia, (step + 1) / steps, h)
        joints_of_step(motion, bodies, joints, inverse_mass, inertia, arms, response)
        tree.factor(trees, motion, bodies, joints, springs, inverse_mass, arms, h)
        for f in range(many):
            if springs.lift[f] > 0:
                lift_of(motion.x, motion.q, before.x, before.q, springs, lifted, f, t0, t, h)
        pull_springs(motion, inverse_mass, inertia, arms, response, borne, joints, springs, h)
        found = touch(
            motion, before, bodies, capsules, figures, solids, pairs, count_pairs, on, on_count, t0, t, near, touches
        )  # fmt: skip
        _let_out(before, bodies, touches, found, pace, near, h)
        _sweep(
            motion, before, bodies, joints, springs, figures, touches, found, inverse_mass, inertia, arms, response,
            trees, borne, lifted, cone, reach, near, h,
        )  # fmt: skip
        _velocities(motion, before, bodies, figures, kept, h)
        _rub_joints(motion, bodies, joints, springs, figures, inverse_mass, inertia, arms, response, h)
        _stop_rolling(motion, touches, found, inertia, h)
        energy.tell(now, motion, bodies, joints, springs, pull)
        energy.work_of_driven(
            given, motion, before, bodies, joints, springs, touches, found, borne, lifted, leads, h
        )  # fmt: skip
        energy.islands(island, bodies, touches, found)
        energy.guard(motion, before, bodies, springs, was, now, given, island, weight)
    _rest(motion, bodies, capsules, figures, springs, touches, found, pull, now, dt)
    return found


@single
def _swayed(bodies, figures, pull):
    """(b, 3) m/s2: `pull`, and in figures that balance what makes them fall."""
    found = pull.copy()
    for i in range(len(pull)):
        if figures.quiet[bodies.figure[i]] < 0:
            g = vector(pull, i)
            least = 0 if abs(g[0]) <= abs(g[2]) else 2
            aside = cross(g, (1.0, 0.0, 0.0) if least == 0 else (0.0, 0.0, 1.0))
            put(found, i, add(g, scaled(aside, SWAY if i % 2 == 0 else -SWAY)))
    return found


@single
def _above_touches(motion, bodies, touches, found, pull, mass):
    """(f,) m, how far the middle of each figure stands above the highest place that it touches, or all but touches, of
    something else; inf where there is none."""
    middle, highest = np.zeros(len(mass)), np.full(len(mass), -np.inf)
    up = np.zeros((len(mass), 3))
    for i in range(len(motion.x)):
        f, g = bodies.figure[i], vector(pull, i)
        if length(g) > 0:
            put(up, f, scaled(g, -1 / length(g)))
    for i in range(len(motion.x)):
        f = bodies.figure[i]
        if bodies.inverse_mass[i] > 0:
            middle[f] += dot(vector(motion.x, i), vector(up, f)) / (bodies.inverse_mass[i] * mass[f])
    for c in range(found):
        a, b = touches.who[c, 0], touches.who[c, 1]
        if a >= 0 and bodies.figure[a] == bodies.figure[b]:
            continue
        for side in range(2):
            i = touches.who[c, side]
            if i >= 0:
                f = bodies.figure[i]
                highest[f] = max(highest[f], dot(_place(motion, touches, c, side), vector(up, f)))
    return middle - highest


@single
def _limits_of_frame(motion, joints, figures, dt):
    """((j, 2) cone, (j, 2) reach) rad over a frame, with the squared sine of half the one and the tangent of half the
    other: a joint that began past its limits comes back at a set pace."""
    cone, reach = np.empty((len(joints.own), 2)), np.empty((len(joints.own), 2))
    slack = figures.slack
    for j in range(len(joints.own)):
        q = relative(motion.q, joints.frame_up, joints.frame_own, j, joints.up[j], joints.own[j])[2]
        for k in range(2):
            past = swing_of(q) - joints.cone[j] if k == 0 else abs(twist_of(q)) - joints.reach[j]
            slack[j, k] = min(max(slack[j, k] - BACK * dt, 0.0), max(past, 0.0))
        cone[j, 0], reach[j, 0] = joints.cone[j] + slack[j, 0], min(joints.reach[j] + slack[j, 1], 3.1)
        cone[j, 1], reach[j, 1] = math.sin(0.5 * min(cone[j, 0], math.pi)) ** 2, math.tan(0.5 * reach[j, 0])
    return cone, reach


@single
def _speed_up(motion, bodies, springs, leads, h):
    """Limbs of figures that are led, by what they are to be sped up by."""
    for i in range(len(motion.x)):
        if springs.led[bodies.figure[i]] > 0.0 and bodies.inverse_mass[i] > 0.0:
            for s in range(3):
                motion.v[i, s] += h * leads[i, s]
                motion.w[i, s] += h * leads[i, 3 + s]


@single
def _predict(motion, before, bodies, figures, begins, driven, pull, inverse_mass, inertia, t, h):
    """Where limbs would be at the end of a small step if nothing held them; how they stood goes into `before`."""
    for i in range(len(motion.x)):
        x, q = vector(motion.x, i), quaternion(motion.q, i)
        put(before.x, i, x)
        put_turn(before.q, i, q)
        asleep = figures.asleep[bodies.figure[i]]
        inverse_mass[i] = 0.0 if asleep else bodies.inverse_mass[i]
        for s in range(6):
            inertia[i, s] = 0.0
        if asleep:
            put(motion.v, i, (0.0, 0.0, 0.0))
            put(motion.w, i, (0.0, 0.0, 0.0))
        elif bodies.inverse_mass[i] == 0.0:
            _drive(motion, begins, driven, i, t)
        else:
            put(motion.v, i, add(vector(motion.v, i), scaled(vector(pull, i), h)))
            put(motion.x, i, add(x, scaled(vector(motion.v, i), h)))
            q = product(by_vector(scaled(vector(motion.w, i), h)), q)
            put_turn(motion.q, i, q)
            _turn_inertia(inertia, bodies.inverse_inertia, i, q)


@single
def _drive(motion, begins, driven, i, t):
    """Evenly from where it stood as the frame began, and by the shorter turn."""
    sign, l = 0.0, 0.0
    for s in range(4):
        sign += begins.q[i, s] * driven[i, 3 + s]
    sign = 1.0 if sign >= 0 else -1.0
    for s in range(3):
        motion.x[i, s] = begins.x[i, s] + t * (driven[i, s] - begins.x[i, s])
    for s in range(4):
        motion.q[i, s] = (1 - t) * begins.q[i, s] + t * sign * driven[i, 3 + s]
        l += motion.q[i, s] ** 2
    for s in range(4):
        motion.q[i, s] /= math.sqrt(l)


@single
def _turn_inertia(inertia, own, i, q):
    """Put the inverse inertia of a limb in the axes of the world into row i."""
    x, y, z = turned(q, (1.0, 0.0, 0.0)), turned(q, (0.0, 1.0, 0.0)), turned(q, (0.0, 0.0, 1.0))
    a, b, c = own[i, 0], own[i, 1], own[i, 2]
    inertia[i, 0] = a * x[0] * x[0] + b * y[0] * y[0] + c * z[0] * z[0]
    inertia[i, 1] = a * x[0] * x[1] + b * y[0] * y[1] + c * z[0] * z[1]
    inertia[i, 2] = a * x[0] * x[2] + b * y[0] * y[2] + c * z[0] * z[2]
    inertia[i, 3] = a * x[1] * x[1] + b * y[1] * y[1] + c * z[1] * z[1]
    inertia[i, 4] = a * x[1] * x[2] + b * y[1] * y[2] + c * z[1] * z[2]
    inertia[i, 5] = a * x[2] * x[2] + b * y[2] * y[2] + c * z[2] * z[2]


@single
def _place(motion, touches, c, side):
    """Where one side of a touch is; of what does not give way, where it is at the end of the step."""
    i = touches.who[c, side]
    arm = (touches.arm[c, side, 0], touches.arm[c, side, 1], touches.arm[c, side, 2])
    return arm if i < 0 else add(vector(motion.x, i), turned(quaternion(motion.q, i), arm))


@single
def _let_out(before, bodies, touches, found, pace, near, h):
    """What is deep as a small step begins comes out at a set pace, else its way out would become speed. What that lifts
    is work of what lets it out; but not of what is less deep than corrections leave it."""
    for c in range(found):
        touches.pushed[c] = 0.0
        a = vector(touches.before, c) if touches.who[c, 0] < 0 else _place(before, touches, c, 0)
        gap = dot(sub(_place(before, touches, c, 1), a), vector(touches.normal, c))
        f = bodies.figure[touches.who[c, 1]]
        touches.gap[c] = min(0.0, gap + pace[f] * h)
        touches.out[c] = touches.gap[c] - gap if gap < -near[f] else 0.0


@single
def _sweep(motion, before, bodies, joints, springs, figures, touches, found, inverse_mass, inertia, arms, response,
           trees, borne, lifted, cone, reach, near, h):  # fmt: skip
    """Joints and touches, one after another, until all figures are within their tolerances, twice at least."""
    todo, more = np.ones(len(figures.tall), np.bool_), np.zeros(len(figures.tall), np.bool_)
    for sweep in range(SWEEPS):
        more[:] = sweep == 0
        hold_limits(
            motion, bodies.figure, joints, inverse_mass, inertia, arms, response, borne, cone, reach, todo, more, PAST
        )  # fmt: skip
        tree.close(
            trees, motion, bodies, joints, springs, inverse_mass, arms, borne, lifted, sweep == 0, todo, more, near, h
        )  # fmt: skip
        _solve_touches(motion, before, bodies.figure, touches, found, inverse_mass, inertia, near, todo, more)
        todo[:] = more
        if not todo.any():
            break


@single
def _side(arms, c, side):
    return arms[c, side, 0], arms[c, side, 1], arms[c, side, 2]


@single
def _solve_touches(motion, before, figure, touches, found, inverse_mass, inertia, near, todo, more):
    """Push touches apart, one after another, and let them rub (Coulomb) against how their places went in the step."""
    x, q, x0, q0 = motion.x, motion.q, before.x, before.q
    who, normals, arms, befores = touches.who, touches.normal, touches.arm, touches.before
    pushed, gaps, rubs = touches.pushed, touches.gap, touches.rub
    for c in range(found):
        a, b, n = who[c, 0], who[c, 1], vector(normals, c)
        f = figure[b]
        if not (todo[f] or (a >= 0 and todo[figure[a]])):
            continue
        arm_a, arm_b = _side(arms, c, 0), _side(arms, c, 1)
        at_b = place_of(x, q, b, arm_b)
        at_a = arm_a if a < 0 else place_of(x, q, a, arm_a)
        rb = sub(at_b, vector(x, b))
        ra = sub(at_a, vector(x, a)) if a >= 0 else (0.0, 0.0, 0.0)
        lack = gaps[c] - dot(sub(at_b, at_a), n)
        if lack > 0.1 * near[f]:
            more[f] = True
            if a >= 0:
                more[figure[a]] = True
        if lack > 0:
            w = _mobility(inverse_mass, inertia, a, b, ra, rb, n)
            if w <= 0:
                continue
            pushed[c] += lack / w
            _push(x, q, inverse_mass, inertia, a, b, ra, rb, scaled(n, lack / w))
        if pushed[c] <= 0:
            continue
        went = sub(place_of(x, q, b, arm_b), place_of(x0, q0, b, arm_b))
        if a >= 0:
            went = sub(went, sub(place_of(x, q, a, arm_a), place_of(x0, q0, a, arm_a)))
        else:
            went = sub(went, sub(at_a, vector(befores, c)))
        went = sub(went, scaled(n, dot(went, n)))
        far = length(went)
        if far < 1e-12:
            continue
        n = scaled(went, -1 / far)
        w = _mobility(inverse_mass, inertia, a, b, ra, rb, n)
        if w > 0:
            _push(x, q, inverse_mass, inertia, a, b, ra, rb, scaled(n, min(far / w, rubs[c] * pushed[c])))


@single
def _mobility(inverse_mass, inertia, a, b, ra, rb, n):
    """m for a unit of impulse along n, of both together."""
    x = cross(rb, n)
    w = inverse_mass[b] + dot(x, symmetric(inertia, b, x))
    if a >= 0:
        x = cross(ra, n)
        w += inverse_mass[a] + dot(x, symmetric(inertia, a, x))
    return w


@single
def _push(x, q, inverse_mass, inertia, a, b, ra, rb, p):
    shift(x, q, inverse_mass, inertia, b, rb, p)
    if a >= 0:
        shift(x, q, inverse_mass, inertia, a, ra, scaled(p, -1.0))


@single
def _velocities(motion, before, bodies, figures, kept, h):
    """Speed and spin from where a small step began and ended. Momentum is carried over, not spin; less of it where
    that would add energy. kept (b, 2) -- what damping leaves of both"""
    for i in range(len(motion.x)):
        if figures.asleep[bodies.figure[i]]:
            continue
        put(motion.v, i, scaled(sub(vector(motion.x, i), vector(before.x, i)), kept[i, 0] / h))
        old, new = quaternion(before.q, i), quaternion(motion.q, i)
        d = shorter(product(new, inverse(old)))
        l = length(d)
        w = scaled((d[0], d[1], d[2]), 2 / h if l < 1e-9 else 2 * math.atan2(l, d[3]) / (l * h))
        if bodies.inverse_mass[i] > 0.0:
            own = vector(bodies.inverse_inertia, i)
            local = turned(inverse(old), w)
            momentum = turned(old, (local[0] / own[0], local[1] / own[1], local[2] / own[2]))
            local = turned(inverse(new), momentum)
            carried = turned(new, (local[0] * own[0], local[1] * own[1], local[2] * own[2]))
            had, has = dot(w, momentum), dot(carried, momentum)
            w = scaled(carried, (math.sqrt(had / has) if has > had else 1.0) * kept[i, 1])
        put(motion.w, i, w)


@single
def _rub_joints(motion, bodies, joints, springs, figures, inverse_mass, inertia, arms, response, h):
    """Joints rub, dry and wet, as pairs with the joint held."""
    for j in range(len(joints.own)):
        a, b = joints.up[j], joints.own[j]
        sprung = springs.stiff[j] > 0  # it has its damping from that
        if inverse_mass[a] + inverse_mass[b] == 0.0 or joints.loss[j] + joints.dry[j] <= 0 and not sprung:
            continue
        if springs.led[bodies.figure[b]] > 0.0:
            continue
        d = sub(vector(motion.w, b), vector(motion.w, a))
        l = length(d)
        if l < 1e-9:
            continue
        n, ra, rb = scaled(d, -1 / l), vector(arms[0], j), vector(arms[1], j)
        ta, tb, p, w = held_response(inertia, response, j, a, b, ra, rb, n)
        if w <= 0:
            continue
        dry = 0.0 if figures.quiet[bodies.figure[b]] < 0 else joints.dry[j] * h
        if sprung:
            s = l * springs.damp[j] * h / (1 + springs.damp[j] * h * w)
        else:
            s = min(l, l * (1 - math.exp(-joints.loss[j] * h)) + dry) / w
        p = scaled(p, s)
        put(motion.w, b, add(vector(motion.w, b), add(scaled(tb, s), symmetric(inertia, b, cross(rb, p)))))
        put(motion.v, b, add(vector(motion.v, b), scaled(p, inverse_mass[b])))
        put(motion.w, a, sub(vector(motion.w, a), add(scaled(ta, s), symmetric(inertia, a, cross(ra, p)))))
        put(motion.v, a, sub(vector(motion.v, a), scaled(p, inverse_mass[a])))


@single
def _stop_rolling(motion, touches, found, inertia, h):
    """What lies does not roll for ever: the pressure of a touch lies a little ahead of its middle."""
    for c in range(found):
        a, b = touches.who[c, 0], touches.who[c, 1]
        d = vector(motion.w, b) if a < 0 else sub(vector(motion.w, b), vector(motion.w, a))
        l = length(d)
        if touches.pushed[c] <= 0 or l < 1e-9:
            continue
        n = scaled(d, -1 / l)
        tb = symmetric(inertia, b, n)
        ta = symmetric(inertia, a, n) if a >= 0 else (0.0, 0.0, 0.0)
        w = dot(tb, n) + dot(ta, n)
        if w > 0:
            s = min(l / w, ROLL * touches.wide[c] * touches.pushed[c] / h)
            put(motion.w, b, add(vector(motion.w, b), scaled(tb, s)))
            if a >= 0:
                put(motion.w, a, sub(vector(motion.w, a), scaled(ta, s)))


@single
def _rest(motion, bodies, capsules, figures, springs, touches, found, pull, now, dt):
    """Which figures sleep: those that all but stood still for a while. What moves wakes what it touches."""
    many = len(figures.tall)
    fast, calm = np.zeros(many), CALM * np.sqrt(figures.tall)
    for c in range(len(capsules.body)):
        i = capsules.body[c]
        f = bodies.figure[i]
        far = 0.5 * length(sub(vector(capsules.b, c), vector(capsules.a, c)))
        fast[f] = max(fast[f], length(vector(motion.v, i)), far * length(vector(motion.w, i)))
        if bodies.inverse_mass[i] == 0.0 or springs.lift[f] + springs.led[f] > 0:
            fast[f] = max(fast[f], 10 * calm[f])
    for c in range(found):
        a, b = touches.who[c, 0], touches.who[c, 1]
        f = bodies.figure[b]
        if a < 0:
            place = (touches.arm[c, 0, 0], touches.arm[c, 0, 1], touches.arm[c, 0, 2])
            if length(sub(place, vector(touches.before, c))) > 0:
                fast[f] = max(fast[f], 10 * calm[f])
            continue
        g = bodies.figure[a]
        if f != g and (fast[f] > 3 * calm[f] or fast[g] > 3 * calm[g]):
            for o in (f, g):
                figures.quiet[o], figures.asleep[o] = 0.0, False
    above = _above_touches(motion, bodies, touches, found, pull, now.mass)
    for f in range(many):
        balances = above[f] > BALANCES * figures.tall[f] and not math.isinf(above[f]) and not figures.asleep[f]
        if balances and (figures.quiet[f] < 0 or fast[f] < calm[f]):
            # until it has fallen; what no sway brings down kneels or sits
            figures.quiet[f] = min(figures.quiet[f], -1.0) - dt if fast[f] < 2 * calm[f] else -1.0
            figures.asleep[f] = figures.quiet[f] < -1.0 - SWAYED
        elif fast[f] >= calm[f]:
            figures.quiet[f] = 0.0
        else:
            figures.quiet[f] = max(figures.quiet[f], 0.0) + dt
        figures.asleep[f] = figures.asleep[f] or figures.quiet[f] > RESTS
    for i in range(len(motion.x)):
        if figures.asleep[bodies.figure[i]]:
            put(motion.v, i, (0.0, 0.0, 0.0))
            put(motion.w, i, (0.0, 0.0, 0.0))
