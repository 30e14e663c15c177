"""A small dialog drawn from channels: asks for a few values, then runs something with them."""

from PySide6.QtWidgets import QCheckBox, QComboBox, QDialog, QDialogButtonBox, QGridLayout, QLabel, QLineEdit

from ...kinds.channels import Channel
from ..panels.fields import NumberField


class Ask(QDialog):
    """fields -- name -> Channel; choices are (value, words). With `again`, a button runs it without closing."""

    def __init__(self, window, title: str, text: str, fields: dict[str, Channel], run, again: str = ""):
        super().__init__(window)
        self.session, self._run, self.editors = window.session, run, {}
        self.setWindowTitle(title)
        grid = QGridLayout(self)
        label = QLabel(text, wordWrap=True)
        label.setProperty("soft", True)
        grid.addWidget(label, 0, 0, 1, 2)
        for i, (name, channel) in enumerate(fields.items(), 1):
            grid.addWidget(QLabel(channel.label), i, 0)
            self.editors[name] = editor = self._editor(channel)
            editor.setToolTip(channel.help)
            editor.setAccessibleName(channel.label)
            grid.addWidget(editor, i, 1)
        buttons = QDialogButtonBox(QDialogButtonBox.Ok | QDialogButtonBox.Cancel)
        if again:
            buttons.addButton(again, QDialogButtonBox.ApplyRole).clicked.connect(self._again)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        grid.addWidget(buttons, len(fields) + 1, 0, 1, 2)
        self.setMinimumWidth(360)
        self.finished.connect(self.deleteLater)  # or each one ever opened would stay within the window

    def _editor(self, channel):
        if channel.type == "choice":
            combo = QComboBox()
            for value, words in channel.choices:
                combo.addItem(words, value)
            combo.setCurrentIndex(max(combo.findData(channel.default), 0))
            return combo
        if channel.type == "text":
            return QLineEdit(channel.default)
        if channel.type == "switch":
            box = QCheckBox()
            box.setChecked(channel.default)
            return box
        field = NumberField(channel)
        field.show_value(channel.default)
        field.refused.connect(self.session.tell)
        return field

    def values(self) -> dict:
        found = {}
        for name, editor in self.editors.items():
            if isinstance(editor, QComboBox):
                found[name] = editor.currentData()
            elif isinstance(editor, QLineEdit) and not isinstance(editor, NumberField):
                found[name] = editor.text()
            elif isinstance(editor, QCheckBox):
                found[name] = editor.isChecked()
            else:
                found[name] = int(editor.value) if editor.channel.type == "whole" else editor.value
        return found

    def _carry_out(self) -> bool:
        return self.session.carry_out(lambda: self._run(**self.values()))

    def _again(self):
        """Run it, and offer the next seed, so that another try is one click."""
        if self._carry_out() and "seed" in self.editors:
            self.editors["seed"].show_value(self.editors["seed"].value + 1)

    def accept(self):
        if self._carry_out():
            super().accept()
