"""What a layer reads: values with a path for the digest and words for a person."""

from typing import NamedTuple

import numpy as np

MOVED = "(order or switch)"


class Read(NamedTuple):
    """One value that a layer reads at a frame."""

    path: str  # for the digest: which channel of what kind, in a fixed order
    label: str  # for a person: "Onshore wind · speed"
    value: object


def plain(value):
    """A value that can be compared and hashed: arrays become nested tuples of numbers."""
    if isinstance(value, np.ndarray):
        return tuple(value.ravel().tolist())
    if isinstance(value, tuple):
        return tuple(plain(v) for v in value)
    return value if isinstance(value, (int, float, str, bool, bytes)) else None
