"""Offset: move a subject, or swell it along its normals."""

import numpy as np

from ..kinds.channels import number, ref
from .layer import Deformer, stand

_AXIS = {"unit": "m", "soft": (-2, 2), "group": "By"}


class Offset(Deformer):
    """Moves points along the grip's axes and along the normals; with a weight map or a zone, a part of them."""

    kind, title = "offset", "Offset"
    own_grip = ""
    icon = "M3 6 H9 V12 H3 Z M7 6 V3 H13 V9 H9"
    group = "bend"

    x = number(0, "Along the grip's X axis.", **_AXIS)
    y = number(0.1, "Along its Y axis.", suits=("largest", 0.1), **_AXIS)
    z = number(0, "Along its Z axis.", **_AXIS)
    swell = number(0, "Along the normals, outwards.", unit="m", soft=(-0.5, 0.5))
    grip = ref("grip", "The grip whose axes it follows; none follows the subject's own.")

    def apply(self, points, v, now):
        _, axes, _ = stand(v.grip, len(points))
        by = np.einsum("kij,kj->ki", axes, np.stack([v.x, v.y, v.z], axis=1))
        result = points + by[:, None]
        return result + v.swell[:, None, None] * now.mesh.normals(points) if v.swell.any() else result
