"""Marks over the picture: zones, paths, cameras, trails and the places of copies, drawn as ink."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from ..geometry.place import Place
from . import theme

DARK, PAPER, AMBER = QColor("#2a2420"), QColor("#fffaf0"), QColor("#fcd673")
TURN = np.linspace(0, 2 * np.pi, 49)
CIRCLE = np.stack([np.cos(TURN), np.sin(TURN)], axis=1)


def line(painter: QPainter, view, points, colour=PAPER, wide=1.6, style=Qt.SolidLine, halo=True) -> None:
    """A line in space, with a dark edge so that it is seen on any ground; parts behind the camera are left out."""
    points = np.asarray(points, float)
    if len(points) < 2:
        return
    pixels, depth = view.camera.project(points, view.width, view.height)
    runs = np.split(np.arange(len(points)), np.flatnonzero(np.diff((depth > 0).astype(int))) + 1)
    painter.setBrush(Qt.NoBrush)
    for run in runs:
        if len(run) < 2 or depth[run[0]] <= 0:
            continue
        polygon = QPolygonF([QPointF(*p) for p in np.clip(pixels[run], -20_000, 20_000)])
        if halo:
            painter.setPen(QPen(QColor(42, 36, 32, 170), wide + 2))
            painter.drawPolyline(polygon)
        painter.setPen(QPen(colour, wide, style))
        painter.drawPolyline(polygon)


def dot(painter: QPainter, view, point, radius=4.0, fill=PAPER, edge=DARK) -> None:
    pixels, depth = view.camera.project(np.asarray(point, float)[None], view.width, view.height)
    if depth[0] > 0:
        painter.setPen(QPen(edge, 1.4))
        painter.setBrush(fill)
        painter.drawEllipse(QPointF(*pixels[0]), radius, radius)


def zone(painter: QPainter, view, place: Place, v: dict, path, chosen: bool) -> None:
    """A zone's border, and dashed its core, where it is full."""
    colour = AMBER if chosen else PAPER
    core = 1 - v["soft"]
    for share, style in ((1.0, Qt.SolidLine), (core, Qt.DashLine)):
        if share <= 0.02:
            continue
        for loop in _zone_lines(v, share, path):
            where = loop if v["shape"] == "path" else place.apply(loop[None])[0]
            line(painter, view, where, colour, 1.6 if chosen else 1.1, style, halo=chosen)


def _zone_lines(v, share, path):
    r = v["reach"] * share
    flat = np.zeros(len(CIRCLE))
    if v["shape"] == "sphere":
        for columns in ((CIRCLE[:, 0], CIRCLE[:, 1], flat), (CIRCLE[:, 0], flat, CIRCLE[:, 1]), (flat, *CIRCLE.T)):
            yield r * np.stack(columns, axis=1)
    elif v["shape"] == "box":
        a = np.array([v["wide"], v["tall"], v["deep"]]) * share
        square = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]])
        for side in (-1, 1):
            yield np.stack([square[:, 0], np.full(5, side), square[:, 1]], axis=1) * a
        for x, z in square[:4]:
            yield np.array([[x, -1, z], [x, 1, z]]) * a
    elif v["shape"] == "path":
        if path is not None:
            yield path
    else:
        heights = (-v["reach"] * (1 - share),) if v["shape"] == "half" else (-r, r)
        square = 1.5 * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]])
        for y in heights:
            yield np.stack([square[:, 0], np.full(5, y), square[:, 1]], axis=1)


def path(painter: QPainter, view, points, spots, chosen: bool, hot: int | None) -> None:
    if points is not None:
        line(painter, view, points, AMBER if chosen else PAPER, 2 if chosen else 1.4)
    for i, spot in enumerate(spots):
        if chosen or i in (0, len(spots) - 1):
            dot(painter, view, spot, 6 if i == hot else 4.5 if chosen else 3, AMBER if chosen else PAPER)


def camera(painter: QPainter, view, place: Place, angle: float, chosen: bool) -> None:
    """The frustum of a camera, a metre deep at most."""
    deep = 0.45
    tall, wide = deep * np.tan(angle / 2), deep * np.tan(angle / 2) * 16 / 9
    corners = np.array([[-wide, -tall, -deep], [wide, -tall, -deep], [wide, tall, -deep], [-wide, tall, -deep]])
    frame = place.apply(np.vstack([corners, corners[:1]])[None])[0]
    colour = AMBER if chosen else PAPER
    line(painter, view, frame, colour, 1.5)
    for corner in frame[:4]:
        line(painter, view, np.stack([place.origin[0], corner]), colour, 1.2)
    top = place.apply(np.array([[[-0.4 * wide, tall, -deep], [0, 1.5 * tall, -deep], [0.4 * wide, tall, -deep]]]))[0]
    line(painter, view, top, colour, 1.2)


