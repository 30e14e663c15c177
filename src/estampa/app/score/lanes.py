"""The lanes: each thing's motion in time. How far a layer moves its subject, its keys, and what is solved."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QBrush, QColor, QPainter, QPainterPath, QPen, QPolygonF
from PySide6.QtWidgets import QMenu, QToolTip

from ... import edits as do
from ...inspect.lanes import SOLVED, STALE
from ...scene.curves import SEGMENTS
from ...units import format_length, format_value
from ..session import Session
from ..shell import theme
from ..shell.painting import Guarded
from .roster import ROW, Roster
from .time_axis import LEFT, RIGHT, RULER, TimeAxis

BAND = 5
TOUCH = 11  # pixels: marks nearer than this would touch
SMALL = 0.02  # share of a thing's size: what travels less does not fill its lane
STILL = 1e-6  # m; less is how numbers are rounded, not motion


def clusters(frames: list, x_of, touch: float) -> list[list]:
    """Frames in rising order, together while their marks would touch."""
    found: list[list] = []
    for frame in frames:
        if found and x_of(frame) - x_of(found[-1][-1]) < touch:
            found[-1].append(frame)
        else:
            found.append([frame])
    return found


class Lanes(Guarded, TimeAxis):
    def __init__(self, session: Session, roster: Roster):
        super().__init__(session)
        self.roster = roster
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.StrongFocus)
        self.setMinimumWidth(240)
        self.setAccessibleName("Lanes")
        self.key_held: tuple[str, float] | None = None  # (thing, frame) of the chosen key
        self._drag = None
        session.work.lanes_changed.connect(self.update)
        session.work.in_step_changed.connect(self.update)
        roster.verticalScrollBar().valueChanged.connect(lambda _: self.update())
        roster.itemExpanded.connect(lambda _: self.update())
        roster.itemCollapsed.connect(lambda _: self.update())

    def rows(self):
        """Yields (thing, rectangle) for each row in view."""
        item = self.roster.itemAt(1, 1)
        while item is not None:
            rect = self.roster.visualItemRect(item)
            box = QRectF(0, rect.top() + RULER, self.width(), rect.height())
            if box.top() >= self.height():
                return
            thing = self.session.doc.find(self.roster.id_of(item))
            if thing is not None and rect.isValid():
                yield thing, box
            item = self.roster.itemBelow(item)

    def keys_of(self, thing) -> dict[float, list[tuple[str, object]]]:
        """Frame -> [(channel name, key)]."""
        found: dict[float, list] = {}
        for name in thing.declared.channels if thing.declared else ():
            curve = thing.curve(name)
            for key in curve.keys if curve else ():
                found.setdefault(key.frame, []).append((name, key))
        return found

    def key_under(self, at) -> tuple[str, float] | None:
        for thing, box in self.rows():
            if box.top() <= at.y() < box.bottom():
                near = [(abs(self.x_of(f) - at.x()), f) for f in self.keys_of(thing)]
                if near and min(near)[0] <= 7:
                    return thing.id, min(near)[1]
        return None

    # -- drawing -------------------------------------------------------------------------------------------
    def paint(self, painter: QPainter):
        ink = theme.ink
        painter.fillRect(self.rect(), QColor(ink.sheet))
        painter.setClipRect(QRectF(0, RULER, self.width(), self.height() - RULER))
        for thing, box in self.rows():
            if thing.id == self.session.selection.selected_id:
                painter.fillRect(box, QColor(ink.chosen))
            painter.setPen(QPen(QColor(ink.fold), 1))
            painter.drawLine(box.bottomLeft(), box.bottomRight())
            lane = self.session.work.lanes.get(thing.id)
            if lane is not None:
                self._draw_reach(painter, box, lane, thing)
            if box.height() > ROW + 4:
                self._draw_curves(painter, box, thing)
            self._draw_keys(painter, box, thing)
            self._draw_in_step(painter, box, thing)
            if self.keys_of(thing):
                painter.drawPixmap(6, int(box.top() + 6), theme.icon("more", ink.soft).pixmap(14, 14))
        painter.setClipping(False)
        self.draw_ruler(painter)
        self.draw_frame(painter)
        if not self.session.doc.things:
            painter.setPen(QColor(ink.soft))
            painter.setFont(theme.type_face(10.5))
            painter.drawText(
                self.rect(), Qt.AlignCenter, "Each layer of motion gets a lane here, once there is a subject."
            )

    def _draw_reach(self, painter, box, lane, thing):
        """The envelope of a layer: its largest travel, with the mean inside it; the band of solved frames beneath."""
        ink, doc = theme.ink, self.session.doc
        top = np.nanmax(lane.reach) if np.isfinite(lane.reach).any() else 0.0
        top = top if top > STILL else 0.0
        full = max(top, SMALL * lane.size)
        frames = np.arange(len(lane.reach)) + doc.start
        floor = box.top() + min(box.height(), ROW) - BAND - 2
        tall = min(box.height(), ROW) - BAND - 6
        if top > 0:
            for values, share in ((lane.reach, 0.45), (lane.mean, 0.72)):
                known = np.isfinite(values)
                if known.any():
                    xs, ys = self.x_of(frames[known]), floor - values[known] / full * tall
                    shape = QPolygonF(
                        [
                            QPointF(xs[0], floor),
                            *(QPointF(x, y) for x, y in zip(xs, ys, strict=True)),
                            QPointF(xs[-1], floor),
                        ]
                    )
                    colour = theme.ramp_colour(share)
                    colour.setAlpha(150 if share < 0.5 else 235)
                    painter.setPen(Qt.NoPen)
                    painter.setBrush(colour)
                    painter.drawPolygon(shape)
        words = lane.report.over_all(lane.reach) if lane.report else _reach_in_words(top, np.isfinite(lane.reach))
        if lane.state is not None:
            self._draw_band(painter, box, lane.state, frames, _is_draft(thing))
        if lane.alarms is not None and lane.alarms.any():
            painter.setPen(QPen(QColor(ink.accent), 2))
            for x in self.x_of(frames[lane.alarms > 0]):
                painter.drawLine(QPointF(x, box.top() + 2), QPointF(x, box.top() + 7))
            words = lane.alarm_words
        painter.setPen(QColor(ink.soft))
        painter.setFont(theme.type_face(8.5))
        here = QRectF(self.width() - RIGHT + 8, box.top(), RIGHT - 10, min(box.height(), ROW) - 2)
        painter.drawText(here, Qt.AlignVCenter | Qt.AlignLeft, words)

    def _draw_in_step(self, painter, box, thing):
        """Say so where copies or layers move as one."""
        found = [f for f in self.session.work.in_step if f.thing == thing.id or thing.id in f.members]
        if not found or (found[0].what == "layers" and found[0].thing == thing.id):
            return
        text = found[0].words(thing.name) if found[0].what == "copies" else "in step with others"
        painter.setFont(theme.type_face(8.5, bold=True))
        place = QRectF(LEFT + 4, box.top() + 5, painter.fontMetrics().horizontalAdvance(text) + 8, 15)
        paper = QColor(theme.ink.sheet)
        paper.setAlpha(215)
        painter.fillRect(place, paper)
        painter.setPen(QColor(theme.ink.accent))
        painter.drawText(place.adjusted(4, 0, 0, 0), Qt.AlignVCenter, text)

    def _draw_band(self, painter, box, state, frames, draft):
        """What is solved, and what is stale; a draft is drawn lighter and says so, since it is not for delivering."""
        ink = theme.ink
        y = box.top() + min(box.height(), ROW) - BAND - 1
        wide = max(self.x_of(frames[0] + 1) - self.x_of(frames[0]), 1)
        painter.setPen(QPen(QColor(ink.rule), 1))
        painter.setBrush(Qt.NoBrush)
        painter.drawRect(
            QRectF(self.x_of(frames[0]) - wide / 2, y, self.x_of(frames[-1]) - self.x_of(frames[0]) + wide, BAND - 1)
        )
        changes = np.flatnonzero(np.diff(state.states)) + 1
        for part in np.split(np.arange(len(frames)), changes):
            kind = state.states[part[0]]
            span = QRectF(self.x_of(frames[part[0]]) - wide / 2, y, (len(part)) * wide, BAND - 1)
            if kind == SOLVED:
                painter.fillRect(span, QBrush(QColor(ink.good), Qt.Dense5Pattern if draft else Qt.SolidPattern))
            elif kind == STALE:
                pale = QColor(ink.accent)
                pale.setAlpha(70)
                painter.fillRect(span, pale)
                painter.fillRect(span, QBrush(QColor(ink.accent), Qt.BDiagPattern))
        words = [f"stale: {state.why}"] if state.why else []
        words += ["draft"] if draft and (state.states == SOLVED).any() else []
        if words:
            painter.setPen(QColor(ink.accent))
            painter.setFont(theme.type_face(8.5, bold=True))
            text = painter.fontMetrics().elidedText(" · ".join(words), Qt.ElideRight, self.width() - LEFT - RIGHT - 10)
            place = QRectF(LEFT + 4, box.top() + 1, painter.fontMetrics().horizontalAdvance(text) + 8, 15)
            paper = QColor(ink.sheet)
            paper.setAlpha(215)
            painter.fillRect(place, paper)
            painter.drawText(place.adjusted(4, 0, 0, 0), Qt.AlignVCenter, text)

    def _draw_curves(self, painter, box, thing):
        ink = theme.ink
        inner = self._curve_box(box)
        painter.setBrush(Qt.NoBrush)
        for name in thing.declared.channels if thing.declared else ():
            curve = thing.curve(name)
            if curve is None:
                continue
            doc = self.session.doc
            frames = np.linspace(doc.start, doc.end, max(2, int(self.width() / 3)))
            values = curve.at(frames)
            low, high = self._value_range(curve)
            path = QPainterPath()
            for i, (f, v) in enumerate(zip(frames, values, strict=True)):
                p = QPointF(self.x_of(f), inner.bottom() - (v - low) / (high - low) * inner.height())
                path.lineTo(p) if i else path.moveTo(p)
            painter.setPen(QPen(QColor(ink.ink), 1.4))
            painter.drawPath(path)
            painter.setPen(QColor(ink.soft))
            painter.setFont(theme.type_face(8.5))
            channel = thing.declared.channels[name]
            at = QRectF(self.width() - RIGHT + 8, inner.top() - 4, RIGHT - 10, 14)
            painter.drawText(at, Qt.AlignLeft, format_value(high, channel.unit, 2))
            painter.drawText(at.translated(0, inner.height() - 4), Qt.AlignLeft, format_value(low, channel.unit, 2))
            painter.drawText(QRectF(LEFT + 10, inner.top() - 5, 200, 14), Qt.AlignLeft, channel.label)

    @staticmethod
    def _curve_box(box) -> QRectF:
        return QRectF(box.left(), box.top() + ROW + 2, box.width(), box.height() - ROW - 12)

    @staticmethod
    def _value_range(curve):
        values = curve.at(np.linspace(curve.keys[0].frame, curve.keys[-1].frame, 64))
        low, high = float(values.min()), float(values.max())
        return (low, high) if high > low else (low - 0.5, high + 0.5)

    def _draw_keys(self, painter, box, thing):
        """A mark for each frame with keys; where marks would touch, one bar with their count."""
        ink, y = theme.ink, box.top() + ROW / 2 - 2
        keys = self.keys_of(thing)
        for frames in clusters(sorted(keys), self.x_of, TOUCH):
            held = any(self.key_held == (thing.id, f) for f in frames)
            painter.setPen(QPen(QColor(ink.sheet), 1.5))
            painter.setBrush(QColor(ink.accent if held else ink.ink))
            left, right = self.x_of(frames[0]), self.x_of(frames[-1])
            if len(frames) == 1:
                painter.drawEllipse(QPointF(left, y), 5, 5)
                continue
            bar = QRectF(left - 5, y - 5, right - left + 10, 10)
            painter.drawRoundedRect(bar, 5, 5)
            words = f"{len(frames):,} keys" if bar.width() > 60 else f"{len(frames)}"
            painter.setPen(QColor(ink.sheet))
            painter.setFont(theme.type_face(7.5, bold=True))
            painter.drawText(bar.adjusted(0, -1, 0, 1), Qt.AlignCenter, words)
            if held:  # the chosen one stands out of its bar
                painter.setPen(QPen(QColor(ink.sheet), 1.5))
                painter.setBrush(QColor(ink.accent))
                painter.drawEllipse(QPointF(self.x_of(self.key_held[1]), y), 5.5, 5.5)
        if box.height() > ROW + 4:
            self._draw_keys_on_curves(painter, box, thing, keys)

    def _draw_keys_on_curves(self, painter, box, thing, keys):
        ink, inner = theme.ink, self._curve_box(box)
        ranges = {n: self._value_range(thing.curve(n)) for found in keys.values() for n, _ in found}
        drawn: dict[str, float] = {}
        for frame in sorted(keys):
            x = self.x_of(frame)
            for name, key in keys[frame]:
                if x - drawn.get(name, -1e9) < TOUCH and self.key_held != (thing.id, frame):
                    continue
                drawn[name] = x
                low, high = ranges[name]
                y = inner.bottom() - (key.value - low) / (high - low) * inner.height()
                painter.setPen(QPen(QColor(ink.sheet), 1.5))
                painter.setBrush(QColor(ink.accent if self.key_held == (thing.id, frame) else ink.ink))
                painter.drawEllipse(QPointF(x, y), 4.5, 4.5)

    # -- mouse and keys --------------------------------------------------------------------------------------
    def mousePressEvent(self, event):
        at = event.position()
        if event.button() != Qt.LeftButton:
            return
        if at.y() < RULER:
            self._drag = ("frame",)
            self.session.player.go_to(self.frame_at(at.x()))
            return
        hit = self.key_under(at)
        row = next(((t, b) for t, b in self.rows() if b.top() <= at.y() < b.bottom()), None)
        if row and at.x() < LEFT - 4 and self.keys_of(row[0]):
            self.roster.set_unfolded(row[0].id, row[0].id not in self.roster.unfolded)
            self.update()
            return
        if row:
            self.session.selection.select(row[0].id)
        self.key_held = hit
        if hit:
            self._drag = ("key", hit[0], hit[1], at.y(), {n: k.value for n, k in self.keys_of(row[0])[hit[1]]}, row[1])
        else:
            self._drag = ("frame",)
            self.session.player.go_to(self.frame_at(at.x()))
        self.update()

    def mouseMoveEvent(self, event):
        at = event.position()
        if self._drag is None:
            self._tell_about(event)
        elif self._drag[0] == "frame":
            self.session.player.go_to(self.frame_at(at.x()))
        else:
            self._drag_key(at, event.modifiers())

    def _drag_key(self, at, modifiers):
        _, thing_id, frame, y0, values, box = self._drag
        scene = self.session.scene
        to = float(min(max(round(self.frame_at(at.x())), self.session.doc.start), self.session.doc.end))
        thing = scene.doc.find(thing_id)
        if to != frame and to not in self.keys_of(thing):
            for name in values:
                do.move_key(scene, thing_id, name, frame, to, merge=f"key {thing_id}")
            self.key_held, frame = (thing_id, to), to
            self._drag = (*self._drag[:2], to, *self._drag[3:])
        if box.height() > ROW + 4 and y0 > box.top() + ROW:
            for name, value in values.items():
                curve = scene.doc.find(thing_id).curve(name)
                low, high = self._value_range(curve)
                per_pixel = (high - low) / max(self._curve_box(box).height(), 1)
                new = value - (at.y() - y0) * per_pixel
                do.set_value(scene, thing_id, name, new, frame, merge=f"key {thing_id}")

    def mouseReleaseEvent(self, event):
        if self._drag and self._drag[0] == "key":
            self.session.scene.end_merge()
        self._drag = None

    def keyPressEvent(self, event):
        if event.key() in (Qt.Key_Delete, Qt.Key_Backspace) and self.key_held:
            self.remove_held_key()
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event):
        hit = self.key_under(event.pos())
        if hit is None:
            return
        self.key_held = hit
        self.update()
        self.menu = QMenu(self)
        for segment, words in SEGMENTS.items():
            self.menu.addAction(words, lambda s=segment: self._set_segment(s))
        self.menu.addSeparator()
        self.menu.addAction(theme.icon("remove"), "Remove the key", self.remove_held_key)
        self.menu.popup(event.globalPos())

    def _set_segment(self, segment: str):
        thing_id, frame = self.key_held
        for name, _ in self.keys_of(self.session.doc.find(thing_id)).get(frame, []):
            do.set_segment(self.session.scene, thing_id, name, frame, segment)

    def remove_held_key(self):
        thing_id, frame = self.key_held
        thing = self.session.doc.find(thing_id)
        for name, _ in self.keys_of(thing).get(frame, []) if thing else []:
            do.remove_key(self.session.scene, thing_id, name, frame)
        self.key_held = None

    def _tell_about(self, event):
        at = event.position()
        row = next(((t, b) for t, b in self.rows() if b.top() <= at.y() < b.bottom()), None)
        if row is None:
            QToolTip.hideText()
            return
        thing, _ = row
        lines, hit = [], self.key_under(at)
        if hit:
            for name, key in self.keys_of(thing)[hit[1]]:
                channel = thing.declared.channels[name]
                lines.append(
                    f"{channel.label} {format_value(key.value, channel.unit)} at {key.frame:g}, then {key.segment}"
                )
        lane = self.session.work.lanes.get(thing.id)
        i = int(round(self.frame_at(at.x()))) - self.session.doc.start
        if lane is not None and 0 <= i < len(lane.reach) and np.isfinite(lane.reach[i]):
            moves = f"moves {format_length(lane.mean[i])} on average, at most {format_length(lane.reach[i])}"
            words = lane.frame_words[i] if lane.report else moves
            lines.append(f"frame {i + self.session.doc.start}: {words}")
        if lane is not None and lane.state is not None:
            lines.append(lane.state.words())
        QToolTip.showText(event.globalPosition().toPoint(), "\n".join(lines), self) if lines else QToolTip.hideText()


def _is_draft(thing) -> bool:
    """Whether a solver was told that its frames are for looking only."""
    return "quality" in thing.declared.channels and thing.constant("quality") == "draft"


def _reach_in_words(top, known) -> str:
    """A bound only when every frame is known: what is not solved yet may go further."""
    if not known.any():
        return ""
    if known.all():
        return f"≤ {format_length(top)}" if top > 0 else "does not move"
    return f"so far {format_length(top)}" if top > 0 else "not known yet"
