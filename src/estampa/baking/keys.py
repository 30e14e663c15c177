"""Bake to keys: what the layers of a skeleton do becomes keys on its joints, and the layers are switched off."""

from dataclasses import dataclass

import numpy as np

from ..errors import Cancelled, EstampaError
from ..geometry import pose as turns
from ..geometry.pose import Pose
from ..scene import clips
from ..scene.bones import Bones
from ..scene.commands import unique_name
from ..scene.curves import Curve
from ..scene.document import Thing
from ..scene.scene import Scene
from ..scene.skeleton import POSED
from ..units import format_length
from .reduce import Tolerance, curve_of, reduced


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
    first, last = frames or (doc.start, doc.end)
    if last < first:
        raise EstampaError("The bake", f"would end at {last}, before its start at {first}.", "Give a later end.")
    chosen = np.array(
        sorted(bones.where[j] for j in (joints if joints is not None else bones.ids) if j in bones.where), np.int64
    )
    layers = _baked_layers(evaluator, skeleton, bones, chosen)

    def step(share, text):
        if cancelled():
            raise Cancelled
        if progress:
            progress(share, text)

    evaluator.solve_through(last, lambda share, text: step(0.6 * share, text), cancelled)
    found = []
    for k, frame in enumerate(range(first, last + 1)):
        posed = evaluator.poses.at(skeleton, frame)
        if not posed.true:
            raise EstampaError(skeleton.name, f"is not solved at frame {frame}.", "Solve the scene first.")
        found.append(posed.pose)
        step(0.6 + 0.3 * k / (last - first + 1), f"Baking frame {frame}")
    return _keyed(bones, skeleton, chosen, (first, last), Pose.stacked(found), tolerance, layers)


def _keyed(bones, skeleton, chosen, frames, poses: Pose, tolerance, layers) -> Baked:
    numbers = np.arange(frames[0], frames[1] + 1, dtype=float)
    values = channel_values(bones, poses, chosen)
    every = Tolerance(0.0, 0.0)
    result = reduced(bones, values, chosen, poses, tolerance or every)
    ids = tuple(bones.joints[i].id for i in chosen)
    curves = {(ids[k], POSED[c]): value for (k, c), value in result.curves(numbers).items()}
    keys = sum(map(len, result.keys.values()))
    return Baked(skeleton.id, ids, frames, curves, keys, result.gap, result.turn, layers)


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


def _baked_layers(evaluator, skeleton, bones, chosen) -> tuple[str, ...]:
    """Ids of the layers that the bake replaces.

    One that also moves joints which are not baked would move the baked ones twice, so it is refused.
    """
    inside, found = set(chosen.tolist()), []
    for layer in evaluator.layers(skeleton):
        v = layer.values
        first, last = (bones.where.get(v.get(n)) for n in ("first", "last"))
        moved = set(bones.chain(first, last).tolist())
        if layer.kind == "reach" and last is not None:
            moved = set(bones.up(last)[:3].tolist())
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


def put(scene: Scene, baked: Baked, clip: str | None = "Baked", loops: bool = False) -> None:
    """Put baked keys on the joints, in one step: in a new clip of that name, or (None) over the present keys.

    The layers that were baked are switched off; `back_to_live` takes all of it back.
    """
    skeleton = scene.doc.find(baked.skeleton)
    if skeleton is None:
        raise EstampaError("The skeleton", "is gone.", "Undo its removal, then bake again.")
    before = clips.values_of(skeleton) if not skeleton.live else skeleton.before
    if clip is not None:
        skeleton = clips.begun(skeleton, clip, *baked.frames, loops)
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
    skeleton = clips.put_in(clips.put_away(skeleton), skeleton.before)
    stack = tuple(l.with_(on=True) if l.id in skeleton.live else l for l in skeleton.stack)
    scene.apply(f"{skeleton.name} back to live", scene.doc.replace(skeleton.with_(stack=stack, live=(), before=())))


# -- after the bake ------------------------------------------------------------------------------------------
def in_place(scene: Scene, skeleton_id: str, axes: str = "xz", keep: bool = True) -> Thing | None:
    """Take the travel out of the roots, so that others can move what is baked: their keyed places along the chosen axes
    stay where they are at the first frame. With `keep`, the way of the first root goes on a grip of its own."""
    skeleton = scene.doc.find(skeleton_id)
    bones = scene.values.bones(skeleton)
    roots = [j for i, j in enumerate(bones.joints) if bones.parents[i] < 0]
    keyed = [j for j in roots if any(j.curve(a) for a in axes)]
    if not keyed:
        raise EstampaError(
            skeleton.name, "has no keyed travel on its root.", "Bake it to keys first, or choose other axes."
        )
    doc, start, grip = scene.doc, scene.doc.start, None
    if keep:
        lead, values = keyed[0], {}
        for axis in axes:
            curve = lead.curve(axis)
            if curve is not None:
                base = curve.at(start)
                way = curve.with_keys([k.with_(value=k.value - base) for k in curve.keys])
                values[axis] = way.with_extend("accumulate", "accumulate")  # round after round it goes on
        grip = Thing(kind="grip", name=unique_name(doc, f"{skeleton.name} travel"), values=values)
        doc = doc.with_(things=(*doc.things, grip))
    changed = {}
    for joint in keyed:
        still = {a: float(joint.curve(a).at(start)) for a in axes if joint.curve(a)}
        changed[joint.id] = joint.with_(values={**joint.values, **still})
    scene.apply(f"{skeleton.name} in place", doc.replace_all(changed))
    return grip
