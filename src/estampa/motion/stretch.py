"""Stretch: longer along an axis, and thinner to match."""

import numpy as np
from numba import prange

from ..kinds.channels import number, ref
from .layer import PART, Deformer, from_local, kernel, part, stand, to_local


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
        return _stretch(points, origin, axes, v.length, v.length ** (-0.5 * v.keep))


@kernel
def _stretch(points, origin, axes, along, across):
    rows, n = points.shape[0], points.shape[1]
    result = np.empty_like(points)
    parts = (n + PART - 1) // PART
    for at in prange(rows * parts):
        k, first, last = part(at, parts, n)
        x, y, z = to_local(points, k, first, last, origin, axes)
        long, wide = along[k], across[k]
        for i in range(len(x)):
            x[i], y[i], z[i] = x[i] * wide, y[i] * long, z[i] * wide
        from_local(result, k, first, x, y, z, origin, axes)
    return result
