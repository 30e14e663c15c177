"""A print, as a newcomer would write one."""

import numpy as np

from estampa.disk import write_whole
from estampa.press.prints import Estimate, MeshPrint


class CentreTable(MeshPrint):
    """A text file with the middle of the subject at every frame."""

    kind, title, suffix = "centre_table", "Table of middles", ".txt"
    icon = "M3 3 H13 V13 H3 Z M3 7 H13"
    carries = ("the middle of a subject",)

    def estimate(self, vertices, triangles, frames, v):
        return Estimate(40 * frames, f"{frames} lines")

    def expected(self, job, frame):
        return job.points(frame).mean(axis=0)[None]

    def write(self, job, target, progress):
        path = target.with_name(target.name + self.suffix)
        rows = np.array([[f, *self.expected(job, f)[0]] for f in job.frames])
        write_whole(path, lambda part: np.savetxt(part, rows))
        return [path]

    def reader(self, target):
        return Table(np.loadtxt(target.with_name(target.name + self.suffix), ndmin=2))


class Table:
    def __init__(self, rows):
        self.rows, self.frames = rows, rows[:, 0].astype(int).tolist()

    def points(self, frame):
        return self.rows[self.frames.index(frame), 1:][None]
