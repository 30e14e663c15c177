"""Skeletons of an asset that comes in: joints with their rest, what is bound to them, and clips.

Joints come in metres and without the size that the file gives them: what they follow is taken into the matrices that
bind it, so that nothing is scaled that others are to move.
"""

from dataclasses import dataclass, field

import numpy as np

from ..formats.asset import Asset, Track
from ..geometry.pose import Pose, pose_of
from ..scene.bones import Bones
from ..scene.curves import Curve, Key
from ..scene.document import Bind, Clip, Rest, StashedValue, Target, Thing
from ..scene.ids import new_id
from ..scene.reduce import Tolerance, channel_values, reduced
from ..scene.skeleton import POSED
from . import clips
from .names import Names

CLOSE = Tolerance(0.0005, float(np.radians(0.1)))


@dataclass
class Rig:
    """A skeleton that comes in.

    joints -- numbers of its nodes, parents first; parents -- (j,) which of them each hangs on, or -1
    above -- the node whose place it takes, or -1
    stands -- (j, 4, 4) where they stand in the world at rest, without sizes; size -- (j,) what was taken off
    """

    joints: list[int]
    parents: np.ndarray
    above: int
    stands: np.ndarray
    size: np.ndarray
    id: str = field(default_factory=new_id)
    ids: list[str] = field(default_factory=list)

    def within(self, world: np.ndarray, above: np.ndarray) -> Pose:
        """The pose of joints that stand at matrices (f, j, 4, 4) in the world; `above` (f, 4, 4), where the skeleton
        does."""
        own = world.copy()
        own[..., :3, :3] /= self.size[:, None, None]
        inside = self.parents >= 0
        found = np.linalg.inv(above)[:, None] @ own
        found[:, inside] = inverse(own[:, self.parents[inside]]) @ own[:, inside]
        flat = pose_of(found.reshape(-1, 4, 4))
        return Pose(*(part.reshape(*found.shape[:2], -1) for part in flat))


def inverse(matrices: np.ndarray) -> np.ndarray:
    """Of matrices (..., 4, 4); of one that is scaled to nothing, as near as can be."""
    try:
        return np.linalg.inv(matrices)
    except np.linalg.LinAlgError:
        return np.linalg.pinv(matrices)


def rigs_of(asset: Asset, taken: list[int], world: np.ndarray, moving: np.ndarray) -> list[Rig]:
    """The skeletons that taken nodes (of those with a skin) follow: joints that hang together, or that one skin has.

    world -- (n, 4, 4) where nodes stand at rest, metres; moving -- (n,) which of them move
    """
    nodes, skins = asset.nodes, [asset.nodes[i].skin for i in taken if asset.nodes[i].skin is not None]
    every = sorted({int(j) for s in skins for j in s.joints})
    hangs, group = {}, {j: j for j in every}

    def head(j):
        while group[j] != j:
            j = group[j] = group[group[j]]
        return j

    for j in every:
        at = nodes[j].parent
        while at >= 0 and at not in group:
            at = nodes[at].parent
        hangs[j] = at
        if at >= 0:
            group[head(j)] = head(at)
    for skin in skins:
        for j in skin.joints[1:]:
            group[head(int(j))] = head(int(skin.joints[0]))
    found, used = [], set()
    for first in dict.fromkeys(map(head, every)):
        joints = [j for j in every if head(j) == first]  # nodes come parents first
        number = {j: k for k, j in enumerate(joints)}
        parents = np.array([number.get(hangs[j], -1) for j in joints])
        above = _common(nodes, [nodes[j].parent for j, p in zip(joints, parents, strict=True) if p < 0])
        if above in used or (above >= 0 and (nodes[above].mesh is not None or nodes[above].view is not None)):
            above = -1
        if above >= 0 and len(asset.clips) > 1 and moving[above]:
            above = -1  # clips are of joints: each then tells all of its motion
        used.add(above)
        stands = world[joints]
        size = np.maximum(np.abs(np.linalg.det(stands[:, :3, :3])), 1e-30) ** (1 / 3)
        stands[:, :3, :3] /= size[:, None, None]
        found.append(Rig(joints, parents, above, stands, size, ids=[new_id() for _ in joints]))
    return found


def _common(nodes, starts: list[int]) -> int:
    """The lowest node that is above all of these, or one of them; -1 where there is none."""
    ways = []
    for at in starts:
        way = []
        while at >= 0:
            way.append(at)
            at = nodes[at].parent
        ways.append(way)
    return next((at for at in ways[0] if all(at in way for way in ways[1:])), -1)


