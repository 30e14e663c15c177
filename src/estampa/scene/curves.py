"""Keyed curves: values in time, Bezier, linear or stepped, and what they do before and after their keys.

The shape of a segment is held by the key that begins it; the tangents are held by each key, as handles in frames
and in the channel's unit. Edits are functions that give a new curve, so that the old one stays for undo.
"""

import math
from functools import cached_property
from typing import Literal

import numpy as np
from numba import njit
from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from .limits import MOST_KEYS

Segment = Literal["curve", "linear", "step"]
Tangent = Literal["flat", "smooth", "free", "broken"]
Extend = Literal["hold", "slope", "cycle", "mirror", "accumulate"]
SEGMENTS = {"curve": "Curve to the next key", "linear": "Straight to the next key", "step": "Hold until the next key"}
TANGENTS = {"flat": "Flat", "smooth": "Smooth", "free": "Free, both sides in line", "broken": "Broken, each side free"}
EXTENDS = {
    "hold": "Hold",
    "slope": "Straight on",
    "cycle": "Cycle",
    "mirror": "There and back",
    "accumulate": "Accumulate",
}


class Key(BaseModel):
    """One key: a value (in the channel's stored unit) at a frame, how the curve goes on from it, and its tangents."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    frame: float = Field(allow_inf_nan=False)
    value: float = Field(allow_inf_nan=False)
    segment: Segment = "curve"  # towards the next key
    tangent: Tangent = "flat"
    # handles (frames, value) from the key, for free and broken tangents; None is flat
    left: tuple[float, float] | None = None
    right: tuple[float, float] | None = None

    @field_validator("segment", mode="before")
    @classmethod
    def _older_word(cls, word):
        return "curve" if word == "ease" else word

    @model_validator(mode="after")
    def _handles(self):
        for handle, way in ((self.left, -1), (self.right, 1)):
            if handle is not None and not (all(map(math.isfinite, handle)) and handle[0] * way >= 0):
                raise ValueError("a tangent handle must be finite, and lie on its own side of the key")
        return self

    def with_(self, **changes) -> "Key":
        return self.model_copy(update=changes)


class Curve(BaseModel):
    """Keys in rising order of frame, and what the curve does before the first and after the last."""

    model_config = ConfigDict(frozen=True, extra="forbid")
    keys: tuple[Key, ...] = Field(min_length=1)
    before: Extend = "hold"
    after: Extend = "hold"

    @field_validator("keys", mode="before")
    @classmethod
    def _few(cls, keys):
        if isinstance(keys, (list, tuple)) and len(keys) > MOST_KEYS:
            raise ValueError(f"a curve of {len(keys):,} keys; at most {MOST_KEYS:,} are read")
        return keys

    @model_validator(mode="after")
    def _rising(self):
        frames = [key.frame for key in self.keys]
        if any(b <= a for a, b in zip(frames, frames[1:], strict=False)):
            raise ValueError("keys must stand at rising frames, one key a frame")
        return self

    def __eq__(self, other):
        """By what was declared; the table below is only worked out from it."""
        same = isinstance(other, Curve) and (self.before, self.after) == (other.before, other.after)
        return same and self.keys == other.keys

    def __hash__(self):
        return hash((self.keys, self.before, self.after))

    @cached_property
    def furthest(self) -> tuple[float, float]:
        """(frame, value) that lie farthest from nought, without their signs."""
        return max(abs(k.frame) for k in self.keys), max(abs(k.value) for k in self.keys)

    # -- values --------------------------------------------------------------------------------------------
    @cached_property
    def _table(self):
        """(frames, values, segment, left handles (k, 2), right handles (k, 2)) with every tangent worked out."""
        keys = self.keys
        frames = np.array([k.frame for k in keys])
        values = np.array([k.value for k in keys])
        words = list(SEGMENTS)
        segments = np.array([words.index(k.segment) for k in keys])
        slopes = self._smooth_slopes(frames, values)
        third = np.diff(frames) / 3
        left, right = np.zeros((len(keys), 2)), np.zeros((len(keys), 2))
        left[1:, 0], right[:-1, 0] = -third, third
        for i, key in enumerate(keys):
            if key.tangent == "smooth":
                left[i, 1], right[i, 1] = left[i, 0] * slopes[i], right[i, 0] * slopes[i]
            elif key.tangent != "flat":
                left[i] = key.left if key.left is not None else left[i]
                right[i] = key.right if key.right is not None else right[i]
        # a handle that reaches past the next key would make the curve run backwards: shorten it, keep its slope
        for handles, span in ((left[1:], third * 3), (right[:-1], third * 3)):
            over = np.maximum(np.abs(handles[:, 0]) / span, 1)
            handles /= over[:, None]
        return frames, values, segments, left, right

    def _smooth_slopes(self, frames, values):
        """Slope at each key from its neighbours; over the seam when the curve cycles."""
        n = len(frames)
        if n < 2:
            return np.zeros(n)
        slopes = np.zeros(n)
        slopes[1:-1] = (values[2:] - values[:-2]) / (frames[2:] - frames[:-2])
        if self.after in ("cycle", "accumulate") and n > 2:
            around = (frames[1] - frames[0]) + (frames[-1] - frames[-2])
            slopes[0] = slopes[-1] = (values[1] - values[0] + values[-1] - values[-2]) / around
        else:
            slopes[0] = (values[1] - values[0]) / (frames[1] - frames[0])
            slopes[-1] = (values[-1] - values[-2]) / (frames[-1] - frames[-2])
        return slopes

    def at(self, frame):
        """Value at one frame or at an array of frames."""
        f = np.atleast_1d(np.asarray(frame, float))
        frames, values, segments, left, right = self._table
        inside, shift = self._extended(f.ravel(), frames, values)
        result = (_evaluate(inside, frames, values, segments, left, right) + shift).reshape(f.shape)
        return float(result[0]) if np.ndim(frame) == 0 else result

    def _extended(self, f, frames, values):
        """(frames inside the keys, what is added to their values) for frames anywhere."""
        first, last = frames[0], frames[-1]
        span = last - first
        inside, shift = np.clip(f, first, last), np.zeros(len(f))
        for way, out in ((self.before, f < first), (self.after, f > last)):
            if way == "hold" or span <= 0 or not out.any():
                continue
            x = f[out]
            if way == "slope":
                edge, side = (first, 1) if x[0] < first else (last, -1)
                shift[out] = (x - edge) * self.slope_at(edge, side)
            else:
                rounds = np.floor((x - first) / span)
                at = x - rounds * span
                if way == "mirror":
                    at = np.where(rounds.astype(np.int64) % 2 == 1, last - (at - first), at)
                if way == "accumulate":
                    shift[out] = rounds * (values[-1] - values[0])
                inside[out] = np.clip(at, first, last)
        return inside, shift

    def slope_at(self, frame: float, side: int) -> float:
        """Slope in value per frame, just after (side 1) or just before (side -1) a frame inside the keys."""
        step = 1e-4 * side
        frames, values, segments, left, right = self._table
        i = int(np.searchsorted(frames, frame))
        if i < len(frames) and frames[i] == frame:  # at a key its handle says it
            handle = right[i] if side > 0 else left[i]
            segment = i if side > 0 else i - 1
            if 0 <= segment < len(frames) - 1 and segments[segment] == 0 and handle[0] != 0:
                return float(handle[1] / handle[0])
        two = _evaluate(np.array([frame, frame + step]), frames, values, segments, left, right)
        return float((two[1] - two[0]) / step)

    def handles(self, place: int) -> tuple[tuple[float, float], tuple[float, float]]:
        """(left, right) handle of the key at a place, as the curve uses them."""
        _, _, _, left, right = self._table
        return tuple(left[place]), tuple(right[place])

    # -- edits ---------------------------------------------------------------------------------------------
    def with_keys(self, keys) -> "Curve":
        """The same curve with these keys; of two at one frame the later in the list stays."""
        by_frame = {k.frame: k for k in keys}
        return Curve(keys=tuple(by_frame[f] for f in sorted(by_frame)), before=self.before, after=self.after)

    def with_key(self, key: Key) -> "Curve":
        return self.with_keys([*self.keys, key])

    def with_extend(self, before: str | None = None, after: str | None = None) -> "Curve":
        return Curve(keys=self.keys, before=before or self.before, after=after or self.after)

    def without(self, *frames: float) -> "Curve | None":
        left = [k for k in self.keys if k.frame not in frames]
        return self.with_keys(left) if left else None

    def key_at(self, frame: float) -> Key | None:
        return next((k for k in self.keys if k.frame == frame), None)

    def moved(self, chosen, frames: float, value: float, reach: float = 0.0, times: float = 1.0, about=None) -> "Curve":
        """Move keys in time and value; scale their times about a frame first when `times` is not 1.

        chosen -- frames of the keys that are moved
        reach  -- frames; keys within it of a chosen one are carried along in value, less with distance (a raised
                  cosine), so that a pose is corrected without a kink
        """
        chosen = sorted(set(chosen))
        if not chosen:
            return self
        held = np.array(chosen)
        still, done = [], []
        for key in self.keys:
            gap = float(np.abs(held - key.frame).min())
            if gap == 0:
                start = key.frame if about is None else about + (key.frame - about) * times
                turn = lambda h: None if h is None else (h[0] * times, h[1])
                change = {"frame": float(start + frames), "value": key.value + value}
                done.append(key.with_(**change, left=turn(key.left), right=turn(key.right)))
            elif gap < reach:
                still.append(key.with_(value=key.value + value * 0.5 * (1 + np.cos(np.pi * gap / reach))))
            else:
                still.append(key)
        return self.with_keys([*still, *done])

    def scaled_values(self, chosen, factor: float, about: float) -> "Curve":
        """Scale the values of chosen keys, and their tangents, about a value."""
        turn = lambda h: None if h is None else (h[0], h[1] * factor)
        change = lambda k: k.with_(value=about + (k.value - about) * factor, left=turn(k.left), right=turn(k.right))
        return self.with_keys([change(k) if k.frame in chosen else k for k in self.keys])

    def closed(self, first: float, last: float, frames: float, drop: bool = False) -> "Curve":
        """Blend the values of the last `frames` frames before `last` into the value at `first`, so that the end is
        the start again: each key there is moved by its share of the gap (a smooth step), and one is put at the end.

        With `drop` the keys there are left out instead, and the curve lands on the start in one sweep.
        """
        gap = self.at(first) - self.at(last)
        share = lambda f: _smooth(np.clip((f - (last - frames)) / max(frames, 1e-9), 0, 1))
        # the key at the end takes the slope of the start, so that the speed closes too
        slope = self.slope_at(min(max(first, self.keys[0].frame), self.keys[-1].frame), 1) if len(self.keys) > 1 else 0
        begin = self.key_at(last - frames) or Key(frame=last - frames, value=self.at(last - frames), tangent="smooth")
        kept = [k.with_(value=k.value + gap * float(share(k.frame))) for k in self.keys if k.frame != last]
        if drop:
            kept = [k for k in self.keys if not last - frames < k.frame <= last]
        # a third of the way to the key before it: a longer handle would run past that key
        third = (last - max(k.frame for k in (begin, *kept) if k.frame < last)) / 3
        end = Key(frame=last, value=self.at(first), tangent="free", left=(-third, -slope * third))
        return self.with_keys([begin, *kept, end])

    def split(self, frame: float) -> "Curve":
        """The same curve with a key at a frame between its first and its last, its course unchanged (de Casteljau)."""
        frames, values, segments, left, right = self._table
        if self.key_at(frame) is not None or not frames[0] < frame < frames[-1]:
            return self
        i = int(np.searchsorted(frames, frame) - 1)
        a, b = self.keys[i], self.keys[i + 1]
        if segments[i] != 0:
            return self.with_key(Key(frame=frame, value=self.at(frame), segment=a.segment))
        begin, end = np.array([frames[i], values[i]]), np.array([frames[i + 1], values[i + 1]])
        points = np.array([begin, begin + right[i], end + left[i + 1], end])
        low, high = 0.0, 1.0
        for _ in range(60):
            half = 0.5 * (low + high)
            low, high = (half, high) if _bezier(points[:, 0], half) < frame else (low, half)
        rows, s = [points], 0.5 * (low + high)
        while len(rows[-1]) > 1:
            rows.append(rows[-1][:-1] + s * np.diff(rows[-1], axis=0))
        one, two, mid = rows[1], rows[2], rows[3][0]
        handle = lambda to, at: (float(to[0] - at[0]), float(to[1] - at[1]))
        sides = [tuple((float(h[0]), float(h[1])) for h in self.handles(k)) for k in (i, i + 1)]
        before = a.with_(tangent="broken", left=sides[0][0], right=handle(one[0], points[0]))
        new = Key(frame=frame, value=float(mid[1]), tangent="free", left=handle(two[0], mid), right=handle(two[1], mid))
        after = b.with_(tangent="broken", left=handle(one[2], points[3]), right=sides[1][1])
        return self.with_keys([*self.keys, before, new, after])

    def between(self, first: float, last: float) -> "Curve":
        """What it does from one frame to another, and nothing outside: keys at both, its course unchanged."""
        low, high = self.keys[0].frame, self.keys[-1].frame
        ends = [Key(frame=f, value=self.at(f)) for f in (first, last) if f < low or f > high]
        cut = self.split(first).split(last)
        return cut.with_keys([*(k for k in cut.keys if first <= k.frame <= last), *ends])


def _smooth(t):
    return t * t * (3 - 2 * t)


def _bezier(p, s):
    r = 1 - s
    return r * r * r * p[0] + 3 * r * r * s * p[1] + 3 * r * s * s * p[2] + s * s * s * p[3]


@njit(cache=True, nogil=True)
def _evaluate(at, frames, values, segments, left, right):
    result = np.empty(len(at))
    last = len(frames) - 1
    for n in range(len(at)):
        f = at[n]
        i = min(max(np.searchsorted(frames, f, side="right") - 1, 0), last)
        if i == last or segments[i] == 2 or f <= frames[i]:
            result[n] = values[i]
            continue
        span = frames[i + 1] - frames[i]
        x = (f - frames[i]) / span
        rise = values[i + 1] - values[i]
        if segments[i] == 1:
            result[n] = values[i] + rise * x
            continue
        # a cubic Bezier segment: find the parameter whose time is x, then the value there
        x1, x2 = right[i, 0] / span, 1 + left[i + 1, 0] / span
        low, high, s = 0.0, 1.0, x
        for _ in range(60):
            r = 1 - s
            error = 3 * r * r * s * x1 + 3 * r * s * s * x2 + s * s * s - x
            if abs(error) < 1e-14:
                break
            if error > 0:
                high = s
            else:
                low = s
            slope = 3 * r * r * x1 + 6 * r * s * (x2 - x1) + 3 * s * s * (1 - x2)
            s = s - error / slope if slope > 1e-9 else 0.5 * (low + high)
            if not low < s < high:
                s = 0.5 * (low + high)
        r = 1 - s
        y1, y2 = values[i] + right[i, 1], values[i + 1] + left[i + 1, 1]
        result[n] = r * r * r * values[i] + 3 * r * r * s * y1 + 3 * r * s * s * y2 + s * s * s * values[i + 1]
    return result
