"""Shear: lean a subject without turning its cross-sections."""

import numpy as np

from ..kinds.channels import number, ref
from .layer import Deformer, along_grip, between, in_rows, stand


class Shear(Deformer):
    """Slides each cross-section along the grip's Z axis, by its height along the Y axis between the limits."""

    kind, title = "shear", "Shear"
    icon = "M3 13 L6.5 3 H13 L9.5 13 Z"
    group = "bend"

    angle = number(np.radians(15), "How far the upright leans.", unit="rad", soft=(-1.2, 1.2), hard=(-1.5, 1.5))
    low = number(0, "Where along the axis the lean begins.", title="Limit from", unit="m", soft=(-3, 3))
    high = number(
        1,
        "Where it ends; what is beyond is carried along.",
        title="Limit to",
        unit="m",
        soft=(-3, 3),
        suits=("height", 1.0),
    )
    grip = ref("grip", "The grip whose Y axis leans towards its Z axis.")

    def apply(self, points, v, now):
        origin, axes, _ = stand(v.grip, len(points))
        low, high = np.minimum(v.low, v.high), np.maximum(v.low, v.high)
        return _shear(points, origin, axes, in_rows(np.tan(v.angle), low, high))


def _moved(x, y, z, own):
    lean, low, high = own[0], own[1], own[2]
    for i in range(len(x)):
        z[i] += lean * (between(y[i], low, high) - low)


_shear = along_grip(_moved)
