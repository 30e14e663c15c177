"""Noise: ripple a subject by gradient noise."""

import numpy as np

from ..scene.channels import choice, number, ref, whole
from .gradient_noise import fractal, permutation
from .layer import Layer, Moment, Resolved, origin_frame, weighted


class Noise(Layer):
    """Displaces the subject by improved gradient noise (Perlin 2002), along its normals or a direction.

    The pattern lives in the grip's space: moving the grip moves the pattern, its size makes it coarser.
    """

    kind, title = "noise", "Noise"

    strength = number(0.1, "How far the noise displaces at its strongest.", unit="m", soft=(0, 1))
    scale = number(0.5, "Size of one bump.", unit="m", soft=(0.02, 5), hard=(1e-4, None))
    octaves = whole(2, "Layers of ever finer detail.", soft=(1, 6), hard=(1, 12))
    roughness = number(
        0.5, "How strong each finer octave is against the one before.", unit="factor", soft=(0, 1), hard=(0, 1)
    )
    speed = number(
        0.5, "How fast the pattern travels along the grip's Z axis.", unit="m/s", soft=(-5, 5), accumulates=True
    )
    along = choice(
        "normals", "Which way it displaces.", {"normals": "Normals", "axis": "The grip's Y axis", "all": "Every way"}
    )
    seed = whole(1, "Another seed, another pattern. 0 is the published permutation.", soft=(0, 100), hard=(0, None))
    grip = ref("grip", "The grip whose space the pattern lives in.")
    map = ref("map", "Weight map that scales the noise; none ripples everything.", title="Weight map")

    def apply(self, points: np.ndarray, v: Resolved, now: Moment) -> np.ndarray:
        if v.strength == 0:
            return points
        origin, axes, size = origin_frame(v.grip)
        step = v.scale * size
        at = (points - origin) @ axes / step
        at[:, 2] -= v.travel["speed"] / step
        value = lambda table: fractal(at, permutation(table), v.octaves, v.roughness)
        if v.along == "all":
            shift = np.stack([value(3 * v.seed + k) for k in range(3)], axis=1) @ axes.T
        elif v.along == "axis":
            shift = value(v.seed)[:, None] * axes[:, 1]
        else:
            shift = value(v.seed)[:, None] * now.mesh.normals(points)
        return weighted(points, points + v.strength * shift, v.map)
