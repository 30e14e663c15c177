"""What a print is: a deliverable that knows its size, writes its files and reads them back."""

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..evaluate.evaluator import Evaluator
from ..geometry.mesh import Mesh
from ..scene.channels import Kind, number, ref, switch, text, whole
from ..scene.document import Thing


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

    def points(self, frame: int) -> np.ndarray:
        """(n, 3) float64 m; the frame must be solved."""
        if self.copies is not None:
            copied = self.evaluator.copies(self.copies, frame)
            shape, points = copied.shape, copied.points().reshape(-1, 3)
        else:
            shape = self.evaluator.subject(self.subject, frame)
            points = shape.points
        if not shape.true:
            raise EstampaError(self.item.name, f"needs frame {frame}, which is not solved.", "Solve the scene first.")
        return points


class Print(Kind):
    """Base of the prints."""

    family = "print"
    group = "deliver"
    of = "subject"  # or "skeleton"
    skinned = False  # True: of a subject with the skeleton that its skin follows
    suffix = ""  # of the main file

    file = text("", "Name of the files, without an ending; empty takes the print's name.", title="File name")
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

    def trouble(self, doc, printed: Thing) -> str:
        """Why this cannot be printed of a subject or skeleton, or nothing."""
        return ""

    def expected(self, job: Job, frame: int) -> np.ndarray:
        """(n, 3) what reading back should give at a frame."""
        return job.points(frame)

    def write(self, job: Job, target: Path, progress) -> list[Path]:
        """Write the files, each whole or not at all; `target` is the main file without its suffix."""
        raise NotImplementedError

    def reader(self, target: Path):
        """An object with `frames` and `points(frame)` that reads the files back with the standard's own library."""
        raise NotImplementedError


class MeshPrint(Print):
    """Base of the prints of a mesh, as the subject's whole stack makes it."""

    own_first = True

    subject = ref("subject", "The subject that is printed; none prints the first one.")
    copies = ref("copies", "Print these copies, joined to one mesh, instead of a subject.")
