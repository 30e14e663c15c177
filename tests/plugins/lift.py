"""A layer, as a newcomer would write one."""

from estampa.kinds.channels import number
from estampa.motion.layer import Deformer


class Lift(Deformer):
    """Raises the subject."""

    kind, title = "lift", "Lift"
    icon = "M8 13 V3 M4 7 L8 3 L12 7"
    group, shortcut, rank = "bend", "Ctrl+Alt+9", 51

    height = number(0.1, "How far it is raised.", unit="m", soft=(0, 2))

    def apply(self, points, v, now):
        return points + [0, 1, 0] * v.height[:, None, None]
