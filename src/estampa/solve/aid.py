"""What an aid is: a layer below a solver in its stack that tells it something, and moves nothing itself."""

from dataclasses import dataclass
from typing import ClassVar

from ..motion.layer import Deformer, Resolved


class Aid(Deformer):
    """Base of the aids. A solver reads those that stand below it, down to the next layer with memory."""

    helps: ClassVar[str] = ""  # kind of the solver
    follows = False  # True: it is told what the aid read at the first frame and at the frame before, too

    def apply(self, points, v, now):
        return points


@dataclass(frozen=True)
class Told:
    """What an aid tells at a frame."""

    id: str
    name: str  # for a person
    aid: type[Aid]
    v: Resolved
    before: Resolved | None = None
    first: Resolved | None = None
    frame: int = 0
