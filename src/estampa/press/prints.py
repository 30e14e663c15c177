"""What a print is: a deliverable that knows its size, writes its files and reads them back."""

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..evaluate.evaluator import Evaluator
from ..geometry.mesh import Mesh
from ..scene.channels import Kind, number, ref, text, whole
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

    def points(self, frame: int) -> np.ndarray:
        """(n, 3) float64 m; the frame must be solved."""
        shape = self.evaluator.subject(self.subject, frame)
        if not shape.true:
            raise EstampaError(self.item.name, f"needs frame {frame}, which is not solved.", "Solve the scene first.")
        return shape.points


class Print(Kind):
    """Base of the prints. The subject's whole stack is printed."""

    family = "print"
    suffix = ""  # of the main file

    subject = ref("subject", "The subject that is printed; none prints the first one.")
    file = text("", "Name of the files, without an ending; empty takes the print's name.", title="File name")
    first = whole(0, "First frame; 0 takes the scene's first.", title="First frame", unit="frames", soft=(0, 500))
    last = whole(0, "Last frame; 0 takes the scene's last.", title="Last frame", unit="frames", soft=(0, 500))
    tolerance = number(
        0.001,
        "Largest distance between file and scene that passes when it is read back.",
        unit="m",
        soft=(0.0001, 0.01),
        hard=(0, None),
    )

    def estimate(self, vertices: int, triangles: int, frames: int, v: dict) -> Estimate:
        raise NotImplementedError

    def write(self, job: Job, target: Path, progress) -> list[Path]:
        """Write the files, each whole or not at all; `target` is the main file without its suffix."""
        raise NotImplementedError

    def reader(self, target: Path):
        """An object with `frames` and `points(frame)` that reads the files back with the standard's own library."""
        raise NotImplementedError
