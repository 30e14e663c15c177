"""Bend: curl a stretch of a subject around an axis."""

import numpy as np

from ..scene.channels import number, ref
from .layer import Layer, Moment, Resolved, origin_frame, weighted


class Bend(Layer):
    """Bends the subject along its grip's long axis; the part beyond the limits follows rigidly.

    After A. H. Barr 1984, "Global and local deformations of solid primitives": the spine keeps its arc
    length and cross-sections stay rigid. The grip's Y axis is the spine; the bend goes towards its Z axis.
    """

    kind, title = "bend", "Bend"

    angle = number(
        np.radians(30), "How far the stretch between the limits curls in all.", unit="rad", soft=(-np.pi, np.pi)
    )
    low = number(
        0, "Where along the axis the bend begins, from the grip's origin.", title="Limit from", unit="m", soft=(-3, 3)
    )
    high = number(1, "Where along the axis the bend ends.", title="Limit to", unit="m", soft=(-3, 3))
    grip = ref("grip", "The grip whose Y axis is the spine and whose Z axis is the side it bends to.")
    map = ref("map", "Weight map that scales the bend; none bends everything.", title="Weight map")

    def apply(self, points: np.ndarray, v: Resolved, now: Moment) -> np.ndarray:
        low, high = min(v.low, v.high), max(v.low, v.high)
        length = high - low
        if v.angle == 0 or length <= 0:
            return points
        origin, axes, _ = origin_frame(v.grip)
        local = (points - origin) @ axes
        x, y, z = local.T
        curvature = v.angle / length
        turned = curvature * (np.clip(y, low, high) - low)
        beyond = y - np.clip(y, low, high)
        sin, cos = np.sin(turned), np.cos(turned)
        radius = 1 / curvature
        # the spine is an arc that leaves Y towards Z; a cross-section turns with it
        bent_y = low + sin * (radius - z) + beyond * cos
        bent_z = radius - cos * (radius - z) + beyond * sin
        moved = np.stack([x, bent_y, bent_z], axis=1) @ axes.T + origin
        return weighted(points, moved, v.map)
