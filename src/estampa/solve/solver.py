"""What a solver is: start(inputs) makes a state, step(state, inputs, dt) the next one."""

from dataclasses import dataclass

import numpy as np

from ..forces.force import World
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..geometry.pose import Pose
from ..motion.layer import Layer, Resolved
from ..scene.bones import Bones
from ..scene.parts import OnPart


@dataclass(frozen=True)
class State:
    """What a solver carries from frame to frame, and what the store keeps: float32, metres and m/s.

    A step always begins from these rounded values, so that going on from the store and going on from memory
    give the same bits.
    """

    points: np.ndarray  # (n, 3) float32
    velocity: np.ndarray  # (n, 3) float32


@dataclass(frozen=True)
class Inputs:
    """Everything a solver reads for one frame."""

    mesh: Mesh  # topology and rest points
    before: np.ndarray  # (n, 3) points from the layers above, at the frame before
    now: np.ndarray  # (n, 3) the same at this frame
    v: Resolved
    world: World


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


class Solver(Layer):
    """Base of the layers with memory."""

    memory = True
    feels = ("gravity", "wind", "ground")  # the forces that it reads; others stale nothing

    def start(self, inputs: Inputs) -> State:
        """The state at the first frame: the shape from the layers above, at rest."""
        return State(inputs.now.astype(np.float32), np.zeros(inputs.now.shape, np.float32))

    def step(self, state: State, inputs: Inputs, dt: float) -> State:
        """The state `dt` seconds later."""
        raise NotImplementedError


class PoseSolver(Solver, OnPart):
    """Base of the layers with memory that move joints. Its state holds whatever rows it needs."""

    moves = "joints"

    def start(self, inputs: PoseInputs) -> State:
        """The state at the first frame."""
        raise NotImplementedError

    def step(self, state: State, inputs: PoseInputs, dt: float) -> State:
        raise NotImplementedError

    def pose(self, state: State, bones: Bones, pose: Pose, at: np.ndarray, world: Place, v: Resolved) -> Pose:
        """The pose that a state makes of the one that enters.

        at -- (n, 4, 4) of the joints in the skeleton's own space, as they enter; world -- where the skeleton stands
        """
        raise NotImplementedError
