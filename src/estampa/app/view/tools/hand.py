"""The hand: turns the view, selects, and takes hold of handles, points of paths, copies and keys on trails."""

import numpy as np
from PySide6.QtCore import Qt

from .... import edits as do
from ....geometry.place import Place
from ....scene.values import Rows
from .tool import OrbitTool, Tool


class Hand(OrbitTool):
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
        if grip in self.session.selection.joints:
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
    """A point of what is selected, in the hand: of a path, a copy placed by hand, or whatever its facet has."""

    def __init__(self, pane, index: int):
        super().__init__(pane)
        self.index = index

    def press(self, at, modifiers=Qt.NoModifier):
        super().press(at)
        spots = self.pane.spots()
        self.point = spots.points[self.index]
        self.before = spots.of.spots[self.index] if self.index < len(spots.of.spots) else None
        self.sizes, self.turns = bool(modifiers & Qt.ControlModifier), bool(modifiers & Qt.ShiftModifier)

    def move(self, at):
        spots = self.pane.spots()
        if spots is None:
            return
        by = self.pane.facet()
        if (self.turns or self.sizes) and self.before is not None:
            turn = 0.0 if self.sizes else 0.012 * (at[0] - self.start[0])
            factor = float(np.exp(-0.008 * (at[1] - self.start[1]))) if self.sizes else 1.0
            if by.turn_spot(self.pane, spots.of, self.index, self.before, turn, factor):
                return
        to = self._dragged(at, spots.level)
        if to is not None:
            self.move_to(spots.of, to)

    def _dragged(self, at, level: bool) -> np.ndarray | None:
        """(3,) m where the point is dragged to: in the plane that faces the camera, or on its own height."""
        pane = self.pane
        eye, direction = pane.camera.ray(*at, pane.width(), pane.height())
        normal = np.array([0.0, 1, 0]) if level else pane.camera.axes[2]
        slope = direction @ normal
        return eye + direction * ((self.point - eye) @ normal) / slope if abs(slope) >= 1e-3 else None

    def move_to(self, thing, to):
        held = self.session.selection.thing
        self.pane.facet().move_spot(self.pane, thing if thing.spots else held, self.index, to)

    def release(self, at, modifiers=Qt.NoModifier):
        self.session.scene.end_merge()
        super().release(at)


class TrailHold(SpotHold):
    """A key on the trail of what is selected, in the hand."""

    def press(self, at, modifiers=Qt.NoModifier):
        super().press(at, Qt.NoModifier)
        self.frame = self.pane.trail_keys()[self.index]

    def move_to(self, thing, to):
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
        return (SpotHold if pane.own_spots() is not None else TrailHold)(pane, spot)
    handles = pane.handles()
    part = handles.under(*at) if handles else None
    if part:
        return HandleHold(pane, part, handles)
    limit = pane.limit_under(*at)
    return LimitHold(pane, *limit) if limit else None
