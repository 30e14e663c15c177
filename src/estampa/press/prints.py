"""What a print is: a deliverable that knows its size, writes its files and reads them back."""

from dataclasses import dataclass, field
from pathlib import Path
from typing import ClassVar

import numpy as np

from ..errors import EstampaError
from ..evaluate import outcome
from ..evaluate.evaluator import Evaluator
from ..evaluate.outcome import Outcome
from ..formats.seam import SEEN
from ..geometry.mesh import Mesh
from ..hashing import digest
from ..kinds.channels import number, ref, switch, text, whole
from ..kinds.registry import Kind
from ..lazy import spatial
from ..scene.document import Thing
from .sizes import Plan
from .takes import MESH, Takes, members_of


@dataclass(frozen=True)
class Estimate:
    """What a print will take, known before it runs. `trouble` says why it cannot be made, if so."""

    bytes: int
    text: str
    trouble: str = ""


@dataclass
class Job:
    """A print about to run: its subject, its frames, and where its shapes come from."""

    item: Thing
    subject: Thing
    mesh: Mesh
    frames: list[int]
    frame_rate: float
    evaluator: Evaluator
    v: dict = field(default_factory=dict)
    copies: Thing | None = None  # printed instead, joined to one mesh
    skeleton: Thing | None = None
    origin: np.ndarray | None = None  # (n,) the vertex that each was, where the mesh was parted along seams
    closes: bool = False  # a loop, whose file ends one frame after its last pose with the first one

    @property
    def written(self) -> list[int]:
        """The frames that are in the file: those that are printed, and of a loop one more."""
        return [*self.frames, self.frames[-1] + 1] if self.closes else self.frames

    def shown(self, frame: int) -> int:
        """The frame of the scene that one in the file shows."""
        return self.frames[0] if frame > self.frames[-1] else frame

    def outcome(self, frame: int, skinned: bool = True) -> Outcome:
        """What is printed, at a frame; it must be solved. skinned -- see outcome.of"""
        printed = self.copies if self.copies is not None else self.subject
        if printed.mesh is None and (every := members_of(self.evaluator.doc, printed)):
            found = [self.outcome_of(member, frame) for member in every]
            return Outcome(tuple(p for o in found for p in o.parts), digest([o.digest for o in found]))
        return self.solved(outcome.of(self.evaluator, printed, frame, skinned), frame)

    def outcome_of(self, thing: Thing, frame: int) -> Outcome:
        """The same of a thing that is printed with it."""
        return self.solved(outcome.of(self.evaluator, thing, frame), frame)

    def solved(self, found, frame: int):
        """A shape or an outcome, once it is known that it is solved."""
        if not found.is_current:
            raise EstampaError(self.item.name, f"needs frame {frame}, which is not solved.", "Solve the scene first.")
        return found

    def points(self, frame: int) -> np.ndarray:
        """(n, 3) float64 m, of the mesh that is printed."""
        points = self.outcome(frame).points()
        return points if self.origin is None else points[self.origin]


@dataclass(frozen=True)
class Deviation:
    """How far a file is from the scene that it was printed of."""

    largest: float  # m; infinite where the file holds what is no number
    frame: int
    place: int  # of the vertex or joint
    ends: tuple[np.ndarray, ...] = ()  # (n, 3) as the file has them, of the first and as many last frames
    report: str = ""  # what more there is to know of it


