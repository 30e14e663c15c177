import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox, QPushButton

from estampa.app.session import Session
from estampa.app.shell import theme
from estampa.app.shell.window import Window
from estampa.store.frames import FrameStore


class User:
    """Hands and eyes for a window: waits, clicks, drags, types."""

    def __init__(self, qtbot, window):
        self.qtbot, self.window, self.session = qtbot, window, window.session

    def wait(self, until=None, seconds=30):
        """Until the work beside the window is done, or until something is so."""
        self.qtbot.waitUntil(until or (lambda: not self.session.busy), timeout=seconds * 1000)
        QApplication.processEvents()

    def do(self, name):
        """A command, as the menu or its shortcut would run it."""
        self.window.actions_by_name[name].trigger()
        QApplication.processEvents()

    def keys(self, widget, key, modifier=Qt.NoModifier):
        if not self.window.isActiveWindow():  # as after a dialog, where there is no window manager
            self.window.activateWindow()
            self.qtbot.waitUntil(self.window.isActiveWindow)
        QTest.keyClick(widget, key, modifier)
        QApplication.processEvents()

    def click(self, widget, at=None, modifier=Qt.NoModifier):
        QTest.mouseClick(
            widget, Qt.LeftButton, modifier, QPoint(*map(int, at)) if at is not None else widget.rect().center()
        )
        QApplication.processEvents()

    def drag(self, widget, start, end, button=Qt.LeftButton, modifier=Qt.NoModifier, steps=4):
        a, b = (QPoint(int(p[0]), int(p[1])) for p in (start, end))
        QTest.mousePress(widget, button, modifier, a)
        for i in range(1, steps + 1):
            QTest.mouseMove(widget, a + (b - a) * i / steps)
            QApplication.processEvents()
        QTest.mouseRelease(widget, button, modifier, b)
        QApplication.processEvents()

    def type_in(self, field, text):
        """Double use of a number field: Enter to edit, type, Enter."""
        field.setFocus()
        QTest.keyClick(field, Qt.Key_Return)
        field._editor.selectAll()
        QTest.keyClicks(field._editor, text)
        QTest.keyClick(field._editor, Qt.Key_Return)
        QApplication.processEvents()

    def thing(self, name):
        return next(t for t, _ in self.session.doc.everything() if t.name == name)

    def value(self, name, channel, frame=None):
        return self.session.scene.values.at(
            self.thing(name), channel, self.session.player.frame if frame is None else frame
        )

    def select(self, name):
        roster = self.window.score.roster
        item = roster.item_for(self.thing(name).id)
        box = roster.visualItemRect(item)
        self.click(roster.viewport(), (box.left() + 30, box.center().y()))

    @property
    def notice(self):
        return self.window.notice.text.text() if self.window.notice.isVisible() else ""


def answer(user, words):
    """Click the button of those words in the box that asks something."""
    box = next(b for b in user.window.findChildren(QMessageBox) if b.isVisible())
    user.click(next(b for b in box.findChildren(QPushButton) if b.text() == words))


@pytest.fixture
def user(qtbot, tmp_path):
    theme.use(QApplication.instance())
    window = Window(Session(FrameStore(tmp_path / "store")))
    window.press.folder = tmp_path / "prints"
    window.show()
    window.activateWindow()  # shortcuts are felt by the active window only
    qtbot.waitUntil(window.isActiveWindow)
    qtbot.addWidget(window, before_close_func=lambda w: setattr(w, "_left", True))
    yield User(qtbot, window)


@pytest.fixture
def flag_user(user, flag):
    user.session.replace(flag)
    user.wait()
    return user
