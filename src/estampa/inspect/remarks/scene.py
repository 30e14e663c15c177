"""Remarks: plain findings about a scene. Each says what is wrong, what it causes and how to mend it."""

from collections.abc import Iterator
from pathlib import Path

import numpy as np

from ...errors import EstampaError
from ...fields.force import AIR_DENSITY
from ...kinds.registry import BROKEN, layers_feel
from ...scene.document import Opaque, Thing
from ...scene.scene import Scene, Snapshot
from ...solve.cloth.sheets import MOST_ADDED
from ...units import format_length
from . import bodies as remarks_bodies
from . import joints as remarks_joints
from . import motion as remarks_motion
from .remark import Remark


def remarks(scene: Scene | Snapshot) -> list[Remark]:
    """All remarks, errors first."""
    found = []
    for check in (*CHECKS, *remarks_motion.CHECKS, *remarks_joints.CHECKS, *remarks_bodies.CHECKS):
        try:
            found += check(scene)
        except EstampaError:
            continue  # a channel that gives no number is remarked upon by itself
    return sorted(found, key=lambda r: ("error", "warning", "note").index(r.severity))


def broken_plug_ins(scene: Scene | Snapshot) -> Iterator[Remark]:
    for path, why in BROKEN.items():
        yield Remark(
            "warning",
            "",
            f"The plug-in {Path(path).name} could not be read ({why}).",
            "What it would add is not there.",
            "Mend the file, or take it out of the folders of ESTAMPA_KINDS.",
        )


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


def too_fine_for_its_load(scene: Scene | Snapshot) -> Iterator[Remark]:
    """A cloth adds small steps until its stiffness holds in the wind and weight that it bears (see docs/solver.md), up
    to a limit; beyond that it stretches too far, and says so."""
    at, doc = lambda t, n: scene.values.at(t, n, doc.start), scene.doc
    on = lambda kind: [t for t in doc.things if t.kind == kind and t.on]
    for subject, layer in _layers(scene):
        if layer.kind != "cloth" or not layer.on:
            continue
        mesh = scene.mesh(subject.mesh)
        air = sum(at(w, "speed") * (1 + at(w, "gustiness")) for w in on("wind"))
        pull = sum(at(g, "pull") for g in on("gravity"))
        drag = at(layer, "drag") + at(layer, "lift")
        pull += 0.5 * AIR_DENSITY * drag * air**2 / at(layer, "density")
        edges = mesh.points[mesh.edges]
        step = float(np.median(np.linalg.norm(edges[:, 1] - edges[:, 0], axis=1))) if len(edges) else 0.0
        size = float(mesh.size.max())
        if step <= 0 or size <= 0 or pull <= 0:
            continue
        taken = max(at(layer, "substeps"), MOST_ADDED)
        h = 1 / (doc.frame_rate * taken)
        excess = 0.5 * size * pull * h * h / step**2
        if excess > max(2 * at(layer, "excess"), 0.02):
            wanted = int(taken * (excess / at(layer, "excess")) ** 0.5) + 1
            yield Remark(
                "note",
                layer.id,
                f"{layer.name} is very fine for the load that it bears: {mesh.count:,} vertices, "
                f"{air:.0f} m/s of wind.",
                f"It may stretch some {100 * min(excess, at(layer, 'limit')):.0f} % more than its stiffness says.",
                f"About {wanted:,} substeps would hold it; a coarser mesh that is refined below needs fewer.",
            )


def passes_through_colliders(scene: Scene | Snapshot) -> Iterator[Remark]:
    solid = [t for t in scene.doc.things if t.on and t.declared is not None and t.kind == "collider"]
    for owner in scene.doc.things:
        for layer in owner.stack if solid and owner.on else ():
            if not layer.on or not getattr(layer.declared, "memory", False) or "collider" in layers_feel(layer):
                continue
            names = solid[0].name + (f" and {len(solid) - 1} more" if len(solid) > 1 else "")
            yield Remark(
                "note",
                layer.id,
                f"{layer.name} does not meet {names}: it passes through colliders.",
                "It comes to rest on the ground only." if layer.kind == "cloth" else "It meets nothing.",
                "Hold it away with a layer above it, or let a swinging chain meet them.",
            )


CHECKS = (
    broken_plug_ins,
    not_understood,
    cloth_held_by_nothing,
    empty_map,
    strange_size,
    crowded_edges,
    too_fine_for_its_load,
    passes_through_colliders,
)


def _layers(scene: Scene | Snapshot) -> Iterator[tuple[Thing, Thing]]:
    for subject in scene.doc.subjects:
        for layer in subject.stack:
            if layer.declared is not None:
                yield subject, layer
