"""Wind shadow: what stands upwind of a cloth shields it."""

import numpy as np

from ....kinds.channels import number
from ..cloth_aid import ClothAid

CELLS = 64  # across the longer side of the cloth, seen along the wind


class WindShadow(ClothAid):
    """What stands upwind shields the cloth above it: the colliders that it meets, and its own parts that lie before
    others. Behind them the wind comes back with distance.
    """

    kind, title = "wind_shadow", "Wind shadow"
    icon = "M2 5 H7 M2 11 H7 M9 3 V13 M11 6 H12.5 M11 8 H12 M11 10 H12.5"
    group = "fall"
    rank = 6

    shields = number(
        0.8, "Share of the wind that is taken right behind something.", title="Takes", unit="fraction", soft=(0, 1),
        hard=(0, 1),
    )  # fmt: skip
    length = number(
        1, "Distance behind it in which most of the wind has come back.", title="Comes back in", unit="m", soft=(0.1,
        10),
        hard=(1e-3, None),
    )  # fmt: skip

    def shelter(self, aid_inputs, points, air, shields):
        """Seen along the mean wind, in cells: what lies before others in a cell shields them."""
        v, mean = aid_inputs.v, air.mean(axis=0) if len(air) else np.zeros(3)
        speed = np.linalg.norm(mean)
        if speed < 1e-9:
            return np.ones(len(points))
        n = mean / speed
        side = np.cross(n, [0, 1, 0] if abs(n[1]) < 0.9 else [1, 0, 0])
        side /= np.linalg.norm(side)
        axes = np.stack([side, np.cross(n, side), n], axis=1)
        own, other = points @ axes, shields @ axes
        low, high = own[:, :2].min(axis=0), own[:, :2].max(axis=0)
        cell = max(float((high - low).max()) / CELLS, 1e-6)
        counts = np.floor((high - low) / cell).astype(int) + 1
        every = np.concatenate([own, other])
        at = np.floor((every[:, :2] - low) / cell).astype(int)
        inside = ((at >= 0) & (at < counts)).all(axis=1)
        number = np.where(inside, at[:, 0] * counts[1] + at[:, 1], -1)
        front = np.full(counts[0] * counts[1], np.inf)  # how far upwind the first thing of each cell lies
        np.minimum.at(front, number[inside], every[inside, 2])
        behind = own[:, 2] - front[number[: len(points)]]
        strength = float(np.ravel(v.strength)[0]) * float(np.ravel(v.shields)[0])
        if v.map is not None:
            strength = strength * v.map
        taken = np.where(behind > 2 * cell, np.exp(-behind / float(np.ravel(v.length)[0])), 0.0)
        return 1 - np.clip(strength * taken, 0, 1)
