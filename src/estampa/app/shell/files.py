"""Opening, importing, saving and leaving: what the window does with files, and what it asks before."""

from datetime import datetime
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox

from ... import edits as do
from ...edits import importing, versions
from ...edits.names import Names
from ...errors import Cancelled, EstampaError
from ...formats.asset import SUFFIXES, TREES, Asset, read_asset
from ...scene import file, recovery
from ...scene.scene import Scene
from ..model.tasks import Task
from .asset_dialog import AssetDialog
from .import_dialog import ImportDialog, ReadFile

MESHES = " ".join(f"*{s}" for s in SUFFIXES)


def with_ending(path: str | Path, ending: str) -> Path:
    """The path as it was typed, with an ending added where it has none. “walk.v002” keeps all of its name."""
    path = Path(path)
    return path if path.name.lower().endswith(ending) else path.with_name(path.name + ending)


def unless_there(window, path: Path | None, go) -> None:
    """Go on at once, or ask first when a file is there already."""
    there = path is not None and path.exists()
    ask_to_replace(window, f"{path.name} is there already. Its content would be gone." if there else "", go)


def ask_to_replace(window, words: str, go) -> None:
    """Go on at once without words; else ask first."""
    if words:
        ask_first(window, words, ("Replace it", "Keep it"), go)
    else:
        go()


def ask_first(window, words: str, buttons: tuple[str, str], go, leave=lambda: None) -> QMessageBox:
    """Ask, and go on or leave it. buttons -- what the two are called; the second is the one at hand."""
    box = QMessageBox(QMessageBox.Question, f"{buttons[0]}?", words, parent=window)
    box.setAttribute(Qt.WA_DeleteOnClose)
    yes = box.addButton(buttons[0], QMessageBox.DestructiveRole)
    box.setDefaultButton(box.addButton(buttons[1], QMessageBox.RejectRole))
    box.buttonClicked.connect(lambda button: go() if button is yes else leave())
    box.open()
    return box


def _step(name: str, progress, cancelled):
    """What a reader tells of how far it is; it stops where that is wanted."""

    def step(share, text):
        if cancelled():
            raise Cancelled
        progress(share, f"{name}: {text}")

    return step


