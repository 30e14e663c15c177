"""Values of OpenUSD attributes: arrays as it has them, and how they are written over time."""

import numpy as np


def vectors(values):
    """(n, 3) single precision."""
    from pxr import Vt

    return Vt.Vec3fArray.FromNumpy(np.ascontiguousarray(values, np.float32).reshape(-1, 3))


def quaternions(turns):
    """(n, 4) x, y, z, w, single precision."""
    from pxr import Vt

    return Vt.QuatfArray.FromNumpy(np.ascontiguousarray(turns, np.float32).reshape(-1, 4))


def extent(points):
    """The least and the largest of points (n, 3); nothing about the origin where there are none."""
    narrow = np.ascontiguousarray(points, np.float32).reshape(-1, 3)
    return vectors([narrow.min(axis=0), narrow.max(axis=0)] if len(narrow) else np.zeros((2, 3)))


def put(attribute, value, frame) -> None:
    """Set a value at a frame; the first one is the default too, so that a reader who asks for no time sees it."""
    if not attribute.HasAuthoredValue():
        attribute.Set(value)
    attribute.Set(value, frame)


def free_word(word: str, is_taken) -> str:
    """A word, with a number behind it where is_taken(word)."""
    own, count = word, 2
    while is_taken(own):
        own, count = f"{word}_{count}", count + 1
    return own


class Timed:
    """An attribute over time, written where its value differs from the last one that was. What never changes is the
    default alone, which the first value is of what does."""

    def __init__(self, attribute, frames: list[int], keeps: bool = False):
        """frames -- all that will come; keeps -- whether its values are kept, so that others can take them."""
        self.attribute, self.first, self.keeps = attribute, frames[0], keeps
        self._last: tuple[int, np.ndarray, int] | None = None  # (first frame, value, last frame) of what was put last
        self._written: list[tuple] = []

    def take(self, other: "Timed") -> None:
        """Begin with the values that another one has so far."""
        for frame, value in other._written:
            self._set(value, frame)
        self._last = other._last

    def put(self, frame: int, value: np.ndarray, typed=vectors) -> None:
        """typed -- what makes an attribute's value of an array."""
        if self._last is None:
            self._set(typed(value), None)
            self._last = (frame, value, frame)
            return
        began, last, until = self._last
        if np.array_equal(last, value):
            self._last = (began, value, frame)
            return
        if began == self.first:
            self._set(typed(last), began)
        if until != began:
            self._set(typed(last), until)  # it stood still until then
        self._set(typed(value), frame)
        self._last = (frame, value, frame)

    def _set(self, value, frame) -> None:
        self.attribute.Set(value) if frame is None else self.attribute.Set(value, frame)
        if self.keeps:
            self._written.append((frame, value))