class DeviationTracker:
    """What is gathered while files are read back, frame by frame: the largest distance from the scene, and where."""

    def __init__(self, frames: list[int], closes: bool = False):
        """closes -- the last frame is the first one again, which tells nothing of how the course goes on."""
        self.frames, self.largest, self.worst, self.ends = frames, 0.0, (frames[0], 0), {}
        self.count = len(frames) - closes

    def add(self, i: int, apart: np.ndarray) -> bool:
        """Distances (n,) m at the i-th frame; False where one is no number, which is then the largest of all."""
        bad = ~np.isfinite(apart)
        if bad.any():
            self.largest, self.worst = np.inf, (self.frames[i], int(np.argmax(bad)))
        elif apart.max(initial=0.0) > self.largest:
            self.largest, self.worst = float(apart.max()), (self.frames[i], int(apart.argmax()))
        return not bad.any()

    def add_nearest(self, i: int, found: np.ndarray, wanted: np.ndarray) -> bool:
        """The same of points (n, 3) and (m, 3) of the i-th frame, each held against the nearest one of the others, as
        vertices are parted at seams."""
        if not self.add(i, np.where(np.isfinite(found).all(axis=1), 0.0, np.inf)):
            return False
        pairs = ((found, wanted), (wanted, found))
        return all([self.add(i, spatial.cKDTree(a).query(b)[0]) for a, b in pairs])

    def keep(self, i: int, found: np.ndarray) -> None:
        """Points of the i-th frame, where a loop's seam is judged by them."""
        if i < SEEN or self.count - SEEN <= i < self.count:
            self.ends[i] = found

    def gap(self, report: str = "") -> Deviation:
        many = min(SEEN, self.count // 2)
        at = [i for i in sorted(self.ends) if i < many or self.count - many <= i < self.count]
        return Deviation(self.largest, *self.worst, tuple(self.ends[i] for i in at), report)


class Print(Kind):
    """Base of the prints."""

    family = "print"
    group = "deliver"
    takes: ClassVar[Takes] = MESH
    takes_surface: ClassVar[bool] = False  # True: the surface around grains, as fine as that is set
    carries: ClassVar[tuple[str, ...]] = ()  # what its files can hold, in words; the rest of a scene stays behind
    suffix = ""  # of the main file
    takes_roots: ClassVar[bool] = False  # True: it prints all that rides on a thing without a mesh, as one
    holds_cycle: ClassVar[bool] = False  # True: its .json is a vertex texture, which grains can show as their cycle
    closes: ClassVar[bool] = False  # True: players go by time, so a loop ends with its first pose, one frame on
    needs_every: ClassVar[bool] = False  # True: it reads frames between those that it prints too
    parts_seams: ClassVar[bool] = False  # True: its files have texture coordinates by vertex, as glTF does

    file = text("", "Name of the files, without an ending; empty takes the print's name.", title="File name",
                empty="same as the name")  # fmt: skip
    first = whole(0, "First frame; 0 takes the scene's first.", title="First frame", unit="frames", soft=(0, 500))
    last = whole(0, "Last frame; 0 takes the scene's last.", title="Last frame", unit="frames", soft=(0, 500))
    loop = switch(
        False, "Print the loop range, without the last frame, which equals the first.", title="The loop range"
    )
    tolerance = number(
        0.001,
        "Largest distance between file and scene that passes when it is read back.",
        unit="m",
        soft=(0.0001, 0.01),
        hard=(0, None),
    )

    def frames(self, frames: list[int], v: dict) -> list[int]:
        """The frames that are printed, of those asked for."""
        return frames

    def estimate(self, vertices: int, triangles: int, frames: int, v: dict) -> Estimate:
        """Of a skeleton, `vertices` is how many joints it has."""
        raise NotImplementedError

    def forecast(self, plan: Plan) -> Estimate:
        """What it will take, known from the scene; of most what vertices and frames say."""
        return self.estimate(plan.vertices, plan.triangles, plan.frames, plan.v)

    def trouble(self, doc, printed: Thing) -> str:
        """Why this cannot be printed of a subject or skeleton, or nothing."""
        return ""

    def others(self, doc, printed: Thing, v: dict) -> list[Thing]:
        """Things that are printed with it: subjects, copies, what carries them."""
        return []

    def expected(self, job: Job, frame: int) -> np.ndarray:
        """(n, 3) what reading back should give at a frame."""
        return job.points(frame)

    def write(self, job: Job, target: Path, progress) -> list[Path]:
        """Write the files, each whole or not at all; `target` is the main file without its suffix."""
        raise NotImplementedError

    def reader(self, target: Path):
        """An object with `frames` and `points(frame)` that reads the files back with the standard's own library."""
        raise NotImplementedError

    def check(self, job: Job, target: Path, progress) -> Deviation:
        """Read the files back, and hold them against the scene. Raises EstampaError when they are of another form."""
        reader, frames, name = self.reader(target), job.written, job.item.name
        if list(reader.frames) != frames:
            words = "was written, but the file does not hold the frames asked for."
            raise EstampaError(name, words, "Print it again.")
        tally = DeviationTracker(frames, job.closes)
        for i, frame in enumerate(frames):
            found, wanted = np.asarray(reader.points(frame), float), self.expected(job, job.shown(frame))
            if found.shape != wanted.shape:
                words = f"was written, but the file holds {len(found):,} points of {len(wanted):,}."
                raise EstampaError(name, words, "Print it again.")
            tally.keep(i, found)
            with np.errstate(invalid="ignore", over="ignore"):
                apart = np.linalg.norm(found - wanted, axis=1)
            if not tally.add(i, apart):
                break
            progress((i + 1) / len(frames), f"Reading back frame {frame}")
        return tally.gap()


class MeshPrint(Print):
    """Base of the prints of a mesh, as the subject's whole stack makes it."""

    own_first = True

    subject = ref(
        "root", "The subject that is printed, or what carries some: then all of those as one. None: the first."
    )
    copies = ref("copies", "Print these copies, joined to one mesh, instead of a subject.")
