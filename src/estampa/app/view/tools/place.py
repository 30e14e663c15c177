"""Placing: points of a path, cut points, and copies made by hand, where the mesh or the floor is clicked."""

from PySide6.QtCore import Qt

from .... import edits as do
from ....edits import pieces
from .tool import Tool


class Placing(Tool):
    """Puts a point of the selected path, a point to cut around, or a copy made by hand, where it is clicked."""

    def release(self, at, modifiers=Qt.NoModifier):
        if self.is_click(at):
            self._place(*at)
        super().release(at)

    def _place(self, x, y):
        s, thing = self.session, self.session.selection.thing
        if thing is not None and thing.kind == "break":
            self._cut_around(thing, x, y)
            return
        by_hand = thing is not None and thing.kind == "copies" and thing.constant("arrange") == "hand"
        if not by_hand and (thing is None or thing.kind != "path"):
            words = "Select a path, or copies arranged by hand; then click where a point or copy should stand."
            s.notice.emit("note", words, "")
            return
        at = self.pane.ground_under(x, y)
        if at is None:
            s.notice.emit("note", "Nothing is there: click a mesh or the floor.", "")
            return
        if by_hand:
            spot = (*map(float, at), 0.0, 1.0)
        else:
            spot = tuple(map(float, self.pane.place(thing).inverse().apply(at[None, None])[0, 0]))
        do.set_spots(s.scene, thing.id, (*thing.spots, spot), f"Add a point to {thing.name}")

    def _cut_around(self, layer, x, y):
        """Set a point in the volume under a pixel that a Break cuts around."""
        s, at = self.session, self.pane.middle_under(x, y)
        path = s.doc.find(layer.constant("path")) if layer.constant("gather") == "spots" else None
        if path is not None:
            at = self.pane.place(path).inverse().apply(at[None, None])[0, 0]
            do.set_spots(s.scene, path.id, (*path.spots, (*map(float, at), 0.0, 1.0)), f"Add a point to {path.name}")
        else:
            have = self.pane.cut_points(layer)  # those that it has are taken in hand with it
            s.carry_out(lambda: pieces.cut_around(s.scene, layer.id, [*have, at]))
