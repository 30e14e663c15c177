"""The list of remarks; a click selects the culprit."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QLabel, QListWidget, QListWidgetItem, QPushButton, QVBoxLayout, QWidget

from ..session import Session
from ..shell import theme

MOST_FIXES = 4  # buttons that mend a remark at once


class RemarksPanel(QWidget):
    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 10, 8)
        self.empty = QLabel(
            "Nothing to remark: no layer is without effect, nothing falls for want of a hold, and the sizes look "
            "right.",
            wordWrap=True,
        )
        self.empty.setProperty("soft", True)
        self.empty.setAlignment(Qt.AlignTop)
        layout.addWidget(self.empty)
        self.list = QListWidget(wordWrap=True)
        self.list.setAccessibleName("Remarks")
        self.list.itemClicked.connect(self._show)
        self.list.itemActivated.connect(self._show)
        layout.addWidget(self.list, 1)
        self.fixes = QVBoxLayout()
        layout.addLayout(self.fixes)
        layout.addStretch(0)
        session.work.lanes_changed.connect(self.refresh)
        session.replaced.connect(self.refresh)
        session.selection.selected.connect(self.refresh)

    def _show(self, item: QListWidgetItem):
        """Select the culprit, and go to the frame at which it shows."""
        culprit, frame = item.data(Qt.UserRole), item.data(Qt.UserRole + 1)  # the list is made anew by what follows
        self.session.selection.select(culprit)
        if frame is not None:
            self.session.player.go_to(frame)

    def refresh(self):
        self.list.clear()
        for remark in self.session.work.remarks:
            item = QListWidgetItem(
                theme.icon("warning", theme.ink.accent if remark.severity == "error" else theme.ink.soft),
                f"{remark.wrong}\n{remark.causes}\n{remark.mend}",
            )
            item.setData(Qt.UserRole, remark.thing or None)
            item.setData(Qt.UserRole + 1, remark.frame)
            self.list.addItem(item)
        while self.fixes.count():
            self.fixes.takeAt(0).widget().deleteLater()
        for remark in [r for r in self.session.work.remarks if r.fix is not None][:MOST_FIXES]:
            words, fix = remark.fix
            button = QPushButton(theme.icon("solve"), words)
            button.setToolTip(remark.wrong)
            button.clicked.connect(lambda _=False, fix=fix: self.session.carry_out(lambda: fix(self.session.scene)))
            self.fixes.addWidget(button)
        self.empty.setVisible(not self.session.work.remarks)
        self.list.setVisible(bool(self.session.work.remarks))
