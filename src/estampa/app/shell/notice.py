"""A strip across the top of the window that says what happened."""

from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QFrame, QHBoxLayout, QLabel, QMessageBox, QPushButton


class Notice(QFrame):
    """A strip across the top that says what happened; details are one click away."""

    def __init__(self):
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(12, 5, 8, 5)
        self.text = QLabel(wordWrap=True)
        row.addWidget(self.text, 1)
        self.first, self.second, self.details = QPushButton(), QPushButton(), QPushButton("Details")
        for button in (self.first, self.second, self.details):
            row.addWidget(button)
        self._answers = {}
        for button in (self.first, self.second):
            button.clicked.connect(lambda _=False, b=button: self._answer(b))
        self.close_button = QPushButton("Close")
        self.close_button.clicked.connect(self.hide)
        row.addWidget(self.close_button)
        self.details.clicked.connect(self._show_details)
        self._detail, self._later = "", QTimer(self, singleShot=True)
        self._later.timeout.connect(self.hide)
        self.hide()

    def say(self, level: str, text: str, detail: str = ""):
        self._show(level, text)
        self._detail = detail
        self.details.setVisible(bool(detail))
        self.first.hide()
        self.second.hide()
        if level != "error":
            self._later.start(6000)

    def offer(self, text, yes, run_yes, no, run_no):
        self._show("note", text)
        self.details.hide()
        self._answers = {self.first: run_yes, self.second: run_no}
        for button, words in ((self.first, yes), (self.second, no)):
            button.setText(words)
            button.show()

    def _answer(self, button):
        self.hide()
        self._answers[button]()

    def _show(self, level, text):
        self._later.stop()
        self.setProperty("notice", "error" if level == "error" else "note")
        self.style().unpolish(self)
        self.style().polish(self)
        self.text.style().unpolish(self.text)
        self.text.style().polish(self.text)
        self.text.setText(text)
        self.show()

    def _show_details(self):
        box = QMessageBox(QMessageBox.Information, "Details", self.text.text(), parent=self)
        box.setDetailedText(self._detail)
        box.open()