def bind_of(asset: Asset, i: int, rig: Rig, world: np.ndarray, put) -> tuple[np.ndarray, np.ndarray, Bind]:
    """((3, 3) by which the points of a skinned node come in, (3,) where its subject stands, what binds it to a rig).

    Its points come as the joint that carries most of it has them at rest: any such place is true, for what is taken
    into the points is taken out of the matrices.
    """
    skin = asset.nodes[i].skin
    number = {j: k for k, j in enumerate(rig.joints)}
    mesh, stand = asset.seen_at(i, world), np.eye(4)
    stand[:3, 3] = mesh[:3, 3]
    own = np.array([number[int(j)] for j in skin.joints])
    back = skin.back @ inverse(mesh) @ stand
    back[:, :3] *= rig.size[own, None, None]
    bind = Bind(joints=tuple(rig.ids[k] for k in own), indices=put(skin.indices), weights=put(skin.weights),
                back=put(back))  # fmt: skip
    return mesh[:3, :3], mesh[:3, 3], bind


def skeleton_of(asset: Asset, rig: Rig, name: str, names: Names, values: dict, world, above: np.ndarray) -> Thing:
    """A rig as a skeleton of that name; world (n, 4, 4) of all nodes at rest, above (4, 4) where it stands."""
    pose = rig.within(world[None, rig.joints], above[None])
    tips = _tips(asset, rig)
    row = lambda x: tuple(float(v) for v in x)
    joints = []
    for k, j in enumerate(rig.joints):
        place, turn, stretch = (row(part[0, k]) for part in pose)
        rest = Rest(place=place, turn=turn, stretch=stretch, tip=row(tips[k]))
        hung = {"parent": rig.ids[rig.parents[k]]} if rig.parents[k] >= 0 else {}
        joints.append(Thing(id=rig.ids[k], kind="joint", name=names.plain(asset.nodes[j].name), rest=rest, values=hung))
    return Thing(id=rig.id, kind="skeleton", name=names.plain(name), values=values, joints=tuple(joints))


def _tips(asset: Asset, rig: Rig) -> np.ndarray:
    """(j, 3) where joints end on which nothing hangs: at a node that is no joint, else where what they carry ends, else
    away from the joint that they hang on, or the nearest one."""
    tips, inner, ends = np.zeros((len(rig.joints), 3)), set(rig.parents.tolist()), {}
    for node in asset.nodes:
        if node.parent >= 0 and not node.joint and node.mesh is None:
            ends.setdefault(node.parent, node.local[:3, 3])
    for k, j in enumerate(rig.joints):
        if k in inner:
            continue
        place = ends[j] * rig.size[k] if j in ends else np.zeros(3)
        if np.linalg.norm(place) > 1e-6:
            tips[k] = place
            continue
        tip = _carried(asset, rig, k)
        if tip is None:
            above = rig.parents[k]
            others = rig.stands[above][None] if above >= 0 else np.delete(rig.stands, k, axis=0)
            own = (others[:, :3, 3] - rig.stands[k, :3, 3]) @ np.linalg.pinv(rig.stands[k, :3, :3]).T
            own = own[np.linalg.norm(own, axis=1) > 1e-6]
            tip = _on_axis(-0.5 * own[np.linalg.norm(own, axis=1).argmin()]) if len(own) else [0, 0.1, 0]
        tips[k] = tip
    return tips


def _on_axis(v: np.ndarray) -> np.ndarray:
    """A vector as long, along the axis that it is nearest to."""
    found, axis = np.zeros(3), int(np.abs(v).argmax())
    found[axis] = np.copysign(np.linalg.norm(v), v[axis])
    return found


def _carried(asset: Asset, rig: Rig, k: int) -> np.ndarray | None:
    """The end of what follows a joint, along the axis of the joint that goes through it best."""
    for node in asset.nodes:
        if node.skin is None or node.mesh is None or rig.joints[k] not in node.skin.joints:
            continue
        own = int(np.flatnonzero(node.skin.joints == rig.joints[k])[0])
        felt = (node.skin.weights * (node.skin.indices == own)).sum(axis=1)
        near = felt > 0.3 * max(felt.max(initial=0), 0.1)
        back = node.skin.back[own]
        inside = (node.mesh.points[near] @ back[:3, :3].T + back[:3, 3]) * rig.size[k]
        if not len(inside):
            continue
        axis = _on_axis(inside.mean(axis=0))
        length = np.linalg.norm(axis)
        far = np.quantile(inside @ axis, 0.9) / length if length > 1e-6 else 0.0
        if far > 1e-6:
            return axis / length * far
    return None


