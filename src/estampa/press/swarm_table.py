"""A swarm as an instance table, for targets that spawn instances themselves."""

import json
from pathlib import Path

import numpy as np

from ..disk import write_together
from ..formats import exr
from ..formats.instance_table import COLOUR, PLACE, SPEED, TURN, InstanceTable
from ..formats.marks import marks_of
from ..kinds.channels import choice
from ..units import format_bytes
from .grains import Shapes, SwarmPrint
from .prints import Estimate, Job
from .swarm_formula import formula_table

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


class SwarmTable(SwarmPrint):
    """A table of instances, as CSV or OpenEXR with a JSON that says what each column is: number, place, turn, size,
    colour, shape and velocity of each grain at each frame."""

    kind, title, suffix = "swarm_table", "Instance table", ".json"
    icon = "M2.5 3 H13.5 V13 H2.5 Z M2.5 6.3 H13.5 M2.5 9.6 H13.5 M6.2 3 V13 M9.9 3 V13"
    carries = ("places, turns and sizes by number", "velocities", "colours", "number of the shape")

    form = choice(
        "csv",
        "As what.",
        {
            "csv": "CSV, a row for each grain and frame",
            "exr": "OpenEXR, four rows of pixels for each frame",
            "formula": "CSV, a row for each grain, and formulas (of swarms by formula)",
        },
        title="As",
    )

    def estimate(self, vertices, triangles, frames, v):
        a_grain = {"csv": 110, "exr": 64, "formula": 150}[v["form"]]
        frames = 1 if v["form"] == "formula" else frames
        size = frames * vertices * a_grain
        trouble = ""
        if v["form"] == "exr" and vertices > MOST_WIDE:
            trouble = f"{vertices:,} grains are wider than an image; take CSV, or {MOST_WIDE:,} at the most."
        return Estimate(
            size, f"about {format_bytes(size)}: {frames} frames × {vertices:,} grains × {a_grain} bytes", trouble
        )

    def write(self, job: Job, target: Path, progress):
        note = target.with_name(target.name + self.suffix)
        if job.v["form"] == "formula":
            data = target.with_name(f"{target.name}.csv")
            about, columns = formula_table(job)
            about |= {"table": data.name, "columns": list(columns)}
            progress(0.5, "Writing")
            write_together({data: lambda path: _write_columns(path, columns), note: lambda path: _note(path, about)})
            return [data, note]
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
        write_together({data: write, note: lambda path: _note(path, about)})
        return [data, note]

    def reader(self, target: Path):
        return MarkedTable(target.with_name(target.name + self.suffix))


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


def _note(path, about) -> None:
    Path(path).write_text(json.dumps(about, indent=1))


def _write_columns(path, columns: dict) -> None:
    with open(path, "w", encoding="utf-8") as file:
        file.write(",".join(columns) + "\n")
        whole = [c.dtype.kind == "i" for c in columns.values()]
        for row in zip(*columns.values(), strict=True):
            words = (str(x) if w else f"{x:.9g}" for x, w in zip(row, whole, strict=True))
            file.write(",".join(words) + "\n")


class MarkedTable:
    """Reads a table back, by what its JSON says."""

    def __init__(self, path: Path):
        self._table = InstanceTable(path)
        self.frames = self._table.frames

    def marks(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        ids, *rest = self._table.at(self.frames.index(frame))
        return ids, marks_of(*rest)
