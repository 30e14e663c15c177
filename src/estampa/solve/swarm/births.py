"""What all sources of grains have: how fast their grains go at first, and how long they live."""

import numpy as np

from ...hashing import rand
from ...kinds.channels import number
from .grains import FOREVER
from .layer import GrainLayer
from .places import in_ball

_SPEED = {"unit": "m/s", "soft": (-5, 5), "group": "Speed"}


class Births(GrainLayer):
    """Base of the sources."""

    speed_x = number(0, "How fast they go at first, along X.", title="X", **_SPEED)
    speed_y = number(0, "The same along Y.", title="Y", **_SPEED)
    speed_z = number(0, "The same along Z.", title="Z", **_SPEED)
    scatter = number(
        0, "And by chance in any direction, up to this.", title="Any way", unit="m/s", soft=(0, 2), hard=(0, None)
    )
    life = number(0, "How long they live; 0 for ever.", unit="s", soft=(0, 20), hard=(0, None))
    life_varies = number(
        0.2,
        "Shorter or longer by chance, up to this share.",
        title="Life varies by",
        unit="fraction",
        soft=(0, 1),
        hard=(0, 1),
    )

    @staticmethod
    def speeds(ids: np.ndarray, v, seed: int) -> np.ndarray:
        """(n, 3) m/s, from the channels."""
        plain = np.array([v.speed_x, v.speed_y, v.speed_z], float)
        return plain + float(v.scatter) * in_ball(ids, seed + 1)

    @staticmethod
    def lives(ids: np.ndarray, v, seed: int) -> np.ndarray:
        """(n,) s."""
        if v.life <= 0:
            return np.full(len(ids), FOREVER)
        return v.life * (1 + v.life_varies * (2 * rand(seed, ids, "life") - 1))
