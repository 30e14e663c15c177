"""Bake to keys: what the layers of a skeleton do becomes keys on its joints, and the layers are switched off."""

from dataclasses import dataclass

import numpy as np

from ..edits import clips, unique_name
from ..errors import EstampaError
from ..geometry.pose import Pose
from ..hashing import digest
from ..scene.curves import Curve, Key
from ..scene.document import Thing
from ..scene.parts import OnPart, joints_of
from ..scene.reduce import Tolerance, channel_values, curve_of, reduced
from ..scene.scene import Scene
from ..scene.skeleton import POSED
from ..units import format_length
from .work import frames_of, reporter


@dataclass(frozen=True)
class Baked:
    """What a bake made, ready to be put into the document."""

    skeleton: str
    joints: tuple[str, ...]
    frames: tuple[int, int]
    curves: dict[tuple[str, str], Curve | float]
    keys: int
    gap: float  # m at the tips
    turn: float  # rad
    layers: tuple[str, ...]  # that are switched off
    loops: bool = False  # the last frame is the first again
    source: str = ""  # digest of what was baked

    def words(self) -> str:
        count = self.frames[1] - self.frames[0] + 1
        return (
            f"{self.keys:,} keys on {len(self.joints)} joints over {count} frames; at every frame within "
            f"{format_length(self.gap)} at the tips and {np.degrees(self.turn):.2f}°"
        )


def bake(
    scene: Scene,
    skeleton_id: str,
    joints: list[str] | None = None,
    frames: tuple[int, int] | None = None,
    tolerance: Tolerance | None = None,
    store=None,
    progress=None,
    cancelled=lambda: False,
) -> Baked:
    """Work out keys for joints (all of them when none are named) over frames, solving what is not solved. Nothing is
    changed yet: see `put`. Without a tolerance every frame gets a key."""
    evaluator = scene.evaluator(store)
    doc = evaluator.doc
    skeleton = doc.find(skeleton_id)
    bones = evaluator.poses.bones(skeleton)
    if not len(bones):
        raise EstampaError(skeleton.name, "has no joints to bake.", "Build it first.")
    first, last = frames_of(doc, frames)
    chosen = np.array(
        sorted(bones.where[j] for j in (joints if joints is not None else bones.ids) if j in bones.where), np.int64
    )
    layers = _baked_layers(evaluator, skeleton, bones, chosen)

    step = reporter(progress, cancelled)

    evaluator.solve_through(last, lambda share, text: step(0.6 * share, text), cancelled)
    source = source_of(evaluator, skeleton, (first, last))
    found = []
    for k, frame in enumerate(range(first, last + 1)):
        posed = evaluator.poses.at(skeleton, frame)
        if not posed.is_current:
            raise EstampaError(skeleton.name, f"is not solved at frame {frame}.", "Solve the scene first.")
        found.append(posed.pose)
        step(0.6 + 0.3 * k / (last - first + 1), f"Baking frame {frame}")
    loops = doc.loop == (first, last)
    return _keyed(bones, skeleton, chosen, (first, last), Pose.stacked(found), tolerance, layers, loops, source)


def source_of(evaluator, skeleton: Thing, frames: tuple[int, int]) -> str:
    """Digest of everything that a bake of a skeleton reads over frames."""
    layers = evaluator.layers(skeleton)
    poses = [evaluator.poses.name(skeleton, float(f), layers) for f in range(frames[0], frames[1] + 1)]
    return digest(poses).hex()


def stale_clips(evaluator, skeleton: Thing) -> list[str]:
    """Ids of the baked clips of a skeleton that no longer are what its layers, switched on, would give."""
    baked = [c for c in skeleton.clips if c.source]
    if not baked:
        return []
    if skeleton.live:  # the layers are off, and their keys in place: look at it as it was before
        skeleton = _as_live(skeleton)
        evaluator = type(evaluator)(evaluator.doc.replace(skeleton), evaluator.scene, evaluator.store)
    return [c.id for c in baked if source_of(evaluator, skeleton, (c.first, c.last)) != c.source]


