"""Fewer keys: cubic segments through the frames, as few as keep every frame within a tolerance.

What counts is where the joints end up. Each channel first gets keys by itself (`spans`), then keys are taken away in
turns with a fit of all channels to the tips of the whole skeleton, as long as each frame stays within the tolerance;
the pose is worked out again from the keys after each turn, and one that is not within it is taken back.
"""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..geometry import pose as turns
from ..geometry.place import Place
from ..geometry.pose import Pose, in_skeleton
from . import spans
from .bones import Bones
from .curves import Curve, Key
from .document import Rest, Thing
from .spans import Felt, Spans

CHANNELS = ("x", "y", "z", "turn_x", "turn_y", "turn_z")
ROUNDS = 10  # of fitting more closely, after which a channel keeps all its frames
STEPS = (*np.linspace(0.1, 0.95, 12), *[0.98] * 8)  # tolerances that a frame may be off, as keys are taken away
TURNED = 0.02  # what a turn counts in the fit, against a place of as many tolerances
UNFELT = 0.01  # tolerances; a channel whose whole range moves the tips by less is kept by itself
FOLLOWED = 12  # tips below a joint that are followed as its keys are fitted; all of them are measured


@dataclass(frozen=True)
class Tolerance:
    """How far a tip may be from where it was, and how far a joint may be turned away; 0 keeps every frame.

    A joint is never turned further away than by what its tip, and the place where it hangs, may both be off.
    """

    place: float = 0.001  # m
    turn: float = np.radians(10.0)  # rad

    def turns(self, lengths: np.ndarray) -> np.ndarray:
        """(n,) rad that joints of lengths (n,) m may be turned away."""
        return np.minimum(self.turn, 2 * self.place / np.maximum(lengths, 1e-9))


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
    live = [(k, c) for k, c in np.ndindex(values.shape[1:]) if np.ptp(values[:, k, c]) > 1e-9]
    fit = _Fit(bones, poses, joints, values, slopes, tolerance, live, loops)
    if tolerance.place > 0 and tolerance.turn > 0 and frames > 2 and live:
        for round_ in range(ROUNDS):
            fit.spread(0.3 / 4**round_)
            if fit.is_within:
                fit.thin()
                return fit.result()
    return fit.every()


