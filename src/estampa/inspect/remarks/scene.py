"""Remarks: plain findings about a scene. Each says what is wrong, what it causes and how to mend it."""

import importlib
import pkgutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ...errors import EstampaError
from ...kinds.plugins import BROKEN, blamed, file_of
from ...scene.document import Document, Opaque
from ...scene.scene import Scene, Snapshot
from ...units import format_length
from .remark import CHECKS, Remark, check, layers_of, things_by_kind


def remarks(scene: Scene | Snapshot) -> list[Remark]:
    """All remarks for which nothing has to be worked out, errors first."""
    return in_order(found_by(scene, scene.doc, worked_out=False))


def found_by(asked: Any, doc: Document, worked_out: bool) -> list[Remark]:
    """What the registered checks find. asked -- the scene, or an evaluator for those that need one. A check of a
    plug-in that fails is a remark itself."""
    for module in pkgutil.iter_modules([str(Path(__file__).parent)]):
        importlib.import_module(f"{__package__}.{module.name}")
    found, by_kind = [], things_by_kind(doc)
    for (_, name), check_ in CHECKS.items():
        if check_.worked_out != worked_out:
            continue
        try:
            with blamed(check_.look, name.replace("_", " ")):
                found += check_.run(asked, by_kind)
        except EstampaError as err:
            if file_of(check_.look):
                found.append(Remark("warning", "", f"{err.what}: {err.cause}", "Its remarks are not there.", err.cure))
            # else a channel that gives no number, which is remarked upon by itself
    return found


def in_order(found: list[Remark]) -> list[Remark]:
    """Errors first."""
    return sorted(found, key=lambda r: ("error", "warning", "note").index(r.severity))


@check()
def broken_plug_ins(scene: Scene | Snapshot) -> Iterator[Remark]:
    for path, why in BROKEN.items():
        yield Remark(
            "warning",
            "",
            f"The plug-in {Path(path).name} was not read ({why}).",
            "What it would add is not there.",
            "Mend the file, or take it out of the folders of ESTAMPA_KINDS.",
        )


@check()
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


@check()
def empty_map(scene: Scene | Snapshot) -> Iterator[Remark]:
    for subject, layer in layers_of(scene):
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


@check()
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


@check()
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
