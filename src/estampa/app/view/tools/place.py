"""Placing: points of a path, and copies made by hand, where the mesh or the floor is clicked."""

from PySide6.QtCore import Qt

from .... import edits as do
from .tool import Tool


class Placing(Tool):
    """Puts a point of the selected path, or a copy made by hand, where it is clicked."""

    def release(self, at, modifiers=Qt.NoModifier):
        if self.is_click(at):
            self._place(*at)
        super().release(at)

    def _place(self, x, y):
        s, thing = self.session, self.session.selection.thing
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
