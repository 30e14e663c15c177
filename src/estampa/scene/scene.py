"""A scene: the present document, its arrays, and the history of its edits."""

import threading
from collections import OrderedDict
from collections.abc import Callable
from pathlib import Path
from threading import RLock
from typing import NamedTuple

import numpy as np
from psygnal import Signal

from ..errors import EstampaError
from ..hashing import array_digest
from . import limit_checks
from .document import Document, MeshRef
from .graph import names_changed, refuse_ring
from .index import changed
from .memo import Memo
from .values import Values

HISTORY_LENGTH = 500


class Arrays:
    """Read-only arrays by the digest of their content. Safe to read from any thread."""

    def __init__(self):
        self._kept: dict[str, np.ndarray] = {}
        self._lock = threading.Lock()

    def put(self, array: np.ndarray) -> str:
        array = np.ascontiguousarray(array)
        name = array_digest(array)
        self.keep(name, array)
        return name

    def keep(self, name: str, array: np.ndarray) -> None:
        """Keep an array under a name that is known to be its own."""
        with self._lock:
            if name not in self._kept:
                array = array.copy() if array.flags.writeable else array
                array.flags.writeable = False
                self._kept[name] = array

    def take(self, others: "Arrays") -> None:
        """Keep what others keep."""
        with self._lock:
            self._kept = {**others._kept, **self._kept}

    def get(self, name: str) -> np.ndarray:
        try:
            return self._kept[name]
        except KeyError:
            raise EstampaError(
                "The scene", "names an array that is not in its file.", "Open an earlier save of it.", name
            ) from None

    def __contains__(self, name: str) -> bool:
        return name in self._kept

    def names(self) -> list[str]:
        return list(self._kept)


class ShapeCache:
    """Lately computed results by digest, the oldest let go when they pass `limit` bytes. Safe from any thread."""

    def __init__(self, limit: int = 400_000_000):
        self.limit, self._size, self._lock = limit, 0, threading.Lock()
        self._kept: OrderedDict[bytes, np.ndarray] = OrderedDict()

    def get(self, key: bytes) -> np.ndarray | None:
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        return None

    def put(self, key: bytes, value: np.ndarray) -> None:
        with self._lock:
            if key not in self._kept:
                self._kept[key] = value
                self._size += value.nbytes
            while self._size > self.limit and len(self._kept) > 1:
                self._size -= self._kept.popitem(last=False)[1].nbytes


class Snapshot(NamedTuple):
    """What can be read of a scene at one moment; as much of a Scene as remarks need."""

    doc: Document
    arrays: Arrays
    mesh: Callable
    values: Values


