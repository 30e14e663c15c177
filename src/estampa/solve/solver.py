"""What a solver is: start(inputs) makes a state, step(state, inputs, dt) the next one."""

from dataclasses import dataclass

import numpy as np

from ..forces.force import World
from ..geometry.mesh import Mesh
from ..motion.layer import Layer, Resolved


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
    cache: dict  # for what depends on the mesh alone; lives as long as the evaluator


class Solver(Layer):
    """Base of the layers with memory."""

    memory = True

    def start(self, inputs: Inputs) -> State:
        """The state at the first frame: the shape from the layers above, at rest."""
        return State(inputs.now.astype(np.float32), np.zeros(inputs.now.shape, np.float32))

    def step(self, state: State, inputs: Inputs, dt: float) -> State:
        """The state `dt` seconds later."""
        raise NotImplementedError
