"""What is drawn over the picture of a pane: handles, marks, words, and the scale."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF

from ...scene.document import Thing
from ...scene.things import Grip
from ...units import format_length
from ..facets import facet_of
from ..model.looks import difference
from ..shell import theme
from . import marks
from .canvas import Canvas
from .handles import AXES
from .stretching import stretch_told

TOLD = 4  # lines on what is not solved; of more things the rest is counted


class Overlay:
    """The part of a Viewport that draws over its picture."""

    def _draw_over(self, painter: QPainter):
        s, view, look = self.session, self.view(), self.look
        active, selected = self.active_grip(), s.selection.thing
        if s.player.playing:  # the eye is on the motion
            if not look.meshes:
                self.draw_skeletons(painter, view)
            self._draw_picked(painter)
            self._draw_words(painter)
            return
        if look.joints:
            self.draw_skeletons(painter, view)
        if s.view.tool in ("hand", "place") and look.controls:
            canvas = Canvas(painter, self, view, self._hot)
            for thing in s.doc.things:
                if thing.on and thing.declared is not None:
                    self._draw_mark(canvas, thing, active is not None and active.id == thing.id)
            if selected is not None:
                facet_of(selected.declared).draw_selected(canvas, selected)
            handles = self.handles()
            if handles:
                handles.draw(painter, self._hot if isinstance(self._hot, str) else None)
        marks.segments(painter, view, s.pictures.picture.alarms, marks.RED, 3.0)
        if look.shapes:
            marks.segments(painter, view, s.pictures.picture.outlines)
        if look.trails and active is not None and active.id in s.work.trails and look.controls:
            keys = {k.frame for n in Grip.channels for k in (active.curve(n).keys if active.curve(n) else ())}
            marks.trail(painter, view, s.work.trails[active.id], s.doc.start, s.player.frame, keys)
        self.tool.draw(painter)
        self._draw_picked(painter)
        self._draw_words(painter)

    def _draw_mark(self, canvas: Canvas, thing: Thing, chosen: bool):
        """A thing that is no mesh, as a line drawing; in a pane of controls with its name."""
        facet = facet_of(thing.declared)
        if thing.id == self.look.camera:
            return
        facet.draw(canvas, thing, chosen)
        if facet.named and (not self.look.meshes or chosen):
            canvas.words(self.place(thing).origin[0], thing.name)

    def _draw_words(self, painter: QPainter):
        s = self.session
        painter.setFont(theme.type_face(9))
        y = 14

        def say(text, colour="#fffaf0", bold=False):
            nonlocal y
            painter.setFont(theme.type_face(9.5, bold=bold))
            text = painter.fontMetrics().elidedText(text, Qt.ElideRight, self.width() - 40)
            width = painter.fontMetrics().horizontalAdvance(text)
            painter.setPen(Qt.NoPen)
            painter.setBrush(QColor(42, 36, 32, 150))
            painter.drawRoundedRect(QRectF(10, y - 4, width + 16, 21), 2, 2)
            painter.setPen(QColor(colour))
            painter.drawText(QRectF(18, y - 4, width + 4, 21), Qt.AlignVCenter, text)
            y += 25

        subject = s.selection.subject
        if not s.doc.subjects and not s.doc.skeletons:
            return
        picture = s.pictures.picture
        looked = [*picture.shapes.items(), *picture.joints.items()]
        looked += [(i, w) for i, swarm in picture.swarms.items() for w in [*swarm.skins, *swarm.layers][:1]]
        waiting = [(s.doc.find(i), shape) for i, shape in looked if not shape.is_current]
        waiting = [(thing, shape) for thing, shape in waiting if thing is not None]
        at = s.pictures.picture.frame
        for thing, shape in waiting[: TOLD if len(waiting) <= TOLD else TOLD - 1]:
            if shape.shown_frame is None:
                text = "shown without its solved layers"
            else:
                stale = shape.shown_frame == at
                text = "its stale result is shown" if stale else f"frame {shape.shown_frame:g} stands in"
            say(f"{thing.name}: frame {at:g} is not solved, {text}", "#fcd673", bold=True)
        if len(waiting) > TOLD:
            say(f"and {len(waiting) - TOLD + 1} more that are not solved here", "#fcd673", bold=True)
        for i, swarm in picture.swarms.items():
            if swarm.layers and swarm.layers[0].one_in > 1:
                say(f"{s.doc.find(i).name}: one in {swarm.layers[0].one_in} of its grains is drawn")
        if s.view.picked is not None:
            say(self._picked_words(s.view.picked))
        painted = self.painted() if s.view.tool in ("paint", "gradient") else None
        if painted is not None and s.selection.joints:
            joint = s.selection.joints[0].name
            self._draw_ramp(painter, joint)
            say(f"weights of {joint} on {painted[0].name}; others give way, but for the locked ones")
        elif self.tool.hint:
            say(self.tool.hint)
        elif s.view.tool in ("pick", "gradient") and subject is not None:
            found = subject.map(s.selection.map_id)
            chosen = int(s.selection.chosen_of(subject).sum())
            say(f"{subject.name} · {chosen:,} of {s.scene.mesh(subject.mesh).count:,} vertices chosen")
            if found and self.look.show_map:
                self._draw_ramp(painter, found.name)
        if self.look.stretch and self.look.meshes:
            stretched = stretch_told(s)
            for words, _ in stretched:
                say(words)
            if stretched:
                self._draw_ramp(painter, "stretch", stretched[0][1])
        if s.view.held and self.look.meshes:
            shape = s.pictures.picture.shapes.get(s.selection.watched.id) if s.selection.watched is not None else None
            held = s.pictures.picture.held.get(s.selection.watched.id) if s.selection.watched is not None else None
            apart = difference(shape, held) if shape is not None and held is not None else None
            words = (
                "another mesh now"
                if apart is None
                else f"{1000 * apart[0]:.1f} mm apart on average, at most {1000 * apart[1]:.1f} mm"
            )
            say(f"teal: held result of {s.selection.watched.name if s.selection.watched else 'nothing'}, {words}")
        if s.selection.thing is not None and s.view.tool in ("hand", "place") and self.look.controls:
            hint = facet_of(s.selection.thing.declared).hint(s.selection.thing)
            if hint:
                say(hint)
        if self.look.ghosts and s.pictures.picture.ghosts:
            say(f"plum: {s.view.ghost_step} and more frames before; amber: after")
        if self.look.camera and s.doc.find(self.look.camera):
            say(f"through {s.doc.find(self.look.camera).name}")
        if s.selection.isolated:
            say(f"isolated: {len(s.selection.isolated)} of {len(s.doc.things)} things shown")
        if s.view.beside:
            say(f"blue-grey: {s.view.beside.title}, played back from its file")
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
            # a pennant at its end, and its letter beyond
            way = (tip - middle) / max(float(np.linalg.norm(tip - middle)), 1e-6)
            side = np.array([-way[1], way[0]]) * (1 if way[0] >= 0 else -1)
            flag = [tip, tip - way * 9, tip - way * 4.5 - side * 8]
            painter.setBrush(QColor(colour))
            painter.setPen(Qt.NoPen)
            painter.drawPolygon(QPolygonF([QPointF(*p) for p in flag]))
            painter.setPen(QColor("#fffaf0"))
            painter.setFont(theme.type_face(8.5, bold=True))
            beyond = tip + way * 9
            painter.drawText(QRectF(beyond[0] - 9, beyond[1] - 9, 18, 18), Qt.AlignCenter, letter)

    def _draw_ramp(self, painter, name, ends=("0", "1")):
        box = QRectF(self.width() - 190, 14, 160, 10)
        painter.setPen(Qt.NoPen)
        painter.setBrush(QColor(42, 36, 32, 150))
        painter.drawRoundedRect(box.adjusted(-14, -8, 14, 26), 2, 2)
        for i in range(80):
            painter.fillRect(QRectF(box.left() + i * 2, box.top(), 2.2, box.height()), theme.ramp_colour(i / 79))
        painter.setPen(QColor("#fffaf0"))
        painter.setFont(theme.type_face(8.5))
        painter.drawText(box.adjusted(0, 12, 0, 16), Qt.AlignLeft, ends[0])
        painter.drawText(box.adjusted(0, 12, 0, 16), Qt.AlignRight, ends[1])
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