def _as_live(skeleton: Thing) -> Thing:
    """A baked skeleton with its layers on, and its joints as they were before."""
    skeleton = clips.put_in(clips.put_away(skeleton), skeleton.before)
    stack = tuple(l.with_(on=True) if l.id in skeleton.live else l for l in skeleton.stack)
    return skeleton.with_(stack=stack, live=(), before=())


def _keyed(bones, skeleton, chosen, frames, poses: Pose, tolerance, layers, loops=False, source="") -> Baked:
    numbers = np.arange(frames[0], frames[1] + 1, dtype=float)
    values = channel_values(bones, poses, chosen)
    every = Tolerance(0.0, 0.0)
    result = reduced(bones, values, chosen, poses, tolerance or every, loops)
    ids = tuple(bones.joints[i].id for i in chosen)
    curves = {(ids[k], POSED[c]): value for (k, c), value in result.curves(numbers).items()}
    keys = sum(map(len, result.keys.values()))
    if loops:
        curves = {n: _round(v) if isinstance(v, Curve) else v for n, v in curves.items()}
    return Baked(skeleton.id, ids, frames, curves, keys, result.gap, result.turn, layers, loops, source)


def _round(curve: Curve) -> Curve:
    """A curve over a loop that ends where it began, going round; one that does not is left to be closed."""
    closed = abs(curve.keys[-1].value - curve.keys[0].value) <= 1e-6
    return curve.with_extend("cycle", "cycle") if closed else curve


def _baked_layers(evaluator, skeleton, bones, chosen) -> tuple[str, ...]:
    """Ids of the layers that the bake replaces.

    One that also moves joints which are not baked would move the baked ones twice, so it is refused.
    """
    inside, found = set(chosen.tolist()), []
    for layer in evaluator.layers(skeleton):
        if issubclass(layer.declared, OnPart):
            v = {n: layer.constant(n) for n in OnPart.channels}
            v |= {n: bones.where.get(v[n]) for n in ("first", "last")}
            moved = set(joints_of(bones, v).tolist())
        else:
            v, moved = {"last": None}, set(range(len(bones)))
        if layer.kind == "reach" and v["last"] is not None:
            moved = set(bones.up(v["last"])[:3].tolist())
        if moved <= inside:
            found.append(layer.id)
        elif moved & inside:
            other = bones.joints[next(iter(moved - inside))].name
            raise EstampaError(
                layer.name,
                f"also moves joints that would not be baked ({other} and others), and would move the baked ones twice.",
                "Bake all the joints that it moves, or switch it off first.",
            )
    return tuple(found)


def put(scene: Scene, baked: Baked, clip: str | None = "Baked", loops: bool | None = None) -> None:
    """Put baked keys on the joints, in one step: in a clip of that name, or (None) over the present keys.

    A clip of that name that is there is replaced. It loops when the bake was of the loop range, unless told. The layers
    that were baked are switched off; `back_to_live` takes all of it back.
    """
    skeleton = scene.doc.find(baked.skeleton)
    if skeleton is None:
        raise EstampaError("The skeleton", "is gone.", "Undo its removal, then bake again.")
    before = clips.values_of(skeleton) if not skeleton.live else skeleton.before
    if clip is not None:
        loops = baked.loops if loops is None else loops
        skeleton = clips.begun(clips.without(skeleton, clip), clip, *baked.frames, loops, baked.source, baked.layers)
    by_joint: dict[str, dict] = {}
    for (joint_id, name), value in baked.curves.items():
        by_joint.setdefault(joint_id, {})[name] = value
    joints = []
    for joint in skeleton.joints:
        if joint.id in by_joint:
            kept = dict(joint.values)
            for name, value in by_joint[joint.id].items():
                merged = value if clip is not None else _over(kept.get(name), value, baked.frames)
                default = joint.declared.channels[name].default
                kept.pop(name, None)
                if merged != default:
                    kept[name] = merged
            joint = joint.with_(values=kept)
        joints.append(joint)
    off = set(baked.layers)
    stack = tuple(l.with_(on=False) if l.id in off else l for l in skeleton.stack)
    live = tuple(dict.fromkeys([*skeleton.live, *baked.layers]))
    skeleton = skeleton.with_(joints=tuple(joints), stack=stack, live=live, before=before)
    scene.apply(f"Bake {skeleton.name} to keys", scene.doc.replace(skeleton))


