"""Handles of a grip in the viewport: move, turn and size. Drawn as ink over the picture, felt in pixels."""

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from ...lazy import transform
from ...scene.things import Grip
from ..shell import theme
from .camera import Camera

ARM, RING, NEAR = 74, 58, 9  # pixels
AXES = {"x": ("#d8573a", "X"), "y": ("#93a23c", "Y"), "z": ("#5b86b8", "Z")}


@dataclass
class View:
    camera: Camera
    width: int
    height: int

    def at(self, point) -> np.ndarray:
        return self.camera.project(np.asarray(point, float)[None], self.width, self.height)[0][0]


class Handles:
    """The handles of one grip, as they stand in one view."""

    def __init__(self, view: View, values: dict, locked: tuple = ()):
        self.view, self.values, self.locked = view, values, locked
        self.origin, self.axes, self.size = Grip.frame(values)
        # a channel that is locked is one of the world's axes, so what is free is too
        self.arms = np.eye(3) if {"x", "y", "z"} & set(locked) else self.axes
        self.centre = view.at(self.origin)
        self.scale = view.camera.metres_per_pixel(view.height, self.origin)  # metres per pixel at the grip

    def parts(self):
        """Yields (name, polyline in pixels) of everything that can be taken hold of, the smallest first."""
        corner = self.centre + np.array([ARM * 0.62, -ARM * 0.62])
        if "size" not in self.locked:
            yield "size", np.array([corner])
        if not {"x", "y", "z"} <= set(self.locked):
            yield "move", np.array([self.centre])
        for i, name in enumerate("xyz"):
            if name in self.locked:
                continue
            tip = self.view.at(self.origin + self.arms[:, i] * ARM * self.scale)
            yield f"move {name}", np.array([self.centre + (tip - self.centre) * t for t in np.linspace(0.3, 1, 8)])
        turn = np.linspace(0, 2 * np.pi, 41)
        for i, name in enumerate("xyz"):
            if f"turn_{name}" in self.locked:
                continue
            a, b = self.axes[:, (i + 1) % 3], self.axes[:, (i + 2) % 3]
            ring = self.origin + (np.cos(turn)[:, None] * a + np.sin(turn)[:, None] * b) * RING * self.scale
            yield f"turn {name}", self.view.camera.project(ring, self.view.width, self.view.height)[0]

    def under(self, x: float, y: float) -> str | None:
        """Name of the handle under a pixel."""
        best, found = NEAR, None
        for name, line in self.parts():
            gap = float(np.linalg.norm(line - [x, y], axis=1).min()) - (4 if name in ("move", "size") else 0)
            if gap < best:
                best, found = gap, name
        return found

    def dragged(self, handle: str, start: tuple[float, float], now: tuple[float, float]) -> dict:
        """New channel values when a handle is dragged from one pixel to another."""
        v, start, now = self.values, np.array(start), np.array(now)
        moved = now - start
        if handle == "move":
            right, up, _ = self.view.camera.axes
            return self._moved((right * moved[0] - up * moved[1]) * self.scale)
        if handle.startswith("move"):
            axis = self.arms[:, "xyz".index(handle[-1])]
            along = (self.view.at(self.origin + axis * self.scale * 10) - self.centre) / 10  # pixels per step of scale
            length2 = max(float(along @ along), 0.02)
            return self._moved(axis * (moved @ along) / length2 * self.scale)
        if handle == "size":
            ratio = np.linalg.norm(now - self.centre) / max(np.linalg.norm(start - self.centre), 1.0)
            return {"size": float(max(v["size"] * ratio, 1e-4))}
        axis = self.axes[:, "xyz".index(handle[-1])]
        a, b = np.arctan2(*(start - self.centre)[::-1]), np.arctan2(*(now - self.centre)[::-1])
        facing = 1.0 if axis @ self.view.camera.axes[2] > 0 else -1.0
        turned = transform.Rotation.from_rotvec(axis * -(b - a) * facing) * transform.Rotation.from_matrix(self.axes)
        x, y, z = turned.as_euler("XYZ")
        return {"turn_x": float(x), "turn_y": float(y), "turn_z": float(z)}

    def _moved(self, by) -> dict:
        x, y, z = self.origin + by
        return {"x": float(x), "y": float(y), "z": float(z)}

    # -- drawing -------------------------------------------------------------------------------------------
    def draw(self, painter: QPainter, hot: str | None) -> None:
        for name, line in reversed(list(self.parts())):
            if name.startswith("turn"):
                colour = QColor(AXES[name[-1]][0])
                colour.setAlpha(255 if name == hot else 170)
                painter.setPen(QPen(colour, 2.6 if name == hot else 1.3))
                painter.setBrush(Qt.NoBrush)
                painter.drawPolyline(QPolygonF([QPointF(*p) for p in line]))
        for i, axis in enumerate("xyz"):
            if axis in self.locked:
                continue  # a locked axis has no handle
            colour, letter = AXES[axis]
            tip = self.view.at(self.origin + self.arms[:, i] * ARM * self.scale)
            hot_now = hot == f"move {axis}"
            painter.setPen(QPen(QColor(colour), 3.2 if hot_now else 2.0))
            painter.drawLine(QPointF(*self.centre), QPointF(*tip))
            draw_tag(painter, tip, tip - self.centre, colour, letter, hot_now)
        painter.setPen(QPen(QColor("#fffaf0"), 1.5))
        painter.setBrush(QColor(theme.ink.accent if hot == "move" else "#2a2420"))
        painter.drawEllipse(QPointF(*self.centre), 6, 6)
        if "size" in self.locked:
            return
        corner = self.centre + np.array([ARM * 0.62, -ARM * 0.62])
        painter.setPen(QPen(QColor("#2a2420"), 1, Qt.DotLine))
        painter.drawLine(QPointF(*self.centre), QPointF(*corner))
        painter.setPen(QPen(QColor("#fffaf0"), 1.2))
        painter.setBrush(QColor(theme.ink.accent if hot == "size" else "#2a2420"))
        painter.drawRect(QRectF(corner[0] - 5, corner[1] - 5, 10, 10))


