"""Taper: grow thinner or thicker along an axis."""

from ..kinds.channels import number, ref
from .layer import Deformer, along_grip, between, in_rows, stand


class Taper(Deformer):
    """Scales each cross-section across the grip's Y axis, from 1 at the first limit to an end value at the second.

    After A. H. Barr 1984: the volume at a height changes by the square of the scale there.
    """

    kind, title = "taper", "Taper"
    icon = "M3 13.5 L6.5 2.5 H9.5 L13 13.5 Z"
    group = "bend"

    end = number(0.5, "Scale of the cross-section at the second limit and beyond.", unit="factor", soft=(0, 3))
    low = number(0, "Where along the axis the taper begins.", title="Limit from", unit="m", soft=(-3, 3))
    high = number(1, "Where along the axis it ends.", title="Limit to", unit="m", soft=(-3, 3), suits=("height", 1.0))
    grip = ref("grip", "The grip whose Y axis it tapers along.")

    def apply(self, points, v, now):
        origin, axes, _ = stand(v.grip, len(points))
        return _taper(points, origin, axes, in_rows(v.end, v.low, v.high))


def _moved(x, y, z, own):
    end, low, high = own[0], own[1], own[2]
    length = high - low
    per, more = 1 / length if length != 0 else 0.0, end - 1
    for i in range(len(x)):
        scale = 1 + more * between((y[i] - low) * per, 0.0, 1.0)
        x[i], z[i] = x[i] * scale, z[i] * scale


_taper = along_grip(_moved)
