"""Gravity."""

import numpy as np

from ..kinds.channels import number, ref
from ..kinds.fields import ACCELERATION
from .force import Force


class Gravity(Force):
    """A constant pull downwards (-Y) on everything that is solved."""

    kind, title = "gravity", "Gravity"
    roster_rank = 10
    gives = frozenset({ACCELERATION})
    icon = "M8 2.5 V12.5 M4.5 9 L8 12.8 L11.5 9"
    group = "fall"
    shortcut = "Alt+1"
    rank = 6
    presets = {"Earth": {"pull": 9.80665}, "Moon": {"pull": 1.62}, "Underwater drift": {"pull": 1.0}}

    # standard gravity: CGPM 1901
    pull = number(9.80665, "Acceleration downwards. Negative lifts.", unit="m/s2", soft=(0, 20))

    zone = ref("zone", "Pulls only within this zone.")

    def act(self, world, v):
        pull = np.array([0.0, -v.pull, 0.0])
        if v.zone is None:
            world.gravity += pull
        else:
            world.pulls.append((pull, v.zone))
