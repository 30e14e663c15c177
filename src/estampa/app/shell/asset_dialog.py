"""Importing a scene file: its tree with what each part is, ticked or not, and what its numbers mean."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFormLayout,
    QHBoxLayout,
    QPushButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
)

from ...formats.asset import Asset
from ...units import IMPORT_UNITS, format_length
from .import_dialog import UNIT_NAMES, told_and_asked

NODE = Qt.UserRole + 1
MOST = 2000  # parts that the tree shows; the window must not wait for more


class AssetDialog(QDialog):
    def __init__(self, parent, asset: Asset):
        super().__init__(parent)
        self.setWindowTitle(f"Import {asset.path.name}")
        self.asset, self._rest = asset, True  # whether what the tree does not show is taken
        layout = QVBoxLayout(self)
        self.tree = QTreeWidget()
        self.tree.setHeaderLabels(["Part", "What it is", "Size"])
        self.tree.setAccessibleName("What the file holds")
        self.world = asset.world()
        self.items = self._filled()
        self.tree.expandAll()
        for column in (0, 1):
            self.tree.resizeColumnToContents(column)
        self.tree.itemChanged.connect(self._ticked)
        layout.addWidget(self.tree, 1)
        row = QHBoxLayout()
        for words, state in (("Tick all", Qt.Checked), ("Untick all", Qt.Unchecked)):
            button = QPushButton(words)
            button.clicked.connect(lambda _=False, state=state: self._tick_all(state))
            row.addWidget(button)
        row.addStretch(1)
        layout.addLayout(row)
        form = QFormLayout()
        self.unit = QComboBox()
        for word, name in UNIT_NAMES.items():
            self.unit.addItem(name, IMPORT_UNITS[word])
        near = min(range(self.unit.count()), key=lambda i: abs(np.log(self.unit.itemData(i) / max(asset.unit, 1e-12))))
        if abs(self.unit.itemData(near) - asset.unit) > 1e-6 * asset.unit:
            self.unit.addItem(f"{asset.unit:g} m, as the file says", asset.unit)
            near = self.unit.count() - 1
        self.unit.setCurrentIndex(near)
        form.addRow("One unit is", self.unit)
        self.up = QComboBox()
        for word in ("y", "z"):
            self.up.addItem(f"+{word.upper()}{', as the file says' if word == asset.up else ''}", word)
        self.up.setCurrentIndex(self.up.findData(asset.up))
        form.addRow("Upward axis", self.up)
        layout.addLayout(form)
        self.size, self.words, self.buttons = told_and_asked(self, layout)
        for signal in (self.unit.currentIndexChanged, self.up.currentIndexChanged):
            signal.connect(self._refresh)
        self._refresh()
        self.resize(680, 560)

    def _filled(self) -> list[QTreeWidgetItem]:
        found, asset = [], self.asset
        for i, node in enumerate(asset.nodes[:MOST]):
            above = found[node.parent] if node.parent >= 0 else self.tree
            item = QTreeWidgetItem(above, [node.name, self.asset.words(i), ""])
            if node.mesh is not None:
                size = np.ptp(asset.box(i, self.world), axis=0) * asset.unit
                item.setText(2, " × ".join(map(format_length, size)))
            item.setData(0, NODE, i)
            comes = node.mesh is not None or node.view is not None
            if comes:
                item.setFlags(item.flags() | Qt.ItemIsUserCheckable)
                item.setCheckState(0, Qt.Checked)
            found.append(item)
        left = len(self.asset.nodes) - len(found)
        if left > 0:
            QTreeWidgetItem(self.tree, [f"and {left:,} more", "taken with “Tick all”, left with “Untick all”", ""])
        return found

    def _ticked(self, item, column):
        """What is below goes with it, as a whole branch is taken or left."""
        if column != 0:
            return
        self.tree.blockSignals(True)
        waiting = [item.child(k) for k in range(item.childCount())]
        while waiting:
            below = waiting.pop()
            if below.flags() & Qt.ItemIsUserCheckable and item.flags() & Qt.ItemIsUserCheckable:
                below.setCheckState(0, item.checkState(0))
            waiting += [below.child(k) for k in range(below.childCount())]
        self.tree.blockSignals(False)
        self._refresh()

    def _tick_all(self, state):
        self._rest = state == Qt.Checked
        self.tree.blockSignals(True)
        for item in self.items:
            if item.flags() & Qt.ItemIsUserCheckable:
                item.setCheckState(0, state)
        self.tree.blockSignals(False)
        self._refresh()

    @property
    def taken(self) -> set[int]:
        """Numbers of the nodes that are ticked."""
        on = (i for i in self.items if i.flags() & Qt.ItemIsUserCheckable and i.checkState(0) == Qt.Checked)
        rest = range(MOST, len(self.asset.nodes)) if self._rest else ()
        nodes = self.asset.nodes
        return {item.data(0, NODE) for item in on} | {
            i for i in rest if nodes[i].mesh is not None or nodes[i].view is not None
        }

    def _refresh(self):
        taken, nodes = self.taken, self.asset.nodes
        self.buttons.button(QDialogButtonBox.Ok).setEnabled(bool(taken))
        shown = [i for i in range(min(len(nodes), MOST)) if i in taken and nodes[i].mesh is not None]
        ends = [self.asset.box(i, self.world) for i in shown]
        if not ends:
            self.size.setText("Nothing is ticked")
            self.words.setText("Tick what is to come in.")
            return
        size = np.ptp(np.concatenate(ends), axis=0) * self.unit.currentData()
        size = size[[0, 2, 1]] if self.up.currentData() == "z" else size
        of = "all that is ticked and shown" if len(nodes) > MOST else "all that is ticked"
        self.size.setText(" × ".join(format_length(s) for s in size) + f"   (X × Y × Z, {of})")
        count = sum(nodes[i].mesh.count for i in taken if nodes[i].mesh is not None)
        meshes = sum(nodes[i].mesh is not None for i in taken)
        words = [f"{meshes:,} subject{'s' if meshes != 1 else ''}, {count:,} vertices in all."]
        moving = self.asset.span[1] - self.asset.span[0]
        if moving > 0:
            words.append(f"It moves for {moving:.3g} s; that comes as keys, and points over time as a played cache.")
        if size.max() < 0.01 or size.max() > 1000:
            words.append(f"That is very {'small' if size.max() < 0.01 else 'large'}: is the unit right?")
        skins = [nodes[i].skin for i in taken if nodes[i].skin is not None]
        if skins:
            count = len({int(j) for s in skins for j in s.joints})
            named = ", ".join(c.name for c in self.asset.clips)
            words.append(f"Skeleton of {count:,} joints" + (f", with clips: {named}." if named else "."))
        materials = [m for i in taken if nodes[i].mesh is not None for m in nodes[i].mesh.materials]
        missing = sorted({m.missing for m in materials if m.missing})
        words += [f"Not there: {', '.join(missing)} (shown as a grey checker)."] if missing else []
        words += [f"Left out: {', '.join(dict.fromkeys(self.asset.left))}."] if self.asset.left else []
        self.words.setText("\n".join(words))
