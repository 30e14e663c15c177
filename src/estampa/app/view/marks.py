"""Marks over the picture: zones, paths, cameras, trails and the places of copies, drawn as ink."""

import numpy as np
from PySide6.QtCore import QLineF, QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen, QPolygonF

from ...geometry.place import Place
from ..shell import theme

DARK, PAPER, AMBER = QColor("#2a2420"), QColor("#fffaf0"), QColor("#fcd673")
RED = QColor("#e5322d")  # what goes through something
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
        polygon = polygon_of(_thinned(np.clip(pixels[run], -20_000, 20_000)))
        if halo:
            painter.setPen(QPen(QColor(42, 36, 32, 170), wide + 2))
            painter.drawPolyline(polygon)
        painter.setPen(QPen(colour, wide, style))
        painter.drawPolyline(polygon)


def segments(painter: QPainter, view, groups, colour=AMBER, wide=1.0) -> None:
    """Separate lines in space, (s, 2, 3) a group; those that reach behind the camera are left out."""
    if not groups:
        return
    points = np.concatenate(groups)
    pixels, depth = view.camera.project(points.reshape(-1, 3), view.width, view.height)
    seen = (depth.reshape(-1, 2) > 0).all(axis=1)
    ends = np.clip(pixels.reshape(-1, 2, 2)[seen], -20_000, 20_000)
    painter.setPen(QPen(colour, wide))
    painter.drawLines([QLineF(*a, *b) for a, b in ends.tolist()])


def polygon_of(pixels) -> QPolygonF:
    return QPolygonF([QPointF(x, y) for x, y in pixels.tolist()])


def _thinned(pixels, least=1.5):
    """Points of a line without those that come sooner than `least` pixels along it; both ends stay."""
    along = np.floor(np.cumsum(np.linalg.norm(np.diff(pixels, axis=0), axis=1)) / least)
    keep = np.concatenate([[True], np.diff(along, prepend=0) > 0])
    keep[-1] = True
    return pixels[keep]


def dot(painter: QPainter, view, point, radius=4.0, fill=PAPER, edge=DARK) -> None:
    pixels, depth = view.camera.project(np.asarray(point, float)[None], view.width, view.height)
    if depth[0] > 0:
        painter.setPen(QPen(edge, 1.4))
        painter.setBrush(fill)
        painter.drawEllipse(QPointF(*pixels[0]), radius, radius)


def dots(painter: QPainter, view, points) -> None:
    """Many places, as small amber points with a dark edge, seen through what is before them."""
    pixels, depth = view.camera.project(np.asarray(points, float), view.width, view.height)
    places = polygon_of(pixels[(depth > 0) & (np.abs(pixels) < 20_000).all(axis=1)])
    for ink, wide in ((DARK, 5.4), (AMBER, 3.4)):
        painter.setPen(QPen(ink, wide, Qt.SolidLine, Qt.RoundCap))
        painter.drawPoints(places)


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
    """A camera as its film gate: the opening that it sees through, notched on top, perforations down both sides, and
    four short ties towards the eye."""
    deep = 0.45
    tall, wide = deep * np.tan(angle / 2), deep * np.tan(angle / 2) * 16 / 9
    notch = 0.16 * wide
    gate = [(-wide, -tall), (wide, -tall), (wide, tall), (notch, tall), (0, 0.82 * tall), (-notch, tall), (-wide, tall)]
    stand = lambda points: place.apply(np.array([[(x, y, -deep) for x, y in points]]))[0]
    colour = AMBER if chosen else PAPER
    line(painter, view, stand([*gate, gate[0]]), colour, 1.6)
    for side in (-1, 1):
        for y in (-0.6, -0.2, 0.2, 0.6):
            x, half = side * 1.09 * wide, 0.05 * wide
            hole = [(x - half, y * tall - half), (x + half, y * tall - half), (x + half, y * tall + half)]
            hole += [(x - half, y * tall + half), (x - half, y * tall - half)]
            line(painter, view, stand(hole), colour, 1.0, halo=False)
    eye = place.origin[0]
    for corner in stand([gate[0], gate[1], gate[2], gate[-1]]):
        line(painter, view, np.stack([corner, corner + 0.3 * (eye - corner)]), colour, 1.2)
    dot(painter, view, eye, 2.5, colour)


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


INK_OF = {"amber": AMBER, "plum": QColor(150, 78, 128), "sea": QColor(64, 146, 138), "paper": PAPER}


