"""Adding things by hand: what is selected, where the middle of the picture is, and what comes with a new thing."""

import numpy as np

from ... import edits as do
from ...errors import EstampaError
from ...kinds.registry import kind_of
from ...scene.document import Thing
from ...scene.values import Rows


class ByHand:
    """A hand that adds a thing of a kind to the scene of a session."""

    def __init__(self, window, kind: str):
        self.window, self.session, self.kind = window, window.session, kind
        self.scene, self.selection = self.session.scene, self.session.selection

    @property
    def middle(self) -> np.ndarray:
        """(3,) m, of what is shown."""
        return self._span()[0]

    @property
    def size(self) -> float:
        """m, of what is shown."""
        return self._span()[1]

    def _span(self) -> tuple[np.ndarray, float]:
        points = [x.points for x in self.session.pictures.picture.shapes.values() if x.stand is None]
        if not points:
            return np.zeros(3), 1.0
        low, high = np.min([p.min(axis=0) for p in points], axis=0), np.max([p.max(axis=0) for p in points], axis=0)
        return (low + high) / 2, float((high - low).max())

    @staticmethod
    def at(place: np.ndarray) -> dict[str, float]:
        """Channels of a place (3,) m."""
        return dict(zip("xyz", map(float, place), strict=True))

    def add(self, values: dict | None = None, spots: tuple = (), name: str | None = None) -> Thing:
        """Add the thing, and select it."""
        made = do.add_thing(self.scene, self.kind, name, values=values or {}, spots=spots)
        self.select(made)
        return made

    def select(self, thing: Thing) -> None:
        self.selection.select(thing.id)

    def say(self, words: str) -> None:
        self.session.notice.emit("done", words, "")

    def frame(self) -> None:
        """Bring everything into view once it is shown."""
        self.window.viewport.frame_when_shown()


def add_layer(session, kind: str) -> None:
    """Add a layer to what is selected and can take it, with values that suit that, and a grip of its own where it goes
    by one."""
    declared = kind_of(kind)
    owner = {"joints": _skeleton, "grains": _swarm}.get(declared.moves, _subject)(session, declared)
    if owner is None:
        return
    values, grip = {}, None
    if owner.mesh is not None:
        mesh = session.scene.mesh(owner.mesh)
        values = declared.first_values(mesh)
        grip = ByHand.at(mesh.foot)
        chosen = owner.map(session.selection.map_id)
        values |= {n: chosen.id for n, c in declared.channels.items() if c.takes_chosen and chosen is not None}
    elif declared.moves == "joints":
        joint, values = _with_joint(session, owner, declared)
        grip = _before(session, owner, joint)
    else:
        grip = {"y": 1.0}
    channel = declared.grip_by_hand()
    layer = do.add_layer(session.scene, owner.id, kind, values=values, grip=grip if channel else None)
    session.selection.select(layer.id)


def _subject(session, declared) -> Thing | None:
    subject, subjects = session.selection.subject, session.doc.subjects
    if subject is None and len(subjects) != 1:
        session.tell(EstampaError("A layer", "needs a subject to move.", "Select a subject in the roster first."))
        return None
    return subject or subjects[0]


def _swarm(session, declared) -> Thing:
    if session.selection.swarm is None:
        raise EstampaError(declared.title, "guides the grains of a swarm.", "Select a swarm, or add one first.")
    return session.selection.swarm


def _skeleton(session, declared) -> Thing:
    if session.selection.skeleton is None:
        raise EstampaError(declared.title, "needs a skeleton.", "Build one first (Joint tool, J).")
    return session.selection.skeleton


def _with_joint(session, skeleton, declared) -> tuple[Thing | None, dict]:
    """(the joint that is selected, the channels by which a layer is of it and of what hangs on it)."""
    joint = next(iter(session.selection.joints), None) if session.selection.thing in skeleton.joints else None
    bones, channel = session.scene.values.bones(skeleton), declared.joint_by_hand()
    if joint is None or not channel or (channel == "first" and bones.parents[bones.where[joint.id]] < 0):
        return joint, {}
    return joint, {channel: joint.id}


def _before(session, skeleton, joint) -> dict[str, float]:
    """Channels of a grip beside a joint, or beside a skeleton, as large as that."""
    bones = session.scene.values.bones(skeleton)
    at = session.scene.values.place(joint, Rows.one(session.player.frame)).origin[0] if joint else np.zeros(3)
    size = float(bones.lengths.sum()) if len(bones) else 1.0
    return ByHand.at(at + [0.5 * size, 0.3 * size, 0.0]) | {"size": 0.3}
