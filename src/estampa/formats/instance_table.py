"""Instance tables: where each instance is, as rows for each frame (CSV or OpenEXR), or as parameters of formulas."""

import re
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from .. import formula
from ..geometry import pose
from . import bounds, columns, exr

COLUMNS = ("frame", "id", "x", "y", "z", "qx", "qy", "qz", "qw", "size", "red", "green", "blue", "vx", "vy", "vz",
           "mesh", "cycle_frame", "rate", "phase")  # fmt: skip
# what the pixels of a grain hold, in rows one below the other
PIXELS = (("x", "y", "z", "size"), ("qx", "qy", "qz", "qw"), ("red", "green", "blue", "mesh"),
          ("vx", "vy", "vz", "cycle_frame"), ("rate", "phase", "", ""))  # fmt: skip
MOST_WIDE = 4096  # pixels of an image's row
LAYOUT = (
    "pixel (column, row) of the n-th kind of pixel of grain id at the f-th frame, all from 0 on, the first row on top: "
    f"column = id mod width, row = (f * blocks + floor(id / width)) * {len(PIXELS)} + n; size 0 where it does not live"
)
EXAMPLE = (
    "the vertex of the mesh, as it is at that frame of its cycle, times size, turned by the quaternion, plus x, y, z"
)
LOOKED_UP = re.compile(r"(\w+)\.(\w+)\((\w+)\)")  # a line of a program that reads a table
SMALL = 1e-6  # of a period, over which the way that an instance goes is measured
BY_FORMULA = (
    "x, y, z of a row are its home; s = (frame - first_frame) / frame_rate / period; the lines of `program` are worked "
    "out one after another and change x, y and z; angles are radians. table.column(at) is that column of a table of "
    "`tables` where its column `at` is so much, straight between its rows"
)
HEADING = (
    "way: +Z the way it goes, the change of x, y, z with s, and +Y up; level: that way without its height; still: not "
    "turned. Then about its own +Y by 2 pi (spin_pace t + spin_start), t = (frame - first_frame) / frame_rate in s"
)
CYCLE = (
    "cycle_frame = floor(rate * t * frame_rate + phase) mod frames_of_cycle is the frame of its cycle that it shows, "
    "t in s from the first frame of the scene on"
)