class _Fit:
    """The keys of the live channels of a skeleton, and what they give."""

    def __init__(self, bones, poses, joints, values, slopes, tolerance, live, loops):
        self.bones, self.poses, self.joints, self.live = bones, poses, joints, live
        tolerance = self.tolerance = Tolerance(max(tolerance.place, 1e-9), max(tolerance.turn, 1e-9))
        self.values, self.slopes = (np.ascontiguousarray(np.moveaxis(a, 0, -1)) for a in (values, slopes))  # (j, 9, f)
        self.now = self.values.copy()
        frames = len(values)
        self.spans = {n: Spans(np.zeros(frames, np.int64), np.zeros(frames), np.zeros(frames), loops) for n in live}
        self.counts = dict.fromkeys(live, 0)
        self.world, self.reach = in_skeleton(poses, bones.parents, bones.order), _tips(bones)
        self.tips = np.einsum("fnij,nj->fni", self.world[:, :, :3], self.reach)
        self.turned = _turns_in_skeleton(bones, poses)
        self.turn_each = tolerance.turns(bones.lengths)

    @cached_property
    def moves(self) -> dict:
        """(row, channel) -> (the joints that are followed, (f, d, 3) how a unit moves and turns them, in tolerances,
        (d,) how much each counts)."""
        return {(k, c): self._felt_by(k, c) for k, c in self.live}

    @cached_property
    def felt(self) -> dict:
        """(row, channel) -> tolerances by which one unit moves or turns what is below it at the most; of those whose
        range is felt there at all."""
        most = {n: float(np.linalg.norm(self.moves[n][1], axis=-1).max()) for n in self.live}
        return {n: m for n, m in most.items() if m * np.ptp(self.values[n]) > UNFELT}

    def _felt_by(self, k, c):
        i, world = int(self.joints[k]), self.world
        below = self.bones.below(i)
        below = below[np.unique(np.linspace(0, len(below) - 1, FOLLOWED).astype(int))]
        arms, parent = self.tips[:, below] - world[:, i, None, :3, 3], self.bones.parents[i]
        above = world[:, parent, :3, :3] if parent >= 0 else np.broadcast_to(np.eye(3), (len(world), 3, 3))
        turned = np.zeros(arms.shape)
        if c < 3:
            moved = np.repeat(above[:, None, :, c], len(below), axis=1)
        elif c < 6:
            rest = self.bones.rest.turn[i]
            within = turns.product(self.turned[:, parent], rest) if parent >= 0 else rest
            turned[:] = turns.turned(within, _axis(self.values[k, 3:6].T, c - 3))[:, None]
            moved = np.cross(turned, arms)
        else:
            own = world[:, i, :3, :3]
            inner = np.einsum("fij,fdj->fdi", np.linalg.pinv(own), arms)[..., c - 6]
            size = np.maximum(np.abs(self.values[k, c]), 1e-9)
            moved = own[:, None, :, c - 6] * (inner / size[:, None])[..., None]
        both = np.concatenate([moved / self.tolerance.place, turned / self.turn_each[below, None]], axis=1)
        return below, np.ascontiguousarray(both), np.repeat([1.0, TURNED], len(below))

    def spread(self, share):
        """Keys by which each channel alone keeps the tips below it within a share of the tolerance."""
        for n in self.live:
            # what no tip feels is kept by itself
            close = share / self.felt[n] if n in self.felt else share * UNFELT * np.ptp(self.values[n])
            self.counts[n] = spans.spread(self.spans[n], close, self.values[n], self.slopes[n], self.now[n])

    def thin(self):
        """Take keys away while every frame of the whole pose stays within the tolerance."""
        for within in STEPS:
            before, kept = sum(self.counts.values()), self._kept()
            self._each(lambda n, felt, within=within: self._thin(n, felt, within))
            for _ in range(2):
                self._each(self._settle)
            if not self.is_within:
                self._put_back(kept)
            elif within == STEPS[-1] and sum(self.counts.values()) == before:
                return

    def _thin(self, n, felt, within):
        self.counts[n] = spans.thinned(
            felt, self.spans[n], self.counts[n], within, self.values[n], self.slopes[n], self.now[n]
        )

    def _settle(self, n, felt):
        spans.settled(felt, self.spans[n], self.counts[n], self.values[n], self.slopes[n], self.now[n])

    def _each(self, work):
        """Work on each channel that is felt, with what the whole skeleton is off just then."""
        off, turned = self._off()
        for n in self.felt:
            below, moves, counts = self.moves[n]
            every = np.concatenate([off[:, below], turned[:, below]], axis=1)
            felt = Felt(np.ascontiguousarray(every), moves, counts)
            work(n, felt)
            off[:, below], turned[:, below] = np.split(felt.off, 2, axis=1)

    def _off(self):
        """((f, n, 3) by which tips are off, (f, n, 3) by which joints are turned away), in tolerances."""
        found = posed(self.bones, self.poses, self.joints, np.moveaxis(self.now, -1, 0))
        world = in_skeleton(found, self.bones.parents, self.bones.order)
        tips = np.einsum("fnij,nj->fni", world[:, :, :3], self.reach) - self.tips
        away = turns.product(_turns_in_skeleton(self.bones, found), turns.inverse(self.turned))
        return tips / self.tolerance.place, turns.turn_vectors(away) / self.turn_each[:, None]

    def gaps(self) -> tuple[float, float]:
        """(m by which a tip is off at the most, rad by which a joint is turned away)"""
        tips, away = (np.linalg.norm(v, axis=-1) for v in self._off())
        return self.tolerance.place * float(tips.max(initial=0)), float((away * self.turn_each).max(initial=0))

    @property
    def is_within(self) -> bool:
        return all(np.linalg.norm(v, axis=-1).max(initial=0) <= 1 for v in self._off())

    def _kept(self):
        return self.now.copy(), dict(self.counts), {n: tuple(a.copy() for a in s[:3]) for n, s in self.spans.items()}

    def _put_back(self, kept):
        self.now, self.counts, keys = kept[0], kept[1], kept[2]
        for n, arrays in keys.items():
            for own, was in zip(self.spans[n], arrays, strict=False):
                own[:] = was

    def every(self) -> Reduced:
        """Every frame a key, with the slope that the motion has there."""
        self.now = self.values.copy()
        keys = {n: np.arange(self.values.shape[-1]) for n in self.live}
        return Reduced(np.moveaxis(self.values, -1, 0), np.moveaxis(self.slopes, -1, 0), keys, *self.gaps())

    def result(self) -> Reduced:
        values, slopes, keys = self.values.copy(), self.slopes.copy(), {}
        for n in self.live:
            at = keys[n] = self.spans[n].at[: self.counts[n]].copy()
            values[n][at], slopes[n][at] = self.spans[n].value[: len(at)], self.spans[n].slope[: len(at)]
        return Reduced(np.moveaxis(values, -1, 0), np.moveaxis(slopes, -1, 0), keys, *self.gaps())


def _turns_in_skeleton(bones: Bones, poses: Pose) -> np.ndarray:
    """(f, n, 4) how joints are turned in the skeleton's own space, without what stretches them."""
    found = poses.turn.copy()
    for i in bones.order:
        if bones.parents[i] >= 0:
            found[:, i] = turns.product(found[:, bones.parents[i]], found[:, i])
    return found


def _axis(euler, which, step=1e-5):
    """(f, 3) the axis about which one of the angles (f, 3) turns a joint."""
    more, less = euler.copy(), euler.copy()
    more[:, which] += step
    less[:, which] -= step
    between = turns.product(turns.from_euler(*more.T), turns.inverse(turns.from_euler(*less.T)))
    return turns.turn_vectors(between) / (2 * step)


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
