"""What prints of swarms share: instances by number, the shapes that they show, and reading back by number."""

from dataclasses import dataclass
from pathlib import Path
from typing import ClassVar

import numpy as np

from ..errors import EstampaError
from ..formats.marks import marks_of
from ..geometry import pose as turns
from ..geometry.mesh import Mesh
from ..hashing import digest
from ..kinds.channels import ref
from ..units import format_bytes
from .prints import Deviation, DeviationTracker, Estimate, Job, Print
from .takes import GRAINS


@dataclass(frozen=True)
class Instances:
    """k grains at a frame, by ascending ids: ids (k,) int64; place (k, 3) m; turn (k, 4) unit quaternions x, y, z, w;
    size (k,); speed (k, 3) m/s; colour (k, 3) linear light, below 0 where it is the shape's own; shape (k,) of
    `Shapes`."""

    ids: np.ndarray
    place: np.ndarray
    turn: np.ndarray
    size: np.ndarray
    speed: np.ndarray
    colour: np.ndarray
    shape: np.ndarray

    def marks(self) -> np.ndarray:
        return marks_of(self.place, self.turn, self.size)


class Shapes:
    """The different shapes that grains show, in the order in which they come: (mesh, points (n, 3) m) each."""

    def __init__(self):
        self.every: list[tuple[Mesh, np.ndarray]] = []
        self._number: dict[bytes, int] = {}

    def number(self, mesh: Mesh, points: np.ndarray) -> int:
        key = digest(points, mesh.face_indices)
        if key not in self._number:
            self._number[key] = len(self.every)
            self.every.append((mesh, points))
        return self._number[key]


class SwarmPrint(Print):
    """Base of the prints of a swarm."""

    takes = GRAINS
    own_first = True

    swarm = ref("swarm", "The swarm that is printed; none prints the first one.")

    a_grain: ClassVar[int] = 0  # bytes of a grain at a frame

    def estimate(self, vertices, triangles, frames, v):
        size = frames * vertices * self.a_grain
        sum_ = f"{frames} frames × {vertices:,} grains × {self.a_grain} bytes"
        return Estimate(size, f"about {format_bytes(size)}: {sum_}")

    def instances(self, job: Job, frame: int, shapes: Shapes) -> Instances:
        """What is printed at a frame."""
        parts = job.outcome(frame, skinned=False).parts
        found = []
        for part in parts:
            k, p = part.count, part.places
            colour = np.full((k, 3), -1.0) if part.tints is None else part.tints
            shape = np.zeros(k, np.int64) if part.shape is None else part.shape
            number = np.zeros(len(part.points), np.int64)
            for c in np.unique(shape):
                number[c] = shapes.number(part.mesh, part.points[c])
            found.append((part.ids, p.origin, turns.turns_of(p.axes), p.size, part.velocity, colour, number[shape]))
        if not found:
            none = np.zeros((0, 3))
            return Instances(np.zeros(0, np.int64), none, np.zeros((0, 4)), np.zeros(0), none, none, np.zeros(0, int))
        columns = [np.concatenate(c) for c in zip(*found, strict=True)]
        order = np.argsort(columns[0], kind="stable")
        return Instances(*(c[order] for c in columns))

    def check(self, job: Job, target: Path, progress) -> Deviation:
        """Hold the file's grains against the scene's, by their numbers: where each is, how it is turned, how large."""
        reader, name, shapes = self.reader(target), job.item.name, Shapes()
        if list(reader.frames) != job.written:
            words = "was written, but the file does not hold the frames asked for."
            raise EstampaError(name, words, "Print it again.")
        tally = DeviationTracker(job.written, job.closes)
        for i, frame in enumerate(job.written):
            ids, marks = reader.marks(frame)
            wanted = self.instances(job, job.shown(frame), shapes)
            if not np.array_equal(np.sort(ids), wanted.ids):
                words = f"was written, but at frame {frame} the file holds other grains than the scene."
                raise EstampaError(name, words, "Print it again.")
            order = np.argsort(ids, kind="stable")
            found = marks.reshape(2, -1, 3)[:, order].reshape(-1, 3)
            apart = np.linalg.norm(found - wanted.marks(), axis=1).reshape(2, -1).max(axis=0)  # of each grain
            if not tally.add(i, apart):
                break
            progress((i + 1) / len(job.written), f"Reading back frame {frame}")
        return tally.gap()
