"""Fewer keys: cubic segments through the frames, as few as keep every frame within a tolerance.

A channel begins with a key at each end; the frame that is furthest off gets one, and so on (as Ramer 1972 and Douglas
and Peucker 1973 simplify lines). Each key takes the slope that the motion has there, so segments join smoothly. What
counts is where the joints end up, so the whole pose is worked out again from the keys at every frame; where a tip is
too far off or a joint turned too far, the channels of the joints above it are told to be closer.
"""

from dataclasses import dataclass

import numpy as np
from numba import njit

from ..geometry import pose as turns
from ..geometry.place import Place
from ..geometry.pose import Pose, in_skeleton
from .bones import Bones
from .curves import Curve, Key
from .document import Rest, Thing

CHANNELS = ("x", "y", "z", "turn_x", "turn_y", "turn_z")
ROUNDS = 14  # of halving, after which a channel keeps all its frames


@dataclass(frozen=True)
class Tolerance:
    """How far a tip may be from where it was, and how far a joint may be turned away; 0 keeps every frame."""

    place: float = 0.001  # m
    turn: float = np.radians(0.25)  # rad


@dataclass
class Reduced:
    """Values (f, j, 9) and slopes of channels over frames, which of the frames are keys, and how far off those are.

    keys -- (row of the joint, channel number): places in the frames; channels that stay as they are have none
    """

    values: np.ndarray
    slopes: np.ndarray
    keys: dict[tuple[int, int], np.ndarray]
    gap: float  # m, the largest distance of a tip at any frame
    turn: float  # rad, the largest turn of a joint away from what it was

    def curves(self, frames: np.ndarray) -> dict[tuple[int, int], Curve | float]:
        """The curve of each (row, channel number), or the number where it stays."""
        found = {}
        for k, c in np.ndindex(self.values.shape[1:]):
            here = self.keys.get((k, c))
            if here is None:
                found[k, c] = float(self.values[0, k, c])
            else:
                found[k, c] = curve_of(frames, self.values[:, k, c], self.slopes[:, k, c], here)
        return found


def reduced(
    bones: Bones, values: np.ndarray, joints: np.ndarray, poses: Pose, tolerance: Tolerance, loops: bool = False
) -> Reduced:
    """values (f, j, 9) channels of `joints` at each frame; poses (f, n, ...) the whole skeleton's, as it was.

    Channels are places in metres, turns in rad and stretches. `loops`: the last frame is the first again.
    """
    frames = len(values)
    slopes = np.gradient(values, axis=0) if frames > 1 else np.zeros_like(values)
    if loops and frames > 2:  # the last frame is the first again: both ends have one slope, over the seam
        slopes[0] = slopes[-1] = 0.5 * (values[1] - values[0] + values[-1] - values[-2])
    at, reach = in_skeleton(poses, bones.parents, bones.order), _tips(bones)
    long = np.maximum(bones.lengths[joints], 1e-6)
    close = np.empty((len(joints), 9))  # how close each channel is kept
    close[:, :3] = 0.5 * tolerance.place
    close[:, 3:6] = np.minimum(0.5 * tolerance.turn, 0.5 * tolerance.place / long)[:, None]
    close[:, 6:] = (0.5 * tolerance.place / long)[:, None]
    chosen = np.zeros((frames, len(joints), 9), np.bool_)
    result = np.empty_like(values)
    todo = np.ones(len(joints), bool)
    row = {int(j): k for k, j in enumerate(joints)}
    exact = tolerance.place <= 0 or tolerance.turn <= 0
    for rounds in range(ROUNDS + 1):
        if rounds == ROUNDS or exact:
            close[todo] = 0.0
        for k in np.flatnonzero(todo):
            for c in range(9):
                _thin(values[:, k, c], slopes[:, k, c], close[k, c], chosen[:, k, c], result[:, k, c])
        gap, turn = _gaps(bones, poses, at, reach, posed(bones, poses, joints, result))
        bad = ((gap > tolerance.place) | (turn > tolerance.turn)).any(axis=0)
        if not bad.any() or exact or rounds == ROUNDS:
            break
        todo[:] = False
        for i in np.flatnonzero(bad):
            for up in bones.up(int(i)):
                if int(up) in row:
                    todo[row[int(up)]] = True
        close[todo] *= 0.5
    keys = {
        (k, c): np.flatnonzero(chosen[:, k, c])
        for k in range(len(joints))
        for c in range(9)
        if np.ptp(values[:, k, c]) > 1e-9
    }
    return Reduced(values, slopes, keys, float(gap.max(initial=0)), float(turn.max(initial=0)))


def curve_of(frames: np.ndarray, values: np.ndarray, slopes: np.ndarray, keys: np.ndarray) -> Curve:
    """The curve through chosen frames, with the slopes that the motion has there. keys -- places in `frames`."""
    made = []
    for n, k in enumerate(keys):
        left = (frames[k] - frames[keys[n - 1]]) / 3 if n else 1 / 3
        right = (frames[keys[n + 1]] - frames[k]) / 3 if n + 1 < len(keys) else 1 / 3
        slope = float(slopes[k])
        handles = {"left": (-left, -left * slope), "right": (right, right * slope)}
        # they are numbers of ours, and there may be many: Curve checks their order, which is all that is left to check
        made.append(Key.model_construct(frame=float(frames[k]), value=float(values[k]), tangent="free", **handles))
    return Curve(keys=tuple(made))


