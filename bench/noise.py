"""Noise: against the same function in plain NumPy."""

import numpy as np

from estampa.motion.gradient_noise import fractal, permutation

from .measure import Row, in_turn

COUNT = 200_000


def plain(at: np.ndarray, p: np.ndarray) -> np.ndarray:
    """Perlin 2002, whole arrays at once."""
    cell = np.floor(at).astype(np.int64)
    f = at - cell
    cell &= 255
    u, v, w = (f**3 * (f * (f * 6 - 15) + 10)).T
    total = np.zeros(len(at))
    for i in (0, 1):
        for j in (0, 1):
            for k in (0, 1):
                h = p[p[p[cell[:, 0] + i] + cell[:, 1] + j] + cell[:, 2] + k] & 15
                x, y, z = (f - [i, j, k]).T
                a, b = np.where(h < 8, x, y), np.where(h < 4, y, np.where((h == 12) | (h == 14), x, z))
                dot = np.where(h & 1, -a, a) + np.where(h & 2, -b, b)
                total += dot * (u if i else 1 - u) * (v if j else 1 - v) * (w if k else 1 - w)
    return total


def rows() -> list[Row]:
    at = np.random.default_rng(0).uniform(-50, 50, (COUNT, 3))
    table = permutation(0)
    wide = table.astype(np.int64)
    assert np.allclose(plain(at, wide), fractal(at, table))
    ours, numpy = in_turn(lambda: fractal(at, table), lambda: plain(at, wide), times=9)
    rate = lambda s: f"{COUNT / s / 1e6:.3g} million/s"
    return [
        Row("noise evaluations", rate(ours), f"plain NumPy {rate(numpy)}", numpy / ours, "≥ 10", numpy / ours >= 10)
    ]
