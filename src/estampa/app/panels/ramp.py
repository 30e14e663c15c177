"""A drawn ramp: knots that are dragged, over a plot of how what goes into it is spread among the grains."""

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import QWidget

from ...errors import EstampaError
from ...kinds.channels import Channel
from ...kinds.ramps import MOST, ramp_words, read_ramp
from ..shell import theme
from ..shell.painting import Guarded

BINS, NEAR = 40, 8  # of the plot; pixels within which a knot is taken hold of
NUDGE = 0.02


class RampField(Guarded, QWidget):
    """Drag a knot; double-click where there is none to add one; Delete takes the chosen one away. With the keys: Tab
    to it, Left and Right choose a knot, Up and Down move it, Shift with Left and Right moves it along."""

    changed = Signal(str)
    released = Signal()

    def __init__(self, channel: Channel):
        super().__init__()
        self.channel, self.words = channel, ""
        self.knots = [(0.0, 0.0), (1.0, 1.0)]
        self.chosen, self.held = 0, False
        self.spread: np.ndarray | None = None  # (BINS,) share of the grains, of the most
        self.count = 0
        self.setFixedHeight(64)
        self.setFocusPolicy(Qt.StrongFocus)
        self.setAccessibleName(channel.label)
        self.setMouseTracking(True)

    def show_value(self, words: str) -> None:
        if words == self.words or self.held:
            return
        self.words = words
        try:
            self.knots = [(float(x), float(y)) for x, y in zip(*read_ramp(words), strict=True)]
        except EstampaError:
            self.knots = [(0.0, 0.0), (1.0, 1.0)]
        self.chosen = min(self.chosen, len(self.knots) - 1)
        self.update()

    def show_spread(self, entering: np.ndarray | None) -> None:
        """entering (k,) in 0 to 1, of each grain; None where no frame is solved."""
        self.count = 0 if entering is None else len(entering)
        many = np.histogram(entering, BINS, (0, 1))[0] if self.count else None
        self.spread = None if many is None else many / max(int(many.max()), 1)
        self.update()

    # -- where things are --------------------------------------------------------------------------------------
    def _box(self) -> QRectF:
        return QRectF(self.rect()).adjusted(6, 5, -6, -6)

    def _at(self, knot) -> QPointF:
        box = self._box()
        return QPointF(box.left() + knot[0] * box.width(), box.bottom() - knot[1] * box.height())

    def _share(self, point) -> tuple[float, float]:
        box = self._box()
        x, y = (point.x() - box.left()) / box.width(), (box.bottom() - point.y()) / box.height()
        return float(np.clip(x, 0, 1)), float(np.clip(y, 0, 1))

    def _under(self, point) -> int | None:
        far = [np.hypot(self._at(k).x() - point.x(), self._at(k).y() - point.y()) for k in self.knots]
        return int(np.argmin(far)) if min(far) <= NEAR else None

    # -- what a hand does --------------------------------------------------------------------------------------
    def _move(self, to) -> None:
        """The chosen knot; it stays between those beside it."""
        i, last = self.chosen, len(self.knots) - 1
        low = self.knots[i - 1][0] if i else 0.0
        high = self.knots[i + 1][0] if i < last else 1.0
        x, y = min(max(to[0], low), high), min(max(to[1], 0.0), 1.0)
        self.knots[i] = (round(x, 4), round(y, 4))
        self._tell()

    def _tell(self) -> None:
        self.words = ramp_words(self.knots)
        self.update()
        self.changed.emit(self.words)

    def mousePressEvent(self, event):
        under = self._under(event.position())
        if event.button() == Qt.LeftButton and under is not None:
            self.chosen, self.held = under, True
            self.update()

    def mouseMoveEvent(self, event):
        if self.held:
            self._move(self._share(event.position()))
        else:
            over = self._under(event.position()) is not None
            self.setCursor(Qt.SizeAllCursor if over else Qt.ArrowCursor)

    def mouseReleaseEvent(self, event):
        if self.held:
            self.held = False
            self.released.emit()

    def mouseDoubleClickEvent(self, event):
        if self._under(event.position()) is None and len(self.knots) < MOST:
            knot = tuple(round(s, 4) for s in self._share(event.position()))
            self.knots = sorted([*self.knots, knot])
            self.chosen = self.knots.index(knot)
            self._tell()
            self.released.emit()

    def keyPressEvent(self, event):
        key, shift = event.key(), bool(event.modifiers() & Qt.ShiftModifier)
        x, y = self.knots[self.chosen]
        if key in (Qt.Key_Delete, Qt.Key_Backspace) and len(self.knots) > 2:
            self.knots.pop(self.chosen)
            self.chosen = min(self.chosen, len(self.knots) - 1)
            self._tell()
        elif key in (Qt.Key_Left, Qt.Key_Right) and not shift:
            step = 1 if key == Qt.Key_Right else -1
            self.chosen = int(np.clip(self.chosen + step, 0, len(self.knots) - 1))
            self.update()
        elif key in (Qt.Key_Left, Qt.Key_Right):
            self._move((x + (NUDGE if key == Qt.Key_Right else -NUDGE), y))
        elif key in (Qt.Key_Up, Qt.Key_Down):
            self._move((x, y + (NUDGE if key == Qt.Key_Up else -NUDGE)))
        else:
            super().keyPressEvent(event)
            return
        self.released.emit()

    # -- what is seen ------------------------------------------------------------------------------------------
    def paint(self, painter: QPainter):
        ink, box = theme.ink, self._box()
        painter.setRenderHint(QPainter.Antialiasing)
        painter.setPen(QPen(QColor(ink.accent if self.hasFocus() else ink.rule), 1))
        painter.setBrush(QColor(ink.sheet))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 2, 2)
        if self.spread is not None:
            painter.setPen(Qt.NoPen)
            painter.setBrush(QColor(ink.fold))
            wide = box.width() / BINS
            for i, share in enumerate(self.spread):
                tall = share * box.height()
                painter.drawRect(QRectF(box.left() + i * wide, box.bottom() - tall, wide, tall))
        line = [QPointF(box.left(), self._at(self.knots[0]).y()), *map(self._at, self.knots)]
        line.append(QPointF(box.right(), self._at(self.knots[-1]).y()))
        painter.setBrush(Qt.NoBrush)
        painter.setPen(QPen(QColor(ink.ink), 1.6))
        painter.drawPolyline(QPolygonF(line))
        for i, knot in enumerate(self.knots):
            painter.setBrush(QColor(ink.accent if i == self.chosen and self.hasFocus() else ink.ink))
            painter.setPen(Qt.NoPen)
            painter.drawEllipse(self._at(knot), 4, 4)
        if not self.count:
            painter.setPen(QColor(ink.soft))
            painter.setFont(theme.type_face(8.5))
            painter.drawText(box, Qt.AlignTop | Qt.AlignLeft, "solve to see how grains are spread")
