"""Improved gradient noise, and the same noise turned into a loop.

K. Perlin 2002, "Improving noise" (ACM SIGGRAPH): quintic fade, twelve edge directions, a permutation of 256.

A loop walks round a circle in two further dimensions of a five-dimensional noise, so it comes back to where it began
in value and in every derivative, and nothing is blended. At one moment the place on the circle is the same for every
point; so the four corners of its cell in those two dimensions are summed up beforehand for each value of the hash,
and what is left to do per point is three-dimensional noise: with a table of blended gradients and constants.
A table is (256, 4): the gradient in x, y, z and a constant, by hash.
"""

from functools import lru_cache

import numpy as np
from numba import njit, prange

from ..hashing import rand

_ONE = np.uint64(1)

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
    """(512,) uint64 table for a seed; seed 0 is the published one."""
    table = PUBLISHED if seed == 0 else np.argsort(rand(seed, np.arange(256), "permutation"))
    return np.concatenate([table, table]).astype(np.uint64)


@lru_cache(maxsize=1)
def plain_table() -> np.ndarray:
    """(256, 4) the twelve edge directions as the reference picks them by a hash's last four bits."""
    h = np.arange(256) & 15
    table = np.zeros((256, 4))
    u, v = np.where(h < 8, 0, 1), np.where(h < 4, 1, np.where((h == 12) | (h == 14), 0, 2))
    np.add.at(table, (np.arange(256), u), np.where(h & 1, -1.0, 1.0))
    np.add.at(table, (np.arange(256), v), np.where(h & 2, -1.0, 1.0))
    return table


def loop_tables(p: np.ndarray, turns: np.ndarray, radius: np.ndarray) -> np.ndarray:
    """(k, o, 256, 4) tables at places on a circle.

    p      -- (512,) permutation
    turns  -- (k,) how far round the circle, 1 is once
    radius -- (k, o) of the circle, in cells of the lattice of each octave; 2 pi radius is the way that a pattern
              would go in the whole loop, so that it changes as fast as one that travels
    """
    angle = 2 * np.pi * np.asarray(turns, float)[:, None]
    return _loop_tables(p, np.cos(angle) * radius, np.sin(angle) * radius)


# The 80 edge directions of a five-dimensional cube have length 2, those of three dimensions sqrt(2); this brings the
# spread of the looped noise to that of the plain one (measured over 4 million points and four seeds: 0.2704 / 0.2989).
_LOOP_GAIN = 0.905


@njit(parallel=True, cache=True, nogil=True)
def _loop_tables(p, us, vs):
    rows, octaves = us.shape
    tables = np.zeros((rows, octaves, 256, 4))
    for at in prange(rows * octaves):
        k, o = at // octaves, at % octaves
        # off the lattice, so that the circle never keeps to its lines
        u, v = us[k, o] + 0.37 + 11.3 * o, vs[k, o] + 0.71 + 7.9 * o
        fu, fv = np.floor(u), np.floor(v)
        iu, iv = np.int64(fu) & 255, np.int64(fv) & 255
        u, v = u - fu, v - fv
        for a in range(2):
            for b in range(2):
                weight = (_fade(u) if a else 1 - _fade(u)) * (_fade(v) if b else 1 - _fade(v)) * _LOOP_GAIN
                for h in range(256):
                    e = np.int64(p[((np.int64(p[(h + iu + a) & 255]) + iv + b) & 255)]) % 80
                    zero, signs, bit = e // 16, e % 16, 0
                    for axis in range(5):
                        if axis == zero:
                            continue
                        sign = -1.0 if (signs >> bit) & 1 else 1.0
                        bit += 1
                        if axis < 3:
                            tables[k, o, h, axis] += weight * sign
                        else:
                            tables[k, o, h, 3] += weight * sign * (u - a if axis == 3 else v - b)
    return tables


@njit(cache=True, nogil=True, inline="always")
def _corner(t, h, x, y, z):
    return t[h, 0] * x + t[h, 1] * y + t[h, 2] * z + t[h, 3]


@njit(cache=True, nogil=True, inline="always")
def _fade(t):
    return t * t * t * (t * (t * 6 - 15) + 10)


