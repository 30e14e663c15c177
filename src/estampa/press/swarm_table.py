"""A swarm as an instance table, for targets that spawn instances themselves."""

import json
from pathlib import Path

import numpy as np

from ..disk import write_together
from ..formats import columns, exr
from ..formats.instance_table import COLUMNS, CYCLE, EXAMPLE, ImageLayout, InstanceTable
from ..formats.marks import marks_of
from ..geometry.pose import turned
from ..kinds.channels import choice
from ..units import format_bytes
from .grains import SwarmPrint
from .prints import Estimate, Job
from .swarm_formula import formula_table
from .swarm_looks import Numbers, meshes_of, row_of

# bytes of a grain at a frame, as it was measured of 100,000: Parquet has its numbers, CSV words, an image is compressed
A_ROW = {"csv": 164, "parquet": 80, "exr": 53, "formula": 200}
WORDS = {
    "unit": "metre", "up": "+Y", "ahead": "+Z", "handedness": "right-handed", "quaternion": "x, y, z, w",
    "colour": "linear light, primaries of Rec. 709; below 0 where it is the mesh's own", "velocity": "m/s",
    "id": "32 bits, from 0 on in the order in which grains appear; the same grain at every frame",
}  # fmt: skip


class SwarmTable(SwarmPrint):
    """A table of instances, as CSV, Parquet or OpenEXR with a JSON that says what each column is: number, place, turn,
    size, colour, mesh, frame of its cycle with its rate and phase, and velocity of each grain at each frame."""

    kind, title, suffix = "swarm_table", "Instance table", ".json"
    icon = "M2.5 3 H13.5 V13 H2.5 Z M2.5 6.3 H13.5 M2.5 9.6 H13.5 M6.2 3 V13 M9.9 3 V13"
    carries = ("places, turns and sizes by number", "velocities", "colours", "mesh, texture and frame of a cycle")

    form = choice(
        "csv",
        "As what.",
        {
            "csv": "CSV, a row for each grain and frame",
            "parquet": "Parquet, the same rows, smaller and quick to read",
            "exr": "OpenEXR, rows of pixels for each frame",
            "formula": "CSV, a row for each grain, and formulas (of swarms by formula)",
        },
        title="As",
    )

    def estimate(self, vertices, triangles, frames, v):
        a_row = A_ROW[v["form"]]
        frames = 1 if v["form"] == "formula" else frames
        size, trouble = frames * vertices * a_row + 2000, ""
        layout = ImageLayout.of(vertices, frames)
        if v["form"] == "exr" and layout.pixels > exr.MOST_PIXELS:
            trouble = f"{frames} frames of {vertices:,} grains are {layout.pixels:,} pixels, of which "
            trouble += f"{exr.MOST_PIXELS:,} are the most. Take Parquet, or fewer frames."
        words = f"about {format_bytes(size)}: {frames} frames × {vertices:,} grains × {a_row} bytes"
        return Estimate(size, words, trouble)

    def write(self, job: Job, target: Path, progress):
        self._numbers, form = Numbers(), job.v["form"]
        note = target.with_name(target.name + self.suffix)
        data = target.with_name(f"{target.name}.{'csv' if form == 'formula' else form}")
        doc = job.evaluator.doc
        about = {"of": job.subject.name, "frame_rate": job.frame_rate, "frames": job.frames}
        about |= {"loop": list(doc.loop) if doc.loop else None} | WORDS
        if form == "formula":
            words, table = formula_table(job)
            self._numbers.of(np.asarray(table["id"]))
            table["id"] = np.arange(len(table["id"]), dtype=np.uint32)
            about |= words | {"table": data.name, "columns": list(table), "meshes": meshes_of(job)}
            write = lambda path: columns.write(path, [table], "csv")
            progress(0.5, "Writing")
        else:
            about |= {"cycle": CYCLE, "meshes": meshes_of(job), "example": self._example(job)}
            rows = self._rows(job, progress)
            if form == "exr":
                every = list(rows)
                layout = ImageLayout.of(len(self._numbers), len(job.frames))
                about |= {"image": data.name, "grains": len(self._numbers)} | layout.described()
                write = lambda path: exr.write_image(path, layout.pack(every))
            else:
                about |= {"table": data.name, "columns": list(COLUMNS)}
                write = lambda path: columns.write(path, rows, form)
        write_together({data: write, note: lambda path: Path(path).write_text(json.dumps(about, indent=1))})
        return [data, note]

    def _rows(self, job: Job, progress):
        """Yields the columns of each frame."""
        for i, frame in enumerate(job.frames):
            yield row_of(job, frame, self._numbers)
            progress((i + 1) / len(job.frames), f"Writing frame {frame}")

    def _example(self, job: Job) -> dict:
        """The first grain that lives, worked out, so that a reader can check itself by it."""
        for frame in job.frames:
            parts = job.outcome(frame, skinned=False).parts
            if not parts:
                continue
            first = min(parts, key=lambda p: p.ids[0])  # ids ascend in each: it has the first row
            row = row_of(job, frame, Numbers())
            own = {name: row[name][0].item() for name in COLUMNS if name not in ("frame", "id")}
            rest = first.points[own["cycle_frame"]][0]
            turn, place = (np.array([own[n] for n in names]) for names in (("qx", "qy", "qz", "qw"), "xyz"))
            goes = place + turned(turn, own["size"] * rest)
            more = {"vertex": 0, "of_the_cycle": rest.tolist(), "goes_to": goes.tolist()}
            return {"frame": frame, "row": 0, "columns": own, "how": EXAMPLE} | more
        return {}

    def reader(self, target: Path):
        return MarkedTable(target.with_name(target.name + self.suffix), self._numbers)


class MarkedTable:
    """Reads a table back, by what its JSON says. numbers -- what the scene calls the grains of its numbers."""

    def __init__(self, path: Path, numbers: Numbers):
        self._table, self._numbers = InstanceTable(path), numbers
        self.frames = self._table.frames

    def marks(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        ids, *rest = self._table.at(self.frames.index(frame))
        return self._numbers.ids(ids), marks_of(*rest)
