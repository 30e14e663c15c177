"""Edits of weight maps and morph targets."""

import numpy as np

from ..errors import EstampaError
from ..scene.document import Target, Thing, WeightMap
from ..scene.scene import Scene
from .names import thing_named


def add_map(scene: Scene, subject_id: str, weights: np.ndarray, name: str | None = None) -> WeightMap:
    """Add a weight map, (n,) values in 0 to 1, one a vertex of the subject's own mesh."""
    subject = thing_named(scene, subject_id)
    taken, name, i = {m.name for m in subject.maps}, name or "Map", 2
    base = name
    while name in taken:
        name, i = f"{base} {i}", i + 1
    made = WeightMap(name=name, weights=scene.arrays.put(_weights(scene, subject, weights)))
    scene.apply(f"Add map {name}", scene.doc.replace(subject.with_(maps=(*subject.maps, made))))
    return made


def set_map(
    scene: Scene, subject_id: str, map_id: str, weights: np.ndarray, label: str, merge: str | None = None
) -> None:
    """Put other weights, (n,) in 0 to 1, into a map."""
    subject = thing_named(scene, subject_id)
    name = scene.arrays.put(_weights(scene, subject, weights))
    maps = tuple(m.with_(weights=name) if m.id == map_id else m for m in subject.maps)
    scene.apply(label, scene.doc.replace(subject.with_(maps=maps)), merge)


def rename_map(scene: Scene, subject_id: str, map_id: str, name: str) -> None:
    subject = thing_named(scene, subject_id)
    maps = tuple(m.with_(name=name.strip() or m.name) if m.id == map_id else m for m in subject.maps)
    scene.apply("Rename map", scene.doc.replace(subject.with_(maps=maps)))


def remove_map(scene: Scene, subject_id: str, map_id: str) -> None:
    subject = thing_named(scene, subject_id)
    stack = tuple(l.with_(values={n: v for n, v in l.values.items() if v != map_id}) for l in subject.stack)
    maps = tuple(m for m in subject.maps if m.id != map_id)
    scene.apply(f"Remove map {subject.map(map_id).name}", scene.doc.replace(subject.with_(maps=maps, stack=stack)))


def _weights(scene: Scene, subject: Thing, weights) -> np.ndarray:
    weights = np.clip(np.asarray(weights, np.float32), 0, 1)
    count = len(scene.arrays.get(subject.mesh.points))
    if weights.shape != (count,) or not np.isfinite(weights).all():
        raise EstampaError(
            f"A map of {subject.name}", f"needs {count} finite weights, one per vertex.", "", f"shape {weights.shape}"
        )
    return weights


def add_target(scene: Scene, subject_id: str, points: np.ndarray, name: str = "Target") -> Target:
    """Keep a shape, (n, 3) metres in the subject's own space, as a morph target."""
    subject = thing_named(scene, subject_id)
    count = len(scene.arrays.get(subject.mesh.points))
    points = np.asarray(points, np.float64)
    if points.shape != (count, 3):
        raise EstampaError(
            f"The morph target “{name}”",
            f"has {len(points):,} vertices, and {subject.name} has {count:,}.",
            "A target needs the same vertices in the same order: export it from the same mesh.",
        )
    if not np.isfinite(points).all():
        raise EstampaError(f"The morph target “{name}”", "has points that are not numbers.", "Export it again.")
    taken, base, i = {t.name for t in subject.targets}, name, 2
    while name in taken:
        name, i = f"{base} {i}", i + 1
    target = Target(name=name, points=scene.arrays.put(points))
    scene.apply(f"Add target {name}", scene.doc.replace(subject.with_(targets=(*subject.targets, target))))
    return target


def remove_target(scene: Scene, subject_id: str, target_id: str) -> None:
    subject = thing_named(scene, subject_id)
    stack = tuple(l.with_(values={n: v for n, v in l.values.items() if v != target_id}) for l in subject.stack)
    targets = tuple(t for t in subject.targets if t.id != target_id)
    scene.apply("Remove a target", scene.doc.replace(subject.with_(targets=targets, stack=stack)))
