"""A widget along the scene's frames: its ruler, the present frame, and where a frame is."""

from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QWidget

from ..session import Session
from ..shell import theme

RULER, LEFT, RIGHT = 24, 26, 96  # pixels; the right margin holds words


class TimeAxis(QWidget):
    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        for signal in (session.player.frame_changed, session.selection.selected, session.replaced):
            signal.connect(self.update)
        session.doc_changed.connect(lambda *_: self.update())

    def x_of(self, frame) -> float:
        doc = self.session.doc
        return LEFT + (frame - doc.start) / max(doc.end - doc.start, 1) * (self.width() - LEFT - RIGHT)

    def frame_at(self, x: float) -> float:
        doc = self.session.doc
        return doc.start + (x - LEFT) / max(self.width() - LEFT - RIGHT, 1) * (doc.end - doc.start)

    def keyPressEvent(self, event):
        if event.key() in (Qt.Key_Left, Qt.Key_Right):
            self.session.player.go_to(self.session.player.frame + (1 if event.key() == Qt.Key_Right else -1))
        else:
            super().keyPressEvent(event)

    def draw_frame(self, painter: QPainter):
        """The present frame, as a line with its number on top."""
        ink, x = theme.ink, self.x_of(self.session.player.frame)
        painter.setPen(QPen(QColor(ink.accent), 1.4))
        painter.drawLine(QPointF(x, RULER - 6), QPointF(x, self.height()))
        painter.setPen(Qt.NoPen)
        painter.setBrush(QColor(ink.accent))
        flag = QRectF(x - 15, 3, 30, 16)
        painter.drawRoundedRect(flag, 2, 2)
        painter.setPen(QColor(ink.on_accent))
        painter.setFont(theme.type_face(9, bold=True))
        painter.drawText(flag, Qt.AlignCenter, f"{self.session.player.frame:g}")

    def draw_ruler(self, painter):
        ink, doc = theme.ink, self.session.doc
        painter.fillRect(QRectF(0, 0, self.width(), RULER), QColor(ink.fold))
        painter.setPen(QPen(QColor(ink.rule), 1))
        painter.drawLine(0, RULER - 1, self.width(), RULER - 1)
        if doc.loop:
            a, b = self.x_of(doc.loop[0]), self.x_of(doc.loop[1])
            painter.fillRect(QRectF(a, RULER - 5, b - a, 4), QColor(ink.good))
        per_frame = max(self.x_of(doc.start + 1) - self.x_of(doc.start), 1e-6)
        step = next((s for s in (1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 5000) if s * per_frame > 44), 10000)
        painter.setFont(theme.type_face(8.5))
        first = -(-doc.start // step) * step
        for frame in [doc.start, *range(first, doc.end + 1, step)]:
            x = self.x_of(frame)
            painter.setPen(QPen(QColor(ink.rule), 1))
            painter.drawLine(QPointF(x, RULER - 6), QPointF(x, RULER - 1))
            if frame == doc.start or frame - doc.start > step / 2:
                painter.setPen(QColor(ink.soft))
                painter.drawText(QRectF(x - 24, 3, 48, 14), Qt.AlignCenter, str(frame))
        painter.drawText(
            QRectF(self.width() - RIGHT + 20, 3, RIGHT - 26, 14),
            Qt.AlignRight,
            f"{(doc.end - doc.start + 1) / doc.frame_rate:.2f} s",
        )
