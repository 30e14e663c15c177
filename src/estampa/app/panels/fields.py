"""A field for one number: drag it, type in it, nudge it with the arrow keys. It always shows the unit."""

from PySide6.QtCore import QEvent, QRectF, Qt, Signal
from PySide6.QtGui import QColor, QPainter, QPen
from PySide6.QtWidgets import QLineEdit, QWidget

from ...errors import EstampaError
from ...kinds.channels import Channel
from ...units import format_value, parse_value
from ..shell import theme
from ..shell.painting import Guarded

BEGINS = "0123456789-.,+="  # what a number, or with = a formula, begins with


class _Editor(QLineEdit):
    """Keeps Enter and Escape to itself; a plain line edit hands them on to the field, which would open it again."""

    def event(self, event):
        if event.type() == QEvent.ShortcutOverride and event.key() == Qt.Key_Escape:
            event.accept()
            return True
        return super().event(event)

    def focusOutEvent(self, event):
        super().focusOutEvent(event)
        self.hide()

    def keyPressEvent(self, event):
        if event.key() == Qt.Key_Escape:
            self.hide()
        else:
            super().keyPressEvent(event)
        if event.key() in (Qt.Key_Return, Qt.Key_Enter, Qt.Key_Escape):
            event.accept()


class NumberField(Guarded, QWidget):
    changed = Signal(float)  # while dragging, and after typing
    released = Signal()  # a drag ended
    refused = Signal(object)  # EstampaError from what was typed
    formula = Signal(str)  # what was typed began with =

    def __init__(self, channel: Channel, short: bool = False):
        super().__init__()
        self.channel, self.short = channel, short
        self.value, self.keyed, self.takes_formula = float(channel.default), False, False
        self.setFixedHeight(24)
        self.setMinimumWidth(50 if short else 62)
        self.setFocusPolicy(Qt.StrongFocus)
        self.setCursor(Qt.SizeHorCursor)
        self.setAccessibleName(channel.label)
        self._press = None
        self._editor = _Editor(self)
        self._editor.hide()
        self._editor.returnPressed.connect(self._typed)

    def show_value(self, value: float, keyed: bool = False) -> None:
        if (float(value), keyed) != (self.value, self.keyed):
            self.value, self.keyed = float(value), keyed
            self.update()

    @property
    def _step(self) -> float:
        """A small nudge: a two-hundredth of the soft range."""
        low, high = self.channel.soft
        return 1.0 if self.channel.type == "whole" or high <= low else (high - low) / 200

    def _offer(self, value: float) -> None:
        value = self.channel.clamp(value)
        if self.channel.type == "whole":
            value = round(value)
        if value != self.value:
            self.show_value(value, self.keyed)
            self.changed.emit(float(value))

    def paint(self, painter: QPainter):
        ink = theme.ink
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        painter.setPen(QPen(QColor(ink.accent if self.hasFocus() else ink.rule), 1))
        painter.setBrush(QColor(ink.sheet))
        painter.drawRoundedRect(box, 2, 2)
        low, high = self.channel.soft
        if high > low:
            zero, t = (min(max((v - low) / (high - low), 0), 1) for v in (0, self.value))
            inner = box.adjusted(1.5, 1.5, -1.5, -1.5)
            left, right = sorted((zero, t))
            bar = QRectF(inner.left() + left * inner.width(), inner.bottom() - 3, (right - left) * inner.width(), 3)
            painter.setPen(Qt.NoPen)
            painter.setBrush(QColor(ink.accent if self.keyed else ink.rule))
            painter.drawRect(bar)
        painter.setPen(QColor(ink.ink if self.isEnabled() else ink.rule))
        painter.setFont(theme.type_face(8.5 if self.short else 9.5))
        text = format_value(self.value, self.channel.unit, 3 if self.short else 4)
        if self.short:
            text = f"{self.channel.label[-1].upper()} {text}"
        text = painter.fontMetrics().elidedText(text, Qt.ElideRight, int(box.width()) - 6)
        painter.drawText(box.adjusted(4 if self.short else 6, 0, -2, -2), Qt.AlignVCenter | Qt.AlignLeft, text)

    def event(self, event):
        """What begins a number is for the field, even where it is a shortcut too."""
        if event.type() == QEvent.ShortcutOverride and event.text() and event.text() in BEGINS:
            event.accept()
            return True
        return super().event(event)

    def mousePressEvent(self, event):
        if event.button() == Qt.LeftButton:
            self._press = (event.position().x(), self.value, False)

    def mouseMoveEvent(self, event):
        if self._press:
            x, value, moved = self._press
            by = event.position().x() - x
            if moved or abs(by) > 2:
                self._press = (x, value, True)
                fine = 0.1 if event.modifiers() & Qt.ShiftModifier else 1.0
                self._offer(value + by * self._step * fine * (0.12 if self.channel.type == "whole" else 1))

    def mouseReleaseEvent(self, event):
        if self._press and self._press[2]:
            self.released.emit()
        elif self._press:
            self.edit()
        self._press = None

    def keyPressEvent(self, event):
        key, text = event.key(), event.text()
        if key in (Qt.Key_Up, Qt.Key_Down):
            many = 10 if event.modifiers() & Qt.ShiftModifier else 1
            self._offer(self.value + (1 if key == Qt.Key_Up else -1) * many * self._step)
            self.released.emit()
        elif key in (Qt.Key_Return, Qt.Key_Enter, Qt.Key_F2):
            self.edit()
        elif text and text in BEGINS:
            self.edit(text)
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event):
        self.update()
        super().focusInEvent(event)

    def focusOutEvent(self, event):
        self.update()
        super().focusOutEvent(event)

    def edit(self, text: str | None = None):
        self._editor.setGeometry(self.rect())
        self._editor.setText(format_value(self.value, self.channel.unit, 6) if text is None else text)
        self._editor.show()
        self._editor.setFocus()
        if text is None:
            self._editor.selectAll()

    def _typed(self):
        text = self._editor.text().strip()
        if text.startswith("=") and self.takes_formula:
            self._editor.hide()
            self.formula.emit(text[1:])
            return
        try:
            value = parse_value(text, self.channel.unit)
        except EstampaError as err:
            self.refused.emit(err)
            return
        self._editor.hide()
        self.setFocus()
        self._offer(value)
        self.released.emit()
