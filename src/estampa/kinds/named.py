"""Sorts of value that a channel that names something gives, besides a Place, weights and numbers."""

from typing import NamedTuple

import numpy as np

from ..geometry.mesh import Mesh


class Surface(NamedTuple):
    """A subject as another thing meets it, in the space of the one that reads."""

    points: np.ndarray  # (k, n, 3) m
    mesh: Mesh


class Trajectory(NamedTuple):
    """Where a subject has been over what it goes on."""

    frames: np.ndarray  # (m,) whole frames
    places: np.ndarray  # (m, 3) m, over the deck
    axes: np.ndarray  # (m, 3, 3) of the deck

    @property
    def differs(self) -> bool:
        """Each row has come as far as its own frame says."""
        return True
