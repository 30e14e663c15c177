"""Importing a mesh: pick what its numbers mean, and see how large that makes it before it comes in."""

from dataclasses import dataclass
from pathlib import Path

from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QLabel,
    QLineEdit,
    QVBoxLayout,
)

from ...formats.meshfile import LIKELY_UNIT, about, in_metres, read_mesh
from ...geometry.mesh import Mesh
from ...units import IMPORT_UNITS, format_length

UNIT_NAMES = {"m": "metres", "cm": "centimetres", "mm": "millimetres", "in": "inches", "ft": "feet"}


@dataclass
class ReadFile:
    """A mesh file as it was read, with its numbers as they are, and what is known of it plain and welded."""

    path: Path
    mesh: Mesh
    facts: dict
    welded: Mesh
    welded_facts: dict

    @classmethod
    def of(cls, path: Path, progress) -> "ReadFile":
        mesh = read_mesh(path, unit="m", weld=False, progress=lambda share, text: progress(0.6 * share, text))
        progress(0.65, "Counting")
        facts = about(mesh)
        progress(0.8, "Welding")
        welded = mesh.welded()
        return cls(path, mesh, facts, welded, about(welded))


def told_and_asked(dialog: QDialog, layout) -> tuple[QLabel, QLabel, QDialogButtonBox]:
    """(the size of what comes in, what more there is to tell, the buttons): the foot of a dialog that imports."""
    size, words = QLabel(), QLabel(wordWrap=True)
    size.setProperty("title", True)
    buttons = QDialogButtonBox(QDialogButtonBox.Ok | QDialogButtonBox.Cancel)
    buttons.button(QDialogButtonBox.Ok).setText("Import")
    buttons.button(QDialogButtonBox.Ok).setProperty("strong", True)
    buttons.accepted.connect(dialog.accept)
    buttons.rejected.connect(dialog.reject)
    for widget in (size, words, buttons):
        layout.addWidget(widget)
    return size, words, buttons


class ImportDialog(QDialog):
    def __init__(self, parent, read: ReadFile):
        super().__init__(parent)
        path = read.path
        self.setWindowTitle(f"Import {path.name}")
        self.read = read
        layout = QVBoxLayout(self)
        form = QFormLayout()
        self.name = QLineEdit(path.stem.replace("_", " ").capitalize())
        form.addRow("Name", self.name)
        self.unit = QComboBox()
        for word, name in UNIT_NAMES.items():
            self.unit.addItem(name, word)
        self.unit.setCurrentIndex(self.unit.findData(LIKELY_UNIT.get(path.suffix.lower(), "m")))
        form.addRow("One unit is a", self.unit)
        self.up = QComboBox()
        for word in ("y", "z"):
            self.up.addItem(f"+{word.upper()}", word)
        form.addRow("Upward axis", self.up)
        self.weld = QCheckBox("Make coincident points one")
        shared = read.facts["islands"] == read.facts["faces"] > 1
        self.weld.setChecked(path.suffix.lower() == ".stl" or shared)
        form.addRow("Weld", self.weld)
        layout.addLayout(form)
        self.size, self.words, _ = told_and_asked(self, layout)
        for signal in (self.unit.currentIndexChanged, self.up.currentIndexChanged, self.weld.toggled):
            signal.connect(self._refresh)
        self._refresh()
        self.resize(430, 320)

    def _refresh(self):
        factor = IMPORT_UNITS[self.unit.currentData()]
        size = self.read.mesh.size * factor
        if self.up.currentData() == "z":
            size = size[[0, 2, 1]]
        self.size.setText(" × ".join(format_length(s) for s in size) + "   (X × Y × Z)")
        facts = self.read.welded_facts if self.weld.isChecked() else self.read.facts
        words = (
            f"{facts['vertices']:,} vertices, {facts['faces']:,} faces, {facts['islands']:,} island(s), "
            f"{facts['open edges']:,} open edge(s)"
        )
        if size.max() < 0.01 or size.max() > 1000:
            words += f"\nThat is very {'small' if size.max() < 0.01 else 'large'}: is the unit right?"
        if facts["edges of more than two faces"]:
            words += f"\n{facts['edges of more than two faces']:,} edge(s) are shared by more than two faces."
        self.words.setText(words)

    def result_mesh(self) -> Mesh:
        """The mesh in metres, +Y up."""
        mesh = self.read.welded if self.weld.isChecked() else self.read.mesh
        return in_metres(mesh, self.unit.currentData(), self.up.currentData())