def draw_tag(painter: QPainter, tip, along, colour: str, letter: str, hot: bool = False) -> None:
    """A paper tag tied to the end of an arm: its point to the arm, an eyelet in it, its axis in ink."""
    way = along / max(float(np.linalg.norm(along)), 1e-6)
    across = np.array([-way[1], way[0]])
    corners = [(0, 0), (5, 7), (19, 7), (19, -7), (5, -7)]
    shape = QPolygonF([QPointF(*(tip + way * a + across * b)) for a, b in corners])
    painter.setPen(QPen(QColor(colour), 2.2 if hot else 1.5))
    painter.setBrush(QColor("#fffaf0"))
    painter.drawPolygon(shape)
    painter.setPen(Qt.NoPen)
    painter.setBrush(QColor(colour))
    painter.drawEllipse(QPointF(*(tip + way * 4.2)), 1.5, 1.5)
    middle = tip + way * 12.5
    painter.setPen(QColor("#2a2420"))
    painter.setFont(theme.type_face(8, bold=True))
    painter.drawText(QRectF(middle[0] - 8, middle[1] - 8, 16, 16), Qt.AlignCenter, letter)


def draw_wind(painter: QPainter, view: View, values: dict, speed: float) -> None:
    """Three streaks along a wind's direction, longer for a stronger wind."""
    origin, axes, size = Grip.frame(values)
    length = 0.25 * size + 0.06 * speed
    painter.setPen(QPen(QColor("#fffaf0"), 2))
    painter.setBrush(QColor("#fffaf0"))
    for side in (-0.5, 0.0, 0.5):
        tail = origin + axes[:, 0] * side * 0.7 * size
        a, b = view.at(tail), view.at(tail + axes[:, 2] * length)
        way = (b - a) / max(np.linalg.norm(b - a), 1e-6)
        across = np.array([-way[1], way[0]])
        painter.drawLine(QPointF(*a), QPointF(*b))
        painter.drawPolygon(QPolygonF([QPointF(*b + way * 7), QPointF(*b + across * 4), QPointF(*b - across * 4)]))


def draw_bend(painter: QPainter, view: View, values: dict, low: float, high: float, angle: float) -> None:
    """The spine between a bend's limits, curled as it is at this frame."""
    origin, axes, _ = Grip.frame(values)
    s = np.linspace(0, 1, 25) * (high - low)
    k = angle / (high - low) if high > low else 0.0
    y, z = (np.sin(k * s) / k, (1 - np.cos(k * s)) / k) if abs(k) > 1e-9 else (s, s * 0)
    spine = origin + np.stack([s * 0, low + y, z], axis=1) @ axes.T
    pixels = view.camera.project(spine, view.width, view.height)[0]
    path = QPainterPath(QPointF(*pixels[0]))
    for p in pixels[1:]:
        path.lineTo(QPointF(*p))
    painter.setBrush(Qt.NoBrush)
    painter.setPen(QPen(QColor("#2a2420"), 4))
    painter.drawPath(path)
    painter.setPen(QPen(QColor("#fcd673"), 2))
    painter.drawPath(path)
    for p in (pixels[0], pixels[-1]):
        painter.drawEllipse(QPointF(*p), 4, 4)
