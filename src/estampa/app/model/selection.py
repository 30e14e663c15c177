"""The selection: the thing whose sheet is shown, what goes along with it, and the vertices that are chosen."""

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...scene.copies import only_in_copies
from ...scene.document import Document, Thing
from ...scene.skins import followed, is_skin, skins_of


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
        copies = doc.owned_by("copies")
        if thing in copies:
            return thing
        subject = self.subject
        copies = [t for t in copies if t.on]
        hidden = only_in_copies(doc)
        if subject is not None and (subject.id in hidden or not subject.on):
            return next((c for c in copies if c.constant("subject") == subject.id), subject)
        shown = [s for s in doc.subjects if s.on and s.stack and s.id not in hidden]
        return subject or next(iter([*shown, *copies]), None)

    @property
    def subject(self) -> Thing | None:
        """The selected subject, or the owner of the selected layer."""
        return self._owner("mesh")

    @property
    def skeleton(self) -> Thing | None:
        """The selected skeleton, that of the selected joint, layer or skin; or else the only one there is."""
        found, subject = self._owner("skeleton"), self.subject
        if found is None and subject is not None:
            skins = skins_of(subject)
            found = followed(self.doc, skins[0]) if skins else None
        every = self.doc.skeletons
        return found or (every[0] if len(every) == 1 else None)

    @property
    def swarm(self) -> Thing | None:
        """The selected swarm or liquid, that of the selected layer, or else the only one there is."""
        every = self.doc.swarms
        own = self._owner("grains")
        return own or (every[0] if len(every) == 1 else None)

    def _owner(self, owner: str) -> Thing | None:
        """What is selected, or what has that in its stack, where it is of that sort of owners."""
        thing = self.thing
        if thing is None:
            return None
        found = self.doc.owner(thing.id) or thing
        return found if found.declared is not None and found.declared.owner == owner else None

    @property
    def joints(self) -> list[Thing]:
        """The joints that are selected, the one whose sheet is shown first."""
        found = [self.doc.find(i) for i in (self.selected_id, *sorted(self.also))]
        owners = [self.doc.owner(t.id) if t is not None else None for t in found]
        return [t for t, owner in zip(found, owners, strict=True) if owner is not None and t in owner.joints]

    @property
    def skin(self) -> Thing | None:
        """The skin that is painted: the selected one, that of the selected subject, or one of the selected joint."""
        thing, subject = self.thing, self.subject
        if thing is not None and is_skin(thing) and thing.bind is not None:
            return thing
        skeleton = self.skeleton
        for owner in [subject] if subject is not None else self.doc.subjects:
            for layer in skins_of(owner, bound=True):
                if subject is not None or (skeleton and layer.constant("skeleton") == skeleton.id):
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
