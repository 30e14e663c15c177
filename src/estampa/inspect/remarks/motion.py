"""Remarks on links, stacks, copies, paths and zones; the checks are run by remarks.py."""

from collections.abc import Iterator

import numpy as np

from ...errors import EstampaError
from ...evaluate.arrange import line_of
from ...scene.document import Curve, Formula, Link, Thing
from ...scene.scene import Scene, Snapshot
from ...scene.values import Rows
from .remark import Remark, check


@check()
def broken_channels(scene: Scene | Snapshot) -> Iterator[Remark]:
    """Links and formulas that give no number somewhere in the range, and things that ride on themselves."""
    doc, values = scene.doc, scene.values
    sampled = Rows.over(np.unique(np.linspace(doc.start, doc.end, 9).round()))
    for thing, _ in doc.everything():
        for name, value in thing.values.items():
            if thing.declared is None or name not in thing.declared.channels or not isinstance(value, (Link, Formula)):
                continue
            try:
                values.rows(thing, name, sampled)
            except EstampaError as err:
                yield Remark("error", thing.id, f"{err.what} {err.cause}", "What reads it cannot be shown.", err.cure)


@check()
def wrong_order(scene: Scene | Snapshot) -> Iterator[Remark]:
    """Refining belongs after deforming, and thickening before refining (common practice, no source)."""
    for subject in scene.doc.subjects:
        stack = subject.layers_on
        for i, layer in enumerate(stack):
            below = stack[i + 1 :]
            if layer.declared.refines and any(b.declared.closes for b in below):
                thick = next(b.name for b in below if b.declared.closes)
                yield Remark(
                    "warning",
                    layer.id,
                    f"{layer.name} stands above {thick} on {subject.name}.",
                    "The rims stay sharp, and there are four times as many faces to thicken.",
                    f"Move {layer.name} below {thick}.",
                )
            elif layer.declared.refines:
                moving = [b.name for b in below if not b.declared.remeshes and not b.declared.smooths]
                if moving:
                    yield Remark(
                        "warning",
                        layer.id,
                        f"{layer.name} stands above {moving[0]} on {subject.name}.",
                        "Every layer below it works on many more vertices than it needs.",
                        f"Move {layer.name} to the foot of the stack.",
                    )


@check()
def paths_without_length(scene: Scene | Snapshot) -> Iterator[Remark]:
    for thing in scene.doc.of_kind("path"):
        if line_of(thing) is None:
            yield Remark(
                "warning",
                thing.id,
                f"The path {thing.name} has no length.",
                "What follows it or stands along it does nothing.",
                "Give it at least two points in different places.",
            )


@check("zone")
def empty_zones(scene: Scene | Snapshot, zone: Thing, _owner: None) -> Iterator[Remark]:
    if zone.constant("shape") == "path" and scene.doc.find(zone.constant("path")) is None:
        yield Remark(
            "warning",
            zone.id,
            f"The zone {zone.name} lies along a path, and names none.",
            "It is empty, so what it scales does nothing.",
            "Choose its path, or another shape.",
        )
    size = scene.values.at(zone, "size", scene.doc.start) * scene.values.at(zone, "reach", scene.doc.start)
    if size < 1e-4:
        yield Remark(
            "warning",
            zone.id,
            f"The zone {zone.name} is smaller than a tenth of a millimetre.",
            "What it scales does nothing.",
            "Raise its reach or its size.",
        )


@check("copies")
def copies_of_nothing(scene: Scene | Snapshot, copies: Thing, _owner: None) -> Iterator[Remark]:
    doc = scene.doc
    wanted = {"path": "path", "scatter": "ground"}.get(copies.constant("arrange"))
    if doc.find(copies.constant("subject")) is None:
        yield Remark(
            "warning",
            copies.id,
            f"{copies.name} copies nothing.",
            "Nothing is shown.",
            "Choose its subject in the sheet.",
        )
    elif wanted and doc.find(copies.constant(wanted)) is None:
        word = "path" if wanted == "path" else "mesh to be scattered over"
        yield Remark(
            "warning", copies.id, f"{copies.name} has no {word}.", "There are no copies.", f"Choose it under “{word}”."
        )
    elif copies.constant("arrange") == "hand" and not copies.spots:
        yield Remark(
            "note",
            copies.id,
            f"{copies.name} has no copies yet.",
            "Nothing is shown.",
            "Take the Place tool and click where one should stand.",
        )


@check("morph")
def morphs_to_nothing(scene: Scene | Snapshot, layer: Thing, subject: Thing) -> Iterator[Remark]:
    if all(t.id != layer.values.get("target") for t in subject.targets):
        yield _names_no(layer, "morph target", "a morph target")


@check("follow")
def follows_nothing(scene: Scene | Snapshot, layer: Thing, _subject: Thing) -> Iterator[Remark]:
    if scene.doc.find(layer.values.get("path")) is None:
        yield _names_no(layer, "path", "a path")


@check("look_at")
def looks_at_nothing(scene: Scene | Snapshot, layer: Thing, _subject: Thing) -> Iterator[Remark]:
    if scene.doc.find(layer.values.get("target")) is None:
        yield _names_no(layer, "grip to look at", "a grip to look at")


def _names_no(layer: Thing, what: str, words: str) -> Remark:
    """A layer that cannot do anything, since what it needs is not named."""
    return Remark(
        "note", layer.id, f"{layer.name} names no {what}.", "It does nothing yet.", f"Choose {words} in the sheet."
    )


@check()
def scaled_solver(scene: Scene | Snapshot) -> Iterator[Remark]:
    """A size that is keyed under a solver changes the lengths that it keeps."""
    for subject in scene.doc.subjects:
        solvers = [l for l in subject.layers_on if l.declared.memory]
        if solvers and isinstance(subject.values.get("size"), (Curve, Link, Formula)):
            yield Remark(
                "warning",
                subject.id,
                f"The size of {subject.name} changes while {solvers[0].name} is solved on it.",
                "The cloth keeps the size of the first frame and pulls against what holds it.",
                "Give the size a plain value.",
            )
