"""Takes the pictures of this folder again: .venv/bin/python docs/screenshots/make.py [name ...]

Each function makes one view of a demo scene and is named after its picture.
"""

import os
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp()
os.environ |= {"ESTAMPA_STORE": f"{HOME}/frames", "ESTAMPA_STATE": f"{HOME}/state"}

import numpy as np  # noqa: E402
from PySide6.QtCore import QEventLoop  # noqa: E402
from PySide6.QtGui import QPainter  # noqa: E402
from PySide6.QtWidgets import QApplication  # noqa: E402

from estampa import demo  # noqa: E402
from estampa import edits as do  # noqa: E402
from estampa.app.session import Session  # noqa: E402
from estampa.app.shell import theme  # noqa: E402
from estampa.app.shell.finder import Finder  # noqa: E402
from estampa.app.shell.window import Window  # noqa: E402

HERE = Path(__file__).parent
app = QApplication([])
theme.use(app)


class Sitting:
    """A window on a demo, solved."""

    def __init__(self, name: str | None = None, frame: int | None = None):
        self.window = w = Window(Session())
        self.session = w.session
        w.resize(1280, 800)
        w.show()
        w._left = True
        if name:
            self.session.replace(demo.build(name))
            self.session.work.solve()
            self.settle()
            if frame is not None:
                self.session.player.go_to(frame)
        self.settle()

    def settle(self, seconds=240):
        end, quiet = time.monotonic() + seconds, 0
        while time.monotonic() < end and quiet < 10:
            app.processEvents(QEventLoop.AllEvents, 50)
            time.sleep(0.02)
            quiet = 0 if self.session.busy else quiet + 1
        time.sleep(0.25)
        for _ in range(10):
            app.processEvents()

    def thing(self, name):
        return next(t for t, _ in self.session.doc.everything() if t.name == name)

    def select(self, name, *also):
        self.session.selection.select(self.thing(name).id, [self.thing(n).id for n in also])

    def nearer(self, share, **more):
        view = self.window.viewport
        view.camera = replace(view._own_camera, distance=view._own_camera.distance * share, **more)

    def save(self, name, dialog=None):
        """The window, with a dialog laid over it when there is one."""
        self.settle()
        whole = self.window.grab()
        if dialog is not None:
            picture, painter = dialog.grab(), QPainter(whole)
            painter.drawPixmap((whole.width() - picture.width()) // 2, 110, picture)
            painter.end()
            dialog.reject()
        whole.save(str(HERE / f"{name}.png"))
        print(name, flush=True)
        self.session.end()
        self.window.hide()


def window():
    s = Sitting("awning", 80)
    s.select("Canvas")
    s.save("window")


def stale():
    s = Sitting("awning", 80)
    s.select("Onshore wind")
    do.set_key(s.session.scene, s.thing("Onshore wind").id, "speed", 48, 6.2)
    s.window.unfold()
    s.save("stale")


def maps():
    s = Sitting("awning", 80)
    s.select("Awning")
    s.window.use_tool("gradient")
    s.save("maps")


def press():
    s = Sitting("awning", 80)
    s.select("Awning")
    s.window.press.folder = Path(HOME) / "prints"
    s.window.run_prints()
    s.settle()
    s.window.press.show_beside(s.session.doc.prints[0].id)
    s.save("press")


def liquid():
    s = Sitting("barrel", 50)
    s.select("Cider")
    s.window.viewport._own_camera = replace(
        s.window.viewport.camera, target=np.array([0.35, 0.25, 0.0]), distance=2.9, pitch=0.3, yaw=0.55
    )
    s.window.viewport.redraw(fine=True)
    s.settle()
    s.save("liquid")


def remarks():
    s = Sitting("awning", 80)
    do.set_value(s.session.scene, s.thing("Canvas").id, "pins", None)
    do.set_value(s.session.scene, s.thing("Canvas").id, "substeps", 4)
    s.select("Canvas")
    s.window.show_panel("remarks")
    s.save("remarks")


def finder():
    s = Sitting("awning", 80)
    s.window.find()
    s.settle()
    s.save("finder", s.window.findChildren(Finder)[-1])


def night():
    s = Sitting("awning", 80)
    s.select("Canvas")
    s.window.toggle_night()
    s.save("night")
    theme.use(app)


def swarm():
    s = Sitting("dragonflies", 96)
    s.select("Flock")
    s.window.viewport.frame_moving()
    s.nearer(0.5, yaw=0.5, pitch=0.15)
    s.save("swarm")


def compare():
    s = Sitting("reeds", 30)
    s.select("Reed bed")
    s.session.view.hold()
    s.settle()
    do.set_value(s.session.scene, s.thing("Lean").id, "y", 0.7)
    s.nearer(0.7)
    s.save("compare")


def pieces():
    s = Sitting("jar", 30)
    s.select("Break")
    do.set_values(s.session.scene, s.thing("Break").id, {"rough": 1.0, "grain": 0.06})
    s.settle()
    s.window.notice.hide()
    s.save("pieces")


def body():
    s = Sitting("puppet", 1)
    s.select("Limp (ragdoll)")
    s.window.viewport.frame_all()
    s.nearer(0.45)
    s.save("body")


def loop():
    s = Sitting("reeds", 30)
    s.select("Reed bed")
    s.window.show_panel("loop")
    do.set_value(s.session.scene, s.thing("Swell").id, "rate", 0.3)
    s.settle()
    s.window.loop.find_in_step()
    s.save("loop")


def curves():
    s = Sitting("pinwheels", 40)
    camera = next(t for t in s.session.doc.things if t.kind == "camera")
    s.session.view.set_view(camera=camera.id)
    keyed = next(t for t, _ in s.session.doc.everything() if sum(t.curve(n) is not None for n in t.values) >= 1)
    s.session.selection.select(keyed.id)
    s.window.toggle_curves()
    s.save("curves")


def ghosts():
    s = Sitting("pinwheels", 40)
    s.select("Lost hoop")
    s.session.view.set_view(ghosts=True)
    s.session.player.go_to(41)
    s.settle()
    s.window.viewport.frame_selection()
    s.nearer(2.2)
    s.save("ghosts")


def rehearsal():
    s = Sitting("dragonflies", 96)
    s.window.press.folder = Path(HOME) / "prints"
    s.window.run_prints()
    s.settle()
    s.window.press.rehearse(s.session.doc.prints[0].id)
    dialog = s.window.press.rehearsal
    dialog.seen.now = 95 / 24
    dialog._show_gap()
    s.settle()
    s.save("rehearsal", dialog)


def _lanterns(frame=84):
    s = Sitting("lanterns", frame)
    s.nearer(0.62, yaw=0.5, pitch=0.12)
    return s


def lanterns():
    s = _lanterns()
    s.select("Cord")
    s.window.show_panel("joints")
    s.save("lanterns")


def paint():
    s = _lanterns()
    s.select("Lantern 4")
    s.window.skeletons.use_tool("paint")
    view, cord = s.window.viewport, s.session.scene.evaluate(84)["Lantern cord"]
    view.camera = view._own_camera.framing(cord, view.width() / view.height())
    s.save("paint")


def blind():
    s = Sitting("blind", 52)
    s.select("Cotton")
    s.window.viewport.frame_all()
    s.save("blind")


VIEWS = (
    *(window, stale, maps, press, liquid, remarks, finder, night, swarm, compare, pieces, loop, curves, ghosts),
    *(rehearsal, lanterns, body, paint, blind),
)

if __name__ == "__main__":
    wanted = sys.argv[1:]
    for view in VIEWS:
        if not wanted or view.__name__.rstrip("_") in wanted:
            view()
    sys.stdout.flush()
    os._exit(0)  # what Qt would tidy up has no use here
