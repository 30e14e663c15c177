"""Twist: turn a subject around an axis, more the further along it."""

import numpy as np

from ..kinds.channels import number, ref
from .layer import Deformer, along_grip, between, in_rows, sincos, stand


class Twist(Deformer):
    """Turns each cross-section around the grip's Y axis, by an angle that grows between the limits.

    After A. H. Barr 1984: the volume stays as it is.
    """

    kind, title, turns = "twist", "Twist", True
    icon = "M5 2.5 C12 5 3 7 11 8 C3 9 12 11 5 13.5 M11 2.5 C4 5 13 7 5 8 C13 9 4 11 11 13.5"
    group = "bend"

    angle = number(np.radians(90), "Turn between the limits in all.", unit="rad", soft=(-2 * np.pi, 2 * np.pi))
    low = number(0, "Where along the axis the twist begins.", title="Limit from", unit="m", soft=(-3, 3))
    high = number(1, "Where along the axis it ends.", title="Limit to", unit="m", soft=(-3, 3), suits=("height", 1.0))
    grip = ref("grip", "The grip whose Y axis it is twisted around.")

    def apply(self, points, v, now):
        low, high = np.minimum(v.low, v.high), np.maximum(v.low, v.high)
        origin, axes, _ = stand(v.grip, len(points))
        return _twist(points, origin, axes, in_rows(v.angle * v.strength, low, high))


def _moved(x, y, z, own):
    turn, low, high = own[0], own[1], own[2]
    per = 1 / max(high - low, 1e-12)
    for i in range(len(x)):
        sin, cos = sincos(turn * between((y[i] - low) * per, 0.0, 1.0))
        x[i], z[i] = cos * x[i] + sin * z[i], cos * z[i] - sin * x[i]


_twist = along_grip(_moved)
