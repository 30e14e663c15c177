"""Toss: pieces are shifted, turned and sized at random."""

import numpy as np

from ...kinds.channels import number, whole
from .piece_layer import PieceLayer, seeded, sized

_SHIFT = {"unit": "m", "soft": (0, 2), "hard": (0, None), "group": "Shifted by up to"}
_MORE = {"unit": "m", "soft": (-2, 2), "group": "And all by"}


class Toss(PieceLayer):
    """Shifts, turns and sizes each piece at random, by a seed."""

    kind, title = "toss", "Toss"
    icon = "M3 12 H6 V15 H3 Z M9 9.5 L12 8 L13.5 11 L10.5 12.5 Z M4 6 L6.5 3.5 L9 6 L6.5 8.5 Z"
    group = "drift"
    rank = 20

    x = number(0.1, "Either way along X.", title="X", suits=("largest", 0.1), **_SHIFT)
    y = number(0.1, "Either way along Y.", title="Y", suits=("largest", 0.1), **_SHIFT)
    z = number(0.1, "Either way along Z.", title="Z", suits=("largest", 0.1), **_SHIFT)
    all_x = number(0, "Along X.", title="X", **_MORE)
    all_y = number(0, "Along Y.", title="Y", **_MORE)
    all_z = number(0, "Along Z.", title="Z", **_MORE)
    turn = number(np.pi / 2, "Turned by up to so much, about an axis of its own.", title="Turned by up to", unit="rad",
                  soft=(0, 2 * np.pi), hard=(0, None))  # fmt: skip
    smaller = number(1, "The smallest size, the same along all axes.", title="Size from", unit="factor", soft=(0, 2),
                     hard=(0, None))  # fmt: skip
    larger = number(1, "The largest size.", title="Size to", unit="factor", soft=(0, 2), hard=(0, None))
    seed = whole(1, "Another throw of the dice.", soft=(1, 99), hard=(0, None))

    def move(self, stand, felt, v, now):
        chance = seeded(v, stand, "toss x", "toss y", "toss z")
        far = np.stack([v.x, v.y, v.z], axis=1)[:, None] * chance
        far = far + np.stack([v.all_x, v.all_y, v.all_z], axis=1)[:, None]
        up, round_, much, big = seeded(v, stand, "toss up", "toss round", "toss turn", "toss size").T
        flat = np.sqrt(np.maximum(1 - up**2, 0))  # even over the ball of directions (Archimedes)
        axis = np.stack([flat * np.cos(np.pi * round_), up, flat * np.sin(np.pi * round_)], axis=1)
        spin = axis * (felt * v.turn[:, None] * much)[..., None]
        share = (big + 1) / 2
        wanted = v.smaller[:, None] + (v.larger - v.smaller)[:, None] * share
        return stand.moved(felt[..., None] * far, spin, sized(felt, wanted))
