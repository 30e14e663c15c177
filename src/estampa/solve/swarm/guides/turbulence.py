"""Turbulence: eddies that carry or push grains, without sources or sinks."""

import numpy as np
from numba import njit, prange

from ....kinds.channels import choice, number, ref, whole
from ....motion.gradient_noise import fractal_slope, permutation, plain_table
from ....motion.layer import origin_frame
from ..grains import one
from ..layer import GrainLayer


class Turbulence(GrainLayer):
    """Eddies that push grains about, or carry them along: a flow without sources or sinks, so that they neither pile up
    nor leave holes. Its strength may come and go between two values."""

    kind, title = "grain_turbulence", "Turbulence"
    own_grip = ""
    icon = "M2.5 9 C4 4 8 4 8 8 C8 11 5.5 11 5.5 9 M8 8 C8 5 13 3.5 13.5 7 C13.8 10 11 10 11 8.5"
    rank = 14

    how = choice("push", "Whether eddies push, or carry along.", {"push": "Push", "carry": "Carry along"})
    amount = number(
        2,
        "How hard the eddies push, about.",
        title="Push",
        unit="m/s2",
        soft=(0, 20),
        hard=(0, None),
        when=(("how", ("push",)),),
    )
    flow = number(
        0.5,
        "How fast the eddies are, about.",
        title="Speed of eddies",
        unit="m/s",
        soft=(0, 5),
        hard=(0, None),
        when=(("how", ("carry",)),),
    )
    follow = number(
        3, "How soon grains go with them.", unit="1/s", soft=(0, 20), hard=(0, None), when=(("how", ("carry",)),)
    )
    scale = number(1, "How large the eddies are.", unit="m", soft=(0.05, 5), hard=(1e-3, None))
    octaves = whole(2, "Layers of finer eddies.", soft=(1, 4), hard=(1, 8))
    pace = number(
        0.3, "How fast they change, in eddies a second.", unit="1/s", soft=(0, 3), hard=(0, None), accumulates=True
    )
    low = number(
        1,
        "Its strength comes and goes between this share of it and the whole.",
        title="Down to",
        unit="fraction",
        soft=(0, 1),
        hard=(0, 1),
    )
    rate = number(
        0.5,
        "How often it comes and goes, about.",
        title="Comes and goes",
        unit="1/s",
        soft=(0, 4),
        hard=(0, None),
        accumulates=True,
    )
    grip = ref("grip", "Where the eddies come from, and how large: they go with it.")
    seed = whole(1, "Other eddies.", soft=(1, 99), hard=(0, None), fixed=True)

    def guide(self, grains, v, now, h):
        origin, axes, size = origin_frame(v.grip)
        p, back = tables(int(v.seed)), 1 / (float(v.scale) * size)
        gust = float(v.low) + (1 - float(v.low)) * gusts(int(v.seed), float(v.travel["rate"]))
        carry, amount = v.how == "carry", gust * (float(v.flow) if v.how == "carry" else float(v.amount))
        numbers = (origin, np.ascontiguousarray(axes), back, float(v.travel["pace"]), int(v.octaves), amount)
        _stir(
            grains.position,
            grains.velocity,
            grains.sits,
            p,
            plain_table()[None],
            *numbers,
            float(v.follow) if carry else -1.0,
            self.felt(grains, v),
            h,
        )


def tables(seed: int) -> np.ndarray:
    """(3, 512) permutations of three potentials."""
    return np.stack([permutation(1000 * axis + seed) for axis in range(3)])


def gusts(seed: int, travel: float) -> float:
    """In [0, 1], smoothly by chance: value noise along a line."""
    from ....hashing import rand

    i = int(np.floor(travel))
    a, b = rand(seed, np.array([i, i + 1]), "gusts")
    t = travel - i
    return float(a + (b - a) * t * t * (3 - 2 * t))


def curl_noise(points: np.ndarray, seed: int, octaves: int = 1, time: float = 0.0) -> np.ndarray:
    """(n, 3) the curl of three noise potentials at (n, 3) points, in cells of the noise (Bridson, Hourihan and
    Nordenstam 2007, "Curl-noise for procedural fluid flow"): it has no divergence."""
    found = np.zeros((len(points), 3))
    one, still = np.ones(1), np.zeros(len(points))
    numbers = (np.zeros(3), np.eye(3), 1.0, time, octaves, 1.0, -1.0, one, one)
    _stir(np.ascontiguousarray(points), found, still, tables(seed), plain_table()[None], *numbers)
    return found


@njit(parallel=True, cache=True, nogil=True, fastmath={"contract"})
def _stir(place, speed, sits, p, table, origin, axes, back, time, octaves, amount, follow, felt, h):
    p0, p1, p2 = p[0], p[1], p[2]
    for i in prange(len(place)):
        if sits[i] > 0:
            continue
        a, b, c = place[i, 0] - origin[0], place[i, 1] - origin[1], place[i, 2] - origin[2]
        x = back * (axes[0, 0] * a + axes[1, 0] * b + axes[2, 0] * c)
        y = back * (axes[0, 1] * a + axes[1, 1] * b + axes[2, 1] * c)
        z = back * (axes[0, 2] * a + axes[1, 2] * b + axes[2, 2] * c)
        # each potential drifts its own way, so that eddies change and do not merely pass
        _, py, pz = fractal_slope(x + time, y, z + 31.4, p0, table, octaves, 0.5)
        qx, _, qz = fractal_slope(x + 13.1, y + time, z, p1, table, octaves, 0.5)
        sx, sy, _ = fractal_slope(x, y + 41.3, z + time, p2, table, octaves, 0.5)
        u, v, w = sy - qz, pz - sx, qx - py
        a = axes[0, 0] * u + axes[0, 1] * v + axes[0, 2] * w
        b = axes[1, 0] * u + axes[1, 1] * v + axes[1, 2] * w
        c = axes[2, 0] * u + axes[2, 1] * v + axes[2, 2] * w
        share, t = one(felt, i), one(h, i)
        if follow < 0:
            push = amount * share * t
            speed[i, 0] += push * a
            speed[i, 1] += push * b
            speed[i, 2] += push * c
        else:
            take = share * (1 - np.exp(-follow * t))
            speed[i, 0] += take * (amount * a - speed[i, 0])
            speed[i, 1] += take * (amount * b - speed[i, 1])
            speed[i, 2] += take * (amount * c - speed[i, 2])