# -- clips -----------------------------------------------------------------------------------------------------
def posed(skeleton: Thing, rig: Rig, name: str, frames: np.ndarray, world: np.ndarray, above: np.ndarray) -> Thing:
    """The skeleton with a clip: world (f, j, 4, 4) of its joints, above (f, 4, 4) where it stands. The first one is
    played; one that moves nothing is none."""
    bones, poses = Bones.of(skeleton), rig.within(world, above)
    joints = np.arange(len(bones))
    values = channel_values(bones, poses, joints)
    curves = reduced(bones, values, joints, poses, CLOSE).curves(frames)
    found = ((bones.joints[k], POSED[c], value) for (k, c), value in curves.items())
    kept = tuple(StashedValue(thing=joint.id, channel=name, value=value) for joint, name, value in found
                 if value != joint.declared.channels[name].default)  # fmt: skip
    return with_clip(skeleton, name, frames, kept)


def with_clip(owner: Thing, name: str, frames: np.ndarray, kept: tuple[StashedValue, ...]) -> Thing:
    if not kept:
        return owner
    played = not owner.clips
    clip = Clip(name=name, first=int(frames[0]), last=int(np.ceil(frames[-1])), values=None if played else kept)
    owner = clips.put_in(owner, kept) if played else owner
    return owner.with_(clips=(*owner.clips, clip))


def morphs_of(targets, points: np.ndarray, names: Names, weights, put) -> tuple[tuple[Target, ...], list[Thing]]:
    """(morph targets, a layer for each): targets -- (name, (v, 3) what it adds) to points (v, 3)"""
    made = tuple(Target(name=name, points=put(points + away)) for name, away in targets)
    values = lambda k, t: {"target": t.id, "weight": float(weights[k])}
    return made, [Thing(kind="morph", name=names.plain(t.name), values=values(k, t)) for k, t in enumerate(made)]


def curves_of(track: Track, frame_of, matrix=None) -> list[Curve]:
    """A curve for each column of a file's own keys. frame_of(seconds) -> the frame; matrix -- (c, c) that they go
    through. Hermite to Bezier: a handle is a third of the way to the next key along the tangent."""
    matrix = np.eye(track.values.shape[1]) if matrix is None else matrix
    through = lambda rows: rows @ matrix.T
    frames, long = frame_of(track.times), np.diff(track.times) / 3
    values, found = through(track.values), []
    if track.how != "curve":
        word = track.how
        for column in values.T:
            found.append(Curve(keys=tuple(Key(frame=float(f), value=float(v), segment=word)
                                          for f, v in zip(frames, column, strict=True))))  # fmt: skip
        return found
    left, right = through(track.into) * -np.append(0, long)[:, None], through(track.out) * np.append(long, 0)[:, None]
    third = np.diff(frames) / 3
    for c, column in enumerate(values.T):
        handles = zip(np.append(0, -third), left[:, c], np.append(third, 0), right[:, c], strict=True)
        keys = []
        for f, v, (a, b, p, q) in zip(frames, column, handles, strict=True):
            both = {"left": (float(a), float(b)), "right": (float(p), float(q))}
            keys.append(Key(frame=float(f), value=float(v), tangent="broken", **both))
        found.append(Curve(keys=tuple(keys)))
    return found


def is_kept(track: Track | None, frame_rate: float) -> bool:
    """Whether a file's own keys are worth to keep: those of a curve, or fewer than there are frames. What was sampled
    at each frame is brought down to few keys instead."""
    if track is None or len(track.times) < 2:
        return False
    frames = (track.times[-1] - track.times[0]) * frame_rate
    return track.how == "curve" or len(track.times) <= 0.5 * frames + 1


def felt_over(layers: list[Thing], weights: np.ndarray, frames: np.ndarray, curves=None) -> tuple[StashedValue, ...]:
    """What a clip holds of morph layers: curves of each where the file has any, or weights (f, targets), as keys
    between which they go straight, no more than it takes."""
    if curves is not None:
        return tuple(StashedValue(thing=l.id, channel="weight", value=c) for l, c in zip(layers, curves, strict=True))
    found = []
    for k, layer in enumerate(layers):
        course = weights[:, k]
        if np.ptp(course) > 1e-9:
            bent = np.flatnonzero(np.abs(np.diff(course, 2)) > 1e-7) + 1
            at = np.unique([0, *bent, len(course) - 1])
            keys = tuple(Key(frame=float(frames[f]), value=float(course[f]), segment="linear") for f in at)
            found.append(StashedValue(thing=layer.id, channel="weight", value=Curve(keys=keys)))
    return tuple(found)