@njit(cache=True, nogil=True, inline="always", fastmath={"contract"})
def noise_at(x, y, z, p, t):
    """Noise at one point, in about [-1, 1], from a permutation and a table."""
    fx, fy, fz = np.floor(x), np.floor(y), np.floor(z)
    # unsigned throughout: an index that cannot be negative needs no check for it
    i, j, k = np.uint64(np.int64(fx) & 255), np.uint64(np.int64(fy) & 255), np.uint64(np.int64(fz) & 255)
    x, y, z = x - fx, y - fy, z - fz
    u, v, w = _fade(x), _fade(y), _fade(z)
    a, b = p[i] + j, p[i + _ONE] + j
    aa, ab, ba, bb = p[a] + k, p[a + _ONE] + k, p[b] + k, p[b + _ONE] + k
    n00 = _corner(t, p[aa], x, y, z)
    n00 += u * (_corner(t, p[ba], x - 1, y, z) - n00)
    n10 = _corner(t, p[ab], x, y - 1, z)
    n10 += u * (_corner(t, p[bb], x - 1, y - 1, z) - n10)
    n01 = _corner(t, p[aa + _ONE], x, y, z - 1)
    n01 += u * (_corner(t, p[ba + _ONE], x - 1, y, z - 1) - n01)
    n11 = _corner(t, p[ab + _ONE], x, y - 1, z - 1)
    n11 += u * (_corner(t, p[bb + _ONE], x - 1, y - 1, z - 1) - n11)
    n00 += v * (n10 - n00)
    n01 += v * (n11 - n01)
    return n00 + w * (n01 - n00)


@njit(cache=True, nogil=True, fastmath={"contract"})
def fractals(x, y, z, p, tables, octaves, gain):
    """(n,) sums of octaves at points (three flat arrays), each octave twice as fine and `gain` times as strong; not
    normalised. tables -- (octaves or 1, 256, 4)
    """
    total = np.zeros(len(x))
    strength, fine = 1.0, 1.0
    for o in range(octaves):
        # each octave is moved off the lattice of the one before, so that their zeros do not meet
        shift, t = 19.19 * o, tables[min(o, len(tables) - 1)]
        for i in range(len(x)):
            total[i] += strength * noise_at(x[i] * fine + shift, y[i] * fine + shift, z[i] * fine + shift, p, t)
        fine *= 2
        strength *= gain
    return total


@njit(parallel=True, cache=True, nogil=True)
def _fractal(at, p, tables, octaves, gain, norm):
    result = np.empty(len(at))
    part = 1024
    for b in prange((len(at) + part - 1) // part):
        first, last = b * part, min((b + 1) * part, len(at))
        x, y, z = at[first:last, 0].copy(), at[first:last, 1].copy(), at[first:last, 2].copy()
        result[first:last] = fractals(x, y, z, p, tables, octaves, gain) * norm
    return result


def fractal(at: np.ndarray, p: np.ndarray, octaves: int = 1, gain: float = 0.5, tables=None) -> np.ndarray:
    """Octave sum at (n, 3) points, divided by the sum of the octaves' strengths: in about [-1, 1].

    tables -- (o, 256, 4) of one moment of a loop; None is plain noise
    """
    tables = plain_table()[None] if tables is None else tables
    return _fractal(np.ascontiguousarray(at, np.float64), p, tables, octaves, gain, norm(octaves, gain))


def norm(octaves: int, gain: float) -> float:
    return 1 / sum(gain**o for o in range(octaves))


@njit(cache=True, nogil=True)
def slope_at(x, y, z, p, t):
    """Gradient of `noise_at` at one point, worked out exactly."""
    fx, fy, fz = np.floor(x), np.floor(y), np.floor(z)
    i, j, k = np.int64(fx) & 255, np.int64(fy) & 255, np.int64(fz) & 255
    x, y, z = x - fx, y - fy, z - fz
    gx = gy = gz = 0.0
    for a in range(2):
        u = _fade(x) if a else 1 - _fade(x)
        du = _fade_slope(x) if a else -_fade_slope(x)
        pa = np.int64(p[i + a]) + j
        for b in range(2):
            v = _fade(y) if b else 1 - _fade(y)
            dv = _fade_slope(y) if b else -_fade_slope(y)
            pb = np.int64(p[pa + b]) + k
            for c in range(2):
                w = _fade(z) if c else 1 - _fade(z)
                dw = _fade_slope(z) if c else -_fade_slope(z)
                h = p[pb + c]
                value = _corner(t, h, x - a, y - b, z - c)
                gx += du * v * w * value + u * v * w * t[h, 0]
                gy += u * dv * w * value + u * v * w * t[h, 1]
                gz += u * v * dw * value + u * v * w * t[h, 2]
    return gx, gy, gz


@njit(cache=True, nogil=True, inline="always")
def _fade_slope(t):
    return 30 * t * t * (t * (t - 2) + 1)


@njit(cache=True, nogil=True)
def fractal_slope(x, y, z, p, tables, octaves, gain):
    """Gradient of a sum of octaves whose slopes (not values) fall by `gain`, as the eddies of a flow do."""
    gx = gy = gz = 0.0
    strength = 1.0
    for o in range(octaves):
        shift = 19.19 * o
        a, b, c = slope_at(x + shift, y + shift, z + shift, p, tables[min(o, len(tables) - 1)])
        gx, gy, gz = gx + strength * a, gy + strength * b, gz + strength * c
        x, y, z = 2 * x, 2 * y, 2 * z
        strength *= gain
    return gx, gy, gz