def shape_of(look: str, size: float, up: float) -> np.ndarray:
    """(n, 3) m, the line by which a joint is drawn, in the joint's own axes: across it, but for the arrow."""
    r = 0.5 * size
    flat = np.zeros(len(CIRCLE))
    if look == "ring":
        line = r * np.stack([CIRCLE[:, 0], flat, CIRCLE[:, 1]], axis=1)
    elif look == "square":
        line = r * np.array([[1, 0, 1], [-1, 0, 1], [-1, 0, -1], [1, 0, -1], [1, 0, 1]], float)
    elif look == "arc":
        turn = np.linspace(-2.0, 2.0, 25)
        head = np.array([[-0.22, 0, 0.02], [0, 0, 0], [0.06, 0, 0.22]])
        line = r * np.stack([np.sin(turn), 0 * turn, np.cos(turn)], axis=1)
        line = np.concatenate([line, line[-1:] + r * head])
    else:
        line = r * np.array([[0, 0, 0], [0, 2, 0], [0.3, 1.5, 0], [0, 2, 0], [-0.3, 1.5, 0], [0, 2, 0]], float)
    return line + [0, up, 0]


def joint_shapes(painter: QPainter, view, looked, chosen: set, looks: dict) -> None:
    """Joints that are shown as shapes to take hold of."""
    for joint, (look, size, up, ink) in looks.items():
        where = looked.bones.where.get(joint)
        if where is None or look in ("needle", "hidden"):
            continue
        line = shape_of(look, size, up) @ looked.world[where, :3, :3].T + looked.world[where, :3, 3]
        pixels, depth = view.camera.project(line, view.width, view.height)
        if not ((depth > 0).all() and (np.abs(pixels) < 20_000).all()):
            continue
        for colour, wide in ((DARK, 4.6), (PAPER if joint in chosen else INK_OF[ink], 2.4)):
            painter.setPen(QPen(colour, wide, Qt.SolidLine, Qt.RoundCap, Qt.RoundJoin))
            painter.drawPolyline(polygon_of(pixels))


def skeleton(painter: QPainter, view, looked, chosen: set, active: bool, looks: dict) -> None:
    """Joints as needles from each to what hangs on it, with a ring where it turns; but for those of another look."""
    if not len(looked.world):
        return
    shaped = np.array([j.id in looks for j in looked.bones.joints])
    starts, ends = looked.ends()
    joint, _ = looked.bones.segments
    held = np.array([j.id in chosen for j in looked.bones.joints])
    a, depth_a = view.camera.project(starts, view.width, view.height)
    b, depth_b = view.camera.project(ends, view.width, view.height)
    seen = (depth_a > 0) & (depth_b > 0) & (np.abs(np.hstack([a, b])) < 20_000).all(axis=1) & ~shaped[joint]
    way = b - a
    length = np.linalg.norm(way, axis=1)
    many = len(joint) > 600
    if many:
        painter.setPen(QPen(PAPER, 1.2))
        plain = seen & ~held[joint]
        painter.drawLines([QLineF(*ends) for ends in np.hstack([a, b])[plain].tolist()])
        seen &= held[joint]
    seen &= length > 1.5
    # needles: broad where they turn, fine where they end
    broad = np.minimum(3.6, 0.12 * length) / np.maximum(length, 1e-9) * (1.0 if active else 0.75)
    across = np.stack([-way[:, 1], way[:, 0]], axis=1) * broad[:, None]
    needles = np.stack([a + across, b, a - across], axis=1)
    painter.setPen(QPen(QColor(42, 36, 32, 215), 1.2))
    for group, colour, strength in ((~held, PAPER, 215 if active else 140), (held, AMBER, 240)):
        fill = QColor(colour)
        fill.setAlpha(strength)
        painter.setBrush(fill)
        drawn = QPainterPath()
        for broad_a, tip, broad_b in needles[seen & group[joint]].tolist():
            drawn.moveTo(*broad_a)
            drawn.lineTo(*tip)
            drawn.lineTo(*broad_b)
            drawn.closeSubpath()
        drawn.setFillRule(Qt.WindingFill)
        painter.drawPath(drawn)
    if many:
        return
    pixels, depth = view.camera.project(looked.world[:, :3, 3], view.width, view.height)
    seen = (depth > 0) & (np.abs(pixels) < 20_000).all(axis=1) & ~shaped
    for group, colour, more in ((~held, PAPER, 0.0), (held, AMBER, 1.6)):
        places = polygon_of(pixels[seen & group])
        for ink, wide in ((DARK, 9.2 + 1.5 * more), (colour, 6.6 + more), (DARK, 3.0 + more)):  # a ring, edged
            painter.setPen(QPen(ink, wide, Qt.SolidLine, Qt.RoundCap))
            painter.drawPoints(places)


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
