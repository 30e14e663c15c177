"""What the window works on. The session wires the scene to the parts in `model/`; they do the work."""

import sys
from pathlib import Path

from PySide6.QtCore import QObject, Signal

from .. import edits as do
from ..errors import EstampaError
from ..scene.scene import Scene
from ..store.frames import FrameStore
from .model.desk import Desk
from .model.pictures import Pictures
from .model.player import Player
from .model.selection import Selection
from .model.tasks import Collector
from .model.view import ViewState
from .model.watch import FileWatch
from .model.work import Work


class Session(QObject):
    """A scene with what is selected in it, how it is shown, played, worked out and kept on disk."""

    replaced = Signal()  # another scene
    doc_changed = Signal(object, object)
    notice = Signal(str, str, str)  # level, text, detail
    asked = Signal(str, object)  # words, and what to do where they are agreed to

    def __init__(self, store: FrameStore | None = None):
        super().__init__()
        self.store = store or FrameStore.default()
        Collector(self)
        sys.setswitchinterval(2e-5)  # the window has its turn at once: painting asks for it hundreds of times
        self.scene = Scene()
        self.selection, self.view, self.player = Selection(self), ViewState(self), Player(self)
        self.pictures, self.work, self.desk = Pictures(self), Work(self), Desk(self)
        self._listen()
        self.watch = FileWatch(self)
        self.watch.read_changed.connect(self._read_anew)

    @property
    def doc(self):
        return self.scene.doc

    def _listen(self):
        self.scene.changed.connect(self._on_change)

    def replace(self, scene: Scene) -> None:
        """Work on another scene from now on."""
        self.work.jobs.cancel()
        self.player.stop()
        self.scene.changed.disconnect()
        self.desk.put_down()
        self.scene = scene
        for part in (self.work, self.view, self.selection):
            part.clear()
        self.desk.take_up()
        self._listen()
        self.player.frame = scene.doc.start
        subjects = [s for s in scene.doc.subjects if s.stack] or scene.doc.subjects
        self.replaced.emit()
        self.selection.select(subjects[0].id if subjects else None)
        self.pictures.look()
        self.work.plan()
        self.player.frame_changed.emit()

    def _on_change(self, before, after):
        self.selection.follow(after)
        self.doc_changed.emit(before, after)
        self.work.plan_soon()
        if not after.start <= self.player.frame <= after.end:
            self.player.go_to(self.player.frame)
        self.pictures.look()

    def _read_anew(self, files) -> None:
        """Files that motion is read from have changed: what depends on them is another now."""
        self.work.forget_what_was_read()
        names = ", ".join(Path(f).name for f in files[:3])
        self.notice.emit("note", f"{names} changed on disk: what depends on it is stale until it is solved again.", "")
        self.doc_changed.emit(self.doc, self.doc)
        self.work.plan_soon()
        self.pictures.look()

    def set(self, thing_id: str, values: dict, merge: str | None = None, label: str | None = None) -> None:
        """Set channels as a hand does: at this frame where they are keyed, and with keys where auto-key is on. What
        takes long is asked for first."""
        thing = self.doc.find(thing_id)
        words = thing.declared.asks(values) if thing is not None and thing.declared is not None else ""
        frame, auto = self.player.frame, self.view.auto_key
        go = lambda: do.set_values(self.scene, thing_id, values, frame, merge, label, auto_key=auto)
        self.asked.emit(words, go) if words else go()

    # -- words -----------------------------------------------------------------------------------------------
    def carry_out(self, run) -> bool:
        """Run something; trouble that a person can act on is told, not raised. Returns whether it was done."""
        try:
            run()
            return True
        except EstampaError as err:
            self.tell(err)
            return False

    def tell(self, err: EstampaError) -> None:
        self.notice.emit("error", str(err), err.detail)

    @property
    def busy(self) -> bool:
        """Whether any work goes on beside the window, or is about to."""
        return self.work.busy or self.pictures.looker.busy or self.pictures.plotter.busy or self.desk.busy

    def end(self) -> None:
        self.watch.end()
        for part in (self.player, self.work, self.pictures.looker, self.pictures.plotter, self.desk):
            part.end()
