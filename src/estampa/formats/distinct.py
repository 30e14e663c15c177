"""Shapes that change over time, told as the different ones and which is shown when."""

from collections.abc import Sequence

import numpy as np

from ..hashing import digest

NEAR = 1e-7  # m, within which two shapes are the same
MOST_SHAPES = 400  # besides the first that a mesh has in a file, as morph targets or blend shapes


def shape_key(points: np.ndarray) -> bytes:
    """What two shapes (n, 3) m have in common that are the same."""
    return digest(np.round(np.asarray(points, float) / NEAR))


class Distinct:
    """Shapes (n, 3) m that are not the same, in the order in which they come."""

    def __init__(self):
        self.shapes: list[np.ndarray] = []
        self._numbers: dict[bytes, int] = {}

    def number(self, points: np.ndarray) -> int:
        """Which of the shapes these points are."""
        key = shape_key(points)
        if key not in self._numbers:
            self._numbers[key] = len(self.shapes)
            self.shapes.append(np.asarray(points, float))
        return self._numbers[key]


def one_hot(numbers: Sequence[int], distinct: Distinct) -> np.ndarray:
    """(f, s - 1) weights by which the shape of each frame is shown; the first shape is the mesh's own."""
    return np.eye(len(distinct.shapes))[np.array(numbers)][:, 1:]
