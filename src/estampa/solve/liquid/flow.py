"""What flows do besides keeping their room: stick to themselves, hold together, and pass on warmth and colour."""

from functools import lru_cache

import numpy as np
from numba import njit, prange

from .pressure import FAST
from .weights import SUPPORT

FELT = 0.67  # of what that says, grains that keep apart feel: by the period of drops, and by their pressure
MANY = 12  # neighbours as steep as the steepest, as much as all of them together pull
EXPLICIT = 0.05  # of its speed, up to which neighbours change a grain so little in a step that no solve is needed
NOTHING = 1e-5  # the same, up to which it is not felt: water's, with grains of a centimetre
ROUNDS, EXACT = 60, 1e-4  # of the solve for viscosity


def cohesion(spacing: float, tension: float, density: float) -> float:
    """The force between two grains at its highest, N, for a surface tension, N/m.

    Tension of a liquid of n grains a volume between which f(r) acts is pi / 8 n^2 times the integral of r^4 f(r)
    (Kirkwood and Buff 1949, for a sharp surface; as in Tartakovsky and Panchenko 2016, "Pairwise force SPH")."""
    return tension / FELT / (np.pi / 8 * spacing**-6 * _moment() * (SUPPORT * spacing) ** 5)


@lru_cache(maxsize=1)
def _moment() -> float:
    """The integral of q^4 times the shape of the force, over q from 0 to 1."""
    q = np.linspace(0, 1, 2001)
    return float((q**4 * np.array([_shape(x) for x in q])).sum() * (q[1] - q[0]))


@njit(cache=True, nogil=True, inline="always")
def _shape(q):
    """How hard two grains draw each other at r = q H, of the most: none when near and far, as the spline of Akinci and
    others 2013 ("Versatile surface tension and adhesion for SPH fluids") with its part that pushes left out, since
    pressure does that."""
    if q >= 1 or q <= 0.4:
        return 0.0
    t = (q - 0.4) / 0.6
    return 16 * t * t * (1 - t) * (1 - t)


@njit(parallel=True, cache=True, nogil=True, fastmath=FAST)
def drawn(at, many, near, inverse, pull, speed):
    """Change speeds (n, 4) m/s by what neighbours draw: pull, m/s at the most."""
    for i in prange(len(at)):
        x, y, z = at[i, 0], at[i, 1], at[i, 2]
        mx, my, mz = np.float32(0), np.float32(0), np.float32(0)
        for k in range(np.uint64(many[i])):
            j = np.uint64(near[i, k])
            dx, dy, dz = at[j, 0] - x, at[j, 1] - y, at[j, 2] - z
            r = np.sqrt(dx * dx + dy * dy + dz * dz)
            q = r * inverse
            if np.float32(0.4) < q < np.float32(1):
                t = (q - np.float32(0.4)) * np.float32(1 / 0.6)
                u = np.float32(1) - t
                f = pull * np.float32(16) * t * t * u * u / r
                mx, my, mz = mx + f * dx, my + f * dy, mz + f * dz
        speed[i, 0] += mx
        speed[i, 1] += my
        speed[i, 2] += mz


@njit(parallel=True, cache=True, nogil=True, fastmath=FAST)
def _spread(at, many, near, slope, values, k, own, to):
    """to (n, w) = values + k times what flows out of each to its neighbours, and own (n,) to what stands still (after
    Morris, Fox and Zhu 1997): 2 V (a - b) W'/r, whose sum over all grains is 0."""
    for i in prange(len(at)):
        for c in range(values.shape[1]):
            mine, sum_ = values[i, c], np.float32(0)
            for m in range(np.uint64(many[i])):
                sum_ -= slope[i, m] * (mine - values[np.uint64(near[i, m]), c])
            to[i, c] = mine * (np.float32(1) + own[i]) + k * np.float32(2) * sum_


def stick(
    at, many, near, slope, speed: np.ndarray, viscosity: float, own: np.ndarray, steep: float
) -> np.ndarray:  # fmt: skip
    """(n, 3) float32 m/s after neighbours dragged on one another for a step: viscosity -- nu dt, m2; own (n,), how much
    walls drag; steep -- 1/m2, the steepest slope that there can be. Where it is thick, implicit, by conjugate
    gradients, which keep momentum and never blow up."""
    speed = np.ascontiguousarray(speed[:, :3])
    k, own = np.float32(viscosity), own.astype(np.float32)
    of = np.empty_like(speed)

    most = max(2 * float(k) * steep * MANY, float(own.max(initial=0.0)))
    if most < EXPLICIT:
        if most < NOTHING:
            return speed
        _spread(at, many, near, slope, speed, -k, -own, of)
        return of

    def times(x):
        _spread(at, many, near, slope, x, k, own, of)
        return of

    x = speed.copy()
    r = speed - times(x)
    p, rr = r.copy(), (r.astype(float) ** 2).sum(axis=0)
    enough = EXACT**2 * np.maximum((speed.astype(float) ** 2).sum(axis=0), 1e-12)
    for _ in range(ROUNDS):
        if (rr <= enough).all():
            break
        ap = times(p)
        a = rr / np.maximum((p.astype(float) * ap).sum(axis=0), 1e-300)
        x += (a * p).astype(np.float32)
        r -= (a * ap).astype(np.float32)
        last, rr = rr, (r.astype(float) ** 2).sum(axis=0)
        p = r + (np.where(last > 0, rr / np.maximum(last, 1e-300), 0) * p).astype(np.float32)
    return x


def mixed(at, many, near, slope, values: np.ndarray, spread: float) -> np.ndarray:
    """(n, w) values after they went over into one another: spread -- diffusivity times dt, m2; in as many parts as keep
    it steady. What all hold together stays the same."""
    most = float(2 * spread * np.abs(slope).sum(axis=1).max(initial=0.0)) if spread else 0.0
    parts = int(np.clip(np.ceil(most / 0.4), 0, 8))
    values, none = np.ascontiguousarray(values, np.float32), np.zeros(len(at), np.float32)
    for _ in range(parts):
        to = np.empty_like(values)
        _spread(at, many, near, slope, values, np.float32(-min(spread, 0.4 * spread / most * 8) / parts), none, to)
        values = to
    return values
