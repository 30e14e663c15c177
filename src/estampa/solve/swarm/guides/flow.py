"""Flow along a path: grains go along it, each in a lane of its own."""

import numpy as np
from numba import njit, prange

from ....errors import EstampaError
from ....kinds.channels import number, ref
from .. import places
from ..grains import chance, one, salt
from ..layer import GrainLayer


class Flow(GrainLayer):
    """Takes grains along a path, each in a lane of its own within a tube about it."""

    kind, title = "grain_flow", "Flow along a path"
    icon = "M2.5 11 C6 4 10 14 13.5 6 M10.8 6.6 L13.5 6 L14 8.6"
    rank = 16

    path = ref("path", "The path.")
    speed = number(1, "How fast they go along.", unit="m/s", soft=(-5, 5))
    varies = number(
        0.2,
        "Quicker or slower by chance, up to this share.",
        title="Speed varies by",
        unit="fraction",
        soft=(0, 1),
        hard=(0, 1),
    )
    tube = number(0.3, "How far from the path the lanes lie.", unit="m", soft=(0, 2), hard=(0, None))
    grips = number(
        3,
        "How soon they keep to their lane and their speed.",
        title="Keeps to it",
        unit="1/s",
        soft=(0, 10),
        hard=(0, None),
    )

    def guide(self, grains, v, now, h):
        if v.path is None:
            raise EstampaError("Flow along a path", "has no path of some length.", "Choose one under “Path”.")
        sampled, stands = v.path
        line = stands.apply(sampled.points[None])[0]
        axes = np.ascontiguousarray(stands.axes[0] @ sampled.axes)
        lane = float(v.tube) * places.in_ball(grains.ids, now.seed)
        numbers = (float(v.speed), float(v.varies), float(v.grips), salt(now.seed, v.id + "pace"), sampled.closed)
        _flow(
            grains.position,
            grains.velocity,
            grains.ids,
            grains.sits,
            line,
            axes,
            lane,
            *numbers,
            self.felt(grains, v),
            h,
        )


@njit(parallel=True, cache=True, nogil=True)
def _flow(place, speed, ids, sits, line, axes, lane, pace, varies, grips, salt, closed, felt, h):
    for i in prange(len(place)):
        if sits[i] > 0:
            continue
        x, y, z = place[i, 0], place[i, 1], place[i, 2]
        best, k, t = np.inf, 0, 0.0
        for m in range(len(line) - 1):  # the nearest place of the lane's middle
            ax, ay, az = line[m, 0], line[m, 1], line[m, 2]
            dx, dy, dz = line[m + 1, 0] - ax, line[m + 1, 1] - ay, line[m + 1, 2] - az
            s = ((x - ax) * dx + (y - ay) * dy + (z - az) * dz) / max(dx * dx + dy * dy + dz * dz, 1e-300)
            s = min(max(s, 0.0), 1.0)
            far = (x - ax - s * dx) ** 2 + (y - ay - s * dy) ** 2 + (z - az - s * dz) ** 2
            if far < best:
                best, k, t = far, m, s
        own = pace * (1 + varies * (2 * chance(ids[i], salt) - 1))
        take = one(felt, i) * (1 - np.exp(-grips * one(h, i)))
        for j in range(3):
            # lanes lie beside the path: across it along its side and upright
            at = line[k, j] + t * (line[k + 1, j] - line[k, j])
            at += axes[k, j, 0] * lane[i, 0] + axes[k, j, 1] * lane[i, 1]
            wanted = axes[k, j, 2] * own + 0.5 * grips * (at - place[i, j])
            speed[i, j] += take * (wanted - speed[i, j])
