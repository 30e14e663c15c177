"""The viewport: the picture, the tools that act in it, and what is drawn over it."""

import time
from dataclasses import replace

import numpy as np
from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import QSizePolicy, QWidget

from ...errors import EstampaError
from ...geometry.place import Place
from ...kinds.facets import Facet, Spots
from ...scene.things import Grip, angle_of_view
from ...scene.values import Rows
from ..facets import facet_of
from ..model.grains import LookedSwarm, spans_of
from ..model.looks import CLOTH, STALL, Batch, yarns_of
from ..session import Session
from ..shell.painting import Guarded
from . import backdrops
from .camera import Camera
from .following import Following
from .handles import Handles, View
from .jointing import Jointing
from .overlay import Overlay
from .picking import Picking
from .render import Drawn, Renderer
from .shooting import Shooter, drawn_of, skins_of, swarms_of
from .stretching import STRETCHED, measures_stretch, stretch_limit
from .tools import TOOLS, OrbitTool, Pan, Tool
from .tools.hand import held_at

FILE = (0.62, 0.68, 0.70)
FINE_UP_TO = 400_000  # triangles whose edges are smoothed when the hand rests
MOST_ON_A_CARD = 1_000_000  # grains of a swarm that are worked out for a view with a graphics card
SLOW = 0.08  # s that a picture with smooth edges may keep the window


HELD, BEFORE, AFTER = (0.20, 0.42, 0.50), (0.62, 0.30, 0.42), (0.80, 0.56, 0.20)


