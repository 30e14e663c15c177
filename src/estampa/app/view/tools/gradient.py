"""Gradients: a drag lays weights from 0 to 1 into the active map, or into the skin of the selected joint."""

import numpy as np
from PySide6.QtGui import QColor, QPen

from .... import edits as do
from ....edits import joints as build
from ....geometry import maps
from ....geometry import weights as bound
from ...shell import theme
from .tool import Banded


class Gradient(Banded):
    """Lays a straight gradient between two points of the picture."""

    def dragged(self, start, end, modifiers):
        if not (self.session.selection.joints and self._in_skin(start, end)):
            self._in_map(start, end)

    def _in_map(self, start, end):
        """In the active map; on the chosen vertices if any."""
        s, subject = self.session, self.session.selection.subject
        if subject is None or subject.id not in s.pictures.picture.shapes:
            return
        points = s.pictures.picture.shapes[subject.id].own
        chosen = s.selection.chosen_of(subject)
        found = subject.map(s.selection.map_id)
        before = s.scene.arrays.get(found.weights) if found else np.zeros(len(points), np.float32)
        ends = self._on_surface(points, start, end)
        weights = maps.gradient(points, *ends, before, chosen if chosen.any() else None)
        if found:
            do.set_map(s.scene, subject.id, found.id, weights, f"Gradient in {found.name}")
        else:
            s.selection.use_map(do.add_map(s.scene, subject.id, weights, "Gradient").id)

    def _in_skin(self, start, end) -> bool:
        """Weights of the selected joint, 0 where the drag begins and 1 where it ends."""
        s, found = self.session, self.pane.painted()
        if found is None:
            return False
        subject, layer, joint = found
        shape = s.pictures.picture.shapes.get(subject.id)
        dense = build.weights_of(s.scene, layer)
        if shape is None or len(shape.own) != len(dense):
            return False
        a, b = self._on_surface(shape.own, start, end)
        along = (shape.own - a) @ (b - a) / max(float((b - a) @ (b - a)), 1e-12)
        locked = [layer.bind.joints.index(j) for j in layer.bind.locked]
        wanted = bound.given(dense, joint, np.clip(along, 0, 1), locked, self.pane.heir(layer))
        build.set_weights(s.scene, layer.id, wanted, f"Gradient of {s.selection.joints[0].name}")
        return True

    def _on_surface(self, points, *pixels) -> list[np.ndarray]:
        """The points under pixels, at the depth of the nearest vertex on screen."""
        pane, found = self.pane, []
        shown, _ = pane.camera.project(points, pane.width(), pane.height())
        back = pane.camera.axes[2]
        for at in pixels:
            near = points[np.linalg.norm(shown - at, axis=1).argmin()]
            eye, direction = pane.camera.ray(*at, pane.width(), pane.height())
            found.append(eye + direction * ((near - eye) @ back) / (direction @ back))
        return found

    def draw_band(self, painter, a, b):
        for colour, wide in (("#2a2420", 4), ("#fcd673", 2)):
            painter.setPen(QPen(QColor(colour), wide))
            painter.drawLine(a, b)
        for p, word in ((a, "0"), (b, "1")):
            painter.setBrush(theme.ramp_colour(float(word)))
            painter.drawEllipse(p, 7, 7)
