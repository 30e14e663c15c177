"""Pull: to a thing, away from it, or around its axis."""

import numpy as np
from numba import njit, prange

from ....hashing import rand
from ....kinds.channels import choice, number, ref
from ....motion.layer import origin_frame
from ..grains import one
from ..layer import GrainLayer


class Pull(GrainLayer):
    """Pulls grains to a grip, pushes them away, or drives them around its axis, fading with distance."""

    kind, title = "grain_pull", "Pull"
    icon = "M8 8 m-1.6 0 a1.6 1.6 0 1 0 3.2 0 a1.6 1.6 0 1 0 -3.2 0 M2.5 8 H5 M11 8 H13.5 M8 2.5 V5 M8 11 V13.5"
    rank = 13

    way = choice(
        "to",
        "Which way.",
        {
            "to": "To it",
            "away": "Away from it",
            "round": "Around its axis",
            "axis": "To its axis",
            "along": "Along its axis",
        },
    )
    grip = ref("placed", "The thing that pulls; its axis is its Y.")
    amount = number(2, "The acceleration at the reach.", title="Pull", unit="m/s2", soft=(0, 20), hard=(0, None))
    reach = number(
        1,
        "Where it pulls as strongly as said; nearer it pulls more, where it fades.",
        unit="m",
        soft=(0.05, 5),
        hard=(1e-3, None),
    )
    fades = number(
        0,
        "How it fades with distance: 0 not at all, 1 by the distance, 2 by its square.",
        unit="",
        soft=(0, 3),
        hard=(0, 6),
    )
    part = number(
        1, "Share of the grains that it takes hold of, the same ones always, by chance.", title="Takes a part of",
        unit="fraction", soft=(0, 1), hard=(0, 1),
    )  # fmt: skip
    core = number(0.05, "Nearer than this it grows no more.", unit="m", soft=(0.001, 0.5), hard=(1e-4, None))

    def guide(self, grains, v, now, h):
        origin, axes, size = origin_frame(v.grip)
        numbers = (float(v.amount), float(v.reach) * size, float(v.fades), float(v.core) * size)
        felt = self.felt(grains, v)
        if v.part < 1:
            felt = felt * (rand(now.seed, grains.ids, f"{v.id} part") < v.part)
        way = ("to", "away", "round", "axis", "along").index(v.way)
        _pull(
            grains.position,
            grains.velocity,
            grains.sits,
            origin,
            np.ascontiguousarray(axes[:, 1]),
            way,
            *numbers,
            felt,
            h,
        )


@njit(parallel=True, cache=True, nogil=True)
def _pull(place, speed, sits, origin, axis, way, amount, reach, fades, core, felt, h):
    for i in prange(len(place)):
        if sits[i] > 0:
            continue
        x, y, z = place[i, 0] - origin[0], place[i, 1] - origin[1], place[i, 2] - origin[2]
        if way >= 2:  # about or along an axis: what counts is the distance to it
            along = x * axis[0] + y * axis[1] + z * axis[2]
            x, y, z = x - along * axis[0], y - along * axis[1], z - along * axis[2]
        far = np.sqrt(x * x + y * y + z * z)
        push = amount * (reach / max(far, core)) ** fades if fades > 0 else amount
        push *= one(felt, i) * one(h, i)
        near = 1 / max(far, core)
        if way == 4:
            x, y, z = axis[0], axis[1], axis[2]
        elif way == 2:
            x, y, z = (
                (axis[1] * z - axis[2] * y) * near,
                (axis[2] * x - axis[0] * z) * near,
                (axis[0] * y - axis[1] * x) * near,
            )
        else:
            sign = near if way == 1 else -near
            x, y, z = sign * x, sign * y, sign * z
        speed[i, 0] += push * x
        speed[i, 1] += push * y
        speed[i, 2] += push * z
