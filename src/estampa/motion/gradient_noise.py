"""Improved gradient noise.

K. Perlin 2002, "Improving noise" (ACM SIGGRAPH): quintic fade, twelve edge directions, a permutation of 256.
"""

from functools import lru_cache

import numpy as np
from numba import njit, prange

from ..hashing import rand

# fmt: off
# The permutation published with the 2002 reference implementation.
PUBLISHED = np.array([
    151, 160, 137, 91, 90, 15, 131, 13, 201, 95, 96, 53, 194, 233, 7, 225, 140, 36, 103, 30, 69, 142, 8, 99, 37,
    240, 21, 10, 23, 190, 6, 148, 247, 120, 234, 75, 0, 26, 197, 62, 94, 252, 219, 203, 117, 35, 11, 32, 57, 177,
    33, 88, 237, 149, 56, 87, 174, 20, 125, 136, 171, 168, 68, 175, 74, 165, 71, 134, 139, 48, 27, 166, 77, 146,
    158, 231, 83, 111, 229, 122, 60, 211, 133, 230, 220, 105, 92, 41, 55, 46, 245, 40, 244, 102, 143, 54, 65, 25,
    63, 161, 1, 216, 80, 73, 209, 76, 132, 187, 208, 89, 18, 169, 200, 196, 135, 130, 116, 188, 159, 86, 164, 100,
    109, 198, 173, 186, 3, 64, 52, 217, 226, 250, 124, 123, 5, 202, 38, 147, 118, 126, 255, 82, 85, 212, 207, 206,
    59, 227, 47, 16, 58, 17, 182, 189, 28, 42, 223, 183, 170, 213, 119, 248, 152, 2, 44, 154, 163, 70, 221, 153,
    101, 155, 167, 43, 172, 9, 129, 22, 39, 253, 19, 98, 108, 110, 79, 113, 224, 232, 178, 185, 112, 104, 218, 246,
    97, 228, 251, 34, 242, 193, 238, 210, 144, 12, 191, 179, 162, 241, 81, 51, 145, 235, 249, 14, 239, 107, 49,
    192, 214, 31, 181, 199, 106, 157, 184, 84, 204, 176, 115, 121, 50, 45, 127, 4, 150, 254, 138, 236, 205, 93,
    222, 114, 67, 29, 24, 72, 243, 141, 128, 195, 78, 66, 215, 61, 156, 180], np.uint8)
# fmt: on


@lru_cache(maxsize=256)
def permutation(seed: int) -> np.ndarray:
    """(512,) uint8 table for a seed; seed 0 is the published one."""
    table = PUBLISHED if seed == 0 else np.argsort(rand(seed, np.arange(256), "permutation")).astype(np.uint8)
    return np.concatenate([table, table])


@njit(cache=True, nogil=True, inline="always")
def _gradient(h, x, y, z):
    """Dot product with one of the twelve edge directions, as the reference picks it."""
    h &= 15
    u = x if h < 8 else y
    v = y if h < 4 else (x if h == 12 or h == 14 else z)
    return (u if h & 1 == 0 else -u) + (v if h & 2 == 0 else -v)


@njit(cache=True, nogil=True, inline="always")
def _fade(t):
    return t * t * t * (t * (t * 6 - 15) + 10)


@njit(cache=True, nogil=True)
def noise_at(x, y, z, p):
    """Noise at one point, in about [-1, 1]; zero where all three coordinates are whole."""
    fx, fy, fz = np.floor(x), np.floor(y), np.floor(z)
    i, j, k = np.int64(fx) & 255, np.int64(fy) & 255, np.int64(fz) & 255
    x, y, z = x - fx, y - fy, z - fz
    u, v, w = _fade(x), _fade(y), _fade(z)
    a, b = np.int64(p[i]) + j, np.int64(p[i + 1]) + j
    aa, ab, ba, bb = np.int64(p[a]) + k, np.int64(p[a + 1]) + k, np.int64(p[b]) + k, np.int64(p[b + 1]) + k
    n00 = _gradient(np.int64(p[aa]), x, y, z)
    n00 += u * (_gradient(np.int64(p[ba]), x - 1, y, z) - n00)
    n10 = _gradient(np.int64(p[ab]), x, y - 1, z)
    n10 += u * (_gradient(np.int64(p[bb]), x - 1, y - 1, z) - n10)
    n01 = _gradient(np.int64(p[aa + 1]), x, y, z - 1)
    n01 += u * (_gradient(np.int64(p[ba + 1]), x - 1, y, z - 1) - n01)
    n11 = _gradient(np.int64(p[ab + 1]), x, y - 1, z - 1)
    n11 += u * (_gradient(np.int64(p[bb + 1]), x - 1, y - 1, z - 1) - n11)
    n00 += v * (n10 - n00)
    n01 += v * (n11 - n01)
    return n00 + w * (n01 - n00)


@njit(cache=True, nogil=True)
def fractal_at(x, y, z, p, octaves, gain):
    """Sum of octaves at one point, each twice as fine and `gain` times as strong; not normalised."""
    total, strength = 0.0, 1.0
    for o in range(octaves):
        # each octave is moved off the lattice of the one before, so that their zeros do not meet
        shift = 19.19 * o
        total += strength * noise_at(x + shift, y + shift, z + shift, p)
        x, y, z = 2 * x, 2 * y, 2 * z
        strength *= gain
    return total


@njit(parallel=True, cache=True, nogil=True)
def _fractal(at, p, octaves, gain, norm):
    result = np.empty(len(at))
    for i in prange(len(at)):
        result[i] = fractal_at(at[i, 0], at[i, 1], at[i, 2], p, octaves, gain) * norm
    return result


def fractal(at: np.ndarray, p: np.ndarray, octaves: int = 1, gain: float = 0.5) -> np.ndarray:
    """Octave sum at (n, 3) points, divided by the sum of the octaves' strengths: in about [-1, 1]."""
    return _fractal(np.ascontiguousarray(at, np.float64), p, octaves, gain, 1 / sum(gain**o for o in range(octaves)))
