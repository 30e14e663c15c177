"""Wetness: water in a cloth, by a map."""

import numpy as np

from ....kinds.channels import number
from ..cloth_aid import ClothAid


class Wetness(ClothAid):
    """Water makes the cloth above it heavier where its map says. A soaked cotton holds about its own weight again
    (common practice, no source). Keyed, it dries.
    """

    kind, title = "wetness", "Wetness"
    icon = "M8 2.5 C11 6.5 12.5 8.5 12.5 10.2 A4.5 4 0 0 1 3.5 10.2 C3.5 8.5 5 6.5 8 2.5 Z"
    group = "fall"
    rank = 7

    adds = number(0.2, "Water in a square metre.", title="Water", unit="kg/m2", soft=(0, 2), hard=(0, None))

    def water(self, aid_inputs, points):
        v = aid_inputs.v
        found = np.full(len(points), float(np.ravel(v.strength)[0]) * float(np.ravel(v.adds)[0]))
        if v.map is not None:
            found = found * v.map
        return found if v.zone is None else found * v.zone(points[None])[0]
