"""Weight maps of the selected subject: choose vertices, set their weights."""

import numpy as np
from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import (
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ... import edits as do
from ...geometry import maps
from ...kinds.channels import Channel
from ..session import Session
from ..shell import theme
from .fields import NumberField


class MapsPanel(QWidget):
    def __init__(self, session: Session, actions: dict):
        super().__init__()
        self.session = session
        self._filling = False
        layout = QVBoxLayout(self)
        layout.setContentsMargins(10, 8, 10, 8)
        self.title = QLabel()
        self.title.setProperty("title", True)
        layout.addWidget(self.title)
        self.list = QListWidget(iconSize=QSize(64, 12))
        self.list.setAccessibleName("Weight maps")
        self.list.currentRowChanged.connect(self._current)
        self.list.itemChanged.connect(self._renamed)
        layout.addWidget(self.list, 1)
        self.hint = QLabel(wordWrap=True)
        self.hint.setProperty("soft", True)
        layout.addWidget(self.hint)

        def tool(name):
            button = QToolButton(toolButtonStyle=Qt.ToolButtonTextBesideIcon)
            button.setDefaultAction(actions[name])
            button.setSizePolicy(button.sizePolicy().Policy.Expanding, button.sizePolicy().Policy.Fixed)
            return button

        grid = QGridLayout()
        grid.setSpacing(4)
        for i, name in enumerate(
            ("tool_pick", "tool_gradient", "choose_all", "choose_none", "choose_islands", "choose_uncovered")
        ):
            grid.addWidget(tool(name), i // 2, i % 2)
        layout.addLayout(grid)
        row = QHBoxLayout()
        row.addWidget(QLabel("Weight"))
        self.amount = NumberField(
            Channel("number", 1.0, "The weight to set, add or take.", title="Weight", hard=(0.0, 1.0))
        )
        self.amount.show_value(1.0)
        row.addWidget(self.amount, 1)
        layout.addLayout(row)
        grid = QGridLayout()
        grid.setSpacing(4)
        for i, name in enumerate(("map_set", "map_add", "map_take", "map_smooth", "map_invert", "map_remove")):
            grid.addWidget(tool(name), i // 3, i % 3)
        layout.addLayout(grid)
        self.new = QPushButton(theme.icon("add"), "New map from the chosen vertices")
        self.new.clicked.connect(actions["map_new"].trigger)
        layout.addWidget(self.new)
        for signal in (session.selection.selected, session.selection.chosen_changed, session.replaced):
            signal.connect(self.refresh)
        session.doc_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def refresh(self):
        s, subject = self.session, self.session.selection.subject
        self._filling = True
        self.list.clear()
        self.title.setText(f"Weight maps of {subject.name}" if subject else "Weight maps")
        count = s.scene.mesh(subject.mesh).count if subject else 0
        for found in subject.maps if subject else ():
            weights = s.scene.arrays.get(found.weights)
            item = QListWidgetItem(found.name)
            item.setFlags(item.flags() | Qt.ItemIsEditable)
            item.setToolTip(
                f"{int((weights > 0).sum()):,} of {count:,} vertices weigh more than 0, mean {weights.mean():.2f}. "
                "Press F2 to rename."
            )
            self.list.addItem(item)
            if found.id == s.selection.map_id:
                self.list.setCurrentItem(item)
        chosen = int(s.selection.chosen_of(subject).sum()) if subject else 0
        if subject is None:
            self.hint.setText("Select a subject to see its maps.")
        elif not subject.maps:
            self.hint.setText(
                "No maps yet. Take the Pick tool (P), choose vertices by click or box (Shift adds, Ctrl takes "
                "away, a double click takes the island), then make a new map."
            )
        else:
            self.hint.setText(
                f"{chosen:,} of {count:,} vertices chosen" + ("; changes go to all of them" if not chosen else "")
            )
        self.new.setEnabled(subject is not None)
        self._filling = False

    def _current(self, row):
        subject = self.session.selection.subject
        if not self._filling and subject and 0 <= row < len(subject.maps):
            self.session.selection.use_map(subject.maps[row].id)

    def _renamed(self, item):
        subject = self.session.selection.subject
        if not self._filling and subject:
            do.rename_map(self.session.scene, subject.id, subject.maps[self.list.row(item)].id, item.text())

    # -- what the commands do ----------------------------------------------------------------------------------
    def _active_map(self):
        """(subject, its active map), or None once the person has been told that there is none."""
        s, subject = self.session, self.session.selection.subject
        found = subject.map(s.selection.map_id) if subject else None
        if found is None:
            s.notice.emit("note", "There is no map to change. Choose vertices and make a new map first.", "")
            return None
        return subject, found

    def _rework(self, word: str, make):
        """Replace the active map's weights by make(mesh, weights, chosen); `chosen` is all vertices when none is."""
        active = self._active_map()
        if active:
            subject, found = active
            scene, chosen = self.session.scene, self.session.selection.chosen_of(subject)
            everywhere = np.ones(len(chosen), bool)
            weights = make(
                scene.mesh(subject.mesh), scene.arrays.get(found.weights), chosen if chosen.any() else everywhere
            )
            do.set_map(scene, subject.id, found.id, weights, f"{word} {found.name}")

    def change(self, how: str):
        word, amount = {"set": "Set", "add": "Add to", "take": "Take from"}[how], self.amount.value
        self._rework(word, lambda mesh, weights, chosen: maps.changed(weights, chosen, how, amount))

    def smooth(self):
        self._rework("Smooth", lambda mesh, weights, chosen: maps.smoothed(mesh, weights, chosen, rounds=3))

    def invert(self):
        self._rework("Invert", lambda mesh, weights, chosen: maps.inverted(weights, chosen))

    def remove(self):
        active = self._active_map()
        if active:
            do.remove_map(self.session.scene, active[0].id, active[1].id)

    def new_map(self):
        s, subject = self.session, self.session.selection.subject
        if subject is None:
            s.notice.emit("note", "Select a subject first.", "")
            return
        chosen = s.selection.chosen_of(subject)
        weights = np.where(chosen, self.amount.value, 0).astype(np.float32)
        s.selection.use_map(do.add_map(s.scene, subject.id, weights).id)

    def choose(self, which: str):
        s, subject = self.session, self.session.selection.subject
        if subject is None:
            return
        count = s.scene.mesh(subject.mesh).count
        if which == "uncovered":
            mask = maps.uncovered(count, [s.scene.arrays.get(m.weights) for m in subject.maps])
            s.notice.emit("note", f"{int(mask.sum()):,} vertices are in no map of {subject.name}.", "")
        else:
            mask = np.full(count, which == "all")
        if s.view.tool == "hand":
            s.view.set_view(tool="pick")
        s.selection.choose(subject, mask)
