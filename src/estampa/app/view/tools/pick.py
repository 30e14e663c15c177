"""Picking: vertices of the selected subject, one by one, in a box, or whole islands."""

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QColor, QPen

from ....geometry import maps
from .tool import Banded

REACH = 14  # pixels within which a vertex is picked


class Pick(Banded):
    """Chooses vertices. Shift adds, Ctrl takes away; a double click takes the island."""

    def clicked(self, at, modifiers):
        found = self._seen()
        if found is None:
            return
        subject, pixels, visible = found
        gap = np.where(visible, np.linalg.norm(pixels - at, axis=1), np.inf)
        mask = np.zeros(len(gap), bool)
        if gap.min() <= REACH:
            mask[gap.argmin()] = True
        self._choose(subject, mask, modifiers)

    def dragged(self, start, end, modifiers):
        found = self._seen()
        if found is None:
            return
        subject, pixels, visible = found
        low, high = np.minimum(start, end), np.maximum(start, end)
        self._choose(subject, visible & (pixels >= low).all(axis=1) & (pixels <= high).all(axis=1), modifiers)

    def double(self, at, modifiers=Qt.NoModifier):
        self.clicked(at, modifiers)
        choose_islands(self.session)

    def _seen(self):
        subject = self.session.selection.subject
        if subject is None or subject.id not in self.session.pictures.picture.shapes:
            return None
        return subject, *self.pane.seen(subject)

    def _choose(self, subject, mask, modifiers):
        before = self.session.selection.chosen_of(subject)
        if modifiers & Qt.ShiftModifier:
            mask = before | mask
        elif modifiers & Qt.ControlModifier:
            mask = before & ~mask
        self.session.selection.choose(subject, mask)

    def draw_band(self, painter, a, b):
        painter.setPen(QPen(QColor("#fffaf0"), 1, Qt.DashLine))
        painter.setBrush(QColor(255, 250, 240, 40))
        painter.drawRect(QRectF(a, b).normalized())


def choose_islands(session) -> None:
    """Grow what is chosen to the whole connected islands."""
    subject = session.selection.subject
    if subject is not None:
        mesh = session.scene.mesh(subject.mesh)
        session.selection.choose(subject, maps.islands_of(mesh, session.selection.chosen_of(subject)))
