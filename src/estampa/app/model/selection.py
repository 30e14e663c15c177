"""The selection: the thing whose sheet is shown, what goes along with it, and the vertices that are chosen."""

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...scene.copies import only_in_copies
from ...scene.document import Document, Thing


class Selection(QObject):
    """What is selected in the scene of a session."""

    selected = Signal()
    chosen_changed = Signal()  # vertices or active map

    def __init__(self, session):
        super().__init__(session)
        self.session = session
        self.clear()

    def clear(self) -> None:
        self.selected_id: str | None = None
        self.also: frozenset[str] = frozenset()
        self.map_id: str | None = None
        self.chosen: dict[str, np.ndarray] = {}
        self.isolated: set[str] = set()  # only these are drawn, when any are

    @property
    def doc(self) -> Document:
        return self.session.doc

    def follow(self, after: Document) -> None:
        """The document changed: forget what is gone."""
        for name in list(self.chosen):
            subject = after.find(name)
            if subject is None or subject.mesh is None:
                del self.chosen[name]
        if after.find(self.selected_id) is None:
            self.selected_id = None
            self.selected.emit()
        subject = self.subject
        if subject is not None and subject.map(self.map_id) is None:
            self.map_id = subject.maps[0].id if subject.maps else None

    def select(self, thing_id: str | None, also=()) -> None:
        """Select a thing; `also` are others that some commands take along, as joints."""
        also = frozenset(also) - {thing_id}
        if thing_id != self.selected_id or also != self.also:
            self.also = also
            before = self.subject
            self.selected_id = thing_id
            subject = self.subject
            if subject is not None and (before is None or before.id != subject.id):
                self.map_id = subject.maps[0].id if subject.maps else None
            self.selected.emit()

    @property
    def thing(self) -> Thing | None:
        return self.doc.find(self.selected_id)

    @property
    def watched(self) -> Thing | None:
        """What ghosts and comparisons are of: the selected subject or copies, the copies of the selected subject when
        it is off itself, or else the first that is there."""
        doc, thing = self.doc, self.thing
        if thing is not None and thing.kind == "copies":
            return thing
        subject = self.subject
        copies = [t for t in doc.things if t.kind == "copies" and t.on]
        hidden = only_in_copies(doc)
        if subject is not None and (subject.id in hidden or not subject.on):
            return next((c for c in copies if c.constant("subject") == subject.id), subject)
        shown = [s for s in doc.subjects if s.on and s.stack and s.id not in hidden]
        return subject or next(iter([*shown, *copies]), None)

    @property
    def subject(self) -> Thing | None:
        """The selected subject, or the owner of the selected layer."""
        return self._owner("subject")

    @property
    def skeleton(self) -> Thing | None:
        """The selected skeleton, that of the selected joint, layer or skin; or else the only one there is."""
        found, subject = self._owner("skeleton"), self.subject
        if found is None and subject is not None:
            skins = [l for l in subject.stack if l.kind == "skin"]
            found = self.doc.find(skins[0].constant("skeleton")) if skins else None
        every = self.doc.skeletons
        return found or (every[0] if len(every) == 1 else None)

    @property
    def swarm(self) -> Thing | None:
        """The selected swarm or liquid, that of the selected layer, or else the only one there is."""
        every = [t for t in self.doc.things if t.has_grains]
        thing = self.thing
        own = thing if thing is None or thing.has_grains else self.doc.owner(thing.id)
        return own if own is not None and own.has_grains else every[0] if len(every) == 1 else None

    def _owner(self, kind: str) -> Thing | None:
        thing = self.thing
        if thing is None:
            return None
        found = thing if thing.kind == kind else self.doc.owner(thing.id)
        return found if found is not None and found.kind == kind else None

    @property
    def joints(self) -> list[Thing]:
        """The joints that are selected, the one whose sheet is shown first."""
        found = [self.doc.find(i) for i in (self.selected_id, *sorted(self.also))]
        return [t for t in found if t is not None and t.kind == "joint"]

    @property
    def skin(self) -> Thing | None:
        """The skin that is painted: the selected one, that of the selected subject, or one of the selected joint."""
        thing, subject = self.thing, self.subject
        if thing is not None and thing.kind == "skin" and thing.bind is not None:
            return thing
        skeleton = self.skeleton
        for owner in [subject] if subject is not None else self.doc.subjects:
            for layer in owner.stack:
                bound = layer.kind == "skin" and layer.bind is not None
                if bound and (subject is not None or (skeleton and layer.constant("skeleton") == skeleton.id)):
                    return layer
        return None

    def chosen_of(self, subject: Thing) -> np.ndarray:
        """(n,) which vertices of a subject are chosen."""
        count = len(self.session.scene.arrays.get(subject.mesh.points))
        mask = self.chosen.get(subject.id)
        return mask if mask is not None and len(mask) == count else np.zeros(count, bool)

    def choose(self, subject: Thing, mask: np.ndarray) -> None:
        self.chosen[subject.id] = mask
        self.chosen_changed.emit()

    def use_map(self, map_id: str | None) -> None:
        self.map_id = map_id
        self.chosen_changed.emit()
