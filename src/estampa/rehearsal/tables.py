"""Instance tables: what a target spawns from rows of numbers, shown as small marks where it has no shape of its own."""

from pathlib import Path

import numpy as np

from ..formats.instance_table import InstanceTable
from .actor import Actor, PlayedClip, PlayedShape
from .gltf import placed

MARK = 0.02 * np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 2.0], [0, 0, -1]])  # ahead is +Z
SIDES = np.array([[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]])


class TableActor(Actor):
    def __init__(self, path: Path):
        self.table = table = InstanceTable(path)
        rate = table.frame_rate
        super().__init__(path.name, [PlayedClip("All of it", 0.0, (len(table.frames) - 1) / rate, True)], 1 / rate)

    def memory(self):
        return self.table.bytes

    def seen(self, clip, seconds):
        step = int(np.floor(seconds / self.step + 1e-6)) % len(self.table.frames)
        ids, place, turn, size = self.table.at(step)
        if not len(ids):
            return []
        stand = placed(place, turn, np.repeat(size[:, None], 3, axis=1))
        return [PlayedShape(MARK, SIDES, (0.95, 0.55, 0.12), stand, ids)]
