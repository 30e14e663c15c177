"""What an aid is: a layer below a solver in its stack that tells it something, and moves nothing itself."""

from dataclasses import dataclass
from typing import ClassVar

from ..motion.layer import Deformer, Resolved
from ..scene.document import Thing


class Aid(Deformer):
    """Base of the aids. A solver reads those that stand below it, down to the next layer with memory."""

    helps: ClassVar[str] = ""  # kind of the solver
    holds = False  # True: it holds what is solved in a place
    undoes = False  # True: it takes back what crosses
    follows = False  # True: it is told what the aid read at the first frame and at the frame before, too

    def apply(self, points, v, now):
        return points


@dataclass(frozen=True)
class AidInputs:
    """What an aid tells at a frame."""

    id: str
    name: str  # for a person
    aid: type[Aid]
    v: Resolved
    before: Resolved | None = None
    first: Resolved | None = None
    frame: int = 0
    share_before: float = 1.0  # how much of it acted a frame ago, as it eases in
    share: float = 1.0  # how much does now
    since: int = 0  # frames since the first that is solved


def eased(frames: float, since: float) -> float:
    """0 to 1: how much of something acts that comes in over so many frames, so many after the first."""
    done = 1.0 if frames <= 0 else min(max(since / frames, 0.0), 1.0)
    return done * done * (3 - 2 * done)


def aids_below(layers: list[Thing], layer: Thing) -> list[Thing]:
    """Of the layers of a stack that are on, those that help one of them: below it, down to the next with memory."""
    ids, found = [l.id for l in layers], []
    if layer.id not in ids:
        return []
    for below in layers[ids.index(layer.id) + 1 :]:
        if below.declared.memory:
            break
        if getattr(below.declared, "helps", "") == layer.kind:
            found.append(below)
    return found