def posed(bones: Bones, poses: Pose, joints: np.ndarray, values: np.ndarray) -> Pose:
    """(f, n, ...) the poses with `joints` put where channel values (f, j, 9) say."""
    place, turn, stretch = (part.copy() for part in poses)
    rest = bones.rest
    place[:, joints] = rest.place[joints] + values[..., :3]
    own = turns.from_euler(values[..., 3], values[..., 4], values[..., 5])
    turn[:, joints] = turns.product(np.broadcast_to(rest.turn[joints], own.shape), own)
    stretch[:, joints] = rest.stretch[joints] * values[..., 6:]
    return Pose(place, turn, stretch)


def _tips(bones: Bones) -> np.ndarray:
    return np.concatenate([bones.tips, np.ones((len(bones), 1))], axis=1)


def _gaps(bones, poses, at, reach, found: Pose):
    """((f, n) m between tips, (f, n) rad between turns)."""
    now = in_skeleton(found, bones.parents, bones.order)
    tips = np.einsum("fnij,nj->fni", at[:, :, :3] - now[:, :, :3], reach)
    cosine = np.abs((poses.turn * found.turn).sum(axis=-1))
    return np.linalg.norm(tips, axis=-1), 2 * np.arccos(np.clip(cosine, 0, 1))


@njit(cache=True, nogil=True)
def _thin(values, slopes, close, chosen, result):
    """Choose frames so that the cubics through them stay within `close` of every value; what they give to `result`."""
    last = len(values) - 1
    chosen[:] = False
    chosen[0] = chosen[last] = True
    if close <= 0:
        chosen[:] = True
        result[:] = values
        return
    result[0], result[last] = values[0], values[last]
    starts, ends = np.empty(len(values) + 1, np.int64), np.empty(len(values) + 1, np.int64)
    starts[0], ends[0], count = 0, last, 1
    while count:
        count -= 1
        a, b = starts[count], ends[count]
        worst, where = -1.0, -1
        span = float(b - a)
        for i in range(a + 1, b):
            t = (i - a) / span
            r = 1 - t
            h0, h1 = r * r * (1 + 2 * t), t * t * (3 - 2 * t)
            result[i] = h0 * values[a] + h1 * values[b] + span * t * r * (r * slopes[a] - t * slopes[b])
            off = abs(result[i] - values[i])
            if off > worst:
                worst, where = off, i
        if worst > close:
            chosen[where] = True
            result[where] = values[where]
            starts[count], ends[count] = a, where
            starts[count + 1], ends[count + 1] = where, b
            count += 2


def channel_values(bones: Bones, poses: Pose, joints: np.ndarray) -> np.ndarray:
    """(f, j, 9) channels that put joints into poses (f, n, ...); turns without jumps."""
    rest, f = bones.rest, len(poses.place)
    values = np.empty((f, len(joints), 9))
    values[..., :3] = poses.place[:, joints] - rest.place[joints]
    back = np.broadcast_to(turns.inverse(rest.turn[joints]), (f, len(joints), 4))
    own = turns.product(back, poses.turn[:, joints])
    for k in range(len(joints)):
        values[:, k, 3:6] = turns.to_euler(own[:, k])
    size = rest.stretch[joints]
    values[..., 6:] = poses.stretch[:, joints] / np.where(size == 0, 1, size)
    # what is only rounding is nothing
    values[..., :3][np.abs(values[..., :3]) < 1e-9] = 0.0
    values[..., 6:][np.abs(values[..., 6:] - 1) < 1e-9] = 1.0
    return values


def placed_by_keys(names, numbers: np.ndarray, places: list[Place], reach, tolerance):
    """((row, channel) -> Curve or number, Reduced): few keys for where things stand at frames (f,), by the reduction
    that joints have, each a joint by itself that reaches so many m."""
    joints = tuple(
        Thing(kind="joint", name=n, rest=Rest(tip=(0.0, max(float(r), 1e-6), 0.0)))
        for n, r in zip(names, reach, strict=True)
    )
    count = len(joints)
    bones = Bones("bodies", joints, np.full(count, -1), np.arange(count), Pose.still(count))
    turned = np.stack([turns.turns_of(p.axes) for p in places], axis=1)
    moved = np.stack([p.origin for p in places], axis=1)
    values = np.concatenate([moved, np.zeros_like(moved), np.ones_like(moved)], axis=2)
    for k in range(count):
        values[:, k, 3:6] = turns.to_euler(turned[:, k])
    poses = Pose(moved, turned, np.ones_like(moved))
    result = reduced(bones, values, np.arange(count), poses, tolerance)
    curves = {(k, CHANNELS[c]): v for (k, c), v in result.curves(numbers).items() if c < 6}
    return curves, result