class Scene:
    """Holds the document that is now true. Views listen to `changed` and hold no truth of their own.

    `apply` is the only way to change the document, so every change can be undone.
    """

    changed = Signal(object, object)  # (document before, document after)

    def __init__(self, doc: Document | None = None, arrays: Arrays | None = None, path: Path | None = None):
        self.doc = doc or Document()
        self.arrays = arrays or Arrays()
        self.path = path
        self.mark: str | None = None  # what the file held when it was opened or saved last
        self.saved_doc = self.doc
        self._values = Values(self.doc)
        self._undo: list[tuple[str, str | None, Document]] = []
        self._redo: list[tuple[str, str | None, Document]] = []
        self._meshes: dict[MeshRef, object] = {}
        self._evaluator = None  # of `evaluate`
        self.shapes = ShapeCache()  # computed shapes and envelopes, by digest
        self.memo = Memo()  # what is worked out of things, for as long as it is of the same
        self.planning = RLock()  # a slow plan is made once, whoever asks

    # -- edits ---------------------------------------------------------------------------------------------
    def apply(self, label: str, doc: Document, merge: str | None = None) -> None:
        """Make `doc` the present document. Edits that follow one another with the same `merge` word are one
        step of the history, as the many small changes of one drag are. Raises EstampaError when things would need
        themselves, or something would be beyond what a scene may hold (limits.py)."""
        if doc is self.doc:
            return
        changes = changed(self.doc, doc)
        names = names_changed(changes)
        limit_checks.refuse_edit(label, self.doc, doc, changes, names)
        if names:
            gone = {t.id for t in changes.before} - {t.id for t in changes.after}
            # what is left may feel or follow something else where something is gone
            refuse_ring(doc, f"“{label}”", None if gone else [t.id for t in changes.after])
        if not (merge and self._undo and self._undo[-1][1] == merge and not self._redo):
            self._undo.append((label, merge, self.doc))
            del self._undo[:-HISTORY_LENGTH]
        self._redo.clear()
        doc.settled()
        self._become(doc)

    def end_merge(self) -> None:
        """The drag is over: the next edit is a step of its own."""
        if self._undo:
            label, _, doc = self._undo[-1]
            self._undo[-1] = (label, None, doc)

    def undo(self) -> str | None:
        return self._step(self._undo, self._redo)

    def redo(self) -> str | None:
        return self._step(self._redo, self._undo)

    def _step(self, source, target) -> str | None:
        if not source:
            return None
        label, _, doc = source.pop()
        target.append((label, None, self.doc))
        self._become(doc)
        return label

    def _become(self, doc: Document) -> None:
        before, self.doc = self.doc, doc
        if len(doc.index.entries) < len(before.index.entries):
            self.memo.drop(i for i in before.index.entries if i not in doc.index.entries)
        self.changed.emit(before, doc)

    @property
    def undo_label(self) -> str | None:
        return self._undo[-1][0] if self._undo else None

    @property
    def redo_label(self) -> str | None:
        return self._redo[-1][0] if self._redo else None

    @property
    def is_changed(self) -> bool:
        return self.doc is not self.saved_doc

    # -- reading -------------------------------------------------------------------------------------------
    def mesh(self, ref: MeshRef):
        """The Mesh that a reference names; made once."""
        if ref not in self._meshes:
            from ..geometry.mesh import Mesh

            a = self.arrays
            more = lambda name: a.get(name) if name else None
            materials = tuple(self._material(m) for m in ref.materials)
            self._meshes[ref] = Mesh(
                a.get(ref.points),
                a.get(ref.face_counts),
                a.get(ref.face_indices),
                more(ref.uv),
                materials,
                more(ref.face_materials),
                None,
                {name: a.get(values) for name, values in ref.corners},
                None,
                {name: a.get(values) for name, values in ref.vertices},
                {name: a.get(values) for name, values in ref.faces},
            )
        return self._meshes[ref]

    def _material(self, m):
        from ..geometry.material import Material, Picture

        picture = Picture(m.picture_name, self.arrays.get(m.picture).tobytes()) if m.picture else None
        own = (m.alpha, m.cutoff, m.opacity, m.two_sided, m.uv, m.missing, m.roughness, m.metallic, tuple(m.emission))
        return Material(m.name, tuple(m.colour), picture, *own)

    def snapshot(self) -> "Snapshot":
        """The scene as it is now, to be read beside the window while edits go on."""
        return Snapshot(self.doc, self.arrays, self.mesh, Values(self.doc))

    @property
    def values(self) -> Values:
        """Reads the channels of the present document."""
        if self._values.doc is not self.doc:
            self._values = Values(self.doc)
        return self._values

    def know_mesh(self, ref: MeshRef, mesh) -> None:
        """Take a Mesh that was made already for a reference, with what it knows of its topology."""
        self._meshes.setdefault(ref, mesh)

    def evaluator(self, store=None, stand_ins: bool = False):
        """An evaluator of the document as it is now; it does not follow later edits. stand_ins -- see Evaluator."""
        from ..evaluate.evaluator import Evaluator
        from ..store.frames import FrameStore

        return Evaluator(self.doc, self, store or FrameStore.default(), stand_ins)

    def evaluate(self, frame: float, store=None) -> dict[str, np.ndarray]:
        """Points of each subject at a frame, by subject name: (n, 3) float64, metres.

        Solves what is not solved yet. Raises EstampaError when a layer cannot be computed.
        """
        evaluator = self._evaluator
        if evaluator is None or evaluator.doc is not self.doc or store not in (None, evaluator.store):
            evaluator = self._evaluator = self.evaluator(store)  # kept for a loop over frames
        evaluator.solve_through(frame)
        return {s.name: evaluator.subject(s, frame).points for s in self.doc.subjects if s.on}
