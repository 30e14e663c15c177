"""Fall: the scene's gravity, and what pulls in places."""

import numpy as np
from numba import njit, prange

from ..grains import one
from ..layer import GrainLayer


class Fall(GrainLayer):
    """Lets grains fall: the scene's gravity, and what pulls in places. Strength says how much of it is felt."""

    kind, title = "grain_fall", "Fall"
    pulls = True
    icon = "M8 2.5 V11 M5 8.5 L8 12 L11 8.5 M3 14 H13"
    rank = 12

    def guide(self, grains, v, now, h):
        felt = self.felt(grains, v)
        pull = now.world.acceleration(grains.position) if now.world.pulls else now.world.gravity[None]
        _fall(grains.velocity, grains.sits, np.ascontiguousarray(pull), felt, h)


@njit(parallel=True, cache=True, nogil=True)
def _fall(speed, sits, pull, felt, h):
    for i in prange(len(speed)):
        if sits[i] <= 0:
            t, k = one(felt, i) * one(h, i), np.int64(i) if len(pull) > 1 else 0
            for j in range(3):
                speed[i, j] += t * pull[k, j]
