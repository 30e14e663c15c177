"""What a solver is: start(inputs) makes a frame, step(frame, inputs, dt) the next one.

A solver that is a layer is an ensemble of one member, itself.
"""

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from ..fields.force import World
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..geometry.pose import Pose
from ..kinds.fields import ACCELERATION, AIR, FLOOR
from ..motion.layer import Layer, Resolved
from ..scene.bones import Bones
from ..scene.parts import OnPart
from .aid import AidInputs
from .ensemble import Entering
from .frame import Column, Frame


@dataclass(frozen=True)
class Inputs:
    """Everything a solver reads for one frame."""

    mesh: Mesh  # topology and rest points
    before: np.ndarray  # (n, 3) points from the layers above, at the frame before
    now: np.ndarray  # (n, 3) the same at this frame
    v: Resolved
    world: World
    first: np.ndarray | None = None  # (n, 3) the same at the first frame that is solved
    aids: tuple[AidInputs, ...] = ()  # what stands below it to tell it something
    began: np.ndarray | None = None  # (n, 3) as it stood at the first frame, where that was adopted
    since: int = 0  # frames since the first that is solved


@dataclass(frozen=True)
class PoseInputs:
    """Everything a solver on a skeleton reads for one frame. Matrices (n, 4, 4) are of the joints in the world, from
    the layers above: two frames before, at the frame before, and at this one."""

    bones: Bones
    earlier: np.ndarray
    before: np.ndarray
    now: np.ndarray
    v: Resolved
    world: World
    own: dict  # stiffness, mass, area: (n,) the joints' own factors
    carried: tuple | None = None  # ((n, 3) before, (n, 3) now) m: how far a mesh that they hang on has taken them


PLACED = (
    Column("position", (3,), "m", "Where it is in the world."),
    Column("velocity", (3,), "m/s", "How fast it goes."),
)  # what most things that move have


class Solver(Layer):
    """Base of the layers with memory."""

    memory = True
    reads = frozenset({ACCELERATION, AIR, FLOOR})  # others stale nothing
    tables: ClassVar[dict[str, tuple[Column, ...]]] = {"points": PLACED}
    shown: ClassVar[tuple[str, ...]] = ("position",)  # columns that are enough to look at a frame

    def start(self, inputs: Inputs) -> Frame:
        """The first frame: the shape from the layers above, at rest."""
        return Frame.of(self.tables, "points", position=inputs.now, velocity=np.zeros(inputs.now.shape))

    def step(self, frame: Frame, inputs: Inputs, dt: float) -> Frame:
        """The frame `dt` seconds later."""
        raise NotImplementedError

    def rests(self, inputs: Inputs) -> dict[str, np.ndarray]:
        """Table -> (n, 3) m, where rows are at rest, to match those of another solver by; none matches by number."""
        return {"points": inputs.mesh.points}

    def fits(self, frame: Frame, inputs: Inputs) -> bool:
        """Whether a frame has the rows that what is read now asks for."""
        first = self.start(inputs)
        return all(len(frame[name]) == len(table) for name, table in first.tables.items())

    def resumed(self, frame: Frame, inputs) -> Frame:
        """The first frame after rows of it were adopted."""
        return frame

    def can_resume(self, frame: Frame) -> bool:
        """Whether a step can begin from a frame; from every one."""
        return True

    def faded(self, frame: Frame, one: Frame, other: Frame, share: float, member: str, mesh) -> Frame:
        """A frame that lies so far between two others, with what has to be kept of a member put right. mesh() -- its
        topology."""
        return frame

    def points(self, frame: Frame, entering: Entering) -> np.ndarray:
        """(n, 3) m in the world, what a frame makes of the shape that enters."""
        return frame["points"]["position"]


class PoseSolver(Solver, OnPart):
    """Base of the layers with memory that move joints."""

    moves = "joints"

    def start(self, inputs: PoseInputs) -> Frame:
        """The first frame."""
        raise NotImplementedError

    def step(self, frame: Frame, inputs: PoseInputs, dt: float) -> Frame:
        raise NotImplementedError

    def rests(self, inputs):
        return {}

    def pose(self, frame: Frame, bones: Bones, pose: Pose, at: np.ndarray, world: Place, v: Resolved) -> Pose:
        """The pose that a frame makes of the one that enters.

        at -- (n, 4, 4) of the joints in the skeleton's own space, as they enter; world -- where the skeleton stands
        """
        raise NotImplementedError
