"""Starts the application."""

import os
import sys
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication


def run(path: str | None = None, scene=None, picture: str | None = None, play: bool = False) -> int:
    """Open the window on a scene, a file or nothing. With `picture`, solve, save a PNG of the window and end."""
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")):
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
        if not picture:
            print(
                "estampa: there is no screen here. With --picture PNG a picture of the window is saved instead.",
                file=sys.stderr,
            )
            return 2
    from . import theme
    from .window import Window

    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Estampa")
    theme.use(app)
    window = Window()
    if scene is not None:
        window.session.replace(scene)
    elif path:
        window.files.open(Path(path))
    else:
        QTimer.singleShot(0, window.files.offer_recovery)
    window.show()
    if play and not picture:
        window.session.play(True)
    if picture:
        QTimer.singleShot(0, lambda: _take_picture(app, window, picture))
    return app.exec()


def _take_picture(app, window, picture: str) -> None:
    session = window.session
    wanted = (session.doc.start + session.doc.end) // 2

    def ready():
        if session.busy:
            return
        if session.frame != wanted:
            session.go_to(wanted)
            return
        poll.stop()
        QTimer.singleShot(600, finish)

    def finish():
        window.grab().save(picture)
        print(f"saved {picture}")
        session.scene.saved_doc = session.scene.doc
        window.close()
        app.quit()

    session.solve()
    poll = QTimer(window, interval=100)
    poll.timeout.connect(ready)
    poll.start()
