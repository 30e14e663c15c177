"""Brings a mesh with its skeleton, skin, targets and animations into a scene, as one step of the history."""

import numpy as np

from .. import edits as do
from ..edits import clips
from ..formats.gltf_skin import RiggedFile
from ..scene.bones import Bones
from ..scene.curves import Curve, Key
from ..scene.document import Bind, Clip, Kept, Rest, Target, Thing, new_id
from ..scene.scene import Scene
from ..scene.skeleton import POSED
from .keys import channel_values
from .reduce import Tolerance, reduced

CLOSE = Tolerance(0.0005, np.radians(0.1))


def add_rigged(scene: Scene, read: RiggedFile, source: str = "") -> tuple[Thing, Thing | None]:
    """(the subject, its skeleton or None). Animations become clips, with few keys; the first one is played."""
    put, doc = scene.arrays.put, scene.doc
    subject = Thing(kind="subject", name=do.unique_name(doc, read.name), mesh=do.mesh_ref(scene, read.mesh, source))
    targets = tuple(Target(name=n, points=put(p)) for n, p in read.targets)
    skeleton, stack, bones = None, [], None
    start = doc.start
    for target in targets:
        stack.append(
            Thing(kind="morph", name=do.unique_name(doc, target.name), values={"target": target.id, "weight": 0.0})
        )
    if read.joints:
        skeleton, bones = _skeleton(doc, read)
        indices, weights = read.indices, read.weights
        bind = Bind(joints=bones.ids, indices=put(indices), weights=put(weights), back=put(read.back))
        values = {"skeleton": skeleton.id}
        stack.append(Thing(kind="skin", name=do.unique_name(doc, f"Skin on {skeleton.name}"), values=values, bind=bind))
    subject = subject.with_(targets=targets, stack=tuple(stack))
    for k, animation in enumerate(read.animations):
        frames = np.arange(start, start + max(len(animation.weights), 1), dtype=float)
        if skeleton is not None and len(animation.poses.place) == len(frames):
            skeleton = _with_clip(skeleton, animation.name, frames, _pose_keys(bones, animation.poses, frames), k == 0)
        moved = _weight_keys(stack, animation.weights, frames)
        if moved:
            subject = _with_clip(subject, animation.name, frames, moved, not subject.clips)
    doc = doc.with_(things=(*doc.things, subject, *([skeleton] if skeleton is not None else [])))
    if read.animations:
        last = max(int(start + len(a.weights) - 1) for a in read.animations)
        doc = doc.with_(end=max(doc.end, last))
    scene.apply(f"Import {subject.name}", doc)
    return subject, skeleton


def _skeleton(doc, read: RiggedFile):
    ids, taken, joints = [new_id() for _ in read.joints], {t.name for t, _ in doc.everything()}, []
    row = lambda x: tuple(float(v) for v in x)
    for k, name in enumerate(read.joints):
        name = do.free_name(taken, name)
        taken.add(name)
        place, turn, stretch = (row(part[k]) for part in read.rest)
        rest = Rest(place=place, turn=turn, stretch=stretch, tip=row(read.tips[k]))
        p = int(read.parents[k])
        joints.append(Thing(id=ids[k], kind="joint", name=name, rest=rest, values={"parent": ids[p]} if p >= 0 else {}))
    skeleton = Thing(kind="skeleton", name=do.unique_name(doc, f"{read.name} skeleton"), joints=tuple(joints))
    return skeleton, Bones.of(skeleton)


def _pose_keys(bones, poses, frames) -> tuple[Kept, ...]:
    joints = np.arange(len(bones))
    values = channel_values(bones, poses, joints)
    curves = reduced(bones, values, joints, poses, CLOSE).curves(frames)
    found = ((bones.joints[k], POSED[c], value) for (k, c), value in curves.items())
    return tuple(
        Kept(thing=joint.id, channel=name, value=value)
        for joint, name, value in found
        if value != joint.declared.channels[name].default
    )


def _weight_keys(stack, weights, frames) -> tuple[Kept, ...]:
    morphs, found = [l for l in stack if l.kind == "morph"], []
    for k, layer in enumerate(morphs):
        if k < weights.shape[1] and np.ptp(weights[:, k]) > 1e-9:
            course = zip(frames.tolist(), weights[:, k].tolist(), strict=True)
            keys = tuple(Key(frame=f, value=w, segment="linear") for f, w in course)
            found.append(Kept(thing=layer.id, channel="weight", value=Curve(keys=keys)))
    return tuple(found)


def _with_clip(owner: Thing, name, frames, kept, played: bool) -> Thing:
    clip = Clip(name=name, first=int(frames[0]), last=int(frames[-1]), values=None if played else kept)
    owner = clips.put_in(owner, kept) if played else owner
    return owner.with_(clips=(*owner.clips, clip))
