"""Noise: ripple a subject by gradient noise."""

import numpy as np
from numba import prange

from ..kinds.channels import choice, number, ref, switch, whole
from .gradient_noise import fractal_slope, fractals, loop_tables, norm, permutation, plain_table
from .layer import PART, Deformer, kernel, part, stand, to_local


class Noise(Deformer):
    """Displaces the subject by improved gradient noise (Perlin 2002), along its normals, a direction or every way.

    The pattern lives in the grip's space: moving the grip moves the pattern, its size makes it coarser.
    """

    kind, title, version = "noise", "Noise", 2
    icon = "M2 9 L4 5 L5.5 11 L7.5 3.5 L9.5 12.5 L11 6 L12.5 9.5 L14 7.5"
    group = "drift"
    shortcut = "Ctrl+3"
    rank = 3

    height = number(
        0.1, "How far the noise displaces at its strongest.", unit="m", soft=(0, 1), suits=("largest", 1 / 40)
    )
    scale = number(0.5, "Size of one bump.", unit="m", soft=(0.02, 5), hard=(1e-4, None), suits=("largest", 1 / 6))
    octaves = whole(2, "Layers of ever finer detail.", soft=(1, 6), hard=(1, 12))
    roughness = number(
        0.5, "How strong each finer octave is against the one before.", unit="factor", soft=(0, 1), hard=(0, 1)
    )
    speed = number(
        0.5, "How fast the pattern travels along the grip's Z axis.", unit="m/s", soft=(-5, 5), accumulates=True
    )
    along = choice(
        "normals",
        "Which way it displaces. A flow goes round in eddies that neither gather nor spread.",
        {"normals": "Normals", "axis": "The grip's Y axis", "all": "Every way", "flow": "As a flow"},
    )
    loops = switch(
        False, "The pattern comes back to where it began over the loop range, without a blend.", title="Closes the loop"
    )
    seed = whole(1, "Another seed, another pattern. 0 is the published permutation.", soft=(0, 100), hard=(0, None))
    grip = ref("grip", "The grip whose space the pattern lives in.")

    def apply(self, points, v, now):
        if not v.height.any():
            return points
        origin, axes, size = stand(v.grip, len(points))
        step = v.scale * size
        travel = np.zeros(len(points)) if v.loop else v.travel["speed"] / step
        count = {"all": 3, "flow": 3}.get(v.along, 1)
        seeds = [v.seed] if count == 1 else [3 * v.seed + c for c in range(3)]
        tables = np.stack([permutation(s) for s in seeds])
        turning = np.stack([self._turning(p, v, step) for p in tables])
        normals = now.mesh.normals(points) if v.along == "normals" else np.zeros((1, 1, 3))
        way = ("normals", "axis", "all", "flow").index(v.along)
        gain = v.roughness[0]
        tall = v.height * norm(v.octaves, gain)
        return _noise(points, origin, axes, step, travel, tall, v.octaves, gain, tables, turning, normals, way)

    @staticmethod
    def _turning(p, v, step):
        """(rows or 1, octaves or 1, 256, 4) tables: the plain one, or those of this moment of the loop."""
        if not v.loop:
            return plain_table()[None, None]
        turns, seconds = v.loop
        # as fast as the pattern would travel, and never standing still
        way = np.maximum(np.abs(v.speed), 1e-3 * step / seconds) * seconds / step
        return loop_tables(p, turns, way[:, None] / (2 * np.pi) * 2.0 ** np.arange(v.octaves))


@kernel
def _noise(points, origin, axes, step, travel, tall, octaves, gain, tables, turning, normals, way):
    rows, n = points.shape[0], points.shape[1]
    result = np.empty_like(points)
    parts = (n + PART - 1) // PART
    for at in prange(rows * parts):
        k, first, last = part(at, parts, n)
        x, y, z = to_local(points, k, first, last, origin, axes)
        fine, moved, high, up = 1 / step[k], travel[k], tall[k], axes[k]
        r, end = min(k, turning.shape[1] - 1), len(tables) - 1
        p0, p1, p2 = tables[0], tables[min(1, end)], tables[end]
        t0, t1, t2 = turning[0, r], turning[min(1, end), r], turning[end, r]
        for i in range(len(x)):
            x[i], y[i], z[i] = x[i] * fine, y[i] * fine, z[i] * fine - moved
        if way < 3:
            a = fractals(x, y, z, p0, t0, octaves, gain)
            if way == 2:
                b, c = fractals(x, y, z, p1, t1, octaves, gain), fractals(x, y, z, p2, t2, octaves, gain)
                y, z = high * b, high * c
            x = high * a
        else:
            # the curl of a noise potential has no divergence: Bridson, Hourihan and Nordenstam 2007
            for i in range(len(x)):
                _, py, pz = fractal_slope(x[i], y[i], z[i], p0, t0, octaves, gain)
                qx, _, qz = fractal_slope(x[i], y[i], z[i], p1, t1, octaves, gain)
                sx, sy, _ = fractal_slope(x[i], y[i], z[i], p2, t2, octaves, gain)
                x[i], y[i], z[i] = high * (sy - qz), high * (pz - sx), high * (qx - py)
        for i in range(len(x)):
            for j in range(3):
                if way == 0:
                    shift = x[i] * normals[k, first + i, j]
                elif way == 1:
                    shift = x[i] * up[j, 1]
                else:
                    shift = up[j, 0] * x[i] + up[j, 1] * y[i] + up[j, 2] * z[i]
                result[k, first + i, j] = points[k, first + i, j] + shift
    return result
