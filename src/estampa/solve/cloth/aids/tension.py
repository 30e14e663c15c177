"""Tension: a cloth that rests shorter than its mesh, or longer."""

import numpy as np

from ....kinds.channels import number
from ..cloth_aid import EASE, ClothAid


class Tension(ClothAid):
    """The yarns of the cloth above it rest shorter than they are in the mesh, so that it is taut; or longer, so that it
    is slack. Keyed, it draws a sheet together.
    """

    kind, title = "tension", "Tension"
    icon = "M2 8 H14 M2 8 L4.5 5.5 M2 8 L4.5 10.5 M14 8 L11.5 5.5 M14 8 L11.5 10.5"
    group = "fall"
    rank = 4

    warp = number(
        0.95, "Length at which the first yarn rests, of its length in the mesh.", title="Warp rests at", unit="factor",
        soft=(0.5, 1.2), hard=(0.05, 5),
    )  # fmt: skip
    weft = number(0.95, "The same across it.", title="Weft rests at", unit="factor", soft=(0.5, 1.2), hard=(0.05, 5))
    ease = EASE

    def rests(self, aid_inputs, points):
        v = aid_inputs.v
        weight = np.full(len(points), aid_inputs.share * float(np.ravel(v.strength)[0]))
        if v.map is not None:
            weight = weight * v.map
        if v.zone is not None:
            weight = weight * v.zone(points[None])[0]
        shares = np.array([float(np.ravel(v.warp)[0]), float(np.ravel(v.weft)[0])])
        return 1 + (shares - 1) * weight[:, None]
