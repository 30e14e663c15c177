"""How long the window's own thread is kept by one event, on a heavy scene: python -m bench.events

Ten solved cloths and two thousand still subjects. Every event is timed as it is delivered; each action's longest one is
printed, and those over 100 ms with what they were. What OpenGL takes to draw and hand back a picture is counted apart:
here the processor may have to stand in for a graphics card.
"""

import os
import sys
import tempfile
import time

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
HOME = tempfile.mkdtemp()
os.environ |= {"ESTAMPA_STORE": f"{HOME}/frames", "ESTAMPA_STATE": f"{HOME}/state"}

import numpy as np
from PySide6.QtWidgets import QApplication

from estampa.app.view.render import Renderer

LIMIT = 0.1  # s


class Timed(QApplication):
    """Times each event that is delivered, without what OpenGL takes for a picture, which is in `drawing`."""

    longest, what, depth, drawn, drawing = 0.0, "", 0, 0.0, 0.0

    def __init__(self):
        super().__init__([])
        draw = Renderer.picture

        def picture(renderer, *a, **k):
            began = time.perf_counter()
            try:
                return draw(renderer, *a, **k)
            finally:
                took = time.perf_counter() - began
                self.drawn, self.drawing = self.drawn + took, max(self.drawing, took)

        Renderer.picture = picture

    def clock(self) -> float:
        return time.perf_counter() - self.drawn

    def forget(self) -> None:
        self.longest, self.what, self.drawing = 0.0, "", 0.0

    def notify(self, receiver, event):
        self.depth += 1
        began = self.clock()
        try:
            return super().notify(receiver, event)
        finally:
            self.depth -= 1
            took = self.clock() - began
            if self.depth == 0 and took > self.longest:
                self.longest, self.what = took, f"{type(receiver).__name__} {event.type().name}"


def heavy_scene():
    from estampa import edits as do
    from estampa.geometry.primitives import box, sheet
    from estampa.scene.document import Document, Thing
    from estampa.scene.scene import Scene

    scene = Scene(Document(name="heavy", start=1, end=60))
    for k in range(10):
        flag = do.add_mesh(scene, sheet(1.2, 0.8, 30, 20), f"Flag {k}")
        held = (scene.arrays.get(flag.mesh.points)[:, 0] == 0).astype(np.float32)
        pins = do.add_map(scene, flag.id, held, "Hoist")
        do.add_layer(scene, flag.id, "cloth", values={"pins": pins.id, "substeps": 8, "excess": 1.0})
    crate = do.mesh_ref(scene, box([0, 0, 0], [0.3, 0.3, 0.3]))
    stand = lambda i: {"x": 0.5 * (i % 50), "z": 0.5 * (i // 50)}
    crates = [Thing(kind="subject", name=f"Crate {i}", mesh=crate, values=stand(i)) for i in range(2000)]
    scene.apply("Crates", scene.doc.with_(things=(*scene.doc.things, *crates)))
    for kind in ("gravity", "wind"):
        do.add_thing(scene, kind)
    return Scene(scene.doc, scene.arrays)


def main() -> int:
    app = Timed()
    from estampa import edits as do
    from estampa.app.session import Session
    from estampa.app.shell import theme
    from estampa.app.shell.window import Window
    from estampa.kinds.panels import panels
    from estampa.store.frames import FrameStore

    theme.use(app)
    window = Window(Session(FrameStore(f"{HOME}/frames")))
    s = window.session
    window.resize(1280, 800)
    window.show()

    def settle(seconds=180):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            app.processEvents()
            if not s.busy:
                break
            time.sleep(0.002)
        for _ in range(20):
            app.processEvents()

    over = []

    def act(name, run):
        settle()
        app.forget()
        began = app.clock()
        run()
        direct = app.clock() - began
        settle()
        longest, what = max((direct, "the action itself"), (app.longest, app.what))
        picture = f"; a picture up to {1000 * app.drawing:.0f} ms" if app.drawing else ""
        print(f"  {1000 * longest:7.1f} ms  {name}  ({what}{picture})", flush=True)
        if longest > LIMIT:
            over.append(name)

    scene = heavy_scene()
    act("open 10 cloths and 2,000 crates", lambda: s.replace(scene))
    act("solve", s.work.solve)
    flag, crate = (next(t for t in s.doc.things if t.name == n) for n in ("Flag 3", "Crate 77"))
    wind = next(t for t in s.doc.things if t.kind == "wind")
    act("needs a solve?", s.work.needs_solve)
    act("select a flag", lambda: s.selection.select(flag.id))
    act("select a cloth", lambda: s.selection.select(flag.stack[0].id))
    act("change a cloth", lambda: s.set(flag.stack[0].id, {"damping": 0.9}))
    act("undo", lambda: s.scene.undo())
    act("move a crate", lambda: s.set(crate.id, {"x": 3.0}))
    act("undo", lambda: s.scene.undo())
    act("change the wind", lambda: s.set(wind.id, {"speed": 5.0}))
    act("undo", lambda: s.scene.undo())
    act("a frame on", lambda: s.player.go_to(s.player.frame + 1))
    for panel in [p.word for p in panels()]:
        act(f"show the {panel}", lambda p=panel: window.show_panel(p))
    act("save", lambda: s.desk.save(__import__("pathlib").Path(HOME) / "heavy.estampa", then=lambda: None))
    act("autosave", s.desk.autosave_now)
    act("curves", window.toggle_curves)
    act("lanes", window.toggle_curves)
    act("night ink", window.toggle_night)
    act("paper", window.toggle_night)
    act("second pane", window.toggle_pane)
    act("play half a second", lambda: s.player.play(True))
    s.player.play(False)
    act("a new layer", lambda: do.add_layer(s.scene, crate.id, "bend"))
    print(f"{len(over)} over {1000 * LIMIT:.0f} ms: {', '.join(over) or 'none'}")
    sys.stdout.flush()
    os._exit(1 if over else 0)


if __name__ == "__main__":
    main()
