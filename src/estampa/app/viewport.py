"""The viewport: the picture, the tools that act in it, and what is drawn over it."""

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QPainter, QPen
from PySide6.QtWidgets import QSizePolicy, QWidget

from ..geometry import maps
from ..scene import commands as do
from ..scene.things import Grip
from ..units import format_length
from . import theme
from .camera import Camera
from .handles import AXES, Handles, View, draw_bend, draw_wind
from .render import Drawn, Renderer
from .session import Session

STALL, CLOTH, FILE = (0.46, 0.40, 0.36), (0.83, 0.79, 0.72), (0.62, 0.68, 0.70)
CLICK = 4  # pixels that still count as a click
STRIPES = 12  # over the width of the texture
REACH = 14  # pixels within which a vertex is picked
FINE_UP_TO = 400_000  # triangles whose edges are smoothed when the hand rests


def _drawn(id, points, normals, mesh, colour, weights=None, chosen=None, yarn=None) -> Drawn:
    narrow = lambda array: array.astype(np.float32)
    return Drawn(id, narrow(points), narrow(normals), mesh.triangles, mesh.edges, colour, weights, chosen, yarn)


class Viewport(QWidget):
    picture_shown = Signal()

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.camera = Camera()
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.StrongFocus)
        self.setMinimumSize(320, 200)
        self.setSizePolicy(QSizePolicy.Expanding, QSizePolicy.Expanding)
        self.setAccessibleName("Viewport")
        self.trouble = ""
        try:
            self.renderer = Renderer()
        except RuntimeError as err:
            self.renderer, self.trouble = None, str(err)
        self._image: QImage | None = None
        self._dirty, self._fine_now = True, False
        self._press = None  # (what is dragged, start position, more)
        self._hot: str | None = None
        self._band: tuple | None = None
        self._framed_for, self._frame_with_beside = None, False
        self._fine_later = QTimer(self, singleShot=True, interval=180)
        self._fine_later.timeout.connect(lambda: self._redraw(fine=True))
        s = session
        for signal in (s.looked, s.chosen_changed, s.view_changed, s.selected):
            signal.connect(lambda *_: self._redraw())
        s.doc_changed.connect(lambda *_: self.update())  # handles move at once, the shapes when they are there
        s.looked.connect(self._frame_first)
        s.replaced.connect(self.frame_when_shown)
        s.frame_changed.connect(self.update)

    # -- what is drawn -------------------------------------------------------------------------------------
    def drawn(self) -> list[Drawn]:
        s, items = self.session, []
        active = s.subject
        for subject in s.doc.subjects:
            shape = s.picture.shapes.get(subject.id)
            if shape is None or not subject.on:
                continue
            mesh = s.scene.mesh(subject.mesh)
            if len(shape.points) != mesh.count:
                continue
            weights, chosen = None, None
            if active is not None and active.id == subject.id:
                found = subject.map(s.map_id)
                if found and s.show_map and s.tool in ("pick", "gradient"):
                    weights = s.scene.arrays.get(found.weights)
                if s.tool in ("pick", "gradient"):
                    chosen = s.chosen_of(subject)
            colour = CLOTH if subject.stack else STALL
            yarn = self._yarn(mesh) if s.yarns and subject.stack else None
            items.append(_drawn(subject.id, shape.points, shape.normals, mesh, colour, weights, chosen, yarn))
            if s.beside and s.beside.subject == subject.id and "beside" in s.picture.shapes:
                other = s.picture.shapes["beside"]
                points = other.points + [self.beside_shift(mesh), 0, 0]
                items.append(_drawn("beside", points, other.normals, mesh, FILE, yarn=yarn))
        return items

    @staticmethod
    def _yarn(mesh) -> np.ndarray | None:
        """A stripe for each twelfth of U's range."""
        if mesh.uv is None:
            return None
        u = mesh.uv[:, 0]
        return (u - u.min()) / max(float(np.ptp(u)), 1e-9) * STRIPES

    @staticmethod
    def beside_shift(mesh) -> float:
        return float(mesh.size[0]) * 1.15 + 0.05 * float(mesh.size.max())

    def _redraw(self, fine: bool = False):
        self._dirty, self._fine_now = True, fine
        self.update()
        if not fine:
            self._fine_later.start()

    def pixels(self) -> tuple[int, int]:
        ratio = self.devicePixelRatioF()
        return max(1, int(self.width() * ratio)), max(1, int(self.height() * ratio))

    def _render(self):
        s = self.session
        width, height = self.pixels()
        items = self.drawn()
        fine = self._fine_now and sum(len(i.triangles) for i in items) < FINE_UP_TO
        data = self.renderer.picture(items, self.camera, width, height, s.shading, s.wire, fine=fine)
        image = QImage(data, width, height, width * 4, QImage.Format_RGBX8888)
        self._image = image.flipped(Qt.Vertical)
        self._image.setDevicePixelRatio(self.devicePixelRatioF())
        self._dirty = False

    def paintEvent(self, event):
        painter = QPainter(self)
        painter.setRenderHint(QPainter.Antialiasing)
        if self.renderer is None:
            painter.fillRect(self.rect(), QColor("#7a7874"))
            painter.drawText(
                self.rect().adjusted(40, 40, -40, -40),
                Qt.AlignCenter | Qt.TextWordWrap,
                "No picture: OpenGL could not be started.\nInstall libegl1 and libgl1-mesa-dri, then start "
                f"Estampa again. Everything else works.\n\n{self.trouble}",
            )
            return
        if self._dirty or self._image is None or self._image.size() != self.size() * self.devicePixelRatioF():
            self._render()
        painter.drawImage(0, 0, self._image)
        self._draw_over(painter)
        painter.end()
        self.picture_shown.emit()

    # -- over the picture ------------------------------------------------------------------------------------
    def view(self) -> View:
        return View(self.camera, self.width(), self.height())

    def grip_values(self, grip) -> dict:
        return {n: grip.at(n, self.session.frame) for n in Grip.channels}

    def active_grip(self):
        """The grip whose handles are shown: the selected one, or that of the selected layer or force."""
        s = self.session
        thing = s.thing
        if thing is None or thing.declared is None:
            return None
        if thing.kind != "grip" and "grip" in thing.declared.channels:
            thing = s.doc.find(thing.at("grip", s.frame))
        return thing if thing is not None and thing.kind == "grip" else None

    def handles(self) -> Handles | None:
        grip = self.active_grip()
        return (
            Handles(self.view(), self.grip_values(grip)) if grip is not None and self.session.tool == "hand" else None
        )

    def _draw_over(self, painter: QPainter):
        s, view = self.session, self.view()
        active = self.active_grip()
        selected = s.thing
        if s.tool == "hand":
            for thing in s.doc.things:
                if thing.kind == "wind" and thing.on:
                    held = s.doc.find(thing.at("grip", s.frame))
                    if held is not None:
                        draw_wind(painter, view, self.grip_values(held), thing.at("speed", s.frame))
            if selected is not None and selected.kind == "bend":
                values = (
                    self.grip_values(active) if active is not None else {n: c.default for n, c in Grip.channels.items()}
                )
                draw_bend(painter, view, values, *(selected.at(n, s.frame) for n in ("low", "high", "angle")))
            for grip in s.doc.things:
                if grip.kind == "grip" and (active is None or grip.id != active.id):
                    self._draw_quiet_grip(painter, view, grip)
            handles = self.handles()
            if handles:
                handles.draw(painter, self._hot)
        if self._band and s.tool == "pick":
            painter.setPen(QPen(QColor("#fffaf0"), 1, Qt.DashLine))
            painter.setBrush(QColor(255, 250, 240, 40))
            painter.drawRect(QRectF(QPointF(*self._band[0]), QPointF(*self._band[1])).normalized())
        if self._band and s.tool == "gradient":
            a, b = (QPointF(*p) for p in self._band)
            painter.setPen(QPen(QColor("#2a2420"), 4))
            painter.drawLine(a, b)
            painter.setPen(QPen(QColor("#fcd673"), 2))
            painter.drawLine(a, b)
            for p, word in ((a, "0"), (b, "1")):
                painter.setBrush(theme.ramp_colour(float(word)))
                painter.drawEllipse(p, 7, 7)
        self._draw_words(painter)

    def _draw_quiet_grip(self, painter, view, grip):
        origin, axes, size = Grip.frame(self.grip_values(grip))
        p = view.at(origin)
        painter.setPen(QPen(QColor("#2a2420"), 3))
        painter.setBrush(QColor("#fffaf0"))
        painter.drawEllipse(QPointF(*p), 4, 4)

    def _draw_words(self, painter: QPainter):
        s = self.session
        painter.setFont(theme.type_face(9))
        y = 14

        def say(text, colour="#fffaf0", bold=False):
            nonlocal y
            painter.setFont(theme.type_face(9.5, bold=bold))
            width = painter.fontMetrics().horizontalAdvance(text)
            painter.setPen(Qt.NoPen)
            painter.setBrush(QColor(42, 36, 32, 150))
            painter.drawRoundedRect(QRectF(10, y - 4, width + 16, 21), 2, 2)
            painter.setPen(QColor(colour))
            painter.drawText(QRectF(18, y - 4, width + 4, 21), Qt.AlignVCenter, text)
            y += 25

        subject = s.subject
        if not s.doc.subjects:
            self._draw_empty(painter)
            return
        waiting = [(s.doc.find(i), shape) for i, shape in s.picture.shapes.items() if not shape.true]
        for thing, shape in waiting:
            if thing is not None:
                at = s.picture.frame
                text = (
                    "shown without its solved layers"
                    if shape.shown_frame is None
                    else "its stale result is shown"
                    if shape.shown_frame == at
                    else f"frame {shape.shown_frame:g} stands in"
                )
                say(f"{thing.name}: frame {at:g} is not solved, {text}", "#fcd673", bold=True)
        if s.tool in ("pick", "gradient") and subject is not None:
            found = subject.map(s.map_id)
            chosen = int(s.chosen_of(subject).sum())
            say(f"{subject.name} · {chosen:,} of {s.scene.mesh(subject.mesh).count:,} vertices chosen")
            if found and s.show_map:
                self._draw_ramp(painter, found.name)
        if s.beside:
            say(f"blue-grey: {s.beside.title}, played back from its file")
        self._draw_scale(painter)
        self._draw_axes(painter)

    def _draw_axes(self, painter):
        """Which way the world's axes run, small in a corner; those that point away first."""
        middle = np.array([self.width() - 42.0, self.height() - 40.0])
        toward = self.camera.axes  # rows: right, up, back
        for i in np.argsort(toward[2]):
            colour, letter = list(AXES.values())[i]
            tip = middle + 24 * toward[0, i] * np.array([1, 0]) - 24 * toward[1, i] * np.array([0, 1])
            painter.setPen(QPen(QColor(colour), 2))
            painter.drawLine(QPointF(*middle), QPointF(*tip))
            painter.setPen(QColor("#fffaf0"))
            painter.setFont(theme.type_face(8.5, bold=True))
            painter.drawText(QRectF(tip[0] - 9, tip[1] - 9, 18, 18), Qt.AlignCenter, letter)

    def look_from(self, yaw: float, pitch: float):
        """Turn to a plain view, keeping what is looked at."""
        self.camera = replace(self.camera, yaw=yaw, pitch=pitch)
        self._redraw()

    def _draw_ramp(self, painter, name):
        box = QRectF(self.width() - 190, 14, 160, 10)
        painter.setPen(Qt.NoPen)
        painter.setBrush(QColor(42, 36, 32, 150))
        painter.drawRoundedRect(box.adjusted(-14, -8, 14, 26), 2, 2)
        for i in range(80):
            painter.fillRect(QRectF(box.left() + i * 2, box.top(), 2.2, box.height()), theme.ramp_colour(i / 79))
        painter.setPen(QColor("#fffaf0"))
        painter.setFont(theme.type_face(8.5))
        painter.drawText(box.adjusted(0, 12, 0, 16), Qt.AlignLeft, "0")
        painter.drawText(box.adjusted(0, 12, 0, 16), Qt.AlignRight, "1")
        metrics = painter.fontMetrics()
        painter.drawText(box.adjusted(10, 12, -10, 16), Qt.AlignHCenter, metrics.elidedText(name, Qt.ElideRight, 130))

    def _draw_scale(self, painter):
        """A bar of a round length, at the depth that the camera looks at."""
        per_pixel = self.camera.metres_per_pixel(self.height())
        length = 10.0 ** np.floor(np.log10(per_pixel * 140))
        length *= max(k for k in (1, 2, 5) if k * length <= per_pixel * 140)
        x0, y0, wide = 18, self.height() - 18, length / per_pixel
        painter.setPen(QPen(QColor("#fffaf0"), 1.5))
        painter.drawLine(QPointF(x0, y0), QPointF(x0 + wide, y0))
        for x in (x0, x0 + wide):
            painter.drawLine(QPointF(x, y0 - 4), QPointF(x, y0 + 4))
        painter.setFont(theme.type_face(8.5))
        painter.drawText(QPointF(x0 + 4, y0 - 6), format_length(length))

    def _draw_empty(self, painter):
        painter.setPen(QColor("#fffaf0"))
        painter.setFont(theme.type_face(15, bold=True))
        middle = self.rect().center()
        painter.drawText(QRectF(0, middle.y() - 40, self.width(), 30), Qt.AlignCenter, "Nothing to move yet")
        painter.setFont(theme.type_face(10.5))
        painter.drawText(
            QRectF(0, middle.y() - 6, self.width(), 60),
            Qt.AlignHCenter,
            "Import a mesh (Ctrl+I), drop one here, or open the awning demo from the Scene menu.",
        )

    # -- framing -------------------------------------------------------------------------------------------
    def _frame_first(self):
        if self._frame_with_beside and "beside" in self.session.picture.shapes:
            self._frame_with_beside = False
            self.frame_all()
        if self._framed_for is not self.session.scene and self.session.picture.shapes:
            self._framed_for = self.session.scene
            self.frame_all()

    def frame_all(self):
        points = [item.points for item in self.drawn()]
        if points:
            self._frame_points(np.concatenate(points))

    def frame_when_shown(self):
        """Bring everything into view once the next picture is there."""
        self._framed_for = None

    def frame_beside(self):
        """Make room for the played-back file, once it is there."""
        self._frame_with_beside = self.session.beside is not None

    def frame_selection(self):
        """Bring the chosen vertices, the selected subject or grip into view."""
        s = self.session
        grip, subject = self.active_grip(), s.subject
        if subject is None and grip is not None:
            origin, _, size = Grip.frame(self.grip_values(grip))
            self._frame_points(np.array([origin - size, origin + size]))
        elif subject is not None and subject.id in s.picture.shapes:
            points, chosen = s.picture.shapes[subject.id].points, s.chosen_of(subject)
            self._frame_points(points[chosen] if chosen.any() and s.tool != "hand" else points)
        else:
            self.frame_all()

    def _frame_points(self, points):
        self.camera = self.camera.framing(np.asarray(points, float), self.width() / max(self.height(), 1))
        self._redraw()

    # -- mouse and keys ------------------------------------------------------------------------------------
    def mousePressEvent(self, event):
        at = (event.position().x(), event.position().y())
        self.setFocus()
        if event.button() == Qt.RightButton:
            self._press = ("orbit", at, at)
        elif event.button() == Qt.MiddleButton:
            self._press = ("pan", at, at)
        elif event.button() == Qt.LeftButton:
            handles = self.handles()
            hold = handles.under(*at) if handles else None
            if hold:
                self._press = ("handle", at, (hold, handles))
            elif self.session.tool == "hand":
                self._press = ("orbit", at, at)
            else:
                self._press = ("band", at, at)

    def mouseMoveEvent(self, event):
        at = (event.position().x(), event.position().y())
        if self._press is None:
            handles = self.handles()
            hot = handles.under(*at) if handles else None
            if hot != self._hot:
                self._hot = hot
                self.setCursor(Qt.PointingHandCursor if hot else Qt.ArrowCursor)
                self.update()
            return
        what, start, more = self._press
        if what in ("orbit", "pan"):
            dx, dy = at[0] - more[0], at[1] - more[1]
            self.camera = self.camera.orbited(dx, dy) if what == "orbit" else self.camera.panned(dx, dy, self.height())
            self._press = (what, start, at)
            self._redraw()
        elif what == "handle":
            hold, handles = more
            self._set_grip(handles.dragged(hold, start, at), hold)
        else:
            self._band = (start, at)
            self.update()

    def mouseReleaseEvent(self, event):
        if self._press is None:
            return
        what, start, more = self._press
        at = (event.position().x(), event.position().y())
        self._press, band, self._band = None, self._band, None
        still = abs(at[0] - start[0]) + abs(at[1] - start[1]) <= CLICK
        if what == "handle":
            self.session.scene.end_merge()
        elif what == "orbit" and still and event.button() == Qt.LeftButton:
            self._select_at(*at)
        elif what == "band" and self.session.tool == "pick":
            how = self._how(event.modifiers())
            self.pick_at(*at, how) if still else self.pick_box(start, at, how)
        elif what == "band" and self.session.tool == "gradient" and band and not still:
            self.lay_gradient(start, at)
        self.update()

    def mouseDoubleClickEvent(self, event):
        if self.session.tool == "pick" and event.button() == Qt.LeftButton:
            self.pick_at(event.position().x(), event.position().y(), self._how(event.modifiers()))
            self.choose_islands()

    @staticmethod
    def _how(modifiers) -> str:
        return "add" if modifiers & Qt.ShiftModifier else "take" if modifiers & Qt.ControlModifier else "set"

    def wheelEvent(self, event):
        notches = event.angleDelta().y() / 120 or event.pixelDelta().y() / 60
        self.camera = self.camera.zoomed(notches)
        self._redraw()

    def keyPressEvent(self, event):
        step = {Qt.Key_Left: (-24, 0), Qt.Key_Right: (24, 0), Qt.Key_Up: (0, 24), Qt.Key_Down: (0, -24)}.get(
            event.key()
        )
        if step:
            moved = event.modifiers() & Qt.ShiftModifier
            self.camera = self.camera.panned(-step[0], step[1], self.height()) if moved else self.camera.orbited(*step)
            self._redraw()
        elif event.key() in (Qt.Key_Plus, Qt.Key_Minus, Qt.Key_Equal):
            self.camera = self.camera.zoomed(-1 if event.key() == Qt.Key_Minus else 1)
            self._redraw()
        else:
            super().keyPressEvent(event)

    def _set_grip(self, values, hold):
        s, grip = self.session, self.active_grip()
        word = hold.split()[0].capitalize()
        do.set_values(s.scene, grip.id, values, s.frame, merge=f"grip {grip.id}", label=f"{word} {grip.name}")

    # -- picking -------------------------------------------------------------------------------------------
    def seen(self, subject) -> tuple[np.ndarray, np.ndarray]:
        """((n, 2) pixels, (n,) whether nothing stands before it) of a subject's vertices."""
        points = self.session.picture.shapes[subject.id].points
        pixels, depth = self.camera.project(points, self.width(), self.height())
        inside = (
            (depth > 0) & (depth < 1) & (pixels >= 0).all(axis=1) & (pixels < [self.width(), self.height()]).all(axis=1)
        )
        if self.session.shading == "none" or self.renderer is None:  # lines alone: everything is seen
            return pixels, inside
        buffer = self.renderer.depth(self.drawn(), self.camera, self.width(), self.height())
        x, y = pixels[inside].astype(int).T
        y = self.height() - 1 - y
        nearest = np.max(
            [
                buffer[np.clip(y + j, 0, buffer.shape[0] - 1), np.clip(x + i, 0, buffer.shape[1] - 1)]
                for i in (-1, 0, 1)
                for j in (-1, 0, 1)
            ],
            axis=0,
        )
        visible = inside.copy()
        visible[inside] = depth[inside] <= nearest + 2e-4 * (1 - depth[inside]) + 1e-6
        return pixels, visible

    def pick_at(self, x: float, y: float, how: str = "set"):
        subject = self.session.subject
        if subject is None or subject.id not in self.session.picture.shapes:
            return
        pixels, visible = self.seen(subject)
        gap = np.where(visible, np.linalg.norm(pixels - [x, y], axis=1), np.inf)
        mask = np.zeros(len(gap), bool)
        if gap.min() <= REACH:
            mask[gap.argmin()] = True
        self._choose(subject, mask, how)

    def pick_box(self, a, b, how: str = "set"):
        subject = self.session.subject
        if subject is None or subject.id not in self.session.picture.shapes:
            return
        pixels, visible = self.seen(subject)
        low, high = np.minimum(a, b), np.maximum(a, b)
        self._choose(subject, visible & (pixels >= low).all(axis=1) & (pixels <= high).all(axis=1), how)

    def _choose(self, subject, mask, how):
        before = self.session.chosen_of(subject)
        self.session.choose(subject, {"set": mask, "add": before | mask, "take": before & ~mask}[how])

    def choose_islands(self):
        """Grow what is chosen to the whole connected islands."""
        subject = self.session.subject
        if subject is not None:
            mesh = self.session.scene.mesh(subject.mesh)
            self.session.choose(subject, maps.islands_of(mesh, self.session.chosen_of(subject)))

    def _surface_point(self, x, y, points, pixels) -> np.ndarray:
        """The point under a pixel, at the depth of the nearest vertex on screen."""
        near = points[np.linalg.norm(pixels - [x, y], axis=1).argmin()]
        eye, direction = self.camera.ray(x, y, self.width(), self.height())
        back = self.camera.axes[2]
        return eye + direction * ((near - eye) @ back) / (direction @ back)

    def lay_gradient(self, start, end):
        """A straight gradient between two points of the picture, in the active map; on the chosen vertices if any."""
        s, subject = self.session, self.session.subject
        if subject is None or subject.id not in s.picture.shapes:
            return
        points = s.picture.shapes[subject.id].points
        pixels, _ = self.camera.project(points, self.width(), self.height())
        ends = [self._surface_point(*p, points, pixels) for p in (start, end)]
        chosen = s.chosen_of(subject)
        found = subject.map(s.map_id)
        before = s.scene.arrays.get(found.weights) if found else np.zeros(len(points), np.float32)
        weights = maps.gradient(points, *ends, before, chosen if chosen.any() else None)
        if found:
            do.set_map(s.scene, subject.id, found.id, weights, f"Gradient in {found.name}")
        else:
            s.use_map(do.add_map(s.scene, subject.id, weights, "Gradient").id)

    def _select_at(self, x, y):
        """Select the grip or subject under a pixel."""
        s, view = self.session, self.view()
        grips = [
            (np.linalg.norm(view.at(Grip.frame(self.grip_values(g))[0]) - [x, y]), g)
            for g in s.doc.things
            if g.kind == "grip"
        ]
        if grips and min(grips, key=lambda g: g[0])[0] < 12:
            s.select(min(grips, key=lambda g: g[0])[1].id)
            return
        best, found = np.inf, None
        for subject in s.doc.subjects:
            if subject.id in s.picture.shapes:
                hit = self._depth_under(subject, x, y)
                if hit is not None and hit < best:
                    best, found = hit, subject.id
        if found and not (s.subject is not None and s.subject.id == found):
            s.select(found)

    def _depth_under(self, subject, x, y) -> float | None:
        """Depth of the nearest triangle of a subject under a pixel."""
        mesh = self.session.scene.mesh(subject.mesh)
        pixels, depth = self.camera.project(self.session.picture.shapes[subject.id].points, self.width(), self.height())
        a, b, c = (pixels[mesh.triangles[:, i]] for i in range(3))
        p = np.array([x, y])
        cross = lambda u, v: u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
        s1, s2, s3 = cross(b - a, p - a), cross(c - b, p - b), cross(a - c, p - c)
        inside = ((s1 >= 0) & (s2 >= 0) & (s3 >= 0)) | ((s1 <= 0) & (s2 <= 0) & (s3 <= 0))
        near = depth[mesh.triangles[inside]]
        near = near[(near > 0).all(axis=1)]
        return float(near.mean(axis=1).min()) if len(near) else None
