"""Bend: curl a stretch of a subject around an axis."""

import numpy as np

from ..kinds.channels import number, ref
from .layer import Deformer, along_grip, between, in_rows, inline, sincos, stand

STRAIGHT = 1e-9  # rad; of less the circle is so large that a bend is lost in rounding, by millimetres


class Bend(Deformer):
    """Bends the subject along its grip's long axis; the part beyond the limits follows rigidly.

    After A. H. Barr 1984, "Global and local deformations of solid primitives": the spine keeps its arc
    length and cross-sections stay rigid. The grip's Y axis is the spine; the bend goes towards its Z axis.
    """

    kind, title, version, turns = "bend", "Bend", 3, True
    group = "bend"
    shortcut = "Ctrl+1"
    rank = 2

    angle = number(
        np.radians(30), "How far the stretch between the limits curls in all.", unit="rad", soft=(-np.pi, np.pi)
    )
    low = number(
        0, "Where along the axis the bend begins, from the grip's origin.", title="Limit from", unit="m", soft=(-3, 3)
    )
    high = number(
        1, "Where along the axis the bend ends.", title="Limit to", unit="m", soft=(-3, 3), suits=("height", 1.0)
    )
    heading = number(0, "Turns the side it bends to about the grip's Y axis.", unit="rad", soft=(-np.pi, np.pi))
    grip = ref("grip", "The grip whose Y axis is the spine and whose Z axis is the side it bends to.")

    def apply(self, points, v, now):
        low, high = np.minimum(v.low, v.high), np.maximum(v.low, v.high)
        angle = v.angle * v.strength
        if not (angle * (high - low)).any():
            return points
        origin, axes, _ = stand(v.grip, len(points))
        return _bend(points, origin, headed(axes, v.heading), in_rows(angle, low, high))


def headed(axes: np.ndarray, heading: np.ndarray) -> np.ndarray:
    """(k, 3, 3) axes turned by (k,) angles about their own Y axis."""
    if not heading.any():
        return axes
    sin, cos = np.sin(heading)[:, None], np.cos(heading)[:, None]
    x, y, z = axes.transpose(2, 0, 1)
    return np.ascontiguousarray(np.stack([cos * x - sin * z, y, cos * z + sin * x], axis=2))


@inline
def bent(y, z, angle, low, high):
    """(y, z) of a point after its spine, the y axis from low to high, is bent towards z as an arc of this angle,
    which may not be next to 0."""
    curvature = angle / (high - low)
    inside = between(y, low, high)
    beyond, radius = y - inside, 1 / curvature
    # a cross-section turns with the arc; the part beyond goes on straight
    sin, cos = sincos(curvature * (inside - low))
    return low + sin * (radius - z) + beyond * cos, radius - cos * (radius - z) + beyond * sin


def _moved(x, y, z, own):
    angle, low, high = own[0], own[1], own[2]
    if abs(angle) > STRAIGHT and high > low:
        for i in range(len(x)):
            y[i], z[i] = bent(y[i], z[i], angle, low, high)


_bend = along_grip(_moved)
