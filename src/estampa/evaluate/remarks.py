"""Remarks: plain findings about a scene. Each says what is wrong, what it causes and how to mend it."""

from collections.abc import Iterator

import numpy as np

from ..errors import EstampaError
from ..scene.document import Opaque, Thing
from ..scene.scene import Scene, Snapshot
from ..units import format_length
from . import remarks_joints, remarks_motion
from .remark import Remark


def remarks(scene: Scene | Snapshot) -> list[Remark]:
    """All remarks, errors first."""
    found = []
    for check in (*CHECKS, *remarks_motion.CHECKS, *remarks_joints.CHECKS):
        try:
            found += check(scene)
        except EstampaError:
            continue  # a channel that gives no number is remarked upon by itself
    return sorted(found, key=lambda r: ("error", "warning", "note").index(r.severity))


def not_understood(scene: Scene | Snapshot) -> Iterator[Remark]:
    for thing, _ in scene.doc.everything():
        if thing.unknown is not None:
            yield Remark(
                "warning",
                thing.id,
                f"“{thing.name}” is a “{thing.kind}”, which this version does not understand.",
                "It does nothing here, and is kept as it is when you save.",
                "Open the scene in a newer Estampa.",
            )
        for name, value in thing.values.items():
            if isinstance(value, Opaque):
                yield Remark(
                    "warning",
                    thing.id,
                    f"{thing.name} · {name} holds a kind of value this version does not understand.",
                    "Its default is used instead.",
                    "Set the channel, or open it in a newer Estampa.",
                )


def cloth_held_by_nothing(scene: Scene | Snapshot) -> Iterator[Remark]:
    grounds = any(t.kind == "ground" and t.on for t in scene.doc.things)
    for subject, layer in _layers(scene):
        if layer.kind != "cloth" or not layer.on or grounds:
            continue
        held = subject.map(layer.constant("pins"))
        weights = scene.arrays.get(held.weights) if held else None
        if weights is not None and weights.any():
            mesh = scene.mesh(subject.mesh)
            loose = mesh.island_count - len(np.unique(mesh.islands[weights > 0]))
            if loose:
                yield Remark(
                    "warning",
                    layer.id,
                    f"{loose} of the {mesh.island_count} islands of {subject.name} are held by nothing.",
                    "They fall or are blown away.",
                    f"Give them weights in “{held.name}”, weld the mesh, or add a ground.",
                )
        else:
            yield Remark(
                "error",
                layer.id,
                f"{layer.name} is held by nothing, and there is no ground beneath it.",
                "It falls out of the picture.",
                "Choose a weight map under “Held by”, or add a ground.",
            )


def empty_map(scene: Scene | Snapshot) -> Iterator[Remark]:
    for subject, layer in _layers(scene):
        for name, channel in layer.declared.channels.items():
            found = subject.map(layer.constant(name)) if channel.to == "map" else None
            if found is not None and layer.on and not scene.arrays.get(found.weights).any():
                yield Remark(
                    "warning",
                    layer.id,
                    f"The weight map “{found.name}” of {layer.name} is 0 everywhere.",
                    "The layer moves nothing." if name == "map" else "Nothing is held.",
                    "Paint or set weights in it, or choose another map.",
                )


def strange_size(scene: Scene | Snapshot) -> Iterator[Remark]:
    for subject in scene.doc.subjects:
        size = float(scene.mesh(subject.mesh).size.max())
        if size < 0.01 or size > 1000:
            word = "small" if size < 0.01 else "large"
            yield Remark(
                "warning",
                subject.id,
                f"{subject.name} is {format_length(size)} across, which is very {word}.",
                "Wind, gravity and cloth will look wrong on it.",
                "The file's unit was probably another one: import it again and pick the unit.",
            )


def crowded_edges(scene: Scene | Snapshot) -> Iterator[Remark]:
    for subject in scene.doc.subjects:
        mesh = scene.mesh(subject.mesh)
        if mesh.crowded_edges:
            yield Remark(
                "note",
                subject.id,
                f"{subject.name} has {mesh.crowded_edges} edge(s) shared by more than two faces.",
                "Cloth does not bend across those edges.",
                "Split the faces there if it should.",
            )
        if mesh.flat_faces:
            yield Remark(
                "note",
                subject.id,
                f"{subject.name} has {mesh.flat_faces} face(s) without area.",
                "Cloth leaves them out.",
                "Merge their points where the mesh was made.",
            )


def dense_for_its_substeps(scene: Scene | Snapshot) -> Iterator[Remark]:
    """One step of the solver passes a pull on by about one row of vertices, so a fine sheet sags beyond its
    stiffness when substeps are few: about rows^2 / 2 x gravity x substep^2 in all (see docs/solver.md)."""
    pull = max(
        (scene.values.at(t, "pull", scene.doc.start) for t in scene.doc.things if t.kind == "gravity" and t.on),
        default=0.0,
    )
    for subject, layer in _layers(scene):
        if layer.kind != "cloth" or not layer.on or pull <= 0:
            continue
        mesh = scene.mesh(subject.mesh)
        size = sorted(mesh.size)[-1]
        rows = max(1.0, (mesh.count**0.5))
        h = 1 / (scene.doc.frame_rate * scene.values.at(layer, "substeps", scene.doc.start))
        excess = 0.5 * rows**2 * pull * h * h / max(size, 1e-9)
        if excess > max(0.05, scene.values.at(layer, "tether", scene.doc.start)):
            wanted = int(scene.values.at(layer, "substeps", scene.doc.start) * (excess / 0.05) ** 0.5) + 1
            yield Remark(
                "note",
                layer.id,
                f"{layer.name} has few substeps for {mesh.count:,} vertices.",
                f"By its own weight it may stretch some {100 * excess:.0f} % more than its stiffness says; "
                "only the tether limits it.",
                f"About {wanted} substeps would hold it to 5 %.",
            )


CHECKS = (not_understood, cloth_held_by_nothing, empty_map, strange_size, crowded_edges, dense_for_its_substeps)


def _layers(scene: Scene | Snapshot) -> Iterator[tuple[Thing, Thing]]:
    for subject in scene.doc.subjects:
        for layer in subject.stack:
            if layer.declared is not None:
                yield subject, layer
