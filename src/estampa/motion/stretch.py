"""Stretch: longer along an axis, and thinner to match."""

from ..kinds.channels import number, ref
from .layer import Deformer, along_grip, in_rows, stand


class Stretch(Deformer):
    """Scales the subject along the grip's Y axis from its origin, and across it so that the volume is kept."""

    kind, title = "stretch", "Stretch"
    icon = "M6 5 H10 V11 H6 Z M8 1.5 V4 M6.5 3 L8 1.5 L9.5 3 M8 14.5 V12 M6.5 13 L8 14.5 L9.5 13"
    group = "bend"

    length = number(
        1.2, "Length against the rest shape; below 1 it is squashed.", unit="factor", soft=(0.2, 3), hard=(1e-3, None)
    )
    keep = number(
        1,
        "How much of the volume is kept: 1 all of it, 0 leaves the cross-section alone.",
        title="Volume kept",
        unit="fraction",
        soft=(0, 1),
    )
    grip = ref("grip", "The grip whose Y axis it is stretched along, from its origin.")

    def apply(self, points, v, now):
        origin, axes, _ = stand(v.grip, len(points))
        return _stretch(points, origin, axes, in_rows(v.length, v.length ** (-0.5 * v.keep)))


def _moved(x, y, z, own):
    long, wide = own[0], own[1]
    for i in range(len(x)):
        x[i], y[i], z[i] = x[i] * wide, y[i] * long, z[i] * wide


_stretch = along_grip(_moved)
