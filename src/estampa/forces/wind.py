"""Wind: a mean flow, gusts that ride on it, and turbulence."""

import numpy as np
from numba import njit, prange

from ..motion.gradient_noise import noise_at, permutation
from ..motion.layer import Resolved, origin_frame
from ..scene.channels import number, ref, whole
from .force import Force

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
    grip = ref("grip", "The grip whose Z axis the wind blows along; none blows along +Z.", title="Direction grip")

    def act(self, world, v: Resolved):
        if v.speed > 0:
            world.winds.append(lambda points: self.sample(points, v))

    @staticmethod
    def sample(points: np.ndarray, v: Resolved) -> np.ndarray:
        """Velocity of the air at (n, 3) points, m/s."""
        origin, axes, _ = origin_frame(v.grip)
        local = (points - origin) @ axes
        local[:, 2] -= v.travel["speed"]
        tables = np.stack([permutation(4 * v.seed + k) for k in range(4)])
        swing = _sample(local, tables, v.gustiness * v.speed, v.gust_length, v.turbulence * v.speed, v.eddy_length)
        swing[:, 2] += v.speed
        return swing @ axes.T


@njit(cache=True, nogil=True)
def _eddies(x, y, z, length, p, octaves, gain):
    total, strength, power = 0.0, 1.0, 0.0
    for o in range(octaves):
        # the octaves' ratio is not whole, so that the zeros of the lattices never line up
        shift = 31.7 * o
        total += strength * noise_at(x / length + shift, y / length - shift, z / length + shift, p)
        power += strength * strength
        strength *= gain
        length /= 2.03
    return total / np.sqrt(power) / NOISE_SPREAD


@njit(parallel=True, cache=True, nogil=True)
def _sample(local, tables, gust, gust_length, turbulence, eddy_length):
    result = np.zeros((len(local), 3))
    for i in prange(len(local)):
        x, y, z = local[i, 0], local[i, 1], local[i, 2]
        if gust > 0:
            result[i, 2] += gust * _eddies(x, y, z, gust_length, tables[0], GUST_OCTAVES, INERTIAL_GAIN)
        if turbulence > 0:
            for k in range(3):
                result[i, k] += turbulence * _eddies(
                    x, y, z, eddy_length, tables[k + 1], TURBULENCE_OCTAVES, INERTIAL_GAIN
                )
    return result