class Files:
    def __init__(self, window):
        self.window, self.session = window, window.session
        self.session.desk.changed_on_disk.connect(self._ask_over)
        self.session.watch.source_changed.connect(self._offer_new_version)
        self.import_dialog: ImportDialog | None = None

    @staticmethod
    def recent() -> list[Path]:
        return recovery.recent()

    # -- scenes ----------------------------------------------------------------------------------------------
    def new(self):
        self.leave_then(lambda: self.session.replace(Scene()))

    def ask_open(self):
        title = "Open a scene, or import a file"
        path, _ = QFileDialog.getOpenFileName(self.window, title, "", f"Scenes and meshes (*.estampa {MESHES})")
        if path:
            self.open(Path(path))

    def open(self, path: Path):
        """Open a scene, or import a mesh, beside the window."""
        if path.suffix.lower() != ".estampa":
            self.import_mesh(path)
            return

        def work(progress, cancelled):
            progress(0.2, f"Opening {path.name}")
            return file.load_scene(path)

        def open_it():
            left = self.session.doc  # what was agreed to be left

            def opened(scene):
                def take():
                    self.session.replace(scene)
                    recovery.note_recent(path)
                    self.offer_recovery()

                # edits made while it was read are not lost unasked
                take() if self.session.doc is left else self.leave_then(take)

            self.session.work.jobs.add(Task("Open", work, opened, alongside=True))

        self.leave_then(open_it)

    def save(self, then=lambda: None):
        """Save, beside the window; then() runs once it is saved."""
        if self.session.scene.path is None:
            self.ask_save(then)
        else:
            self.session.desk.save(then=then)

    def ask_save(self, then=lambda: None):
        wanted = f"{self.session.doc.name}.estampa"
        path, _ = QFileDialog.getSaveFileName(self.window, "Save the scene", wanted, "Estampa scenes (*.estampa)")
        if path:
            target = with_ending(path, ".estampa")
            over_own = self.session.scene.path is not None and file.is_same(target, self.session.scene.path)
            asked = str(target) == path or over_own  # the dialog asked, or it is the scene itself
            unless_there(self.window, None if asked else target, lambda: self.session.desk.save(target, then=then))

    def leave_then(self, go):
        """Go on at once, or ask first when there is unsaved work."""
        if not self.session.scene.is_changed:
            go()
            return
        words = f"{self.session.doc.name} has unsaved work."
        box = QMessageBox(QMessageBox.Question, "Unsaved work", words, parent=self.window)
        box.setAttribute(Qt.WA_DeleteOnClose)
        save = box.addButton("Save", QMessageBox.AcceptRole)
        leave = box.addButton("Leave it unsaved", QMessageBox.DestructiveRole)
        box.addButton("Stay", QMessageBox.RejectRole)

        def answered(button):
            if button is save:
                self.save(then=lambda: None if self.session.scene.is_changed else go())
            elif button is leave:
                go()

        box.buttonClicked.connect(answered)
        box.open()

    def _ask_over(self, path: Path):
        """Somebody else saved the scene since it was opened here."""
        words = f"{path.name} was changed on disk since it was opened here, by another program or person."
        box = QMessageBox(QMessageBox.Question, "Changed on disk", words, parent=self.window)
        box.setInformativeText("Saving over it loses those changes. Under another name both stay.")
        box.setAttribute(Qt.WA_DeleteOnClose)
        other = box.addButton("Save as…", QMessageBox.AcceptRole)
        over = box.addButton("Save over it", QMessageBox.DestructiveRole)
        box.addButton("Do not save", QMessageBox.RejectRole)
        box.setDefaultButton(other)

        def answered(button):
            if button is over:
                self.session.desk.save(path, over=True, then=lambda: None)
            elif button is other:
                self.ask_save()

        box.buttonClicked.connect(answered)
        box.open()

    def offer_recovery(self):
        """Tell of unsaved work that a crash left behind. What is not answered is offered again the next time."""
        path = self.session.scene.path
        waiting = [f for f in recovery.recoverable(path) if f != self.session.desk.recovered]
        if not waiting or not self.session.desk.lock_is_ours:
            return
        found = waiting[0]

        def recover():
            work = lambda progress, cancelled: recovery.recovered(found, path)
            then = lambda scene: self.leave_then(lambda: take(scene))
            self.session.work.jobs.add(Task("Recover", work, then, alongside=True))

        def take(scene):
            self.session.replace(scene)
            self.session.desk.recovered = found

        def throw():
            found.unlink(missing_ok=True)
            self.offer_recovery()

        when = datetime.fromtimestamp(found.stat().st_mtime).strftime("%d %b, %H:%M")
        more = f" {len(waiting) - 1} older one(s) are offered after it." if len(waiting) > 1 else ""
        words = f"Estampa ended before this work was saved. An autosave of it, of {when}, is here.{more}"
        self.window.notice.offer(words, "Recover it", recover, "Throw it away", throw)

    # -- meshes ----------------------------------------------------------------------------------------------
    def ask_import(self):
        wanted = f"Scene files and meshes ({MESHES})"
        path, _ = QFileDialog.getOpenFileName(self.window, "Import a scene file or a mesh", "", wanted)
        if path:
            self.import_mesh(Path(path))

    def import_mesh(self, path: Path):
        """Read the file beside the window, then ask what its numbers mean."""

        def work(progress, cancelled):
            step = _step(path.name, progress, cancelled)
            if path.suffix.lower() in TREES:
                return read_asset(path, step)
            if path.suffix.lower() == ".obj":
                asset = read_asset(path, step)
                if len(asset.nodes) > 1:
                    return asset
            return ReadFile.of(path, step)

        self.session.work.jobs.add(Task("Import", work, self._ask_about, alongside=True))

    def _ask_about_asset(self, asset: Asset):
        dialog = self.import_dialog = AssetDialog(self.window, asset)
        s = self.session

        def bring_in():
            taken, unit, up = dialog.taken, dialog.unit.currentData(), dialog.up.currentData()
            doc, scene = s.doc, s.scene

            def work(progress, cancelled):
                step = _step(asset.path.name, progress, cancelled)
                return importing.prepare(asset, Names(doc), doc.frame_rate, taken, unit, up, step, doc.start)

            def then(found):
                if s.scene is not scene:
                    words = f"{asset.path.name} was being read for {scene.doc.name}, which is not open any more."
                    s.notice.emit("note", f"{words} Nothing came in; import it again.", "")
                    return
                if s.carry_out(lambda: importing.put(s.scene, found, asset.path.name)):
                    self.window.viewport.frame_when_shown()
                    of = lambda kind: [t for t in found.things if t.kind == kind]
                    s.selection.select(next(iter((*of("skeleton"), *of("subject"), *found.things))).id)
                    words = f"{len(found.things):,} things came in."
                    for skeleton in of("skeleton"):
                        played = ", ".join(c.name for c in skeleton.clips)
                        joints = f" {skeleton.name}: {len(skeleton.joints):,} joints"
                        words += f"{joints}, {f'clips {played}' if played else 'no clips'}."
                    s.notice.emit("done", " ".join([words, *(f"{w[0].upper()}{w[1:]}." for w in found.words)]), "")

            s.work.jobs.add(Task("Import", work, then, alongside=True))

        dialog.accepted.connect(bring_in)
        dialog.open()

    def _offer_new_version(self, path: str):
        """A file that subjects came from was saved anew."""
        words = f"{Path(path).name} changed on disk. Subjects of this scene came from it."
        yes = lambda: self.session.carry_out(lambda: self.new_version(path))
        self.window.notice.offer(words, "Take the new version…", yes, "Not now", lambda: None)

    def new_version(self, path: str | None = None):
        """Compare the file that the selected subject came from with it, tell what would change, and ask."""
        s, subject = self.session, self.session.selection.subject
        path = path or (subject.mesh.file if subject is not None else "")
        if not path:
            cure = "Select one that was imported with its tree (Ctrl+I)."
            raise EstampaError("The new version", "needs a subject that knows its file.", cure)
        scene = s.scene

        def work(progress, cancelled):
            progress(0.3, f"Comparing {Path(path).name}")
            return versions.compare(scene, path)

        def then(changes):
            words = "\n".join(c.words() for c in changes[:12])
            words += f"\nand {len(changes) - 12} more." if len(changes) > 12 else ""
            go = lambda: s.carry_out(lambda: versions.take(scene, changes))
            ask_first(self.window, words, ("Take the new version", "Leave it"), go)

        s.work.jobs.add(Task("Compare", work, then, alongside=True))

    def _ask_about(self, read: ReadFile | Asset):
        if isinstance(read, Asset):
            self._ask_about_asset(read)
            return
        self.import_dialog = ImportDialog(self.window, read)
        self.import_dialog.accepted.connect(self._bring_in)
        self.import_dialog.open()

    def _bring_in(self):
        dialog = self.import_dialog
        name, source = dialog.name.text() or "Subject", dialog.read.path.name
        subject = do.add_mesh(self.session.scene, dialog.result_mesh(), name, source)
        self.window.viewport.frame_when_shown()
        self.session.selection.select(subject.id)
        self.window.show_panel("sheet")
