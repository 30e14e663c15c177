"""Sway: every stem swings about its own root."""

import numpy as np
from numba import prange

from ..hashing import rand
from ..kinds.channels import number, ref, whole
from .bend import STRAIGHT, bent, headed
from .layer import Deformer, from_local, kernel, stand, to_local


class Sway(Deformer):
    """Each island swings about its own root, the point of it that is lowest along the grip's Y axis, towards the
    grip's Z axis and back. The islands swing a little out of step.

    An island bends as an arc (Barr 1984), so it keeps its length.
    """

    kind, title, turns = "sway", "Sway", True
    icon = "M8 14 C8 9 7 6 4 3 M8 14 C8 9 9 6 12 3 M3.5 5.5 C6 7.5 10 7.5 12.5 5.5"
    group = "swing"
    shortcut = "Ctrl+4"
    rank = 4

    angle = number(np.radians(5), "How far the tip swings either way.", unit="rad", soft=(0, 1))
    rate = number(0.4, "Swings each second.", unit="Hz", soft=(0, 3), accumulates=True, cycles=True)
    phase = number(0, "Where in its swing it begins.", unit="turn", soft=(-1, 1))
    spread = number(
        1,
        "How far the islands are out of step, by chance: 0 all together.",
        title="Out of step",
        unit="turn",
        soft=(0, 1),
    )
    uneven = number(
        0.25, "How unlike their angles are, by chance.", title="Unlike", unit="fraction", soft=(0, 1), hard=(0, 1)
    )
    aside = number(
        0.35, "Swing across the main one, a quarter later: the tip goes round an ellipse.", unit="fraction", soft=(0, 1)
    )
    heading = number(0, "Turns the way it swings about the grip's Y axis.", unit="rad", soft=(-np.pi, np.pi))
    lean = number(0, "A steady lean towards the grip's Z axis, that it swings about.", unit="rad", soft=(-1, 1))
    seed = whole(1, "Another seed, other chances.", soft=(0, 100), hard=(0, None))
    grip = ref("grip", "The grip: up along its Y axis, swinging along its Z axis.")

    def apply(self, points, v, now):
        k = len(points)
        axes = headed(stand(v.grip, k).axes, v.heading)
        up = axes[0, :, 1]
        runs, island, root, length = now.kept(f"sway {up.tobytes()}", lambda: stems(now.mesh, up))
        luck, step = now.kept(f"sway chance {v.seed}", lambda: chances(v.seed, len(root)))
        chance = 1 + v.uneven[:, None] * luck
        own = v.spread[:, None] * step
        turn = 2 * np.pi * np.mod(v.travel["rate"][:, None] + v.phase[:, None] + own, 1.0)
        swing = v.angle[:, None] * chance * v.strength[:, None]
        along = swing * np.sin(turn) + (v.lean * v.strength)[:, None]
        aside = swing * v.aside[:, None] * np.cos(turn)
        # an arc of no angle has no radius; one this small is straight to the last bit that is drawn
        along, aside = (np.where(np.abs(a) < 1e-9, 1e-9, a) for a in (along, aside))
        return _sway(points, runs, island, root, np.maximum(length, 1e-9), axes, along, aside)


def chances(seed, count):
    """How unlike each island's angle is, -1 to 1, and how far out of step, 0 to 1."""
    island = np.arange(count)
    return 2 * rand(seed, island, "sway angle") - 1, rand(seed, island, "sway phase")


def stems(mesh, up):
    """(starts of runs of vertices of one island (r + 1,), island of each run (r,), root vertex (m,), length (m,) in
    metres) of the islands, standing along `up`."""
    height = mesh.points @ up
    islands = mesh.islands.astype(np.int64)
    order = np.lexsort((height, islands))
    first = np.searchsorted(islands[order], np.arange(mesh.island_count))
    last = np.append(first[1:], len(order)) - 1
    root = order[first]
    runs = np.flatnonzero(np.diff(islands, prepend=-1))
    return np.append(runs, len(islands)), islands[runs], root, height[order[last]] - height[root]


@kernel
def _sway(points, runs, island, root, length, axes, along, aside):
    """Runs of vertices of one island are worked on together, so that the inner loop is plain arithmetic."""
    rows, count = points.shape[0], len(island)
    result = np.empty_like(points)
    for at in prange(rows * count):
        k = at // count
        run = at - k * count
        m = island[run]
        origin = points[:, root[m]]
        x, y, z = to_local(points, k, runs[run], runs[run + 1], origin, axes)
        tall, b, c = length[m], along[k, m], aside[k, m]
        for i in range(len(x)):
            if abs(b) > STRAIGHT:
                y[i], z[i] = bent(y[i], z[i], b, 0.0, tall)
            if abs(c) > STRAIGHT:
                y[i], x[i] = bent(y[i], x[i], c, 0.0, tall)
        from_local(result, k, runs[run], x, y, z, origin, axes)
    return result
