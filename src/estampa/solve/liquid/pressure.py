"""Pressure: speeds are changed so that no grain gets more than its share of the room.

The density that grains will have at the end of the step must not be above that of the liquid, and pressure is never
below 0: a linear problem with a sign, as in implicit incompressible SPH (Ihmsen and others 2014), solved by projected
steps with Nesterov's acceleration (as Mazhar and others 2015 do for contact) from the pressure of the step before. Of
what is too dense already only a share is mended in a step, so that no energy comes of it. Walls count by the share of
a grain's weight that lies beyond them (after Bender and others 2019, "Volume maps: an implicit boundary representation
for SPH", for flat ones).
"""

import numpy as np
from numba import njit, prange

from .weights import STEPS, SUPPORT, lattice_sum, walls

RELAX = 0.35  # of what each would need alone: the problem is at most three times as stiff, measured
FAST = {"contract", "nsz", "nnan", "ninf"}


def constants(spacing: float) -> np.ndarray:
    """(4,) float32: H m, the scale of the weight times the volume of a grain, the same of its slope, 1 / H"""
    h = SUPPORT * spacing
    scale = spacing**3 / lattice_sum() * 21 / (2 * np.pi) / h**3
    return np.array([h, scale, -20 * scale / h, 1 / h], np.float32)


def table() -> np.ndarray:
    """Of walls, see weights.walls."""
    return walls().astype(np.float32)


@njit(cache=True, nogil=True, inline="always")
def wall_at(far, inverse, wall):
    """(share beyond, slope 1/m) of a wall at a distance, m."""
    q = far * inverse
    if q >= np.float32(1):
        return np.float32(0), np.float32(0)
    if q <= 0:  # beyond it: as steep as at the wall
        q = max(q, np.float32(-0.5))
        return wall[0, 0] + q * wall[0, 1], wall[0, 1] * inverse
    s = q * np.float32(STEPS)
    k = min(np.int64(s), STEPS - 1)
    t = s - np.float32(k)
    a = wall[k, 0] + t * (wall[k + 1, 0] - wall[k, 0])
    b = wall[k, 1] + t * (wall[k + 1, 1] - wall[k, 1])
    return a, b * inverse


@njit(parallel=True, cache=True, nogil=True, fastmath=FAST)
def crowding(at, many, near, far, out, c, wall, slope, over, stiff, slopes, felt):
    """How much more than its room each grain has, over (n,); by how much a pressure of its own would change that,
    stiff (n,) 1/m2; the slope of the weight to each neighbour over their distance, slope (n, w) 1/m2; and the slopes of
    its walls together, slopes (n, 3) 1/m; felt (n,), what a pressure that rises evenly is felt as, of its rise. All
    written.

    at (n, 4) m, and a pressure; near[i, : many[i]] its neighbours; far (n, k) m and out (n, k, 3) its walls
    """
    h, w, g, inverse = c[0], c[1], c[2], c[3]
    one = np.float32(1)
    for i in prange(len(at)):
        x, y, z = at[i, 0], at[i, 1], at[i, 2]
        sum_, gx, gy, gz = w, np.float32(0), np.float32(0), np.float32(0)
        square, virial = np.float32(0), np.float32(0)
        for k in range(np.uint64(many[i])):
            j = np.uint64(near[i, k])
            dx, dy, dz = x - at[j, 0], y - at[j, 1], z - at[j, 2]
            r2 = dx * dx + dy * dy + dz * dz
            q = np.sqrt(r2) * inverse
            s = max(one - q, np.float32(0))
            s3 = s * s * s
            sum_ += w * s3 * s * (np.float32(4) * q + one)
            f = g * s3 * inverse
            slope[i, k] = f
            gx, gy, gz = gx + f * dx, gy + f * dy, gz + f * dz
            square += f * f * r2
            virial -= f * r2
        # what lies beyond two walls counts once: what is left beyond none is the product, as of walls at right angles
        left, bx, by, bz = one, np.float32(0), np.float32(0), np.float32(0)
        for k in range(far.shape[1]):
            if far[i, k] < h:
                a, b = wall_at(far[i, k], inverse, wall)
                bx, by, bz = (one - a) * bx, (one - a) * by, (one - a) * bz
                b *= left
                left *= one - a
                bx, by, bz = bx + b * out[i, k, 0], by + b * out[i, k, 1], bz + b * out[i, k, 2]
        sum_ += one - left
        gx, gy, gz = gx + bx, gy + by, gz + bz
        over[i], felt[i] = sum_ - one, virial / np.float32(3)
        stiff[i] = gx * gx + gy * gy + gz * gz + square
        slopes[i, 0], slopes[i, 1], slopes[i, 2] = bx, by, bz


