"""The window: from a drag to the new picture, and from start to the first picture."""

import os
import subprocess
import sys
import time
from pathlib import Path

from .measure import Row, in_turn, ms, seconds

FIRST_PICTURE = """
import sys
from PySide6.QtWidgets import QApplication
app = QApplication([])
from estampa import demo
from estampa.app import theme
from estampa.app.shell.window import Window
theme.use(app)
window = Window()
window.session.replace(demo.build("awning"))
window.show()
def shown():
    if window.session.pictures.picture.shapes:
        print("shown", flush=True)
        app.exit()
window.viewport.picture_shown.connect(shown)
app.exec()
"""
BARE = """
from PySide6.QtWidgets import QApplication, QLabel
app = QApplication([])
class Bare(QLabel):
    def paintEvent(self, event):
        super().paintEvent(event)
        print("shown", flush=True)
        app.exit()
bare = Bare("bare")
bare.resize(1280, 800)
bare.show()
app.exec()
"""


def first_picture(script: str, cold: bool) -> float:
    """Seconds from the start of a process to its first picture. Cold: nothing of the disk is in memory, where the
    system lets us forget it."""
    if cold:
        try:
            os.sync()
            Path("/proc/sys/vm/drop_caches").write_text("3")
        except OSError:
            print("    (the disk's cache cannot be dropped here; cold is as warm)")
    begun = time.perf_counter()
    process = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    process.stdout.readline()
    spent = time.perf_counter() - begun
    process.wait()
    return spent


def drag_to_picture() -> Row:
    from PySide6.QtCore import QEventLoop
    from PySide6.QtWidgets import QApplication

    from estampa import edits as do
    from estampa.app.shell import theme
    from estampa.app.shell.window import Window
    from estampa.geometry.primitives import sheet

    app = QApplication.instance() or QApplication([])
    theme.use(app)
    window = Window()
    session = window.session
    subject = do.add_mesh(session.scene, sheet(1, 1, 100, 100), "Sheet")
    bend = do.add_layer(session.scene, subject.id, "bend", grip={"x": 0.5})
    do.add_layer(session.scene, subject.id, "noise", grip={})
    window.show()
    state = {"angle": 0.0, "looked": True, "shown": False}
    session.pictures.looked.connect(lambda: state.update(looked=True, shown=False))
    window.viewport.picture_shown.connect(lambda: state.update(shown=True))

    def wait():
        while not (state["looked"] and state["shown"]):
            app.processEvents(QEventLoop.WaitForMoreEvents)

    def drag():
        state.update(angle=state["angle"] + 0.01, looked=False)
        do.set_value(session.scene, bend.id, "angle", state["angle"], merge="drag")
        wait()

    def redraw():
        state["shown"] = False
        window.viewport.redraw()
        wait()

    for _ in range(3):
        drag()
    a, b = in_turn(drag, redraw, times=15)
    window._left = True
    window.close()
    return Row(
        "drag to new picture, 10,000 vertices, bend and noise", ms(a), f"redrawing the same picture {ms(b)}", a / b
    )


def rows() -> list[Row]:
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    found = [drag_to_picture()]
    for cold in (False, True):
        seconds(lambda: first_picture(BARE, False))
        taken = [(first_picture(FIRST_PICTURE, cold), first_picture(BARE, cold)) for _ in range(3)]
        ours, bare = (sorted(t[i] for t in taken)[1] for i in (0, 1))
        word = "cold" if cold else "warm"
        found.append(
            Row(f"start to first picture, {word}", f"{ours:.2f} s", f"bare Qt window {bare:.2f} s", ours / bare)
        )
    return found