def _over(held, value, frames):
    """A channel's keys with those within frames replaced."""
    if not isinstance(held, Curve):
        return value
    outside = [k for k in held.keys if not frames[0] <= k.frame <= frames[1]]
    if not outside:
        return value
    if not isinstance(value, Curve):
        numbers = np.array(frames, float)
        value = curve_of(numbers, np.full(2, value), np.zeros(2), np.arange(2))
    return held.with_keys([*outside, *value.keys])


def back_to_live(scene: Scene, skeleton_id: str) -> None:
    """Switch the layers on again that a bake switched off, and put the joints' channels back as they were before it.

    The baked keys stay in their clip, when they have one.
    """
    skeleton = scene.doc.find(skeleton_id)
    if skeleton is None or not skeleton.live:
        raise EstampaError(
            skeleton.name if skeleton else "This", "has not been baked.", "Bake its layers to keys first."
        )
    scene.apply(f"{skeleton.name} back to live", scene.doc.replace(_as_live(skeleton)))


# -- after the bake ------------------------------------------------------------------------------------------
def in_place(scene: Scene, skeleton_id: str, axes: str = "xyz", keep: bool = True) -> Thing | None:
    """Take the travel out of the roots, so that others can move what is baked: the straight, even way from where the
    first root begins to where it ends, along the chosen axes. What it sways and surges about that way stays. With
    `keep`, the way goes on a grip of its own."""
    skeleton = scene.doc.find(skeleton_id)
    bones = scene.values.bones(skeleton)
    roots = [j for i, j in enumerate(bones.joints) if bones.parents[i] < 0]
    keyed = [j for j in roots if any(j.curve(a) for a in axes)]
    ends = [(c.keys[0], c.keys[-1]) for c in (keyed[0].curve(a) for a in axes) if c is not None] if keyed else []
    first, last = (min(a.frame for a, _ in ends), max(b.frame for _, b in ends)) if ends else (0.0, 0.0)
    lead = {a: keyed[0].curve(a) for a in axes if keyed and keyed[0].curve(a) is not None}
    way = {a: float(c.at(last) - c.at(first)) for a, c in lead.items()}
    if max(map(abs, way.values()), default=0.0) < 1e-9:
        raise EstampaError(
            skeleton.name, "has no keyed travel on its root.", "Bake it to keys first, or choose other axes."
        )
    rates = {a: gone / (last - first) for a, gone in way.items()}  # m a frame
    doc, grip = scene.doc, None
    if keep:
        values = {}
        for axis, rate in rates.items():
            ends = (Key(frame=first, value=0.0, segment="linear"), Key(frame=last, value=rate * (last - first)))
            values[axis] = Curve(keys=ends, before="accumulate", after="accumulate")  # round after round it goes on
        grip = Thing(kind="grip", name=unique_name(doc, f"{skeleton.name} travel"), values=values)
        doc = doc.adding(grip)
    changed = {}
    for joint in keyed:
        curves = {a: _without_slope(joint.curve(a), rates.get(a, 0.0), first) for a in axes if joint.curve(a)}
        changed[joint.id] = joint.with_(values={**joint.values, **curves})
    scene.apply(f"{skeleton.name} in place", doc.replace_all(changed))
    return grip


def _without_slope(curve: Curve, rate: float, first: float) -> Curve:
    """A curve with so much a frame taken out of it."""
    keys = []
    for i, key in enumerate(curve.keys):
        (lx, ly), (rx, ry) = curve.handles(i)
        handles = {"left": (lx, ly - rate * lx), "right": (rx, ry - rate * rx)}
        value = key.value - rate * (key.frame - first)
        keys.append(key.with_(value=value, tangent="free" if key.tangent == "free" else "broken", **handles))
    round_ = {"accumulate": "cycle"}
    return Curve(
        keys=tuple(keys), before=round_.get(curve.before, curve.before), after=round_.get(curve.after, curve.after)
    )
