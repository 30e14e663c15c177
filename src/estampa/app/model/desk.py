"""The desk: where the open scene lies on disk, whose it is, and what is kept of unsaved work."""

from pathlib import Path

from PySide6.QtCore import QObject, QTimer, Signal

from ...errors import Cancelled, EstampaError, disk_trouble
from ...scene import file, recovery
from .tasks import Latest, Task, trouble_in_words

AUTOSAVE_EVERY = 20_000  # ms


class Desk(QObject):
    """Saves, autosaves and locks the scene of a session."""

    changed_on_disk = Signal(object)  # the path that somebody else saved since

    def __init__(self, session):
        super().__init__(session)
        self.session, self.saver = session, Latest("autosave")
        self.lock: recovery.SceneLock | None = None
        self.lock_is_ours = True
        self.autosave = recovery.Autosave()
        self.recovered: Path | None = None  # the autosave that the scene came from, kept until it is saved or given up
        self._autosaved_doc = None
        self._timer = QTimer(self, interval=AUTOSAVE_EVERY)
        self._timer.timeout.connect(self.autosave_now)
        self._timer.start()

    def put_down(self) -> None:
        """Let go of the scene that was open."""
        if self.lock:
            self.lock.release()
            self.lock = None
        self.give_up()

    def take_up(self) -> None:
        """Another scene lies here from now on; nobody else may save it meanwhile."""
        self._autosaved_doc = self.session.scene.doc
        self.lock_is_ours = True
        if self.session.scene.path:
            self.lock = recovery.SceneLock(self.session.scene.path)
            self.lock_is_ours = self.lock.held

    def save(self, path: Path | None = None, over: bool = False, then=None) -> bool:
        """Save the scene, never over one that another window has open, and over one that changed on disk only when
        `over` says so. Returns whether it was saved; with `then`, it is written beside the window, and then() runs once
        it is saved."""
        scene = self.session.scene
        target, doc = Path(path or scene.path), scene.doc
        own = scene.path is not None and file.is_same(target, scene.path)
        lock = None
        try:
            if not (own and self.lock_is_ours):
                lock = recovery.SceneLock(target)
                if not lock.held:
                    raise EstampaError(
                        target.name,
                        "is open in another window, which may save it too.",
                        "Save it under another name (Save as).",
                    )
            file.refuse_changed(scene, target, over)
            if then is None:
                self._saved(scene, target, doc, file.write_scene(scene, target, doc), lock, own)
                return True
        except EstampaError as err:
            self._not_saved(err, target, lock)
            return False

        def written(mark):
            self._saved(scene, target, doc, mark, lock, own)
            then()

        work = lambda progress, cancelled: file.write_scene(scene, target, doc)
        failed = lambda err: self._not_saved(err, target, lock)
        self.session.work.jobs.add(Task("Save", work, written, failed, alongside=True))
        return True

    def _not_saved(self, err, target, lock):
        if lock is not None:
            lock.release()
        if isinstance(err, file.ChangedOnDisk):
            self.changed_on_disk.emit(target)
        else:
            self.session.tell(err)

    def _saved(self, scene, target, doc, mark, lock, own):
        session = self.session
        file.saved(scene, target, doc, mark)
        recovery.note_recent(target)
        if scene is not session.scene:  # another one was opened while it was written
            if lock is not None:
                lock.release()
            return
        if lock is not None:
            if self.lock:
                self.lock.release()
            self.lock, self.lock_is_ours = lock, True
        if not scene.is_changed:
            self.give_up()
            self._autosaved_doc = scene.doc
        words = " The other window has closed: the scene is yours now." if lock is not None and own else ""
        session.notice.emit("done", f"Saved {target.name}.{words}", str(target))
        session.doc_changed.emit(session.doc, session.doc)

    def give_up(self) -> None:
        """What was kept of unsaved work is not wanted any more: it was saved, or the person said so."""
        self.autosave.discard()
        if self.recovered is not None:
            self.recovered.unlink(missing_ok=True)
            self.recovered = None

    def autosave_now(self) -> None:
        """Keep unsaved work, beside the window; a failure is told once and does no harm."""
        scene, doc = self.session.scene, self.session.scene.doc
        if doc is self._autosaved_doc or not scene.is_changed:
            return
        self._autosaved_doc = doc

        def then(_, trouble):
            if scene is not self.session.scene or not scene.is_changed:
                self.autosave.discard()  # it was saved, or left, while this was written
            if isinstance(trouble, OSError):
                trouble = disk_trouble("The autosave", trouble, "Your work is still here.")
            if trouble is not None and not isinstance(trouble, Cancelled):
                self.session.tell(trouble_in_words(trouble))

        self.saver.ask(lambda: self.autosave.write(scene, doc), then)

    @property
    def busy(self) -> bool:
        return self.saver.busy

    def end(self) -> None:
        self._timer.stop()
        self.autosave.ended = True
        self.saver.end()
        self.give_up()
        if self.lock:
            self.lock.release()
