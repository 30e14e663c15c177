"""Placing: points of a path, cut points, copies made by hand, and whatever else a facet lets a hand place."""

from PySide6.QtCore import Qt

from ...facets import facet_of
from .tool import Tool


class Placing(Tool):
    """Puts a point of the selected path, a point to cut around, or a copy made by hand, where it is clicked."""

    def release(self, at, modifiers=Qt.NoModifier):
        if self.is_click(at):
            self._place(*at)
        super().release(at)

    def _place(self, x, y):
        thing = self.session.selection.thing
        if thing is None or not facet_of(thing.declared).place(self.pane, thing, x, y):
            words = "Select a path, or copies arranged by hand; then click where a point or copy should stand."
            self.session.notice.emit("note", words, "")
