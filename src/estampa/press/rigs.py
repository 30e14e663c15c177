"""What prints of skeletons and skins share: the rig as it goes into a file, and its motions."""

import numpy as np

from ..edits import clips
from ..errors import EstampaError
from ..evaluate.evaluator import Evaluator
from ..formats.skinned import Motion, Rigged
from ..geometry.pose import Pose, pose_of
from ..geometry.weights import spread, top_influences
from ..kinds.channels import ref, switch
from ..scene.skins import followed, is_skin
from ..scene.values import Rows
from .prints import Job, Print
from .takes import BONES, SKIN, skin_of

ENDS = "Write a joint at the end of each last joint too, which some programs need to know its length."


class SkinnedPrint(Print):
    """Base of the prints of a mesh with its skeleton."""

    own_first = True
    takes = SKIN

    subject = ref("subject", "The skinned subject that is printed; none prints the first one.")
    ends = switch(False, ENDS, title="Leaf-end joints")

    def trouble(self, doc, printed):
        layer = skin_of(printed)
        if layer is None:
            return f"{printed.name} has no skin. Bind it to a skeleton first (Joints panel)."
        if doc.find(layer.constant("skeleton")) is None:
            return f"The skin of {printed.name} names no skeleton."
        return ""


class JointPrint(Print):
    """Base of the prints of a skeleton alone."""

    own_first = True
    takes = BONES

    skeleton = ref("skeleton", "The skeleton that is printed; none prints the first one.")


def rig_of(job: Job) -> Rigged:
    """The subject of a job with its skeleton, as both are at rest."""
    evaluator, subject, skeleton = job.evaluator, job.subject, job.skeleton
    layer = skin_of(subject)
    bones, bind, arrays = evaluator.poses.bones(skeleton), layer.bind, evaluator.scene.arrays
    above = evaluator.layers_above(subject, layer)
    mesh = evaluator.mesh(subject, above)
    indices, weights = evaluator.topology.bound(subject, layer)
    gone = [j for j in bind.joints if j not in bones.where]
    if gone and (weights[np.isin(indices, [bind.joints.index(j) for j in gone])] > 0).any():
        raise EstampaError(
            subject.name, f"is bound to {len(gone)} joint(s) that are gone.", "Bind it again, or undo their removal."
        )
    # from the order of the bind to that of the skeleton
    where = np.array([bones.where.get(j, 0) for j in bind.joints])
    dense = spread(where[indices], weights, len(bones))
    indices, weights = top_influences(dense, min(indices.shape[1], len(bones)))
    start = Rows.one(evaluator.doc.start)
    into = (evaluator.values.place(subject, start).inverse() @ evaluator.values.place(skeleton, start)).matrices[0]
    back = np.linalg.inv(into @ bones.at_rest)
    back[where] = arrays.get(bind.back)
    targets = [(evaluator.values.find(l.id).name, _added(evaluator, subject, l, mesh)) for l in _morphs(above)]
    if job.origin is not None:
        mesh, indices, weights = mesh.parted()[0], indices[job.origin], weights[job.origin]
        targets = [(name, away[job.origin]) for name, away in targets]
    tips = bones.tips if job.v.get("ends") else None
    names = [j.name for j in bones.joints]
    return Rigged(subject.name, mesh, names, bones.parents, bones.rest, back, indices, weights, targets, tips)


def kept_skin(evaluator: Evaluator, subject) -> object | None:
    """The skin layer of a subject that can stay one in a file: the last that moves it, as it is everywhere, linear, and
    of joints that are all there; None where points must tell what it does."""
    layers = evaluator.layers(subject)
    layer = layers[-1] if layers and is_skin(layers[-1]) and layers[-1].bind is not None else None
    if layer is None or layer.constant("method") != "linear" or layer.constant("map") or layer.constant("zone"):
        return None
    skeleton = followed(evaluator.doc, layer)
    if skeleton is None or not skeleton.on or layer.value("strength") != 1.0 or any(
        is_skin(l) for l in layers[:-1]
    ):  # fmt: skip
        return None
    where = evaluator.poses.bones(skeleton).where
    return layer if all(j in where for j in layer.bind.joints) else None


