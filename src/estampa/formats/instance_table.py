"""Instance tables: where each instance is, as rows for each frame (CSV or OpenEXR), or as parameters of formulas."""

from pathlib import Path

import numpy as np

from .. import formula
from ..geometry import pose
from . import bounds, exr

PLACE, TURN, COLOUR, SPEED = range(4)  # rows of a frame in an image
SMALL = 1e-6  # of a period, over which the way that an instance goes is measured
BY_FORMULA = (
    "x, y, z of a row are its home; s = (frame - first_frame) / frame_rate / period; the lines of `program` are worked "
    "out one after another and change x, y and z; angles are radians"
)
HEADING = (
    "way: +Z the way it goes, the change of x, y, z with s, and +Y up; level: that way without its height; still: not "
    "turned. Then about its own +Y by 2 pi (spin_pace t + spin_start), t = (frame - first_frame) / frame_rate in s"
)
CYCLE = "floor(rate * t * frame_rate + phase) mod cycle is the frame of its cycle that it shows"


class InstanceTable:
    """Plays a table by what its JSON says. frames -- the scene's numbers of them"""

    def __init__(self, path: Path):
        self.meta = meta = bounds.read_json(path)
        data = bounds.inside(path, meta.get("table") or meta["image"])
        self.frame_rate = bounds.positive(path.name, "frame rate", meta["frame_rate"])
        self.frames, self.bytes = meta["frames"], data.stat().st_size
        self._image, self._rows, self._starts = None, None, None
        if "image" in meta:
            self._image, self.ids = exr.read_image(data), np.array([int(i) for i in meta["ids"]], np.int64)
            return
        with open(data, encoding="utf-8") as file:
            names = file.readline().strip().split(",")
            lines = [line.split(",") for line in file]
        whole = {n: names.index(n) for n in ("frame", "id", "shape") if n in names}
        self._whole = {n: np.array([int(l[k]) for l in lines], np.int64) for n, k in whole.items()}
        self._rows = {n: np.array([float(l[k]) for l in lines]) for k, n in enumerate(names) if n not in whole}
        if "program" not in meta:
            self._starts = np.searchsorted(self._whole["frame"], [*self.frames, self.frames[-1] + 1])

    def at(self, step: int) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """(ids (k,), places (k, 3) m, turns (k, 4) unit quaternions x, y, z, w, sizes (k,)), so many frames after the
        first."""
        if self._image is not None:
            rows = self._image[4 * step : 4 * step + 4].astype(float)
            lives = np.flatnonzero(rows[PLACE, : len(self.ids), 3] > 0)
            return self.ids[lives], rows[PLACE, lives, :3], rows[TURN, lives], rows[PLACE, lives, 3]
        if "program" in self.meta:
            return self._by_formula(step)
        own = slice(self._starts[step], self._starts[step + 1])
        take = lambda *names: np.stack([self._rows[n][own] for n in names], axis=1)
        return self._whole["id"][own], take("x", "y", "z"), take("qx", "qy", "qz", "qw"), self._rows["size"][own]

    def _by_formula(self, step):
        meta, rows = self.meta, self._rows
        seconds = (self.frames[step] - meta["first_frame"]) / self.frame_rate
        place = self._worked_out(seconds / meta["period"])
        ids, size = self._whole["id"], rows["size"]
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
        names = dict(self._rows) | {"s": np.float64(share)}
        for line in self.meta["program"]:
            name, words = line.split(" = ", 1)
            names[name] = formula.work_out(words, names, tuple(names))
        return np.stack([np.broadcast_to(names[n], len(self._whole["id"])) for n in "xyz"], axis=1).astype(float)
