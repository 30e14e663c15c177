"""What an instance table says of each grain at a frame: where it is, and what it shows."""

from pathlib import Path

import numpy as np

from ..formats.instance_table import COLUMNS
from ..geometry import pose as turns
from ..scene.document import Thing
from .prints import Job
from .run import file_target, printed


class Numbers:
    """Numbers of 32 bits for grains, whose own ids have 64: from 0 on, in the order in which they appear."""

    def __init__(self):
        self._known, self._number = np.zeros(0, np.int64), np.zeros(0, np.uint32)
        self._ids: list[np.ndarray] = []

    def __len__(self) -> int:
        return len(self._known)

    def of(self, ids: np.ndarray) -> np.ndarray:
        """(k,) uint32 of ids (k,)."""
        at = np.searchsorted(self._known, ids)
        is_new = np.ones(len(ids), bool)
        held = at < len(self._known)
        is_new[held] = self._known[at[held]] != ids[held]
        if is_new.any():
            fresh = np.unique(ids[is_new])
            self._ids.append(fresh)
            numbers = np.arange(len(self._known), len(self._known) + len(fresh), dtype=np.uint32)
            known = np.concatenate([self._known, fresh])
            order = np.argsort(known, kind="stable")
            self._known, self._number = known[order], np.concatenate([self._number, numbers])[order]
        return self._number[np.searchsorted(self._known, ids)]

    def ids(self, numbers: np.ndarray) -> np.ndarray:
        """(k,) int64 that have these numbers."""
        every = np.concatenate([*self._ids, np.zeros(0, np.int64)])
        return every[numbers]


def layers_of(job: Job) -> list[Thing | None]:
    """What shows grains, in the order of the numbers of meshes; None for the plain grain."""
    return job.evaluator.dressing.layers(job.subject) or [None]


def meshes_of(job: Job) -> list[dict]:
    """What each number of a mesh is: whose it is, how many vertices and frames its cycle has, and which vertex
    animation texture holds those."""
    dressing, found = job.evaluator.dressing, []
    for k, layer in enumerate(layers_of(job)):
        if layer is None:
            found.append({"number": k, "of": "Grain", "vertices": 8, "frames_of_cycle": 1, "texture": None})
            continue
        subject = dressing.subject_of(layer)
        mesh, shapes = dressing.shapes(layer, job.frames[0])
        own = {"number": k, "of": subject.name, "vertices": mesh.count, "frames_of_cycle": len(shapes)}
        found.append(own | {"texture": _texture(job, layer, subject)})
    return found


def _texture(job: Job, layer: Thing, subject: Thing) -> str | None:
    """The name of the .json of a vertex texture: the one that the layer plays, else the one that this scene prints of
    the subject."""
    if layer.constant("texture"):
        return Path(layer.constant("texture")).name
    doc = job.evaluator.doc
    for item in doc.prints:
        if item.on and item.declared is not None and item.declared.holds_cycle and printed(doc, item) is subject:
            return f"{file_target(doc, item, Path('.')).name}.json"
    return None


def row_of(job: Job, frame: int, numbers: Numbers) -> dict[str, np.ndarray]:
    """The columns (k,) of `formats.instance_table.COLUMNS` at a frame, by ascending ids of the scene."""
    number = {layer.id if layer is not None else "": k for k, layer in enumerate(layers_of(job))}
    parts = job.outcome(frame, skinned=False).parts
    ids = np.concatenate([p.ids for p in parts] or [np.zeros(0, np.int64)])
    order = np.argsort(ids, kind="stable")
    ids = ids[order]

    def column(values, wide=()):
        """What a part has, one part after another, in the order of the ids."""
        own = [np.broadcast_to(values(p), (p.count, *wide)) for p in parts]
        return np.concatenate([np.zeros((0, *wide)), *own])[order]

    found = {"frame": np.full(len(ids), frame, np.int32), "id": numbers.of(ids)}
    rows = (
        ("x y z", column(lambda p: p.places.origin, (3,))),
        ("qx qy qz qw", column(lambda p: turns.turns_of(p.places.axes), (4,))),
        ("size", column(lambda p: p.places.size)),
        ("red green blue", column(lambda p: -1.0 if p.tints is None else p.tints, (3,))),
        ("vx vy vz", column(lambda p: p.velocity, (3,))),
        ("rate", column(lambda p: 0.0 if p.beat is None else p.beat[0])),
        ("phase", column(lambda p: 0.0 if p.beat is None else p.beat[1])),
    )
    for names, values in rows:
        found |= dict(zip(names.split(), values.reshape(len(ids), -1).T.astype(np.float32), strict=True))
    found["mesh"] = column(lambda p: number[p.layer]).astype(np.uint32)
    found["cycle_frame"] = column(lambda p: 0 if p.shape is None else p.shape).astype(np.uint32)
    return {n: found[n] for n in COLUMNS}
