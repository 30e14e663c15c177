"""Wind: a mean flow, gusts that ride on it, and turbulence."""

import numpy as np
from numba import njit, prange

from ..kinds.channels import number, ref, switch, whole
from ..kinds.fields import AIR
from ..motion.gradient_noise import loop_tables, noise_at, permutation, plain_table
from ..motion.layer import Resolved, origin_frame
from .force import Force, within

# Beaufort scale in m/s: World Meteorological Organization, Manual on Codes, code table 1100.
BEAUFORT = [
    ("Calm", 0.0, 0.2),
    ("Light air", 0.3, 1.5),
    ("Light breeze", 1.6, 3.3),
    ("Gentle breeze", 3.4, 5.4),
    ("Moderate breeze", 5.5, 7.9),
    ("Fresh breeze", 8.0, 10.7),
    ("Strong breeze", 10.8, 13.8),
    ("Near gale", 13.9, 17.1),
    ("Gale", 17.2, 20.7),
    ("Strong gale", 20.8, 24.4),
    ("Storm", 24.5, 28.4),
    ("Violent storm", 28.5, 32.6),
]
GUST_OCTAVES = 9
OCTAVE_RATIO = 2.03  # not whole, so that the zeros of the lattices never line up
TURBULENCE_OCTAVES = 5
# Each octave is 2**-(1/3) as strong: velocity differences grow with the cube root of distance
# (Kolmogorov 1941), which gives the -5/3 slope of the spectrum.
INERTIAL_GAIN = 2.0 ** (-1 / 3)
NOISE_SPREAD = 0.27  # standard deviation of the noise over space, measured over 3 million points and four seeds


class Wind(Force):
    """Air that moves along the grip's Z axis, in gusts.

    Gusts are a frozen pattern that the mean flow carries along (Taylor's hypothesis, 1938), so a gust reaches the
    windward side first. A gustiness of 20 % makes the speed swing by 20 % of its mean (one standard deviation).
    """

    kind, title = "wind", "Wind"
    roster_rank = 9
    gives = frozenset({AIR})
    icon = "M2 6 H9.5 A2 2 0 1 0 7.7 3.4 M2 9 H12 A1.9 1.9 0 1 1 10.3 11.8 M2 12 H6"
    group = "fall"
    shortcut = "Alt+3"
    rank = 5
    presets = {
        f"Beaufort {b} · {name} ({low}–{high} m/s)": {"speed": round((low + high) / 2, 2)}
        for b, (name, low, high) in enumerate(BEAUFORT)
    }

    speed = number(4.4, "Mean speed of the air.", unit="m/s", soft=(0, 30), hard=(0, None), accumulates=True)
    gustiness = number(
        0.25, "Swing of the speed in gusts, against its mean.", unit="fraction", soft=(0, 1), hard=(0, None)
    )
    gust_length = number(6, "Length of the longest gusts.", unit="m", soft=(0.5, 50), hard=(0.01, None))
    turbulence = number(
        0.1, "Eddies in every direction, against the mean speed.", unit="fraction", soft=(0, 1), hard=(0, None)
    )
    eddy_length = number(0.8, "Size of the largest eddies.", unit="m", soft=(0.05, 10), hard=(0.01, None))
    seed = whole(1, "Another seed, another weather.", soft=(0, 100), hard=(0, None))
    loops = switch(
        False, "Gusts and eddies come back to where they began over the loop range.", title="Closes the loop"
    )
    grip = ref("grip", "The grip whose Z axis the wind blows along; none blows along +Z.", title="Direction grip")
    zone = ref("zone", "Blows only within this zone.")

    def act(self, world, v: Resolved):
        if v.speed > 0:
            world.winds.append(lambda points: within(v.zone, points, self.sample(points, v)))

    @staticmethod
    def sample(points: np.ndarray, v: Resolved) -> np.ndarray:
        """Velocity of the air at (n, 3) points, m/s."""
        origin, axes, _ = origin_frame(v.grip)
        local = (points - origin) @ axes
        if not v.loop:
            local[:, 2] -= v.travel["speed"]
        seeds = np.stack([permutation(4 * v.seed + k) for k in range(4)])
        lengths = [v.gust_length, v.eddy_length, v.eddy_length, v.eddy_length]
        tables = np.stack([_tables(p, length, v.loop, v.speed) for p, length in zip(seeds, lengths, strict=True)])
        gust, eddy = v.gustiness * v.speed, v.turbulence * v.speed
        swing = _sample(local, seeds, tables, gust, v.gust_length, eddy, v.eddy_length)
        swing[:, 2] += v.speed
        return swing @ axes.T


def _tables(p, length, loop, speed) -> np.ndarray:
    """(GUST_OCTAVES, 256, 4) noise tables of each octave, turning with the loop when there is one."""
    if not loop:
        return np.broadcast_to(plain_table(), (GUST_OCTAVES, 256, 4))
    turns, seconds = loop
    radius = speed * seconds / (2 * np.pi * length) * OCTAVE_RATIO ** np.arange(GUST_OCTAVES)
    return loop_tables(p, np.array([turns]), radius[None])[0]


@njit(cache=True, nogil=True)
def _eddies(x, y, z, length, p, tables, octaves, gain, scale, result, axis):
    """Add octaves of noise, of one standard deviation in all, times `scale` to an axis of the result."""
    total = np.zeros(len(x))
    strength, power = 1.0, 0.0
    for o in range(octaves):
        shift, fine, t = 31.7 * o, 1 / length, tables[o]
        for i in range(len(x)):
            total[i] += strength * noise_at(x[i] * fine + shift, y[i] * fine - shift, z[i] * fine + shift, p, t)
        power += strength * strength
        strength *= gain
        length /= OCTAVE_RATIO
    scale /= np.sqrt(power) * NOISE_SPREAD
    for i in range(len(x)):
        result[i, axis] += scale * total[i]


@njit(parallel=True, cache=True, nogil=True)
def _sample(local, seeds, tables, gust, gust_length, turbulence, eddy_length):
    result = np.zeros((len(local), 3))
    part = 512
    for b in prange((len(local) + part - 1) // part):
        first, last = b * part, min((b + 1) * part, len(local))
        x, y, z = local[first:last, 0].copy(), local[first:last, 1].copy(), local[first:last, 2].copy()
        here = result[first:last]
        if gust > 0:
            _eddies(x, y, z, gust_length, seeds[0], tables[0], GUST_OCTAVES, INERTIAL_GAIN, gust, here, 2)
        if turbulence > 0:
            for k in range(3):
                _eddies(
                    x,
                    y,
                    z,
                    eddy_length,
                    seeds[k + 1],
                    tables[k + 1],
                    TURBULENCE_OCTAVES,
                    INERTIAL_GAIN,
                    turbulence,
                    here,
                    k,
                )
    return result
