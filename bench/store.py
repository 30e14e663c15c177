"""Reading a solved frame: against a plain copy of the same bytes from a mapped file."""

import tempfile
from pathlib import Path

import numpy as np

from estampa.hashing import digest
from estampa.solve.frame import Frame, Table
from estampa.store.frames import FrameStore

from .measure import Row, in_turn, ms

COUNT, FRAMES = 100_000, 24


def rows() -> list[Row]:
    with tempfile.TemporaryDirectory() as folder:
        store = FrameStore(Path(folder) / "store")
        points = np.random.default_rng(0).random((COUNT, 3), np.float32)
        keys = [digest(i) for i in range(FRAMES)]
        files = [Path(folder) / f"{i}.raw" for i in range(FRAMES)]
        for key, file in zip(keys, files, strict=True):
            store.write(key, Frame({"points": Table({"position": points, "velocity": points})}))
            points.tofile(file)

        def read():
            for key in keys:
                store.frame(key, ("position",))

        def copy():
            for file in files:
                np.array(np.memmap(file, np.float32, "r"))

        ours, plain = in_turn(read, copy)
        ratio = ours / plain
        each = lambda s: ms(s / FRAMES)
        return [
            Row(
                "solved frame, 100,000 vertices",
                each(ours),
                f"copy from a mapped file {each(plain)}",
                ratio,
                "≤ 2",
                ratio <= 2,
            )
        ]
