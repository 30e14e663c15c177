"""A force, as a newcomer would write one."""

import numpy as np

from estampa.fields.force import Force
from estampa.kinds.channels import number, ref
from estampa.kinds.fields import ACCELERATION, AIR


class Current(Force):
    """A steady stream along +X, that carries what the air carries and pushes all that is solved."""

    kind, title = "current", "Current"
    icon = "M2 8 C5 5 7 11 10 8 H14"
    gives = frozenset({AIR, ACCELERATION})
    group = "fall"

    flow = number(2, "How fast it flows.", unit="m/s", soft=(0, 10))
    push = number(3, "How hard it pushes.", unit="m/s2", soft=(0, 10))
    grip = ref("grip", "Where it comes from.")

    def act(self, world, v):
        world.winds.append(lambda points: np.tile([v.flow, 0.0, 0.0], (len(points), 1)))
        world.gravity += [v.push, 0.0, 0.0]
