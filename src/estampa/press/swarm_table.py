"""A swarm as an instance table, for targets that spawn instances themselves."""

import json
from pathlib import Path

import numpy as np

from ..disk import write_together
from ..formats import exr
from ..formats.marks import marks_of
from ..kinds.channels import choice
from ..units import format_bytes
from .grains import Shapes, SwarmPrint
from .prints import Estimate, Job

COLUMNS = (
    "frame",
    "id",
    "x",
    "y",
    "z",
    "qx",
    "qy",
    "qz",
    "qw",
    "size",
    "red",
    "green",
    "blue",
    "shape",
    "vx",
    "vy",
    "vz",
)
MOST_WIDE = 16_384  # pixels of an image's row
PLACE, TURN, COLOUR, SPEED = range(4)  # rows of a frame in the image


class SwarmTable(SwarmPrint):
    """A table of instances, as CSV or OpenEXR with a JSON that says what each column is: number, place, turn, size,
    colour, shape and velocity of each grain at each frame."""

    kind, title, suffix = "swarm_table", "Instance table", ".json"
    icon = "M2.5 3 H13.5 V13 H2.5 Z M2.5 6.3 H13.5 M2.5 9.6 H13.5 M6.2 3 V13 M9.9 3 V13"
    carries = ("places, turns and sizes by number", "velocities", "colours", "number of the shape")

    form = choice(
        "csv",
        "As what.",
        {"csv": "CSV, a row for each grain and frame", "exr": "OpenEXR, four rows of pixels for each frame"},
        title="As",
    )

    def estimate(self, vertices, triangles, frames, v):
        a_grain = 110 if v["form"] == "csv" else 64
        size = frames * vertices * a_grain
        trouble = ""
        if v["form"] == "exr" and vertices > MOST_WIDE:
            trouble = f"{vertices:,} grains are wider than an image; take CSV, or {MOST_WIDE:,} at the most."
        return Estimate(
            size, f"about {format_bytes(size)}: {frames} frames × {vertices:,} grains × {a_grain} bytes", trouble
        )

    def write(self, job: Job, target: Path, progress):
        shapes, own = Shapes(), []
        for i, frame in enumerate(job.frames):
            own.append(self.instances(job, frame, shapes))
            progress((i + 1) / len(job.frames), f"Writing frame {frame}")
        about = {
            "of": job.subject.name,
            "frame_rate": job.frame_rate,
            "frames": job.frames,
            "unit": "metre",
            "up": "+Y",
            "quaternion": "x, y, z, w",
            "colour": "linear light; below 0 where it is the shape's own",
            "shapes": [{"number": k, "vertices": m.count} for k, (m, _) in enumerate(shapes.every)],
        }
        data = target.with_name(f"{target.name}.{job.v['form']}")
        if job.v["form"] == "csv":
            about |= {"table": data.name, "columns": COLUMNS}
            write = lambda path: _write_csv(path, job.frames, own)
        else:
            ids = np.unique(np.concatenate([o.ids for o in own]))
            about |= {
                "image": data.name,
                "column": "one for each id, in the order of `ids`; size 0 where it does not live",
                "rows": "four a frame: (x, y, z, size), (qx, qy, qz, qw), (red, green, blue, shape), (vx, vy, vz, 0)",
                "ids": [str(i) for i in ids],
            }
            write = lambda path: exr.write_image(path, _image(ids, own))
        note = target.with_name(target.name + self.suffix)
        write_together({data: write, note: lambda path: Path(path).write_text(json.dumps(about, indent=1))})
        return [data, note]

    def reader(self, target: Path):
        return TableReader(target.with_name(target.name + self.suffix))


def _write_csv(path, frames, every):
    with open(path, "w", encoding="utf-8") as file:
        file.write(",".join(COLUMNS) + "\n")
        for frame, own in zip(frames, every, strict=True):
            numbers = np.column_stack([own.place, own.turn, own.size, own.colour])
            for i, row, shape, speed in zip(own.ids, numbers, own.shape, own.speed, strict=True):
                words = [f"{x:.7g}" for x in row], [f"{x:.6g}" for x in speed]
                file.write(f"{frame},{i},{','.join(words[0])},{shape},{','.join(words[1])}\n")


def _image(ids, every) -> np.ndarray:
    pixels = np.zeros((4 * len(every), max(len(ids), 1), 4), np.float32)
    for f, own in enumerate(every):
        at = np.searchsorted(ids, own.ids)
        pixels[4 * f + PLACE, at] = np.column_stack([own.place, own.size])
        pixels[4 * f + TURN, at] = own.turn
        pixels[4 * f + COLOUR, at] = np.column_stack([own.colour, own.shape])
        pixels[4 * f + SPEED, at, :3] = own.speed
    return pixels


class TableReader:
    """Reads a table back, by what its JSON says."""

    def __init__(self, path: Path):
        about = json.loads(path.read_text())
        self.frames, self._rows, self._image = about["frames"], {}, None
        if "table" in about:
            with open(path.with_name(about["table"]), encoding="utf-8") as file:
                names = file.readline().strip().split(",")
                lines = [line.split(",") for line in file]
            self._at = {name: k for k, name in enumerate(names)}
            for line in lines:
                self._rows.setdefault(int(line[0]), []).append(line)
        else:
            self._image = exr.read_image(path.with_name(about["image"]))
            self._ids = np.array([int(i) for i in about["ids"]], np.int64)

    def marks(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        if self._image is not None:
            first = 4 * self.frames.index(frame)
            rows = self._image[first : first + 4].astype(float)
            lives = np.flatnonzero(rows[PLACE, : len(self._ids), 3] > 0)
            return self._ids[lives], marks_of(rows[PLACE, lives, :3], rows[TURN, lives], rows[PLACE, lives, 3])
        lines = self._rows.get(frame, [])
        numbers = lambda *names: np.array([[float(l[self._at[n]]) for n in names] for l in lines]).reshape(
            -1, len(names)
        )
        ids = np.array([int(l[self._at["id"]]) for l in lines], np.int64)
        return ids, marks_of(numbers("x", "y", "z"), numbers("qx", "qy", "qz", "qw"), numbers("size")[:, 0])
