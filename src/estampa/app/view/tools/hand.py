"""The hand: turns the view, selects, and takes hold of handles, points of paths, copies and keys on trails."""

import numpy as np
from PySide6.QtCore import Qt

from .... import edits as do
from ....geometry.place import Place
from ....scene.values import Rows
from .tool import Orbit, Tool


class Hand(Orbit):
    """Turns the view with a drag, selects with a click."""

    def release(self, at, modifiers=Qt.NoModifier):
        if self.is_click(at):
            self.pane.select_at(*at)
        super().release(at)


class HandleHold(Tool):
    """A handle of what is selected, in the hand."""

    def __init__(self, pane, part: str, handles):
        super().__init__(pane)
        self.part, self.handles = part, handles

    def move(self, at):
        self._set(self.handles.dragged(self.part, self.start, at))

    def release(self, at, modifiers=Qt.NoModifier):
        self.session.scene.end_merge()
        super().release(at)

    def _set(self, values: dict) -> None:
        """Values are in the world; the thing's own are within what it rides on."""
        s, grip = self.session, self.pane.active_grip()
        if grip is None:
            return
        if grip.kind == "joint":
            values = self.pane.joint_values(grip, values)
        else:
            parent = s.doc.find(grip.constant("parent"))
            if parent is not None:
                world = Place.of({**self.pane.grip_values(grip), **values})
                values = {n: v for n, v in (self.pane.place(parent).inverse() @ world).values.items() if n in values}
        values = {n: v for n, v in values.items() if n not in grip.locked}
        label = f"{self.part.split()[0].capitalize()} {grip.name}"
        s.carry_out(lambda: s.set(grip.id, values, merge=f"grip {grip.id}", label=label))


class SpotHold(Tool):
    """A point of a path, a copy placed by hand, or a key on a trail, in the hand."""

    def __init__(self, pane, index: int):
        super().__init__(pane)
        self.index = index

    def press(self, at, modifiers=Qt.NoModifier):
        super().press(at)
        (points, thing), frames = self.pane.spots(), self.pane.trail_keys()
        held = modifiers if thing is not None and thing.kind == "copies" else Qt.NoModifier
        self.word = "Size" if held & Qt.ControlModifier else "Turn" if held & Qt.ShiftModifier else ""
        self.before = thing.spots[self.index] if self.word else None
        self.point = points[self.index]
        self.frame = frames[self.index] if self.index < len(frames) else None

    def move(self, at):
        if self.word:
            self._turn_copy(at[0] - self.start[0], at[1] - self.start[1])
        else:
            self._drag(at)

    def release(self, at, modifiers=Qt.NoModifier):
        self.session.scene.end_merge()
        super().release(at)

    def _turn_copy(self, dx, dy):
        """Turn a copy as the hand goes sideways (Shift), or size it as the hand goes up (Ctrl)."""
        thing = self.pane.spots()[1]
        if thing is None or thing.kind != "copies":
            return
        x, y, z, turn, size = self.before
        if self.word == "Size":
            size = float(np.clip(size * np.exp(-0.008 * dy), 0.01, 100))
        else:
            turn = float(turn + 0.012 * dx)
        spots = [*thing.spots[: self.index], (x, y, z, turn, size), *thing.spots[self.index + 1 :]]
        self._set_spots(thing, spots, f"{self.word} a copy of {thing.name}")

    def _drag(self, at):
        """Move in the plane that faces the camera; copies stay at their height."""
        pane, thing = self.pane, self.pane.spots()[1]
        if thing is None:
            return
        eye, direction = pane.camera.ray(*at, pane.width(), pane.height())
        normal = np.array([0.0, 1, 0]) if thing.kind == "copies" else pane.camera.axes[2]
        slope = direction @ normal
        if abs(slope) < 1e-3:
            return
        to = eye + direction * ((self.point - eye) @ normal) / slope
        if thing.kind not in ("path", "copies"):
            self._move_trail_key(thing, to)
            return
        if thing.kind == "path":
            to = pane.place(thing).inverse().apply(to[None, None])[0, 0]
        spots = [list(s) for s in thing.spots]
        spots[self.index][:3] = map(float, to)
        self._set_spots(thing, spots, f"Move a point of {thing.name}")

    def _set_spots(self, thing, spots, label):
        do.set_spots(self.session.scene, thing.id, spots, label, f"spot {thing.id} {self.index}")

    def _move_trail_key(self, thing, to):
        """Put the keys of a thing's position at a frame where the hand is; channels without keys stay."""
        s, rows, frame = self.session, Rows.one(self.frame), self.frame
        parent = s.doc.find(thing.constant("parent"))
        if parent is not None:
            to = s.scene.values.place(parent, rows).inverse().apply(to[None, None])[0, 0]
        values = {n: float(v) for n, v in zip("xyz", to, strict=True) if thing.curve(n) is not None}
        do.set_values(s.scene, thing.id, values, frame, f"trail {thing.id} {frame}", f"Move a key of {thing.name}")


class LimitHold(Tool):
    """The rim of a cone or the edge of a fan, in the hand."""

    def __init__(self, pane, limits, which: str, where: float):
        super().__init__(pane)
        self.limits, self.which, self.where = limits, which, where

    def move(self, at):
        s, joint = self.session, self.limits.joint
        value = self.limits.dragged(self.pane.view(), self.which, self.where, at)
        label = f"Set the {'limit' if self.which == 'cone' else 'twist'} of {joint.name}"
        s.carry_out(lambda: s.set(joint.id, {self.which: value}, merge=f"limit {joint.id}", label=label))

    def release(self, at, modifiers=Qt.NoModifier):
        self.session.scene.end_merge()
        super().release(at)


def held_at(pane, at) -> Tool | None:
    """What can be taken hold of under a pixel: a spot, or a handle of what is selected."""
    spot = pane.spot_under(*at)
    if spot is not None:
        return SpotHold(pane, spot)
    handles = pane.handles()
    part = handles.under(*at) if handles else None
    if part:
        return HandleHold(pane, part, handles)
    limit = pane.limit_under(*at)
    return LimitHold(pane, *limit) if limit else None
