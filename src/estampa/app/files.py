"""Opening, importing, saving and leaving: what the window does with files, and what it asks before."""

from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QMessageBox

from ..errors import Cancelled, EstampaError
from ..formats.meshfile import SUFFIXES
from ..scene import commands as do
from ..scene import file
from ..scene.scene import Scene
from .import_dialog import ImportDialog, ReadFile
from .tasks import Job

MESHES = " ".join(f"*{s}" for s in SUFFIXES)


class Files:
    def __init__(self, window):
        self.window, self.session = window, window.session
        self.import_dialog: ImportDialog | None = None

    # -- scenes ----------------------------------------------------------------------------------------------
    def new(self):
        self.leave_then(lambda: self.session.replace(Scene()))

    def ask_open(self):
        title = "Open a scene or a mesh"
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

        def opened(scene):
            self.session.replace(scene)
            self.offer_recovery()

        self.leave_then(lambda: self.session.jobs.add(Job("Open", work, opened, alongside=True)))

    def save(self):
        if self.session.scene.path is None:
            self.ask_save()
        else:
            self.session.save()

    def ask_save(self):
        wanted = f"{self.session.doc.name}.estampa"
        path, _ = QFileDialog.getSaveFileName(self.window, "Save the scene", wanted, "Estampa scenes (*.estampa)")
        if path:
            self.session.save(Path(path).with_suffix(".estampa"))

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
                self.save()
                if not self.session.scene.is_changed:
                    go()
            elif button is leave:
                file.discard_autosave(self.session.scene.path)
                go()

        box.buttonClicked.connect(answered)
        box.open()

    def offer_recovery(self):
        """Tell of unsaved work that a crash left behind."""
        path = self.session.scene.path
        found = file.recoverable(path)
        if found is None or not self.session.lock_is_ours:
            return

        def recover():
            try:
                scene = file.load_scene(found)
            except EstampaError as err:
                self.session.tell(err)
                return
            scene.path, scene.saved_doc = path, None
            self.session.replace(scene)
            if path is None:
                found.replace(file.autosave_file(None))  # it is this program's autosave from now on

        words = "Estampa ended before this work was saved. An autosave of it is here."
        leave = lambda: found.unlink(missing_ok=True)
        self.window.notice.offer(words, "Recover it", recover, "Throw it away", leave)

    # -- meshes ----------------------------------------------------------------------------------------------
    def ask_import(self):
        path, _ = QFileDialog.getOpenFileName(self.window, "Import a mesh", "", f"Meshes ({MESHES})")
        if path:
            self.import_mesh(Path(path))

    def import_mesh(self, path: Path):
        """Read the file beside the window, then ask what its numbers mean."""

        def work(progress, cancelled):
            def step(share, text):
                if cancelled():
                    raise Cancelled
                progress(share, f"{path.name}: {text}")

            return ReadFile.of(path, step)

        self.session.jobs.add(Job("Import", work, self._ask_about, alongside=True))

    def _ask_about(self, read: ReadFile):
        self.import_dialog = ImportDialog(self.window, read)
        self.import_dialog.accepted.connect(self._bring_in)
        self.import_dialog.open()

    def _bring_in(self):
        dialog = self.import_dialog
        name, source = dialog.name.text() or "Subject", dialog.read.path.name
        subject = do.add_mesh(self.session.scene, dialog.result_mesh(), name, source)
        self.window.viewport.frame_when_shown()
        self.session.select(subject.id)
        self.window.show_panel("sheet")
