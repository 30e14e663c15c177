"""Keyed curves: values in time, with the shape of each segment held by the key that begins it.

An edit of one key changes only the two segments that touch it, so that solved frames outside them stay.
"""

from typing import Literal

import numpy as np
from pydantic import BaseModel, ConfigDict, Field, model_validator

Segment = Literal["ease", "linear", "step"]


class Key(BaseModel):
    model_config = ConfigDict(frozen=True, extra="forbid")
    frame: float = Field(allow_inf_nan=False)
    value: float = Field(allow_inf_nan=False)
    segment: Segment = "ease"  # towards the next key


class Curve(BaseModel):
    """Keys in rising order of frame; held before the first and after the last."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    keys: tuple[Key, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _rising(self):
        frames = [key.frame for key in self.keys]
        if any(b <= a for a, b in zip(frames, frames[1:], strict=False)):
            raise ValueError("keys must stand at rising frames, one key a frame")
        return self

    def at(self, frame):
        """Value at one frame or at an array of frames."""
        frames = np.array([k.frame for k in self.keys])
        values = np.array([k.value for k in self.keys])
        f = np.clip(np.asarray(frame, float), frames[0], frames[-1])
        if len(frames) == 1:
            result = np.full(f.shape, values[0])
        else:
            i = np.clip(np.searchsorted(frames, f, side="right") - 1, 0, len(frames) - 2)
            t = (f - frames[i]) / (frames[i + 1] - frames[i])
            kinds = np.array([("linear", "ease", "step").index(k.segment) for k in self.keys])[i]
            # ease is the cubic Hermite segment with flat ends
            t = np.select([kinds == 1, kinds == 2], [t * t * (3 - 2 * t), np.floor(t)], t)
            result = values[i] * (1 - t) + values[i + 1] * t
        return float(result) if np.ndim(frame) == 0 else result

    def with_key(self, key: Key) -> "Curve":
        others = [k for k in self.keys if k.frame != key.frame]
        return Curve(keys=tuple(sorted([*others, key], key=lambda k: k.frame)))

    def without(self, frame: float) -> "Curve | None":
        left = tuple(k for k in self.keys if k.frame != frame)
        return Curve(keys=left) if left else None

    def integral(self, frames_from: float, frames_to: float) -> float:
        """Trapezoid over whole frames, in value x frames. Negative when running backwards."""
        sign = 1.0 if frames_to >= frames_from else -1.0
        a, b = sorted((frames_from, frames_to))
        steps = np.unique(np.concatenate([[a], np.arange(np.ceil(a), np.floor(b) + 1), [b]]))
        return sign * float(np.trapezoid(self.at(steps), steps)) if len(steps) > 1 else 0.0
