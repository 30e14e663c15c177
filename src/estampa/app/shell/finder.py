"""The command finder: every command by name, with its shortcut."""

from PySide6.QtCore import QEvent, QSize, Qt
from PySide6.QtWidgets import QDialog, QLabel, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout

from . import theme


class Finder(QDialog):
    """A list of commands to choose from by typing; `told`: each with the sentence that says what it does."""

    def __init__(self, parent, actions, title="Find a command", hint="", described=False):
        super().__init__(parent)
        self.setWindowTitle(title)
        self._described = described
        self.setModal(True)
        self.finished.connect(self.deleteLater)
        self.resize(520, 380)
        self._actions = [a for a in actions if a.text()]
        layout = QVBoxLayout(self)
        self.line = QLineEdit(placeholderText=hint or "Type a few letters of what you want to do")
        self.line.textChanged.connect(self._fill)
        self.line.returnPressed.connect(self._run)
        self.line.installEventFilter(self)
        layout.addWidget(self.line)
        self.list = QListWidget(wordWrap=True)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarAlwaysOff)
        self.list.setIconSize(QSize(24, 24) if described else QSize(16, 16))
        self.list.itemActivated.connect(lambda _: self._run())
        layout.addWidget(self.list, 1)
        self.none = QLabel("No command has these letters. Try another word.")
        self.none.setProperty("soft", True)
        layout.addWidget(self.none)
        self._fill("")

    def _fill(self, text):
        self.list.clear()
        words = text.lower().split()
        named = lambda action: all(w in action.text().lower() for w in words)
        for action in sorted(self._actions, key=lambda a: not named(a)):  # by name first, then by what they do
            name = action.text().replace("&", "")
            if all(w in f"{name} {action.toolTip()}".lower() for w in words):
                keys = action.shortcut().toString()
                words_shown = f"{name}    {keys}" if keys else name
                if self._described:
                    sentence = action.toolTip().removesuffix(f" ({keys})").split(". ")[0].rstrip(".") + "."
                    short = words_shown.removeprefix("Add ")
                    words_shown = f"{short[0].upper()}{short[1:]}\n{sentence}"
                item = QListWidgetItem(theme.icon(action.data() or "find", theme.ink.soft), words_shown)
                item.setData(Qt.UserRole, action)
                if not action.isEnabled():
                    item.setFlags(Qt.NoItemFlags)
                self.list.addItem(item)
        self.list.setCurrentRow(0)
        self.none.setVisible(self.list.count() == 0)

    def _run(self):
        item = self.list.currentItem()
        if item is not None and item.data(Qt.UserRole).isEnabled():
            self.accept()
            item.data(Qt.UserRole).trigger()

    def eventFilter(self, watched, event):
        if event.type() == QEvent.KeyPress and event.key() in (Qt.Key_Up, Qt.Key_Down):
            row = self.list.currentRow() + (1 if event.key() == Qt.Key_Down else -1)
            self.list.setCurrentRow(max(0, min(row, self.list.count() - 1)))
            return True
        return super().eventFilter(watched, event)
