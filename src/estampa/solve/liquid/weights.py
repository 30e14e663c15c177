"""The weight by which a grain of a liquid counts for another one, and what a wall counts for.

The weight is Wendland's C2 function (Wendland 1995, "Piecewise polynomial, positive definite and compactly supported
radial functions of minimal degree"), of support H: W = 21 / (2 pi H^3) (1 - q)^4 (4 q + 1), q = r / H.
"""

from functools import lru_cache

import numpy as np

SUPPORT = 2.0  # of the spacing
STEPS = 256  # of the table of walls


def weight(q):
    """W H^3 at r = q H."""
    q = np.minimum(q, 1.0)
    return 21 / (2 * np.pi) * (1 - q) ** 4 * (4 * q + 1)


def slope(q):
    """dW/dr H^4 at r = q H."""
    q = np.minimum(q, 1.0)
    return -21 / (2 * np.pi) * 20 * q * (1 - q) ** 3


@lru_cache(maxsize=1)
def lattice_sum() -> float:
    """The volume that grains on a cubic lattice count for at one of them; by it all weights are scaled to 1."""
    k = np.arange(-3, 4)
    r = np.sqrt(sum(a**2 for a in np.meshgrid(k, k, k)))
    return float(weight(r / SUPPORT).sum() / SUPPORT**3)


@lru_cache(maxsize=1)
def walls() -> np.ndarray:
    """(STEPS + 1, 2) at distances of 0 to H: the share of the weight that lies beyond a flat wall, and its slope with
    the distance over H (below 0)."""
    z = np.linspace(0, 1, 4001)
    # in a plane at z: the integral of W 2 pi s ds over s, with r^2 = z^2 + s^2, is that of W 2 pi r dr from z to 1
    r = np.linspace(0, 1, 4001)
    ring = weight(r) * 2 * np.pi * r
    plane = np.concatenate([np.cumsum(((ring[1:] + ring[:-1]) / 2)[::-1])[::-1] * (r[1] - r[0]), [0.0]])
    beyond = np.concatenate([np.cumsum(((plane[1:] + plane[:-1]) / 2)[::-1])[::-1] * (z[1] - z[0]), [0.0]])
    at = np.linspace(0, 1, STEPS + 1)
    return np.stack([np.interp(at, z, beyond), -np.interp(at, z, plane)], axis=1)
