"""Drag: the air slows grains down, or takes them along."""

import numpy as np
from numba import njit, prange

from ....kinds.channels import number
from ..grains import chance, one, salt
from ..layer import GrainLayer


class Drag(GrainLayer):
    """The air slows grains down; where it moves, it takes them along. Felt by each a little more or less, by chance.

    What falls comes to a speed of gravity divided by the drag.
    """

    kind, title = "grain_drag", "Drag and wind"
    icon = "M2.5 5 H9 a2 2 0 1 0 -2 -2 M2.5 8 H12 a2 2 0 1 1 -2 2 M2.5 11 H7"
    rank = 11

    rate = number(
        1,
        "Share of its speed against the air that a grain loses in a second, as it goes on.",
        title="Drag",
        unit="1/s",
        soft=(0, 10),
        hard=(0, None),
    )
    varies = number(0.2, "More or less of it by chance, up to this share.", unit="fraction", soft=(0, 1), hard=(0, 1))
    wind = number(
        1, "How much of the scene's winds it feels.", title="Of the wind", unit="fraction", soft=(0, 1), hard=(0, None)
    )

    def guide(self, grains, v, now, h):
        windy = bool(now.world.winds) and v.wind > 0
        air = now.world.air(grains.position) * float(v.wind) if windy else np.zeros((1, 3))
        felt = self.felt(grains, v) * float(v.rate)
        _slow(grains.velocity, grains.ids, grains.sits, air, felt, float(v.varies), salt(now.seed, v.id + "drag"), h)


@njit(parallel=True, cache=True, nogil=True)
def _slow(speed, ids, sits, air, rate, varies, salt, h):
    """Exactly: the difference to the air dies away by exp(-rate h)."""
    for i in prange(len(speed)):
        if sits[i] > 0:
            continue
        own = one(rate, i) * (1 + varies * (2 * chance(ids[i], salt) - 1))
        left = np.exp(-own * one(h, i))
        k = np.int64(i) if len(air) > 1 else 0
        for j in range(3):
            speed[i, j] = air[k, j] + (speed[i, j] - air[k, j]) * left
