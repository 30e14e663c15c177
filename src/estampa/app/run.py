"""Starts the application."""

import os
import sys
import threading
from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMessageBox

from ..geometry import cutting
from ..kinds import plugins
from ..scene.scene import Scene


def run(
    path: str | None = None, make: Callable[[], Scene] | None = None, picture: str | None = None, play: bool = False
) -> int:
    """Open the window on a file, on what `make` gives, or on nothing. With `picture`, solve, save a PNG of the window
    and end. A scene is made once it was asked which plug-ins may be loaded, since making one asks which kinds there
    are."""
    if not (os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM")):
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
        if not picture:
            print(
                "estampa: there is no screen here. With --picture PNG a picture of the window is saved instead.",
                file=sys.stderr,
            )
            return 2
    from .shell import theme

    app = QApplication.instance() or QApplication(sys.argv[:1])
    app.setApplicationName("Estampa")
    theme.use(app)
    plugins.ask(_agrees_to if not picture else lambda folder: False)  # before anything asks which kinds there are
    from .shell.window import Window

    window = Window()
    if make is not None:
        window.session.replace(make())
    elif path:
        window.files.open(Path(path))
    else:
        QTimer.singleShot(0, window.files.offer_recovery)
    window.show()
    if play and not picture:
        window.session.player.play(True)
    if not picture:
        window.session.work.preparing.begin_soon()
    if picture:
        QTimer.singleShot(0, lambda: _take_picture(app, window, picture))
    code = app.exec()
    if threading.active_count() > 1:  # work that did not hear that it is to stop: a frame that is half solved
        cutting.end_workers()
        sys.stdout.flush()
        os._exit(code)
    return code


def _agrees_to(folder: Path) -> bool:
    """Ask whether plug-ins of a folder, which was not seen as it is now, may run."""
    names = [f.name for f in plugins.files(folder)]
    words = f"{plugins.VARIABLE} names a folder that is new, or has changed."
    box = QMessageBox(QMessageBox.Warning, "Plug-ins", words)
    box.setInformativeText(
        f"{folder}\n{', '.join(names[:8])}{' …' if len(names) > 8 else ''}\n\n"
        "Plug-ins are programs: they may read, change and send whatever you may. Load them only when you know who made "
        "them. Without them, scenes that use them open too, and keep what is theirs."
    )
    load = box.addButton("Load them", QMessageBox.AcceptRole)
    box.setDefaultButton(box.addButton("Go on without", QMessageBox.RejectRole))
    box.exec()
    return box.clickedButton() is load


def _take_picture(app, window, picture: str) -> None:
    """Once the scene is there: solve it, go to its middle, save what the window shows, end."""
    session = window.session

    def to_the_middle():
        session.player.go_to((session.doc.start + session.doc.end) // 2)

    def save():
        window.grab().save(picture)
        print(f"saved {picture}")
        window._left = True
        window.close()
        app.quit()

    steps = [session.work.solve, to_the_middle, lambda: None, save]
    poll = QTimer(window, interval=300)  # long enough for the smooth-edged picture that follows the coarse one
    poll.timeout.connect(lambda: None if session.busy or not steps else steps.pop(0)())
    poll.start()
