"""Keep apart: grains that come too near to one another are parted."""

import numpy as np
from numba import njit, prange

from ....kinds.channels import number, whole
from ..cells import sorted_cells
from ..layer import GrainLayer


class Apart(GrainLayer):
    """Grains never come nearer to one another than a distance: those that would are parted, and bounce off each
    other."""

    kind, title = "grain_apart", "Keep apart"
    icon = "M3 8 a2 2 0 1 0 4 0 a2 2 0 1 0 -4 0 M9 8 a2 2 0 1 0 4 0 a2 2 0 1 0 -4 0 M8 3 V5 M8 11 V13"
    rank = 18
    social = True

    apart = number(
        0.05, "How far their middles stay from one another.", title="Apart by", unit="m", soft=(0.005, 0.5),
        hard=(0, None),
    )  # fmt: skip
    bounce = number(
        0.2, "Share of the speed at which two meet that they part with.", unit="fraction", soft=(0, 1), hard=(0, 1)
    )
    passes = whole(4, "How often a crowd is parted in a step; more for denser ones.", soft=(1, 10), hard=(1, 50))

    def bound(self, grains, v, now, h):
        far = float(v.apart)
        if far <= 0 or len(grains) < 2:
            return
        felt = np.ascontiguousarray(np.broadcast_to(self.felt(grains, v), len(grains)))
        for _ in range(int(v.passes)):
            order, starts, low, cell, counts = sorted_cells(grains.position, far)
            place, speed = grains.position[order], grains.velocity[order]
            moves = grains.sits[order] <= 0
            found = _parted(place, speed, moves, felt[order], starts, low, cell, counts, far, float(v.bounce))
            grains.position[order], grains.velocity[order] = found


@njit(parallel=True, cache=True, nogil=True)
def _parted(place, speed, moves, felt, starts, low, cell, counts, apart, bounce):
    """((n, 3) m, (n, 3) m/s): by cell, each moved by half of what it lacks to each that is too near, on average of
    those that pull it the same way; and its speed towards them lost."""
    to, after = place.copy(), speed.copy()
    for i in prange(len(place)):
        if not moves[i]:
            continue
        c = np.empty(3, np.int64)
        for j in range(3):
            c[j] = min(np.int64((place[i, j] - low[j]) / cell), counts[j] - 1)
        many, push, lost = 0, np.zeros(3), np.zeros(3)
        for b in range(max(c[2] - 1, 0), min(c[2] + 2, counts[2])):
            for a in range(max(c[1] - 1, 0), min(c[1] + 2, counts[1])):
                row = counts[0] * (a + counts[1] * b)
                for k in range(starts[row + max(c[0] - 1, 0)], starts[row + min(c[0] + 1, counts[0] - 1) + 1]):
                    if k == np.int64(i):
                        continue
                    x, y, z = place[i, 0] - place[k, 0], place[i, 1] - place[k, 1], place[i, 2] - place[k, 2]
                    far = np.sqrt(x * x + y * y + z * z)
                    if far >= apart:
                        continue
                    if far < 1e-9 * apart:  # in the very same place: along X, by which comes first
                        x, y, z, far = 1.0 if np.int64(i) < k else -1.0, 0.0, 0.0, 1.0
                        lacks = 0.5 * apart
                    else:
                        lacks = (apart - far) * (0.5 if moves[k] else 1.0)
                    x, y, z = x / far, y / far, z / far
                    many += 1
                    push[0], push[1], push[2] = push[0] + lacks * x, push[1] + lacks * y, push[2] + lacks * z
                    closing = (
                        (speed[i, 0] - speed[k, 0]) * x + (speed[i, 1] - speed[k, 1]) * y
                        + (speed[i, 2] - speed[k, 2]) * z
                    )  # fmt: skip
                    if closing < 0:
                        s = -0.5 * (1 + bounce) * closing
                        lost[0], lost[1], lost[2] = lost[0] + s * x, lost[1] + s * y, lost[2] + s * z
        if many:
            share = felt[i] * min(1.0, 2.0 / many)
            for j in range(3):
                to[i, j] += share * push[j]
                after[i, j] += felt[i] / many * lost[j]
    return to, after
