"""A force, as a newcomer would write one."""

import numpy as np

from estampa.fields.force import Force
from estampa.kinds.channels import number, ref


class Current(Force):
    """A steady stream along +X."""

    kind, title = "current", "Current"
    icon = "M2 8 C5 5 7 11 10 8 H14"
    group = "fall"

    flow = number(2, "How fast it flows.", unit="m/s", soft=(0, 10))
    grip = ref("grip", "Where it comes from.")

    def act(self, world, v):
        world.winds.append(lambda points: np.tile([v.flow, 0.0, 0.0], (len(points), 1)))