def named_morphs(evaluator: Evaluator, subject, layers, mesh) -> list[tuple[str, np.ndarray]]:
    """(name, (n, 3) m what it adds) of the morphs of a mesh that nothing else moves; none where a layer that is no
    morph, or one that is felt by place, moves it."""
    morphs = _morphs(layers)
    if len(morphs) != len(layers) or any(l.constant("zone") for l in morphs):
        return []
    return [(evaluator.values.find(l.id).name, _added(evaluator, subject, l, mesh)) for l in morphs]


def morph_weights(evaluator: Evaluator, layers, frame: float) -> np.ndarray:
    """(t,) how much each morph of `layers` is felt at a frame."""
    felt = lambda l: evaluator.values.at(l, "weight", frame) * evaluator.values.at(l, "strength", frame)
    return np.array([felt(l) for l in _morphs(layers)], float)


def _morphs(above):
    return [l for l in above if l.declared.adds_target and l.constant("target") and l.constant("how") == "add"]


def _added(evaluator, subject, layer, mesh) -> np.ndarray:
    target = next(t for t in subject.targets if t.id == layer.constant("target"))
    away = evaluator.scene.arrays.get(target.points) - evaluator.scene.mesh(subject.mesh).points
    for plan in evaluator.plans(subject, evaluator.layers_above(subject, layer)):
        away = plan.carried(away)
    found = subject.map(layer.constant("map"))
    if found is not None:
        away = away * evaluator.topology.map_weights(subject, found, layer)[:, None]
    return away


def motions_of(job: Job) -> list[Motion]:
    """The motion over the job's frames first, under the name of the clip that is played; then the other clips."""
    evaluator, skeleton = job.evaluator, job.skeleton
    present = clips.present(skeleton)
    name, speed = (present.name, present.speed) if present is not None else ("Motion", 1.0)
    loops = present.loops if present is not None else bool(job.v.get("loop"))
    found = [motion(evaluator, job, name, job.frames, speed, loops)]
    for clip, doc in clips.documents(evaluator.doc, skeleton):
        if clip.values is None:
            continue
        other = Evaluator(doc, evaluator.scene, evaluator.store)
        found.append(motion(other, job, clip.name, clip.frames, clip.speed, clip.loops))
    return found


def motion(evaluator: Evaluator, job: Job, name: str, frames, speed: float, loops: bool) -> Motion:
    """One motion, sampled at each frame.

    `frames` are those that are shown. One that loops has its first pose again at the end, so that a player which goes
    round by time goes round smoothly; a negative speed plays it backwards.
    """
    skeleton = evaluator.doc.find(job.skeleton.id)
    frames = list(frames)[:: -1 if speed < 0 else 1]
    times = np.arange(len(frames) + int(loops)) / (job.frame_rate * abs(speed))
    posed = [evaluator.poses.at(skeleton, f) for f in frames]
    if not all(p.is_current for p in posed):
        raise EstampaError(
            job.item.name, f"needs the frames of {name}, which are not solved.", "Solve the scene first."
        )
    around = lambda items: [*items, items[0]] if loops else items
    stands = [pose_of(evaluator.poses.skeleton_place(skeleton, f).matrices) for f in frames]
    weights = np.zeros((len(frames), 0))
    if job.subject.mesh is not None:
        subject = evaluator.doc.find(job.subject.id)
        morphs = _morphs(evaluator.layers_above(subject, skin_of(subject)))
        weights = np.array([morph_weights(evaluator, morphs, f) for f in frames]).reshape(len(frames), len(morphs))
    poses, stands = (Pose.stacked(around(items)) for items in ([p.pose for p in posed], stands))
    return Motion(name, times, poses, stands, np.array(around(list(weights))))