@dataclass(frozen=True)
class ImageLayout:
    """How grains lie in an image: for each frame, block by block of so many grains, the rows of PIXELS."""

    grains: int
    frames: int
    width: int
    blocks: int

    @classmethod
    def of(cls, grains: int, frames: int) -> "ImageLayout":
        width = min(max(grains, 1), MOST_WIDE)
        return cls(grains, frames, width, -(-max(grains, 1) // width))

    @property
    def pixels(self) -> int:
        return self.frames * self.blocks * len(PIXELS) * self.width

    def described(self) -> dict:
        """What a reader has to know."""
        return {
            "width": self.width, "blocks": self.blocks, "pixels": [list(names) for names in PIXELS],
            "layout": LAYOUT,
        }  # fmt: skip

    def pack(self, every: list[dict[str, np.ndarray]]) -> np.ndarray:
        """(height, width, 4) float32 of the columns of each frame."""
        image = np.zeros((self.frames, self.blocks, len(PIXELS), self.width, 4), np.float32)
        for f, rows in enumerate(every):
            block, column = np.divmod(rows["id"].astype(np.int64), self.width)
            for n, names in enumerate(PIXELS):
                for c, name in enumerate(names):
                    if name:
                        image[f, block, n, column, c] = rows[name]
        return image.reshape(-1, self.width, 4)

    def unpacked(self, image: np.ndarray, step: int) -> dict[str, np.ndarray]:
        """The columns of those that live at a frame."""
        own = image.reshape(self.frames, self.blocks, len(PIXELS), self.width, 4)[step]
        own = own.transpose(1, 0, 2, 3).reshape(len(PIXELS), -1, 4)[:, : self.grains]
        lives = np.flatnonzero(own[0, :, 3] > 0)
        found = {name: own[n, lives, c] for n, names in enumerate(PIXELS) for c, name in enumerate(names) if name}
        return found | {"id": lives}


class InstanceTable:
    """Plays a table by what its JSON says. frames -- the scene's numbers of them"""

    def __init__(self, path: Path):
        self.meta = meta = bounds.read_json(path)
        self._name = path.name
        data = bounds.inside(path, meta.get("table") or meta["image"])
        self.frame_rate = bounds.positive(path.name, "frame rate", meta["frame_rate"])
        self.frames, self.bytes = meta["frames"], data.stat().st_size
        self._image, self._starts = None, None
        self._rows: dict[str, np.ndarray] = {}
        if "image" in meta:
            self._layout = ImageLayout(meta["grains"], len(self.frames), meta["width"], meta["blocks"])
            self._image = exr.read_image(data)
            return
        self._rows = columns.read(data)
        if "program" not in meta:
            self._starts = np.searchsorted(self._rows["frame"], [*self.frames, self.frames[-1] + 1])

    @property
    def most(self) -> int:
        """How many instances there are at one frame at the most."""
        if self._image is not None:
            return self._layout.grains
        return len(self._rows["id"]) if self._starts is None else int(np.diff(self._starts).max(initial=0))

    def at(self, step: int) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """(ids (k,), places (k, 3) m, turns (k, 4) unit quaternions x, y, z, w, sizes (k,)), so many frames after the
        first."""
        if "program" in self.meta:
            return self._by_formula(step)
        rows = self.rows(step)
        take = lambda *names: np.stack([np.asarray(rows[n], float) for n in names], axis=1)
        return rows["id"], take("x", "y", "z"), take("qx", "qy", "qz", "qw"), np.asarray(rows["size"], float)

    def rows(self, step: int) -> dict[str, np.ndarray]:
        """The columns (k,) by name, so many frames after the first; of one by formulas those that stay."""
        if self._image is not None:
            return self._layout.unpacked(self._image, step)
        if self._starts is None:
            return self._rows
        own = slice(self._starts[step], self._starts[step + 1])
        return {n: v[own] for n, v in self._rows.items()}

    def _by_formula(self, step):
        meta, rows = self.meta, self._rows
        seconds = (self.frames[step] - meta["first_frame"]) / self.frame_rate
        place = self._worked_out(seconds / meta["period"])
        ids, size = self._rows["id"], rows["size"]
        if meta["faces"] == "still":
            axes = np.repeat(np.eye(3)[None], len(ids), axis=0)
        else:
            before, after = (self._worked_out(seconds / meta["period"] + s) for s in (-SMALL, SMALL))
            ways = np.stack([(after - before) / 2, place - before, after - place]) / (SMALL * meta["period"])
            # what begins again meanwhile jumps on the one side: the other tells its way; what hardly goes faces +Z
            goes = np.linalg.norm(ways, axis=2)
            jumps = goes[1:].max(axis=0) > 2 * goes[1:].min(axis=0) + 1e-3
            ahead = ways[np.where(jumps, 1 + goes[1:].argmin(axis=0), 0), np.arange(len(ids))]
            ahead = np.where(goes.min(axis=0)[:, None] > 1e-6, ahead, [0.0, 0.0, 1.0])
            axes = pose.facing(ahead * [1, 0, 1] if meta["faces"] == "level" else ahead, np.zeros(len(ids)))
        if "spin_pace" in rows:
            axes = pose.about_own_up(axes, 2 * np.pi * (rows["spin_pace"] * seconds + rows["spin_start"]))
        return ids, place, pose.turns_of(axes), size

    def _worked_out(self, share: float) -> np.ndarray:
        """(k, 3) m"""
        names, tables = dict(self._rows) | {"s": np.float64(share)}, self.meta.get("tables", {})
        with bounds.in_words(self._name):
            for line in self.meta["program"]:
                name, words = line.split(" = ", 1)
                looked_up = LOOKED_UP.fullmatch(words)
                if looked_up is None:
                    names[name] = formula.work_out(words, names, tuple(names))
                else:
                    table, column, at = looked_up.groups()
                    names[name] = np.interp(names[at], tables[table]["at"], tables[table][column])
        return np.stack([np.broadcast_to(names[n], len(self._rows["id"])) for n in "xyz"], axis=1).astype(float)
