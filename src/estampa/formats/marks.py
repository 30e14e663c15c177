"""Marks of things that stand somewhere, turned and sized: two points each, by which files are held against scenes."""

import numpy as np

from ..geometry import pose as turns

ASIDE = np.array([0.6, 0.0, 0.8])  # m from a thing's middle, in its own space at size 1


def marks_of(place: np.ndarray, turn: np.ndarray, size: np.ndarray) -> np.ndarray:
    """(2 k, 3) m: the middle of each, and a place beside it that tells how it is turned and how large it is.
    place (k, 3) m; turn (k, 4) unit quaternions x, y, z, w; size (k,)."""
    aside = turns.turned(turn, np.tile(ASIDE, (len(place), 1))) * size[:, None]
    return np.concatenate([place, place + aside])
