"""What an empty window offers: the demos with their pictures, and the scenes opened last."""

from pathlib import Path

from PySide6.QtCore import QSize, Qt
from PySide6.QtGui import QIcon, QPixmap
from PySide6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QPushButton, QToolButton, QVBoxLayout, QWidget

from ... import demo
from . import theme

PICTURES = theme.ASSETS / "demos"
WIDE, TALL, COLUMNS = 109, 68, 5  # pixels; the pictures are kept at three times that
MOST = 5  # scenes opened last


class Welcome(QWidget):
    """Stands over the viewport while the scene is empty."""

    def __init__(self, viewport, window):
        super().__init__(viewport)
        self.window_, self.session = window, window.session
        outer = QVBoxLayout(self)
        outer.setAlignment(Qt.AlignCenter)
        card = QFrame()
        card.setObjectName("welcome")
        card.setMaximumWidth(COLUMNS * (WIDE + 40) + 40)
        outer.addWidget(card)
        column = QVBoxLayout(card)
        column.setContentsMargins(20, 14, 20, 14)
        column.setSpacing(6)
        title = QLabel("Nothing to move yet")
        title.setProperty("title", True)
        column.addWidget(title)
        row = QHBoxLayout()
        for name, words in (("import", "Import a mesh"), ("open", "Open a scene")):
            action = window.actions_by_name[name]
            button = QPushButton(theme.icon(action.data()), f"{words} ({action.shortcut().toString()})")
            button.clicked.connect(action.trigger)
            row.addWidget(button)
        row.addWidget(QLabel("or drop a file here"))
        row.addStretch(1)
        column.addLayout(row)
        self.head = QLabel("Opened last")
        self.head.setFont(theme.type_face(10, bold=True))
        column.addWidget(self.head)
        self.recent = QVBoxLayout()
        self.recent.setSpacing(2)
        column.addLayout(self.recent)
        head = QLabel("Demos, set on the Lantern Pier")
        head.setFont(theme.type_face(10, bold=True))
        column.addWidget(head)
        grid = QGridLayout()
        grid.setSpacing(6)
        self.demos: dict[str, QToolButton] = {}
        for i, name in enumerate(demo.names()):
            button = QToolButton(toolButtonStyle=Qt.ToolButtonTextUnderIcon, iconSize=QSize(WIDE, TALL))
            button.setIcon(QIcon(QPixmap(str(PICTURES / f"{name}.png"))))
            button.setText(name.capitalize())
            button.setToolTip(demo.about(name))
            button.setAccessibleName(f"Open the demo {name}")
            button.clicked.connect(lambda _=False, n=name: window.open_demo(n))
            grid.addWidget(button, i // COLUMNS, i % COLUMNS)
            self.demos[name] = button
        column.addLayout(grid)
        for signal in (self.session.replaced, self.session.doc_changed):
            signal.connect(lambda *_: self.refresh())
        self.refresh()

    def refresh(self):
        doc, ink = self.session.doc, theme.ink
        empty = not doc.things and not doc.prints
        self.setVisible(empty)
        if not empty:
            return
        self.setStyleSheet(f"#welcome {{ background: {ink.paper}; border: 1px solid {ink.rule}; }}")
        while self.recent.count():
            self.recent.takeAt(0).widget().deleteLater()
        found = [p for p in self.window_.files.recent() if p.exists()][:MOST]
        self.head.setVisible(bool(found))
        for path in found:
            button = QPushButton(f"{path.stem}    {_short(path.parent)}")
            button.setProperty("flat", True)
            button.setStyleSheet("text-align: left;")
            button.setToolTip(str(path))
            button.clicked.connect(lambda _=False, p=path: self.window_.files.open(p))
            self.recent.addWidget(button)


def _short(folder: Path) -> str:
    home = str(Path.home())
    words = str(folder)
    return words.replace(home, "~", 1) if words.startswith(home) else words
