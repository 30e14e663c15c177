"""Marks in the photograph behind a pane, by which a camera is matched to it."""

from dataclasses import replace

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPen

from ....edits import add_thing
from ....edits.cameras import match_camera as put_camera
from ....geometry.camera_match import CameraMatch, KnownPoint, Line
from ....geometry.camera_match import match_camera as solve
from ....scene.values import Rows
from ...facets import facet_of
from ...model.tasks import Task
from .. import backdrops, marks
from .tool import Banded

NEAR = 14  # pixels within which a click takes hold of what is known
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"


class Match(Banded):
    """A drag is an edge that runs along an axis; two clicks are a point that is known, and where it is seen.

    Pixels are kept from the middle of the pane, in its heights, so that they stay when it grows.
    """

    hint = "drag along an edge, towards +X (Shift: +Y, Ctrl: +Z); or click what is known, then where it is in the photo"

    def __init__(self, pane):
        super().__init__(pane)
        self.lines: list[Line] = []
        self.points: list[KnownPoint] = []
        self.found: CameraMatch | None = None
        self._known: np.ndarray | None = None  # what was clicked, while where it is seen is waited for
        self._order: list[list] = []  # what was put down, last one last

    def press(self, at, modifiers=Qt.NoModifier):
        super().press(at, modifiers)
        self._axis = self._axis_of(modifiers)

    @staticmethod
    def _axis_of(modifiers) -> str:
        held = Qt.KeyboardModifier
        return "y" if modifiers & held.ShiftModifier else "z" if modifiers & held.ControlModifier else "x"

    def dragged(self, start, end, modifiers):
        self._put(self.lines, Line(self._axis, self._kept(start), self._kept(end)))

    def clicked(self, at, modifiers):
        if self._known is None:
            self._known = self._known_under(at)
            return
        place = tuple(float(c) for c in self._known)
        self._known = None
        self._put(self.points, KnownPoint(self._kept(at), place))

    def _put(self, held: list, mark) -> None:
        held.append(mark)
        self._order.append(held)
        self.found = None

    def take_back(self) -> bool:
        if self._known is not None:
            self._known = None
        elif self._order:
            self._order.pop().pop()
            self.found = None
        else:
            return False
        self.pane.update()
        return True

    def _kept(self, at) -> tuple[float, float]:
        tall = self.pane.height()
        return (at[0] - self.pane.width() / 2) / tall, (at[1] - tall / 2) / tall

    def _shown(self, kept) -> QPointF:
        tall = self.pane.height()
        return QPointF(kept[0] * tall + self.pane.width() / 2, kept[1] * tall + tall / 2)

    def _known_under(self, at) -> np.ndarray | None:
        """The vertex, or the middle of a grip, that is nearest to a pixel; else the floor there."""
        pane = self.pane
        spots = [i.points for i in pane.drawn() if i.stand is None]
        spots += [pane.place(t).origin for t in self.session.doc.things if facet_of(t.declared).named]
        every = np.concatenate(spots) if spots else np.zeros((0, 3))
        if len(every):
            pixels, depth = pane.camera.project(every, pane.width(), pane.height())
            gap = np.where(depth > 0, np.linalg.norm(pixels - at, axis=1), np.inf)
            if gap.min() <= NEAR:
                return every[gap.argmin()]
        return pane.ground_under(*at)

    def marks_in_pixels(self) -> tuple[tuple[int, int], list[KnownPoint], list[Line]]:
        """As match_camera takes them: in pixels of the pane."""
        at = lambda kept: (self._shown(kept).x(), self._shown(kept).y())
        points = [replace(p, pixel=at(p.pixel)) for p in self.points]
        lines = [replace(line, begin=at(line.begin), end=at(line.end)) for line in self.lines]
        return (self.pane.width(), self.pane.height()), points, lines

    def draw(self, painter):
        super().draw(painter)
        for line in self.lines:
            self._draw_line(painter, self._shown(line.begin), self._shown(line.end), line.axis)
        for k, point in enumerate(self.points):
            self._draw_point(painter, self._shown(point.pixel), k)
        if self._known is not None:
            marks.dot(painter, self.pane.view(), self._known, 6, marks.AMBER)
            marks.name(painter, self.pane.view(), self._known, "where is this in the photo?")
        if self.found is not None:
            for point, error in zip(self.points, self.found.errors, strict=False):
                marks.name(painter, self.pane.view(), np.array(point.place), f"{error:.1f} px off")

    def draw_band(self, painter, a, b):
        self._draw_line(painter, a, b, self._axis)

    @staticmethod
    def _draw_line(painter, a, b, axis):
        for colour, wide in ((marks.DARK, 5), (marks.AMBER, 2)):
            painter.setPen(QPen(colour, wide, Qt.SolidLine, Qt.RoundCap))
            painter.drawLine(a, b)
        painter.setBrush(marks.PAPER)
        painter.setPen(QPen(marks.DARK, 1.4))
        painter.drawEllipse(b, 8, 8)
        painter.drawText(QPointF(b.x() - 4, b.y() + 4), axis.upper())

    @staticmethod
    def _draw_point(painter, at, k):
        for colour, wide in ((marks.DARK, 4), (marks.PAPER, 2)):
            painter.setPen(QPen(colour, wide))
            painter.drawLine(at + QPointF(-9, 0), at + QPointF(9, 0))
            painter.drawLine(at + QPointF(0, -9), at + QPointF(0, 9))
        painter.drawText(at + QPointF(8, -6), LETTERS[k % len(LETTERS)])


def match_camera(pane) -> None:
    """Match the camera that the pane looks through, else the selected one, else a new one, to its marks."""
    s, tool = pane.session, pane._tools["match"]
    size, points, lines = tool.marks_in_pixels()
    behind = backdrops.at(s.doc, s.player.frame)
    if behind is not None and behind[1].shape[1] / behind[1].shape[0] > size[0] / size[1] + 0.01:
        words = "The pane is narrower than the photograph, so that its lens would be wrong: make it wider, then match."
        s.notice.emit("note", words, "")
        return
    held = s.doc.find(pane.look.camera) or s.selection.thing
    camera = held if held is not None and held.kind == "camera" else None
    origin = (0.0, 1.6, 4.0) if camera is None else s.scene.values.place(camera, Rows.one(s.player.frame)).origin[0]

    def then(found):
        own = s.doc.find(camera.id) if camera is not None else None
        if not s.carry_out(lambda: _put(own, found)):
            return
        tool.found = found
        back = 1000 * float(s.doc.find(pane.look.camera).constant("film_back"))
        words = f"Matched within {found.error:.1f} px; lens {1000 * found.lens(back / 1000):.1f} mm on a film back of "
        unsure = "" if found.sure else ". These marks hardly tell the lens: mark what is nearer and farther away too"
        s.notice.emit("done" if found.sure else "note", f"{words}{back:.1f} mm{unsure}", "")
        pane.redraw()

    def _put(own, found):
        own = own or add_thing(s.scene, "camera", "Matched camera")
        put_camera(s.scene, own.id, found)
        s.view.set_view(camera=own.id)

    work = lambda progress, cancelled: solve(size, points, lines, origin)
    s.work.jobs.add(Task("Match the camera", work, then, alongside=True))
