"""Part: pieces are moved away from one another, as in an exploded view."""

from functools import partial

import numpy as np
from numba import njit

from ...hashing import digest
from ...kinds.channels import choice, number, ref
from .piece_layer import PieceLayer


class PartAsunder(PieceLayer):
    """Moves pieces away from a grip or an axis, or just so far that none touches another: an exploded view."""

    kind, title = "part", "Part"
    icon = "M6.5 6.5 H9.5 V9.5 H6.5 Z M2 2 H5 V5 H2 Z M11 2 H14 V5 H11 Z M2 11 H5 V14 H2 Z M11 11 H14 V14 H11 Z"
    group = "drift"
    rank = 19

    by = choice(
        "times", "How far they go.",
        {"times": "So many times as far", "metres": "So many metres", "clear": "Until none touches another"},
    )  # fmt: skip
    times = number(1, "How much further away: 1 is twice as far as they were.", title="Further by", unit="factor",
                   soft=(0, 3), hard=(-1, None), when=(("by", ("times",)),))  # fmt: skip
    metres = number(0.2, "How far each goes.", title="By", unit="m", soft=(-1, 2), suits=("largest", 0.2),
                    when=(("by", ("metres",)),))  # fmt: skip
    room = number(0.01, "How much room is left between two.", title="Room between", unit="m", soft=(0, 0.2),
                  hard=(0, None), suits=("largest", 0.02), when=(("by", ("clear",)),))  # fmt: skip
    ways = choice(
        "every", "Which way they go.",
        {"every": "Every way, from a point", "away": "Away from an axis", "x": "Along X alone", "y": "Along Y alone",
         "z": "Along Z alone"},
    )  # fmt: skip
    grip = ref("grip", "The grip that they go away from, or whose Y axis; none: the middle of all.", title="From")

    def move(self, stand, felt, v, now):
        rows = len(stand.home)
        place = None if v.grip is None else v.grip.spread(rows)
        middle = stand.home.mean(axis=1) if place is None else place.origin
        arm = stand.centre - middle[:, None]
        if v.ways == "away":
            axis = np.tile([0.0, 1.0, 0.0], (rows, 1)) if place is None else place.axes[:, :, 1]
            arm = arm - np.einsum("kpi,ki->kp", arm, axis)[..., None] * axis[:, None]
        elif v.ways != "every":
            arm = arm * (np.arange(3) == "xyz".index(v.ways))
        if v.by == "metres":
            long = np.linalg.norm(arm, axis=2, keepdims=True)
            arm = np.where(long > 1e-9, arm / np.maximum(long, 1e-9), 0.0) * v.metres[:, None, None]
        elif v.by == "times":
            arm = arm * v.times[:, None, None]
        else:
            arm = self._clear(stand, arm, v.room)
        return stand.moved(felt[..., None] * arm)

    @staticmethod
    def _clear(stand, arms, rooms):
        """(k, p, 3) m; worked out once for what stands still."""
        mesh, found = stand.pieces.mesh, np.empty_like(arms)
        low, high = stand.pieces.boxes(mesh.points)
        for k, (centre, arm, room) in enumerate(zip(stand.centre, arms, rooms, strict=True)):
            given = (centre, (high - low) / 2, arm, float(room))
            found[k] = mesh.cached(f"clear {k}", partial(cleared, *given), digest(*given))
        return found


@njit(cache=True, nogil=True)
def cleared(centre, half, arm, room):
    """(p, 3) m by which boxes go along their arms, until no two are nearer than `room` along every axis.

    centre, half, arm (p, 3) m. The nearest to the middle stays where it is; each next one goes as far as it must past
    those before it.
    """
    count = len(centre)
    long = np.sqrt((arm**2).sum(axis=1))
    order = np.argsort(long)
    found, begins, ends = np.zeros((count, 3)), np.empty(count), np.empty(count)
    for rank in range(count):
        i = order[rank]
        way = arm[i] / long[i] if long[i] > 1e-9 else np.array([0.0, 1.0, 0.0])
        met = 0
        for other in range(rank):
            j = order[other]
            begin, end = -np.inf, np.inf
            for axis in range(3):
                gap = centre[j, axis] + found[j, axis] - centre[i, axis]
                reach = half[i, axis] + half[j, axis] + room - 1e-12
                if abs(way[axis]) < 1e-9:
                    if abs(gap) >= reach:
                        end = -np.inf
                    continue
                one, two = (gap - reach) / way[axis], (gap + reach) / way[axis]
                begin, end = max(begin, min(one, two)), min(end, max(one, two))
            if begin < end and end > 0:
                begins[met], ends[met] = begin, end
                met += 1
        far = 0.0
        for k in np.argsort(begins[:met]):
            if begins[k] < far + 1e-12 and ends[k] > far:
                far = ends[k]
        found[i] = far * way
    return found
