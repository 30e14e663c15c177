"""Instance tables: what a target spawns from rows of numbers, shown as small marks where it has no shape of its own."""

import json
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..formats import exr
from .actor import Actor, Clip, Shown
from .gltf import placed

MARK = 0.02 * np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 2.0], [0, 0, -1]])  # ahead is +Z
SIDES = np.array([[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]])


class TableActor(Actor):
    def __init__(self, path: Path):
        about = json.loads(path.read_text())
        data = path.with_name(about.get("table") or about["image"])
        if not data.is_file():
            raise EstampaError(path.name, f"names {data.name}, which is not there.", "Keep its files together.")
        self.frames, self.rows, self.image = about["frames"], {}, None
        if "table" in about:
            columns = list(about["columns"])
            with open(data, encoding="utf-8") as file:
                next(file)
                for line in file:
                    words = line.split(",")
                    self.rows.setdefault(int(words[0]), []).append(words)
            self.pick = [columns.index(n) for n in ("x", "y", "z", "qx", "qy", "qz", "qw", "size")]
            self.id = columns.index("id")
        else:
            self.image, self.ids = exr.read_image(data), np.array([int(i) for i in about["ids"]], np.int64)
        self.size, rate = data.stat().st_size, float(about["frame_rate"])
        super().__init__(path.name, [Clip("All of it", 0.0, (len(self.frames) - 1) / rate, True)], 1 / rate)

    def memory(self):
        return self.image.nbytes if self.image is not None else 40 * max(map(len, self.rows.values()), default=0)

    def shown(self, clip, seconds):
        k = int(np.floor(seconds / self.step + 1e-6)) % len(self.frames)
        if self.image is not None:
            rows = self.image[4 * k : 4 * k + 4].astype(float)
            lives = np.flatnonzero(rows[0, : len(self.ids), 3] > 0)
            ids, numbers = (
                self.ids[lives],
                np.concatenate([rows[0, lives, :3], rows[1, lives], rows[0, lives, 3:]], axis=1),
            )
        else:
            lines = self.rows.get(self.frames[k], [])
            ids = np.array([int(w[self.id]) for w in lines], np.int64)
            numbers = np.array([[float(w[p]) for p in self.pick] for w in lines]).reshape(-1, 8)
        if not len(ids):
            return []
        stand = placed(numbers[:, :3], numbers[:, 3:7], np.repeat(numbers[:, 7:], 3, axis=1))
        return [Shown(MARK, SIDES, (0.95, 0.55, 0.12), stand, ids)]
