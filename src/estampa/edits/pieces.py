"""Edits of what is broken."""

import numpy as np

from ..scene.document import Thing
from ..scene.scene import Scene
from .names import thing_named, unique_name


def cut_around(scene: Scene, layer_id: str, points: np.ndarray) -> Thing:
    """Let a Break cut around points (k, 3) m in the world that are set by hand: a path whose points they are, which is
    made with them. In one step of the history."""
    layer = thing_named(scene, layer_id)
    path = Thing(
        kind="path", name=unique_name(scene.doc, f"Cuts of {scene.doc.owner(layer.id).name}"),
        spots=tuple((*map(float, p), 0.0, 1.0) for p in points), values={"rounded": False},
    )  # fmt: skip
    doc = scene.doc.adding(path)
    values = {**layer.values, "how": "cells", "gather": "spots", "path": path.id}
    scene.apply(f"Cut {scene.doc.owner(layer.id).name} around points", doc.replace(layer.with_(values=values)))
    return path