class Viewport(Guarded, Overlay, Picking, Following, Jointing, QWidget):
    picture_shown = Signal()
    activated = Signal(int)  # the hand is in this pane
    chain_dragged = Signal(object, object)  # two points in the world

    def __init__(self, session: Session, pane: int = 0):
        super().__init__()
        self.session, self.pane = session, pane
        self._own_camera = Camera()
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.StrongFocus)
        self.setMinimumSize(320, 200)
        self.setSizePolicy(QSizePolicy.Expanding, QSizePolicy.Expanding)
        self.setAccessibleName("Viewport" if pane == 0 else "Second pane")
        self.trouble = ""
        try:
            self.renderer = Renderer()
        except RuntimeError as err:
            self.renderer, self.trouble = None, str(err)
        if self.renderer is not None and not self.renderer.grains.software:
            session.view.most_grains = MOST_ON_A_CARD
        self._told_backdrop = ""
        self._image: QImage | None = None
        self._dirty, self._fine_now = True, False
        self._fine_up_to = self._shaded_up_to = FINE_UP_TO
        self._tools = {name: kind(self) for name, kind in TOOLS.items()}
        self._orbit, self._pan = OrbitTool(self), Pan(self)
        self._held: Tool | None = None  # what the pressed button drives
        self._hot: str | int | tuple | None = None  # the handle, spot, or (joint, limit) under the pointer
        self._spread: tuple | None = None
        self._framed_for, self._frame_with_beside = None, False
        self._fine_later = QTimer(self, singleShot=True, interval=180)
        self._fine_later.timeout.connect(lambda: self.redraw(fine=True))
        s = session
        for signal in (s.pictures.looked, s.selection.chosen_changed, s.view.view_changed, s.selection.selected):
            signal.connect(lambda *_: self.redraw())
        s.view.view_changed.connect(self._put_away)
        s.doc_changed.connect(lambda *_: self.update())  # handles move at once, the shapes when they are there
        s.pictures.looked.connect(self._frame_first)
        s.pictures.looked.connect(self._follow)
        s.replaced.connect(self.frame_when_shown)
        s.player.frame_changed.connect(self.update)

    @property
    def look(self):
        """How this pane looks."""
        return self.session.view.panes[self.pane]

    @property
    def camera(self) -> Camera:
        """What the pane is seen by: its own camera, or the one in the scene that it looks through."""
        held = self.session.doc.find(self.look.camera)
        if held is not None and "view" in held.declared.channels:
            s = self.session
            return Camera.through(self.place(held), angle_of_view(s.scene.values, held, s.player.frame))
        return self._own_camera

    @camera.setter
    def camera(self, camera: Camera):
        if camera.held is None:
            self._own_camera = camera
        elif self.look.camera:
            self.session.notice.emit("note", "This pane looks through a camera. Choose “Own view” (V) to turn it.", "")

    # -- what is drawn -------------------------------------------------------------------------------------
    def shooter(self, evaluator) -> Shooter:
        """Draws frames as this pane looks now, on another thread."""
        return Shooter(evaluator, self.look, self._own_camera, self.session.selection.isolated)

    def to_draw(self) -> list[Drawn]:
        """What is drawn: still subjects as one where there are many, unless one of them is looked at by itself."""
        s = self.session
        batches = [] if s.selection.isolated or not self.look.meshes else s.pictures.picture.batches
        own = {s.selection.subject.id} if s.selection.subject is not None and s.view.tool != "hand" else set()
        own |= {s.view.beside.subject} if s.view.beside else set()
        own |= set(s.pictures.picture.held)
        each = self.look.pieces or self.look.stretch
        stacked = {t.id for t in s.doc.subjects if t.stack} if each else set()
        batches = [b for b in batches if not (b.ids & (own | stacked))]
        skip = frozenset().union(*(b.ids for b in batches))
        items = [
            Drawn(f"batch {len(b.ids)} {k}", b.points, b.lit, b.triangles, b.edges, **self._ink_of(b))
            for k, b in enumerate(batches)
        ]
        return items + self.drawn(skip)

    def _ink_of(self, batch: Batch) -> dict:
        if self.look.yarns and batch.yarns is not None:
            return {"colour": CLOTH, "yarn": batch.yarns}
        return {"tint": batch.tint}

    def drawn(self, skip: frozenset = frozenset()) -> list[Drawn]:
        s, look, items = self.session, self.look, []
        active, at_work, painted = s.selection.subject, s.view.tool in ("pick", "gradient"), self.painted()
        painted = painted if s.view.tool in ("paint", "gradient") else None
        active = None if painted is not None else active
        if not look.meshes:
            return items
        items += skins_of(swarms_of(s.pictures.picture, s.selection.isolated))
        for thing in s.doc.things:
            shape = s.pictures.picture.shapes.get(thing.id)
            if shape is None or thing.id in skip or (s.selection.isolated and thing.id not in s.selection.isolated):
                continue
            subject = s.doc.shape_of(thing)
            if subject is None:
                continue
            more = {"tint": shape.tint if not look.pieces or shape.inks is None else shape.inks}
            if active is not None and active.id == thing.id and at_work:
                found = subject.map(s.selection.map_id)
                if found and look.show_map and shape.base is None:
                    more["weights"] = s.scene.arrays.get(found.weights)
                chosen = s.selection.chosen_of(subject)
                more["chosen"] = chosen if len(chosen) == len(shape.points) else None
            if look.stretch and measures_stretch(subject, shape):
                more["weights"] = np.clip(shape.stretch / (STRETCHED * stretch_limit(subject)), 0, 1)
            if painted is not None and painted[0].id == thing.id and look.show_map:
                dense = self.weights_shown(painted[1])
                more["weights"] = dense[:, painted[2]] if len(dense) == len(shape.points) else None
            if look.yarns and subject.stack and more["tint"] is None and shape.stand is None:
                more["yarn"] = yarns_of(shape.mesh)
            items.append(drawn_of(thing.id, shape, CLOTH if subject.stack else STALL, **more))
            if s.view.beside and s.view.beside.subject == thing.id and "beside" in s.pictures.picture.shapes:
                other = s.pictures.picture.shapes["beside"]
                moved = replace(other, points=other.points + [self.beside_shift(other.mesh), 0, 0])
                items.append(drawn_of("beside", moved, FILE, yarn=more.get("yarn")))
            held = s.pictures.picture.held.get(thing.id)
            if held is not None:
                items.append(drawn_of(f"held {thing.id}", held, HELD, opacity=0.38))
        if look.ghosts:
            for away, shape in s.pictures.picture.ghosts:
                fade = 0.42 - 0.10 * (abs(away) / s.view.ghost_step - 1)
                items.append(drawn_of(f"ghost {away}", shape, BEFORE if away < 0 else AFTER, opacity=max(fade, 0.12)))
        return items

    def swarms(self) -> list[LookedSwarm]:
        """The swarms that this pane draws."""
        s = self.session
        return list(swarms_of(s.pictures.picture, s.selection.isolated).values()) if self.look.meshes else []

    @staticmethod
    def beside_shift(mesh) -> float:
        return float(mesh.size[0]) * 1.15 + 0.05 * float(mesh.size.max())

    def redraw(self, fine: bool = False):
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
        items, swarms = self.to_draw(), self.swarms()
        triangles, began = sum(len(i.triangles) for i in items), time.perf_counter()
        triangles += sum(len(l.rows) for w in swarms for l in w.layers)
        fine = self._fine_now and triangles < self._fine_up_to
        # of a heavy scene without a graphics card only the picture that rests has shadows
        shaded = self.look.shadows and (self._fine_now or triangles < self._shaded_up_to)
        look, behind = self.look, None
        try:
            behind = backdrops.at(s.doc, s.player.frame)
        except EstampaError as err:
            if str(err) != self._told_backdrop:
                s.tell(err)
            self._told_backdrop = str(err)
        camera = self.camera
        floor = look.floor and behind is None
        data = self.renderer.picture(
            items, camera, width, height, look.shading, look.wire, floor=floor, fine=fine, backdrop=behind,
            swarms=swarms, grains=look.grains, cut=look.cut, shade=look.shade, shadows=shaded, on_floor=look.floor,
        )  # fmt: skip
        if time.perf_counter() - began > SLOW:  # without a graphics card: not again for a scene as heavy
            if fine:
                self._fine_up_to = min(self._fine_up_to, triangles)
            elif shaded:
                self._shaded_up_to = min(self._shaded_up_to, triangles)
        image = QImage(data, width, height, width * 4, QImage.Format_RGBX8888)
        self._image = image.flipped(Qt.Vertical)
        self._image.setDevicePixelRatio(self.devicePixelRatioF())
        self._dirty = False

    def paint(self, painter: QPainter):
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

    def painted_whole(self):
        self.picture_shown.emit()

    # -- over the picture ------------------------------------------------------------------------------------
    def view(self) -> View:
        return View(self.camera, self.width(), self.height())

    def place(self, thing) -> Place:
        """Where a thing stands in the world at this frame; its own origin while a link of it gives no number."""
        if thing.kind == "joint":
            return self.joint_place(thing)
        try:
            values = self.session.scene.values
            held = self.session.doc.find(thing.constant("parent")) if "parent" in thing.declared.channels else None
            if held is not None and held.kind == "joint":  # it rides on the joint as that is seen
                own = values.place(
                    thing.with_(values={**thing.values, "parent": None}), Rows.one(self.session.player.frame)
                )
                return self.joint_place(held) @ own
            return values.place(thing, Rows.one(self.session.player.frame))
        except EstampaError:
            return Place.still()

    def value(self, thing, name):
        try:
            return self.session.scene.values.at(thing, name, self.session.player.frame)
        except EstampaError:
            return thing.declared.channels[name].default

    def grip_values(self, grip) -> dict:
        """Position, turn and size of a placed thing in the world."""
        return self.place(grip).values

    def active_grip(self):
        """The placed thing whose handles are shown: the selected one, or the grip of the selected layer or force."""
        s = self.session
        thing = s.selection.thing
        if thing is None or thing.declared is None:
            return None
        if "parent" not in thing.declared.channels:
            name = next((n for n in ("grip", "zone", "target") if thing.declared.channels.get(n)), None)
            thing = s.doc.find(thing.constant(name)) if name else None
        held = thing is not None and thing.declared is not None and "parent" in thing.declared.channels
        return thing if held else None

    def handles(self) -> Handles | None:
        grip = self.active_grip()
        if grip is None or self.session.view.tool != "hand" or not self.look.controls:
            return None
        if grip.id == self.look.camera:
            return None
        return Handles(self.view(), self.grip_values(grip), grip.locked)

    def path_points(self, path) -> tuple[np.ndarray | None, np.ndarray]:
        """((m, 3) a path as a fine line, (k, 3) its points), in the world."""
        sampled = self.session.work.evaluator("window").stage.sampled(path)
        place = self.place(path)
        spots = np.array([s[:3] for s in path.spots], float).reshape(-1, 3)
        fine = place.apply(sampled.points[None])[0] if sampled is not None else None
        return fine, place.apply(spots[None])[0] if len(spots) else spots

    def cut_points(self, layer) -> np.ndarray:
        """(k, 3) m in the world, what a Break cuts around, as it is seen."""
        subject = self.session.doc.owner(layer.id)
        shape = self.session.pictures.picture.shapes.get(subject.id)
        if shape is None or shape.seeds is None:
            return np.zeros((0, 3))
        first = self.session.scene.values.place(subject, Rows.one(self.session.doc.start))
        return first.apply(shape.seeds[None])[0]

    def facet(self) -> Facet:
        """That of what is selected."""
        thing = self.session.selection.thing
        return facet_of(thing.declared if thing is not None else None)

    def own_spots(self) -> Spots | None:
        """The points of what is selected that can be dragged one by one."""
        thing = self.session.selection.thing
        return self.facet().spots(self, thing) if thing is not None else None

    def spots(self) -> Spots | None:
        """Those, or else the keys on its trail."""
        found, keys, thing = self.own_spots(), self.trail_keys(), self.session.selection.thing
        if found is not None or not keys:
            return found
        trail = self.session.work.trails[thing.id]
        return Spots(trail[(np.array(keys) - self.session.doc.start).astype(int)], thing)

    def trail_keys(self) -> list[float]:
        """Frames of the keys on the trail of what is selected, but the present one, which has its handles."""
        s, thing = self.session, self.session.selection.thing
        if thing is None or thing.id not in s.work.trails or not self.look.trails or s.view.tool != "hand":
            return []
        frames = {k.frame for n in "xyz" for k in (thing.curve(n).keys if thing.curve(n) else ())}
        inside = lambda f: s.doc.start <= f <= s.doc.end and f == int(f) and f != s.player.frame
        return sorted(f for f in frames if inside(f))

    def spot_under(self, x, y) -> int | None:
        spots = self.spots() if self.look.controls else None
        if spots is None or not len(spots.points):
            return None
        pixels, depth = self.camera.project(spots.points, self.width(), self.height())
        gap = np.where(depth > 0, np.linalg.norm(pixels - [x, y], axis=1), np.inf)
        return int(gap.argmin()) if gap.min() <= 9 else None

    def look_from(self, yaw: float, pitch: float):
        """Turn to a plain view, keeping what is looked at."""
        self.camera = replace(self.camera, yaw=yaw, pitch=pitch)
        self.redraw()

    # -- framing -------------------------------------------------------------------------------------------
    def _frame_first(self):
        if self._frame_with_beside and "beside" in self.session.pictures.picture.shapes:
            self._frame_with_beside = False
            self.frame_all()
        if self._framed_for is not self.session.scene and self.session.pictures.picture.shapes:
            self._framed_for = self.session.scene
            self.frame_moving()

    def frame_moving(self):
        """What moves, over two thirds of the pane; everything, when nothing does or this pane shows the controls."""
        s = self.session
        moves = lambda subject: subject is not None and bool(subject.stack)
        solved = [t.id for t in s.doc.swarms if not t.declared.by_formula(t)]
        looked = s.pictures.picture.swarms
        flown = [points for i in solved or looked if i in looked and len(points := spans_of(looked[i]))]
        of = lambda d: s.doc.shape_of(s.doc.find(d.id)) if s.doc.find(d.id) else None
        moving = flown + [self._world(d) for d in self.drawn() if moves(of(d))]
        if not moving:
            self.frame_all()
            return
        self._frame_points(np.concatenate(moving), 2 / 3)

    def frame_all(self):
        points = [self._world(item) for item in self.drawn()]
        if not points:
            points = [found for looked in self.swarms() if len(found := spans_of(looked))]
        controls = [self.place(t).origin for t in self.session.doc.things if facet_of(t.declared).named]
        if not self.look.meshes and controls:
            points = [np.concatenate([c - 0.5, c + 0.5]) for c in controls]
        if points:
            self._frame_points(np.concatenate(points))

    @staticmethod
    def _world(item: Drawn) -> np.ndarray:
        if item.stand is None:
            return item.points
        corners = np.array([item.points.min(axis=0), item.points.max(axis=0)])
        return (np.einsum("kij,nj->kni", item.stand[:, :3, :3], corners) + item.stand[:, None, :3, 3]).reshape(-1, 3)

    def frame_when_shown(self):
        """Bring everything into view once the next picture is there."""
        self._framed_for = None

    def frame_beside(self):
        """Make room for the played-back file, once it is there."""
        self._frame_with_beside = self.session.view.beside is not None

    def frame_selection(self):
        """Bring the chosen vertices, the selected subject or grip into view."""
        s = self.session
        grip, subject = self.active_grip(), s.selection.subject
        thing = s.selection.thing
        if thing is not None and thing.mesh is None and thing.id in s.pictures.picture.shapes:
            self._frame_points(np.concatenate([self._world(d) for d in self.drawn() if d.id == thing.id]))
        elif subject is None and grip is not None:
            origin, _, size = Grip.frame(self.grip_values(grip))
            self._frame_points(np.array([origin - size, origin + size]))
        elif subject is not None and subject.id in s.pictures.picture.shapes:
            points, chosen = s.pictures.picture.shapes[subject.id].own, s.selection.chosen_of(subject)
            self._frame_points(points[chosen] if chosen.any() and s.view.tool != "hand" else points)
        else:
            self.frame_all()

    def _frame_points(self, points, share: float = 0.9):
        self.camera = self.camera.framing(np.asarray(points, float), self.width() / max(self.height(), 1), share)
        self.redraw()

    # -- mouse and keys ------------------------------------------------------------------------------------
    @property
    def tool(self) -> Tool:
        """The tool in hand."""
        return self._tools[self.session.view.tool]

    def _put_away(self):
        for tool in self._tools.values():
            if tool is not self.tool:
                tool.put_away()

    def mousePressEvent(self, event):
        at = (event.position().x(), event.position().y())
        self.setFocus()
        self.activated.emit(self.pane)
        if event.button() == Qt.LeftButton:
            self._held = held_at(self, at) or self.tool
        else:
            self._held = {Qt.RightButton: self._orbit, Qt.MiddleButton: self._pan}.get(event.button())
        if self._held is not None:
            self._held.press(at, event.modifiers())

    def mouseMoveEvent(self, event):
        at = (event.position().x(), event.position().y())
        if self._held is not None:
            self._held.move(at)
            return
        self.tool.hover(at)
        handles = self.handles()
        hot = self.spot_under(*at)
        hot = handles.under(*at) if handles and hot is None else hot
        if hot is None and (limit := self.limit_under(*at)) is not None:
            hot = (limit[0].joint.id, limit[1])
        if hot != self._hot:
            self._hot = hot
            self.setCursor(Qt.PointingHandCursor if hot is not None else Qt.ArrowCursor)
            self.update()

    def mouseReleaseEvent(self, event):
        held, self._held = self._held, None
        if held is not None:
            held.release((event.position().x(), event.position().y()), event.modifiers())
            self.update()

    def mouseDoubleClickEvent(self, event):
        if event.button() == Qt.LeftButton:
            self.tool.double((event.position().x(), event.position().y()), event.modifiers())

    def wheelEvent(self, event):
        notches = event.angleDelta().y() / 120 or event.pixelDelta().y() / 60
        self.camera = self.camera.zoomed(notches)
        self.redraw()

    def keyPressEvent(self, event):
        step = {Qt.Key_Left: (-24, 0), Qt.Key_Right: (24, 0), Qt.Key_Up: (0, 24), Qt.Key_Down: (0, -24)}.get(
            event.key()
        )
        if step:
            moved = event.modifiers() & Qt.ShiftModifier
            self.camera = self.camera.panned(-step[0], step[1], self.height()) if moved else self.camera.orbited(*step)
            self.redraw()
        elif event.key() in (Qt.Key_Delete, Qt.Key_Backspace) and (self.tool.take_back() or self.remove_spot()):
            pass
        elif event.key() in (Qt.Key_Plus, Qt.Key_Minus, Qt.Key_Equal):
            self.camera = self.camera.zoomed(-1 if event.key() == Qt.Key_Minus else 1)
            self.redraw()
        else:
            super().keyPressEvent(event)

    def remove_spot(self) -> bool:
        """Take away the point of a path, or the copy, under the pointer."""
        spots, index = self.own_spots(), self._hot
        if spots is None or not isinstance(index, int):
            return False
        self._hot = None
        return self.facet().remove_spot(self, spots.of, index)
