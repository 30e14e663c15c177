"""Painting the weights of a skin with a brush."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPen

from ....edits import joints as build
from ....geometry import weights as bound
from ....lazy import spatial
from .. import marks
from .tool import Tool


class Paint(Tool):
    """Paints the weights of the selected joint. A whole stroke is one step of the history."""

    def __init__(self, pane):
        super().__init__(pane)
        self._weights: np.ndarray | None = None  # while they are painted
        self._at: tuple | None = None  # (pixel, point of the mesh there or None)

    def press(self, at, modifiers=Qt.NoModifier):
        super().press(at)
        found = self.pane.painted()
        if found is None:
            words = "Bind the mesh to a skeleton and select one of its joints; its weights are painted."
            self.session.notice.emit("note", words, "")
            return
        self._weights = build.weights_of(self.session.scene, found[1])
        self.move(at)

    def hover(self, at):
        self._at = (at, self.pane.surface_under(*at))
        self.pane.update()

    def move(self, at):
        self.hover(at)
        self._paint()

    def release(self, at, modifiers=Qt.NoModifier):
        self._weights = None
        self.session.scene.end_merge()
        super().release(at)

    def put_away(self):
        self._at = None

    def _paint(self):
        """Paint where the brush is."""
        s, found = self.session, self.pane.painted()
        shape = s.pictures.picture.shapes.get(found[0].id) if found else None
        if self._weights is None or shape is None or len(shape.own) != len(self._weights):
            return
        subject, layer, joint = found
        felt = self._felt(shape)
        if felt is None or not felt.any():
            return
        mesh, locked = s.scene.mesh(subject.mesh), [layer.bind.joints.index(j) for j in layer.bind.locked]
        how, heir = s.view.brush.how, self.pane.heir(layer)
        self._weights = bound.painted(self._weights, joint, how, felt, mesh, locked, heir)
        if s.view.brush.mirror:
            other, across = self._mirrored(subject, layer, joint)
            self._weights = bound.painted(self._weights, other, how, felt[across], mesh, locked, heir)
        name = next((j.name for j in s.selection.joints[:1]), "")
        build.set_weights(s.scene, layer.id, self._weights, f"Paint {name}", f"paint {layer.id}")

    def _felt(self, shape) -> np.ndarray | None:
        """(n,) how much each vertex feels of the brush where it is."""
        brush, points, (at, surface) = self.session.view.brush, shape.own, self._at
        eye, direction = self.pane.camera.ray(*at, self.pane.width(), self.pane.height())
        if brush.through:
            away = points - eye
            far = np.linalg.norm(away - np.outer(away @ direction, direction), axis=1)
        elif surface is not None:
            far = np.linalg.norm(points - surface, axis=1)
            if shape.base is None:  # only what faces the eye
                far = np.where(((eye - points) * shape.normals).sum(axis=1) > 0, far, np.inf)
        else:
            return None
        near = np.clip(1 - (far / max(brush.radius, 1e-9)) ** 2, 0, 1)
        return near**2 * brush.strength

    def _mirrored(self, subject, layer, joint):
        """(the joint across, which vertex lies across from each) in the subject's own space."""
        s = self.session
        flip = np.ones(3)
        flip["xyz".index(s.view.brush.mirror)] = -1
        points = s.scene.mesh(subject.mesh).points
        across = spatial.cKDTree(points).query(points * flip)[1]
        places = np.linalg.inv(s.scene.arrays.get(layer.bind.back))[:, :3, 3]
        return int(np.linalg.norm(places - places[joint] * flip, axis=1).argmin()), across

    def draw(self, painter):
        """The ring of the brush, as large as it is on the mesh under the pointer."""
        if self._at is None:
            return
        (at, point), brush, camera = self._at, self.session.view.brush, self.pane.camera
        size = brush.radius / camera.metres_per_pixel(self.pane.height(), camera.target if point is None else point)
        for colour, wide in ((QColor(42, 36, 32, 190), 3.0), (marks.AMBER, 1.5)):
            painter.setPen(QPen(colour, wide, Qt.DashLine if brush.through else Qt.SolidLine))
            painter.setBrush(Qt.NoBrush)
            painter.drawEllipse(QPointF(*at), size, size)
