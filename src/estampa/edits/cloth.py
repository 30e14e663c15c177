"""Edits around cloth: the shape that it rests in, and what holds it along joints."""

import numpy as np

from ..errors import EstampaError
from ..geometry.weights import distances
from ..scene.document import Target, Thing, WeightMap
from ..scene.scene import Scene
from ..scene.values import Rows
from .names import thing_named, unique_name


def keep_as_rest(scene: Scene, subject_id: str, layer_id: str, points: np.ndarray) -> None:
    """A cloth rests from now on in a shape, (n, 3) m in the subject's own space, which is kept as a morph target."""
    layer, subject = thing_named(scene, layer_id), thing_named(scene, subject_id)
    if layer.declared is None or "rest" not in layer.declared.channels:
        raise EstampaError(layer.name, "is no cloth, so it has no shape to rest in.", "Select a cloth layer first.")
    count = scene.mesh(subject.mesh).count
    if np.shape(points) != (count, 3) or not np.isfinite(points).all():
        raise EstampaError(subject.name, "has a shape of other vertices there.", "Refine it below the cloth.")
    target = Target(name=f"Rest of {layer.name}", points=scene.arrays.put(np.asarray(points, np.float64)))
    stack = _with_values(subject.stack, layer, rest=target.id)
    doc = scene.doc.replace(subject.with_(targets=(*subject.targets, target), stack=stack))
    scene.apply("Keep this shape as rest", doc)


def hold_along_joints(scene: Scene, subject_id: str, skeleton_id: str, width: float | None = None) -> Thing:
    """Hold a cloth where its mesh runs along the joints of a skeleton: a map of the vertices within `width` metres of
    them (0.6 of a usual edge where None), put on the cloth as what holds it. Returns the cloth layer, which is added
    where there is none.

    The layers above the cloth carry what is held: a skin on the same skeleton.
    """
    subject, skeleton = thing_named(scene, subject_id), thing_named(scene, skeleton_id)
    mesh, now, values = scene.mesh(subject.mesh), Rows.one(scene.doc.start), scene.values
    points = values.place(subject, now).apply(mesh.points[None])[0]
    bones = values.bones(skeleton)
    starts, ends = bones.segment_ends(values.place(skeleton, now).matrices @ bones.at_rest)
    if not len(starts):
        raise EstampaError(skeleton.name, "has no joints to hold the cloth along.", "Add joints first.")
    edges = mesh.points[mesh.edges]
    width = 0.6 * float(np.median(np.linalg.norm(edges[:, 1] - edges[:, 0], axis=1))) if width is None else width
    near = distances(points, starts, ends)[0].min(axis=1) <= width
    if not near.any():
        raise EstampaError(
            subject.name,
            f"has no vertices within {width * 1000:.0f} mm of the joints of {skeleton.name}.",
            "Give the mesh edges along the joints, or a larger width.",
        )
    made = WeightMap(name=f"Along {skeleton.name}", weights=scene.arrays.put(near.astype(np.float32)))
    layer = next(iter(subject.layers_of("cloth")), None)
    stack = subject.stack
    if layer is None:
        layer = Thing(kind="cloth", name=unique_name(scene.doc, "Cloth"))
        stack = (*stack, layer)
    stack = _with_values(stack, layer, pins=made.id)
    doc = scene.doc.replace(subject.with_(maps=(*subject.maps, made), stack=stack))
    scene.apply("Hold along joints", doc)
    return next(l for l in stack if l.id == layer.id)


def untangle_from(scene: Scene, subject_id: str, layer_id: str, frame: int, over: int = 6) -> Thing:
    """From a frame on, what a cloth goes through is undone, and is seen to come out over so many frames: an Untangle
    layer below the cloth. Returns it."""
    subject, layer = thing_named(scene, subject_id), thing_named(scene, layer_id)
    if layer.declared is None or not getattr(layer.declared, "alarm", None):
        raise EstampaError(layer.name, "is no cloth, so nothing of it crosses.", "Select a cloth layer first.")
    aid = Thing(kind="untangle", name=unique_name(scene.doc, "Untangle"), values={"at": float(frame), "over": over})
    at = [l.id for l in subject.stack].index(layer_id) + 1
    stack = (*subject.stack[:at], aid, *subject.stack[at:])
    scene.apply(f"Untangle from frame {frame}", scene.doc.replace(subject.with_(stack=stack)))
    return aid


def _with_values(stack, layer: Thing, **values) -> tuple[Thing, ...]:
    """A stack in which one layer has other values."""
    return tuple(l.with_(values={**l.values, **values}) if l.id == layer.id else l for l in stack)
