"""One guard for all painting: what fails leaves the last picture standing, and is told once."""

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPixmap

from ..model.tasks import trouble_in_words


class Guarded:
    """Mixed into a widget that draws itself in `paint(painter)`.

    An exception in a paint event would leave its painter open, and the program could end at the next one.
    """

    _last: QPixmap | None = None
    _told = ""

    def paintEvent(self, event):
        ratio = self.devicePixelRatioF()
        picture = QPixmap(max(1, round(self.width() * ratio)), max(1, round(self.height() * ratio)))
        picture.setDevicePixelRatio(ratio)
        picture.fill(Qt.transparent)
        painter, trouble = QPainter(picture), None
        try:
            painter.setRenderHint(QPainter.Antialiasing)
            self.paint(painter)
        except Exception as err:
            trouble = err
        finally:
            painter.end()
        if trouble is None:
            self._last, self._told = picture, ""
        elif repr(trouble) != self._told:
            self._told = repr(trouble)
            session = getattr(self, "session", None) or getattr(self.window(), "session", None)
            if session is not None:
                session.tell(trouble_in_words(trouble))
        front = QPainter(self)
        if self._last is not None:
            front.drawPixmap(0, 0, self._last)
        front.end()
        if trouble is None:
            self.painted_whole()

    def painted_whole(self) -> None:
        """Called once the widget shows what it should."""
