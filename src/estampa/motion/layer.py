"""What a layer is, and what it may read."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..geometry.mesh import Mesh
from ..scene.channels import Kind


class Resolved(dict):
    """Channel values at one frame, read as attributes.

    A `ref` to a grip is (origin (3,), axes (3, 3) columns, size); a `ref` to a map is its weights (n,) float32, or
    None. For a channel that accumulates, `travel[name]` is its integral over time since frame 0.
    """

    travel: dict[str, float]
    __getattr__ = dict.__getitem__


@dataclass(frozen=True)
class Moment:
    """When and on what a layer works."""

    frame: float
    time: float  # seconds = frame / frame rate
    mesh: Mesh  # topology and rest points


class Layer(Kind):
    """Base of the motion layers. A subclass declares channels and computes new points from those above it."""

    family = "layer"
    memory = False  # True: each frame needs the one before

    def apply(self, points: np.ndarray, v: Resolved, now: Moment) -> np.ndarray:
        """New (n, 3) float64 points from the input ones, which must not be changed. Metres."""
        raise NotImplementedError


def origin_frame(grip: Any) -> tuple[np.ndarray, np.ndarray, float]:
    """A grip's (origin, axes, size), or the world's when the channel names none."""
    return grip if grip is not None else (np.zeros(3), np.eye(3), 1.0)


def weighted(points: np.ndarray, moved: np.ndarray, weights) -> np.ndarray:
    """Blend from `points` to `moved` by per-vertex weights; None means everywhere fully."""
    return moved if weights is None else points + (moved - points) * weights[:, None].astype(np.float64)