def trail(painter: QPainter, view, points, start: int, frame: float, keys) -> None:
    """Where a thing goes: a tick for each frame, a dot for each key, larger where it is now."""
    line(painter, view, points, AMBER, 1.4)
    pixels, depth = view.camera.project(points, view.width, view.height)
    seen = (depth > 0) & (np.abs(pixels) < 20_000).all(axis=1)
    along = np.gradient(pixels, axis=0) if len(pixels) > 1 else np.zeros_like(pixels)
    across = np.stack([-along[:, 1], along[:, 0]], axis=1)
    across /= np.maximum(np.linalg.norm(across, axis=1), 1e-6)[:, None]
    painter.setPen(QPen(AMBER, 1.2))
    for i in np.flatnonzero(seen):
        a, b = pixels[i] - 3 * across[i], pixels[i] + 3 * across[i]
        painter.drawLine(QPointF(*a), QPointF(*b))
    for key in keys:
        i = int(round(key)) - start
        if 0 <= i < len(points) and seen[i]:
            painter.setPen(QPen(DARK, 1.2))
            painter.setBrush(AMBER)
            painter.drawEllipse(QPointF(*pixels[i]), 4, 4)
    i = int(round(frame)) - start
    if 0 <= i < len(points) and seen[i]:
        painter.setPen(QPen(PAPER, 1.6))
        painter.setBrush(QColor(theme.ink.accent))
        painter.drawEllipse(QPointF(*pixels[i]), 4.5, 4.5)


def name(painter: QPainter, view, point, words: str) -> None:
    """A thing's name beside it."""
    pixels, depth = view.camera.project(np.asarray(point, float)[None], view.width, view.height)
    if depth[0] <= 0:
        return
    painter.setFont(theme.type_face(8.5))
    wide = painter.fontMetrics().horizontalAdvance(words)
    box = QRectF(pixels[0][0] + 10, pixels[0][1] - 9, wide + 10, 17)
    painter.setPen(Qt.NoPen)
    painter.setBrush(QColor(42, 36, 32, 140))
    painter.drawRoundedRect(box, 2, 2)
    painter.setPen(PAPER)
    painter.drawText(box, Qt.AlignCenter, words)


def skeleton(painter: QPainter, view, looked, chosen: set, active: bool, hot: int | None = None) -> None:
    """Joints as needles from each to what hangs on it, with a ring where it turns."""
    if not len(looked.world):
        return
    starts, ends = looked.ends()
    joint, _ = looked.bones.segments
    a, depth_a = view.camera.project(starts, view.width, view.height)
    b, depth_b = view.camera.project(ends, view.width, view.height)
    many = len(joint) > 600
    painter.setPen(Qt.NoPen)
    for s in range(len(joint)):
        if depth_a[s] <= 0 or depth_b[s] <= 0 or np.abs([*a[s], *b[s]]).max() > 20_000:
            continue
        held = looked.bones.joints[joint[s]].id in chosen
        colour = AMBER if held else PAPER
        if many and not held:
            painter.setPen(QPen(colour, 1.2))
            painter.drawLine(QPointF(*a[s]), QPointF(*b[s]))
            painter.setPen(Qt.NoPen)
            continue
        way = b[s] - a[s]
        length = float(np.linalg.norm(way))
        if length < 1.5:
            continue
        # a needle: broad where it turns, fine where it ends
        across = np.array([-way[1], way[0]]) / length * min(3.6, 0.12 * length) * (1.0 if active else 0.75)
        shape = QPolygonF([QPointF(*p) for p in (a[s] + across, b[s], a[s] - across)])
        fill = QColor(colour)
        fill.setAlpha(240 if held else 215 if active else 140)
        painter.setBrush(fill)
        painter.setPen(QPen(QColor(42, 36, 32, 215), 1.2))
        painter.drawPolygon(shape)
        painter.setPen(Qt.NoPen)
    if many:
        return
    pixels, depth = view.camera.project(looked.world[:, :3, 3], view.width, view.height)
    for i, place in enumerate(pixels):
        if depth[i] > 0 and np.abs(place).max() < 20_000:
            held = looked.bones.joints[i].id in chosen
            painter.setPen(QPen(DARK, 1.2))
            painter.setBrush(DARK)
            painter.drawEllipse(QPointF(*place), 5.2 if held else 4.0, 5.2 if held else 4.0)
            painter.setPen(QPen(AMBER if held else PAPER, 1.8))
            painter.drawEllipse(QPointF(*place), 3.2 if held else 2.4, 3.2 if held else 2.4)


def collider(painter: QPainter, view, place: Place, v: dict, chosen: bool) -> None:
    """What is solid, by its outlines."""
    colour, wide = (AMBER, 1.8) if chosen else (PAPER, 1.2)
    r, h = v["radius"], v["reach"]
    if v["shape"] == "box":
        loops = list(_zone_lines({**v, "shape": "box"}, 1.0, None))
    elif v["shape"] == "plane":
        square = 1.5 * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1], [-1, -1], [1, 1], [1, -1], [-1, 1]])
        loops = [np.stack([square[:, 0], np.zeros(len(square)), square[:, 1]], axis=1)]
    elif v["shape"] == "mesh":
        return
    else:
        h = h if v["shape"] == "capsule" else 0.0
        flat = np.zeros(len(CIRCLE))
        loops = [r * np.stack([CIRCLE[:, 0], flat, CIRCLE[:, 1]], axis=1) + [0, y, 0] for y in {h, -h}]
        lift = np.where(CIRCLE[:, 1] >= 0, h, -h)
        loops.append(np.stack([r * CIRCLE[:, 0], r * CIRCLE[:, 1] + lift, flat], axis=1))
        loops.append(np.stack([flat, r * CIRCLE[:, 1] + lift, r * CIRCLE[:, 0]], axis=1))
    for loop in loops:
        line(painter, view, place.apply(loop[None])[0], colour, wide, halo=chosen)