@njit(parallel=True, cache=True, nogil=True, fastmath=FAST)
def pushed(at, many, near, slope, slopes, speed, to):
    """Speeds `to` (n, 4) m/s that grains have after the pressures of `at` pushed them."""
    for i in prange(len(at)):
        x, y, z, p = at[i, 0], at[i, 1], at[i, 2], at[i, 3]
        mx, my, mz = p * slopes[i, 0], p * slopes[i, 1], p * slopes[i, 2]
        for k in range(np.uint64(many[i])):
            j = np.uint64(near[i, k])
            f = slope[i, k] * (p + at[j, 3])
            mx, my, mz = mx + f * (x - at[j, 0]), my + f * (y - at[j, 1]), mz + f * (z - at[j, 2])
        to[i, 0], to[i, 1], to[i, 2] = speed[i, 0] - mx, speed[i, 1] - my, speed[i, 2] - mz


@njit(parallel=True, cache=True, nogil=True, fastmath=FAST)
def pressed(at, many, near, slope, slopes, going, source, stiff, dt, relax, press, error):
    """The next pressures: press (n,), from those of `at` under which grains go at `going` (n, 4) m/s; error (n,), how
    much denser than allowed each still becomes in dt s. Both written. source (n,), of what was before."""
    for i in prange(len(at)):
        x, y, z = at[i, 0], at[i, 1], at[i, 2]
        u, v, w = going[i, 0], going[i, 1], going[i, 2]
        rate = u * slopes[i, 0] + v * slopes[i, 1] + w * slopes[i, 2]
        for k in range(np.uint64(many[i])):
            j = np.uint64(near[i, k])
            rate += slope[i, k] * (
                (x - at[j, 0]) * (u - going[j, 0]) + (y - at[j, 1]) * (v - going[j, 1])
                + (z - at[j, 2]) * (w - going[j, 2])
            )  # fmt: skip
        over, before = source[i] + dt * rate, at[i, 3]
        error[i] = over if before > 0 or over > 0 else np.float32(0)
        press[i] = max(before + relax * over / (dt * stiff[i] + np.float32(1e-12)), np.float32(0))


def solve(at, many, near, slope, slopes, speed, source, stiff, dt: float, most: int, fine: float):
    """(speeds (n, 4) m/s, pressures (n,), how often it went round, mean error): until grains become on average no more
    than `fine` denser than allowed, at most so often. Begins with the pressures of `at`."""
    n, dt = len(at), np.float32(dt)
    going, error, last, theta, mean = np.empty_like(speed), np.empty(n, np.float32), at[:, 3].copy(), 1.0, 0.0
    for k in range(most):
        pushed(at, many, near, slope, slopes, speed, going)
        press = np.empty(n, np.float32)
        pressed(at, many, near, slope, slopes, going, source, stiff, dt, np.float32(RELAX), press, error)
        mean = float(np.maximum(error, 0).mean())
        if mean < fine and k:
            break
        then, theta = theta, (1 + np.sqrt(1 + 4 * theta * theta)) / 2
        if float(((press - at[:, 3]) * (press - last)).sum()) < 0:  # it overshot: begin anew from here
            theta, then = 1.0, 1.0
        at[:, 3] = np.maximum(press + np.float32((then - 1) / theta) * (press - last), 0)
        last = press
    at[:, 3] = press
    pushed(at, many, near, slope, slopes, speed, going)
    return going, press, k + 1, mean


@njit(parallel=True, cache=True, nogil=True, fastmath=FAST)
def evened(at, many, near, c, speed, share, to):
    """Speeds `to` (n, 4) m/s, each a share nearer to those around it (Monaghan 1992, XSPH): keeps momentum, and calms
    what the grains alone would tremble."""
    w, inverse, one = share * c[1], c[3], np.float32(1)
    for i in prange(len(at)):
        x, y, z = at[i, 0], at[i, 1], at[i, 2]
        u, v, s_ = speed[i, 0], speed[i, 1], speed[i, 2]
        mx, my, mz = np.float32(0), np.float32(0), np.float32(0)
        for k in range(np.uint64(many[i])):
            j = np.uint64(near[i, k])
            dx, dy, dz = x - at[j, 0], y - at[j, 1], z - at[j, 2]
            q = np.sqrt(dx * dx + dy * dy + dz * dz) * inverse
            s = max(one - q, np.float32(0))
            f = w * s * s * s * s * (np.float32(4) * q + one)
            mx, my, mz = mx + f * (speed[j, 0] - u), my + f * (speed[j, 1] - v), mz + f * (speed[j, 2] - s_)
        to[i, 0], to[i, 1], to[i, 2] = u + mx, v + my, s_ + mz
