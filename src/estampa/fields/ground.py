"""Ground: a floor that solved things do not fall through."""

from ..kinds.channels import number
from ..kinds.fields import FLOOR
from .force import Floor, Force


class Ground(Force):
    """A level floor without end. Solved subjects come to rest on it and rub against it."""

    kind, title = "ground", "Ground"
    roster_rank = 11
    gives = frozenset({FLOOR})
    icon = "M2 9 H14 M4 12.5 L6 9 M8 12.5 L10 9 M12 12.5 L13.5 9.5"
    group = "fall"
    shortcut = "Alt+2"

    height = number(0, "Height of the floor.", unit="m", soft=(-5, 5))
    friction = number(
        0.5,
        "Rubbing against the floor: 0 is ice, 1 holds on a slope of 45 degrees (Coulomb).",
        unit="factor",
        soft=(0, 1.5),
        hard=(0, None),
    )

    bounce = number(
        0, "How much of its speed a body keeps that hits it: 0 none, 1 all of it.", unit="fraction", soft=(0, 1),
        hard=(0, 1),
    )  # fmt: skip

    def act(self, world, v):
        world.floors.append(Floor(v.height, v.friction, v.bounce))
