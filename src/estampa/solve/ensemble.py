"""What an ensemble is: a solve of many things at once, and what a member of one is.

A member is a layer by which its subject plays in the ensemble; what stands above it in the stack enters, what stands
below dresses the result.
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, ClassVar

import numpy as np

from ..fields.force import World
from ..geometry.mesh import Mesh
from ..geometry.pieces import Pieces
from ..geometry.place import Place
from ..hashing import digest, number_of
from ..kinds.channels import ref
from ..kinds.fields import FIELDS
from ..kinds.registry import Kind
from ..motion.layer import Layer, Resolved
from .aid import AidInputs
from .frame import Column, Frame


def member_number(layer_id: str) -> int:
    """A member's number for good, of 40 bits. Members are in the order of these: as they were added."""
    number = number_of(layer_id)
    return int.from_bytes(digest(layer_id)[:5], "little") if number is None else number


@dataclass(frozen=True)
class MemberInputs:
    """One member over a frame: what enters its layer."""

    id: str  # of its layer
    name: str  # for a person: "Body on Board 3"
    mesh: Mesh  # topology
    first: np.ndarray  # (n, 3) m in the world, at the first frame that is solved: its shape at rest
    before: np.ndarray  # (n, 3) m, at the frame before
    now: np.ndarray  # (n, 3) m
    v: Resolved
    aids: tuple[AidInputs, ...] = ()  # what stands below its layer to tell the solver something
    limbs: Any = None  # of a skeleton: its Limbs, whose mesh that is
    stood: tuple = ()  # of a skeleton: its joints (j, 4, 4) in the world at first, before, and now
    began: np.ndarray | None = None  # (n, 3) as it stood at the first frame, where that was adopted


@dataclass(frozen=True)
class EnsembleInputs:
    """All that an ensemble reads at a frame; members are in the order of their ids."""

    members: tuple[MemberInputs, ...]
    v: Resolved
    world: World
    frame: int
    first: int  # the first frame that is solved


@dataclass(frozen=True)
class Entering:
    """What enters a layer with memory, for what it makes of it; worked out when it is wanted."""

    id: str  # of the layer
    mesh: Mesh  # topology, at the size that it has in the world
    first: Callable[[], np.ndarray]  # (n, 3) m in the world at the first frame that is solved
    now: Callable[[], np.ndarray]  # (n, 3) m in the world


class Ensemble(Kind):
    """Base of the ensembles. Its frames depend on nothing but the frame before and what is read."""

    family = "ensemble"
    group = "fall"
    reads: ClassVar[frozenset[str]] = FIELDS
    tables: ClassVar[dict[str, tuple[Column, ...]]] = {}

    def start(self, crowd: EnsembleInputs) -> Frame:
        """The first frame."""
        raise NotImplementedError

    def step(self, frame: Frame, crowd: EnsembleInputs, dt: float) -> Frame:
        """The frame `dt` seconds later."""
        raise NotImplementedError

    def facts(self, frame: Frame) -> list[tuple[str, str]]:
        """(words, value) that are told of a solved frame beside the channels."""
        return []

    def can_resume(self, frame: Frame) -> bool:
        """Whether a step can begin from a frame. An engine's own state is kept with some frames only; from the others
        the steps since then are done again."""
        return True

    def resumed(self, frame: Frame, crowd: EnsembleInputs) -> Frame:
        """The first frame after rows of it were adopted, with whatever else a step needs."""
        return frame

    def rests(self, crowd: EnsembleInputs) -> dict[str, np.ndarray]:
        """Table -> (n, 3) m, where rows are at rest, to match those of another solver by."""
        return {}

    def fits(self, frame: Frame, crowd: EnsembleInputs) -> bool:
        """Whether a frame has the rows that what is read now asks for."""
        return True


class Member(Layer):
    """Base of the layers by which a subject plays in an ensemble."""

    memory = True
    reads: ClassVar[frozenset[str]] = frozenset()  # the ensemble reads fields, for all of them
    ensemble: ClassVar[str] = ""  # kind of what it plays in
    shown: ClassVar[tuple[str, ...]] = ()  # columns that are enough to look at a frame

    together = ref("ensemble", "What it is solved together with.", title="Solved in")

    def faded(self, frame: Frame, one: Frame, other: Frame, share: float, member: str, mesh) -> Frame:
        """A frame that lies so far between two others, with what has to be kept of a member put right. mesh() -- its
        topology."""
        return frame

    def points(self, frame: Frame, entering: Entering) -> np.ndarray | None:
        """(n, 3) m in the world, what a frame makes of the shape that enters."""
        raise NotImplementedError

    def travel(self, frame: Frame, entering: Entering) -> tuple[float, float] | None:
        """(mean, largest) m, how far it moves the shape that enters, where that is sooner told than from all points."""
        return None

    def stands(self, frame: Frame, member: str, mesh: Mesh) -> tuple[Pieces, Place, np.ndarray] | None:
        """(pieces, where they stand in the world, (p, 3) their origins in the shape at first), of what moves pieces as
        wholes; else None."""
        return None
