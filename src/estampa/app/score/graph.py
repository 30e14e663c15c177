"""The graph of the curve view: the curves of what is selected, large, with their keys and tangents."""

from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPainterPath, QPen
from PySide6.QtWidgets import QMenu

from ... import edits as do
from ...scene.curves import SEGMENTS, TANGENTS, Key
from ...units import format_value, to_shown
from ..session import Session
from ..shell import theme
from ..shell.painting import Guarded
from .time_axis import LEFT, RIGHT, RULER, TimeAxis

Track = tuple[str, str]  # (id of a thing, channel)
NEAR = 8  # pixels
INKS = ("#b5391f", "#2f6a7a", "#8a6d1d", "#5b6b3a", "#75265e", "#63584b")
NIGHT_INKS = ("#e4694a", "#6fb3c4", "#d6b04a", "#a3b573", "#c77fb0", "#b3a899")


@dataclass
class Options:
    """How keys are moved and curves are shown."""

    soft: bool = False
    soft_width: float = 12.0  # frames
    snap: bool = True
    normalised: bool = False


TOUCH = 8  # pixels: marks nearer than this would touch


class CurveGraph(Guarded, TimeAxis):
    """The drawing, and what hands do in it."""

    def __init__(self, session: Session):
        super().__init__(session)
        self.options = Options()
        self.chosen: set[tuple[Track, float]] = set()
        self.copied: list[tuple[Track, Key]] = []
        self._view = (0.0, 1.0)
        self._drag = None
        self._band = None
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.StrongFocus)
        self.setMinimumHeight(80)
        self.setAccessibleName("Curves")
        session.selection.selected.connect(self._another)
        session.replaced.connect(self._another)

    def _another(self):
        self.chosen.clear()
        self.fit()

    # -- what is shown ---------------------------------------------------------------------------------------
    def things(self) -> list:
        """What is selected: one thing, or several joints."""
        s = self.session
        found = s.selection.joints if len(s.selection.joints) > 1 else [s.selection.thing]
        return [t for t in found if t is not None and t.declared is not None]

    def curves(self) -> dict:
        """Track -> curve of what is selected."""
        found = {(t.id, n): t.curve(n) for t in self.things() for n in t.declared.channels}
        return {track: c for track, c in found.items() if c is not None}

    def channel(self, track: Track):
        return self.session.doc.find(track[0]).declared.channels[track[1]]

    def colour(self, name) -> QColor:
        inks = NIGHT_INKS if theme.ink is theme.NIGHT else INKS
        return QColor(inks[list(self.curves()).index(name) % len(inks)])

    def span(self, name) -> tuple[float, float]:
        """The lowest and highest value shown of a curve: its own when normalised, else those of the view."""
        if not self.options.normalised:
            return self._view
        return self._own_span(self.curves()[name])

    def _own_span(self, curve) -> tuple[float, float]:
        doc = self.session.doc
        values = curve.at(np.linspace(min(doc.start, curve.keys[0].frame), max(doc.end, curve.keys[-1].frame), 200))
        low, high = float(values.min()), float(values.max())
        return (low, high) if high - low > 1e-12 else (low - 0.5, high + 0.5)

    def fit(self):
        """Show all of every curve."""
        spans = [self._own_span(c) for c in self.curves().values()]
        if spans:
            low, high = min(s[0] for s in spans), max(s[1] for s in spans)
            self._view = (low - 0.08 * (high - low), high + 0.08 * (high - low))
        self.update()

    @property
    def inner(self) -> QRectF:
        return QRectF(0, RULER + 10, self.width(), max(self.height() - RULER - 20, 1))

    def y_of(self, name, value) -> float:
        low, high = self.span(name)
        return self.inner.bottom() - (value - low) / (high - low) * self.inner.height()

    def value_per_pixel(self, name) -> float:
        low, high = self.span(name)
        return (high - low) / self.inner.height()

    def place(self, name, key) -> QPointF:
        return QPointF(self.x_of(key.frame), self.y_of(name, key.value))

    def handle_places(self, name, curve, i):
        """Yields (side, where) of a key's tangent handles."""
        key = curve.keys[i]
        for side, handle in zip(("left", "right"), curve.handles(i), strict=True):
            there = (side == "left" and i > 0) or (side == "right" and i < len(curve.keys) - 1)
            if there:
                at = Key(frame=key.frame + handle[0], value=key.value + handle[1])
                yield side, self.place(name, at)

    # -- drawing ---------------------------------------------------------------------------------------------
    def paint(self, painter: QPainter):
        ink = theme.ink
        painter.fillRect(self.rect(), QColor(ink.sheet))
        curves = self.curves()
        if not curves:
            self._draw_empty(painter)
        else:
            self._draw_grid(painter)
        painter.setClipRect(QRectF(0, RULER, self.width() - RIGHT + 10, self.height() - RULER))
        for name, curve in curves.items():
            self._draw_curve(painter, name, curve)
        if len(self.chosen) > 1:
            self._draw_frame_of_chosen(painter)
        if self._band:
            painter.setPen(QPen(QColor(ink.ink), 1, Qt.DashLine))
            painter.setBrush(Qt.NoBrush)
            painter.drawRect(QRectF(*self._band).normalized())
        painter.setClipping(False)
        self._draw_names(painter, curves)
        self.draw_ruler(painter)
        self.draw_frame(painter)

    def _draw_empty(self, painter):
        painter.setPen(QColor(theme.ink.soft))
        painter.setFont(theme.type_face(10.5))
        text = "No channel of the selection is keyed yet. Click the key beside a channel, or turn on auto-key."
        painter.drawText(self.rect().adjusted(20, 0, -20, 0), Qt.AlignCenter | Qt.TextWordWrap, text)

    def _draw_grid(self, painter):
        ink, name = theme.ink, next(iter(self.curves()))
        low, high = self.span(name)
        unit = self.channel(name).unit
        painter.setFont(theme.type_face(8.5))
        shown = [to_shown(v, unit) for v in (low, high)]
        step = 10.0 ** np.floor(np.log10(max(shown[1] - shown[0], 1e-12) / 3))
        step *= next(k for k in (1, 2, 5, 10) if k * step * 5 >= shown[1] - shown[0])
        scale = (high - low) / max(shown[1] - shown[0], 1e-12)
        for k in np.arange(np.ceil(shown[0] / step), np.floor(shown[1] / step) + 1):
            y = self.y_of(name, low + (k * step - shown[0]) * scale)
            painter.setPen(QPen(QColor(ink.rule if abs(k) < 0.5 else ink.fold), 1))
            painter.drawLine(QPointF(LEFT, y), QPointF(self.width() - RIGHT, y))
            if not self.options.normalised:
                painter.setPen(QColor(ink.soft))
                text = format_value(low + (k * step - shown[0]) * scale, unit, 3)
                painter.drawText(QPointF(4, y - 2), text)

    def _draw_curve(self, painter, name, curve):
        ink, doc, colour = theme.ink, self.session.doc, self.colour(name)
        frames = np.linspace(doc.start, doc.end, max(2, int(self.width() / 2)))
        values = curve.at(frames)
        inside = (frames >= curve.keys[0].frame) & (frames <= curve.keys[-1].frame)
        for part, style in ((inside, Qt.SolidLine), (~inside, Qt.DotLine)):
            path, begun = QPainterPath(), False
            for i, (f, v) in enumerate(zip(frames, values, strict=True)):
                if not part[i] and not (part[max(i - 1, 0)] or part[min(i + 1, len(part) - 1)]):
                    begun = False
                    continue
                at = QPointF(self.x_of(f), float(np.clip(self.y_of(name, v), -5000, 5000)))
                path.lineTo(at) if begun else path.moveTo(at)
                begun = True
            painter.setBrush(Qt.NoBrush)
            painter.setPen(QPen(colour, 1.6, style))
            painter.drawPath(path)
        drawn = -1e9
        for i, key in enumerate(curve.keys):
            at, held = self.place(name, key), (name, key.frame) in self.chosen
            # where marks would touch, fine ticks stand for them; what is chosen is always seen
            following = curve.keys[i + 1].frame if i + 1 < len(curve.keys) else np.inf
            crowded = min(at.x() - drawn, self.x_of(following) - at.x() if np.isfinite(following) else np.inf) < TOUCH
            drawn = at.x()
            if crowded and not held:
                painter.setPen(QPen(colour, 1.2))
                painter.drawLine(QPointF(at.x(), at.y() - 3), QPointF(at.x(), at.y() + 3))
                continue
            if held:
                for _, where in self.handle_places(name, curve, i):
                    painter.setPen(QPen(QColor(ink.soft), 1))
                    painter.drawLine(at, where)
                    painter.setBrush(QColor(ink.sheet))
                    painter.drawEllipse(where, 3.5, 3.5)
            painter.setPen(QPen(QColor(ink.sheet), 1.5))
            painter.setBrush(QColor(ink.ink) if held else colour)
            painter.drawEllipse(at, 5.5 if held else 4.5, 5.5 if held else 4.5)

    def _draw_names(self, painter, curves):
        painter.setFont(theme.type_face(9))
        several, y = len(self.things()) > 1, RULER + 8
        for name in curves:
            if y > self.height() - 26:
                break
            channel, keys = self.channel(name), len(curves[name].keys)
            label = f"{channel.group} {channel.label}" if channel.group else channel.label
            label = f"{self.session.doc.find(name[0]).name} {channel.label}" if several else label
            lines = [label, format_value(curves[name].at(self.session.player.frame), channel.unit, 3)]
            lines += [f"{keys} keys"] if keys > 24 else []
            for i, line in enumerate(lines):
                painter.setPen(QColor(theme.ink.soft) if i else self.colour(name))
                line = painter.fontMetrics().elidedText(line, Qt.ElideMiddle, RIGHT - 16)
                painter.drawText(QRectF(self.width() - RIGHT + 14, y + 13 * i, RIGHT - 16, 15), Qt.AlignLeft, line)
            y += 13 * len(lines) + 4

    def frame_of_chosen(self) -> QRectF | None:
        """The rectangle round the chosen keys; its sides scale them in time and value."""
        curves = self.curves()
        places = [self.place(n, curves[n].key_at(f)) for n, f in self.chosen if n in curves and curves[n].key_at(f)]
        if len(places) < 2:
            return None
        xs, ys = [p.x() for p in places], [p.y() for p in places]
        return QRectF(QPointF(min(xs) - 12, min(ys) - 12), QPointF(max(xs) + 12, max(ys) + 12))

    def _draw_frame_of_chosen(self, painter):
        box = self.frame_of_chosen()
        if box is None:
            return
        painter.setPen(QPen(QColor(theme.ink.soft), 1, Qt.DashLine))
        painter.setBrush(Qt.NoBrush)
        painter.drawRect(box)
        painter.setPen(QPen(QColor(theme.ink.soft), 1))
        painter.setBrush(QColor(theme.ink.sheet))
        for at in (
            QPointF(box.left(), box.center().y()),
            QPointF(box.right(), box.center().y()),
            QPointF(box.center().x(), box.top()),
            QPointF(box.center().x(), box.bottom()),
        ):
            painter.drawRect(QRectF(at.x() - 4, at.y() - 4, 8, 8))

    # -- mouse -----------------------------------------------------------------------------------------------
    def key_under(self, at) -> tuple[str, float] | None:
        best, found = NEAR, None
        for name, curve in self.curves().items():
            for key in curve.keys:
                gap = (self.place(name, key) - at).manhattanLength()
                if gap < best + 1e-9:
                    best, found = gap, (name, key.frame)
        return found

    def handle_under(self, at):
        """(track, frame, side) of a tangent handle of a chosen key."""
        for name, curve in self.curves().items():
            for i, key in enumerate(curve.keys):
                if (name, key.frame) in self.chosen:
                    for side, where in self.handle_places(name, curve, i):
                        if (where - at).manhattanLength() < NEAR:
                            return name, key.frame, side
        return None

    def side_under(self, at) -> str | None:
        box = self.frame_of_chosen()
        if box is None:
            return None
        sides = {
            "left": QPointF(box.left(), box.center().y()),
            "right": QPointF(box.right(), box.center().y()),
            "top": QPointF(box.center().x(), box.top()),
            "bottom": QPointF(box.center().x(), box.bottom()),
        }
        return next((s for s, p in sides.items() if (p - at).manhattanLength() < NEAR), None)

    def mousePressEvent(self, event):
        at = event.position()
        self.setFocus()
        if event.button() != Qt.LeftButton:
            return
        if at.y() < RULER:
            self._drag = ("frame",)
            self.session.player.go_to(self.frame_at(at.x()))
            return
        handle, side, hit = self.handle_under(at), self.side_under(at), self.key_under(at)
        add = event.modifiers() & Qt.ShiftModifier
        start = self.curves()
        if handle and not (hit and hit in self.chosen and self._on_key(hit, at)):
            self._drag = ("handle", handle, start)
        elif side:
            self._drag = ("scale", side, at, start, set(self.chosen), self.frame_of_chosen())
        elif hit:
            if add:
                self.chosen ^= {hit}
            elif hit not in self.chosen:
                self.chosen = {hit}
            self._drag = ("keys", at, start, set(self.chosen))
        else:
            if not add:
                self.chosen.clear()
            self._drag, self._band = ("band", at, set(self.chosen)), None
        self.update()

    def _on_key(self, hit, at) -> bool:
        key = self.curves()[hit[0]].key_at(hit[1])
        return key is not None and (self.place(hit[0], key) - at).manhattanLength() < 4

    def mouseMoveEvent(self, event):
        at = event.position()
        if self._drag is None:
            what = self.handle_under(at) or self.side_under(at) or self.key_under(at)
            self.setCursor(Qt.PointingHandCursor if what else Qt.ArrowCursor)
        elif self._drag[0] == "frame":
            self.session.player.go_to(self.frame_at(at.x()))
        elif self._drag[0] == "band":
            _, start, before = self._drag
            self._band = (start, at)
            box = QRectF(start, at).normalized()
            inside = {(n, k.frame) for n, c in self.curves().items() for k in c.keys if box.contains(self.place(n, k))}
            self.chosen = before | inside
            self.update()
        elif self._drag[0] == "keys":
            self._move(at, event.modifiers())
        elif self._drag[0] == "handle":
            self._turn(at)
        else:
            self._scale(at)

    def mouseReleaseEvent(self, event):
        if self._drag and self._drag[0] in ("keys", "handle", "scale"):
            self.session.scene.end_merge()
        self._drag = self._band = None
        self.update()

    def wheelEvent(self, event):
        """Zoom the values about the pointer."""
        if self.options.normalised or not self.curves():
            return
        low, high = self._view
        share = (self.inner.bottom() - event.position().y()) / self.inner.height()
        middle, factor = low + share * (high - low), 0.88 ** (event.angleDelta().y() / 120)
        self._view = (middle + (low - middle) * factor, middle + (high - middle) * factor)
        self.update()

    def _by_channel(self, chosen):
        found: dict[Track, list[float]] = {}
        for name, frame in chosen:
            found.setdefault(name, []).append(frame)
        return found

    def _put(self, curves, label):
        do.set_curves(self.session.scene, curves, label, merge=f"curves {self.session.selection.selected_id}")

    def _move(self, at, modifiers):
        _, from_, start, chosen = self._drag
        dx, dy = at.x() - from_.x(), at.y() - from_.y()
        if modifiers & Qt.ShiftModifier:  # one way only
            dx, dy = (dx, 0.0) if abs(dx) > abs(dy) else (0.0, dy)
        frames = self.frame_at(self.x_of(0) + dx)
        frames = float(round(frames)) if self.options.snap else frames
        moved, now = {}, set()
        reach = self.options.soft_width if self.options.soft else 0.0
        for name, held in self._by_channel(chosen).items():
            if name in start:
                moved[name] = start[name].moved(held, frames, -dy * self.value_per_pixel(name), reach)
                now |= {(name, f + frames) for f in held}
        self.chosen = now
        self._put(moved, "Move keys")

    def _turn(self, at):
        """Drag a tangent handle: a flat or smooth one becomes free; a free one turns its other side too."""
        _, (name, frame, side), start = self._drag
        curve = start[name]
        i = [k.frame for k in curve.keys].index(frame)
        key = curve.keys[i]
        left, right = curve.handles(i)
        away = self.frame_at(at.x()) - frame
        away = min(away, -1e-3) if side == "left" else max(away, 1e-3)
        low, high = self.span(name)
        value = low + (self.inner.bottom() - at.y()) / self.inner.height() * (high - low) - key.value
        handles = {"left": left, "right": right} | {side: (away, value)}
        kind = "broken" if key.tangent == "broken" else "free"
        if kind == "free":
            other = "right" if side == "left" else "left"
            slope, long = value / away, handles[other][0]
            handles[other] = (long, slope * long)
        self._put({name: curve.with_key(key.with_(tangent=kind, **handles))}, "Turn a tangent")

    def _scale(self, at):
        _, side, from_, start, chosen, box = self._drag
        moved, now = {}, set()
        for name, held in self._by_channel(chosen).items():
            curve = start[name]
            if side in ("left", "right"):
                about = max(f for _, f in chosen) if side == "left" else min(f for _, f in chosen)
                edge = min(f for _, f in chosen) if side == "left" else max(f for _, f in chosen)
                to = self.frame_at(at.x() + (12 if side == "left" else -12))
                times = max((to - about) / (edge - about), 1e-3) if edge != about else 1.0
                if self.options.snap:
                    times = (
                        max(round((edge - about) * times), np.sign(edge - about)) / (edge - about)
                        if edge > about
                        else times
                    )
                moved[name] = curve.moved(held, 0.0, 0.0, times=times, about=about)
                now |= {(name, about + (f - about) * times) for f in held}
            else:
                values = [curve.key_at(f).value for f in held]
                about = min(values) if side == "top" else max(values)
                pivot = box.bottom() if side == "top" else box.top()
                factor = (at.y() - pivot) / (from_.y() - pivot) if from_.y() != pivot else 1.0
                moved[name] = curve.scaled_values(held, factor, about)
                now |= {(name, f) for f in held}
        self.chosen = now
        self._put(moved, "Scale keys")

    # -- keys and commands -------------------------------------------------------------------------------------
    def keyPressEvent(self, event):
        if event.key() in (Qt.Key_Delete, Qt.Key_Backspace):
            self.remove_chosen()
        else:
            super().keyPressEvent(event)

    def event(self, event):
        if event.type() == event.Type.ShortcutOverride and event.modifiers() == Qt.ControlModifier:
            run = {Qt.Key_C: self.copy, Qt.Key_V: self.paste, Qt.Key_A: self.choose_all}.get(event.key())
            if run:
                event.accept()
                run()
                return True
        return super().event(event)

    def choose_all(self):
        self.chosen = {(n, k.frame) for n, c in self.curves().items() for k in c.keys}
        self.update()

    def remove_chosen(self):
        curves = self.curves()
        left = {n: curves[n].without(*frames) for n, frames in self._by_channel(self.chosen).items() if n in curves}
        kept = {n: c for n, c in left.items() if c is not None}
        do.set_curves(self.session.scene, kept, "Remove keys")
        for name, curve in left.items():  # the last key went: the channel keeps its value as a constant
            if curve is None:
                for key in curves[name].keys:
                    do.remove_key(self.session.scene, *name, key.frame)
        self.chosen.clear()
        self.update()

    def copy(self):
        """Keep the chosen keys, to be pasted at another frame or on another thing with the same channels."""
        curves = self.curves()
        self.copied = [(n, curves[n].key_at(f)) for n, f in sorted(self.chosen) if n in curves and curves[n].key_at(f)]

    def paste(self, offset: bool = False):
        """Put the copied keys so that the first stands at this frame; with `offset`, raised to begin at the value that
        the channel has here."""
        things = {t.id for t in self.things()}
        if not self.copied or not things:
            self.session.notice.emit("note", "Choose keys and copy them first (Ctrl+C in the curves).", "")
            return
        first, frame = min(k.frame for _, k in self.copied), self.session.player.frame
        curves, now = self.curves(), set()
        for track in dict.fromkeys(n for n, _ in self.copied):
            # on the same thing when it is still selected, else on the same channel of the one that is
            name = track if track[0] in things else (self.session.selection.selected_id, track[1])
            if name not in curves:
                continue
            keys = [k for n, k in self.copied if n == track]
            rise = curves[name].at(frame) - keys[0].value if offset else 0.0
            placed = [k.with_(frame=k.frame - first + frame, value=k.value + rise) for k in keys]
            curves[name] = curves[name].with_keys([*curves[name].keys, *placed])
            now |= {(name, k.frame) for k in placed}
        do.set_curves(self.session.scene, curves, "Paste keys")
        self.chosen = now
        self.fit()

    def each_chosen(self, run):
        for name, frame in sorted(self.chosen):
            run(name, frame)
        self.update()

    def contextMenuEvent(self, event):
        hit = self.key_under(QPointF(event.pos()))
        if hit is None:
            return
        if hit not in self.chosen:
            self.chosen = {hit}
        scene = self.session.scene
        self.menu = menu = QMenu(self)
        for word, words in TANGENTS.items():
            menu.addAction(words, lambda w=word: self.each_chosen(lambda n, f: do.set_tangent(scene, *n, f, w)))
        menu.addSeparator()
        for word, words in SEGMENTS.items():
            menu.addAction(words, lambda w=word: self.each_chosen(lambda n, f: do.set_segment(scene, *n, f, w)))
        menu.addSeparator()
        menu.addAction("Remove the chosen keys", self.remove_chosen)
        self.update()
        menu.popup(event.globalPos())
