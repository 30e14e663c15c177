"""Assets in the window: what is selected is kept as one, with a picture; one of those kept is put into the scene."""

from PySide6.QtCore import QRect, QSize, Qt
from PySide6.QtGui import QIcon
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel, QListView, QListWidget, QListWidgetItem, QVBoxLayout

from ...edits import assets
from ...errors import EstampaError
from ...kinds.channels import text
from . import theme
from .ask import Ask

WIDE, TALL = 204, 128  # pixels of a picture


class Assets:
    def __init__(self, window):
        self.window, self.session, self.dialog = window, window.session, None

    def keep(self):
        """Keep what is selected, with all that belongs to it."""
        s = self.session
        thing = s.selection.skeleton or s.selection.subject or s.selection.thing
        if thing is None or s.doc.find(thing.id) is None:
            raise EstampaError("Keep as an asset", "needs something that is selected.", "Select a subject or skeleton.")
        with_it = [t.name for t in assets.belongs(s.doc, thing.id) if t.id != thing.id]
        more = f" With it come {', '.join(with_it[:6])}{' and more' if len(with_it) > 6 else ''}." if with_it else ""
        fields = {"name": text(thing.name, "The name of the asset.", title="Name")}

        def run(name):
            path = assets.keep(s.scene, thing.id, name)
            shown = self.window.active_pane.grab().toImage()
            tall = min(shown.height(), shown.width() * TALL // WIDE)
            wide = tall * WIDE // TALL
            middle = shown.copy(QRect((shown.width() - wide) // 2, (shown.height() - tall) // 2, wide, tall))
            middle.scaled(WIDE, TALL, mode=Qt.SmoothTransformation).save(str(path.with_suffix(".png")))
            s.notice.emit("done", f"Kept “{path.stem}” in {path.parent}. Put it into any scene (Ctrl+Alt+P).", "")

        words = f"{thing.name} is kept as a file of its own.{more}"
        self.dialog = Ask(self.window, "Keep as an asset", words, fields, run)
        self.dialog.open()

    def put(self):
        """Choose one of the assets, and put it into the scene."""
        self.dialog = Picker(self.window)
        self.dialog.open()


class Picker(QDialog):
    """The assets that are kept, with their pictures."""

    def __init__(self, window):
        super().__init__(window)
        self.window_, self.session = window, window.session
        self.setWindowTitle("Put an asset")
        column = QVBoxLayout(self)
        self.list = QListWidget(viewMode=QListView.IconMode, iconSize=QSize(WIDE, TALL), movement=QListView.Static)
        self.list.setResizeMode(QListView.Adjust)
        self.list.setAccessibleName("Assets")
        self.list.setSpacing(8)
        for path in assets.kept():
            picture = path.with_suffix(".png")
            icon = QIcon(str(picture)) if picture.exists() else theme.icon("subject")
            item = QListWidgetItem(icon, path.stem)
            item.setData(Qt.UserRole, str(path))
            item.setToolTip(str(path))
            self.list.addItem(item)
        self.empty = QLabel(
            "No assets yet. Select a subject or a skeleton, and keep it as one (Ctrl+Alt+A); it is here then, in every "
            "scene.", wordWrap=True,
        )  # fmt: skip
        column.addWidget(self.list if self.list.count() else self.empty)
        skeleton = self.session.selection.skeleton
        buttons = QDialogButtonBox(QDialogButtonBox.Cancel)
        self.in_place = None
        if self.list.count():
            buttons.addButton("Put it here", QDialogButtonBox.AcceptRole)
            self.list.setCurrentRow(0)
            self.list.itemActivated.connect(lambda _: self.accept())
            if skeleton is not None:
                self.in_place = buttons.addButton(f"In the place of {skeleton.name}", QDialogButtonBox.ActionRole)
                self.in_place.clicked.connect(lambda: self._carry_out(skeleton.id))
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self.resize(720, 460)
        self.finished.connect(self.deleteLater)

    def accept(self):
        self._carry_out()

    def _carry_out(self, instead_of: str = ""):
        item, s = self.list.currentItem(), self.session
        if item is None:
            return
        path = item.data(Qt.UserRole)

        def run():
            if instead_of:
                replaced = assets.replace(s.scene, path, instead_of)
                s.notice.emit("note" if replaced.alone else "done", str(replaced), "")
                made = [replaced.skeleton]
            else:
                made = assets.put(s.scene, path)
            s.selection.select(next((t.id for t in made if t.declared is not None and t.declared.moves), made[0].id))

        if s.carry_out(run):
            self.window_.viewport.frame_when_shown()
            super().accept()
