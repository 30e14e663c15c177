"""The loop panel: the loop range, the seam meter, what closes the seam, and what moves in step."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QAbstractItemView,
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from ... import edits as do
from ...errors import EstampaError
from ...evaluate.evaluator import Evaluator
from ...inspect import closing, loops, rounds, sync
from ...kinds.channels import number, whole
from ...units import format_value
from ..model.tasks import Task
from ..session import Session
from ..shell import theme
from .fields import NumberField

MOST_LISTED = 60
VARY = number(
    0.0, "How much copies may differ in rate (where nothing loops) and in how far they move.", title="Vary",
    unit="fraction", soft=(0, 0.5), hard=(0, 0.9),
)  # fmt: skip


def session_run_up(session, frames: int) -> None:
    session.carry_out(lambda: do.set_range(session.scene, run_up=frames))


class LoopPanel(QScrollArea):
    def __init__(self, session: Session, actions: dict):
        super().__init__(widgetResizable=True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarAlwaysOff)
        self.session = session
        body = QWidget()
        self.setWidget(body)
        self.offers: list = []
        self.found: list = []
        self._asked = False
        self._of = None  # the document that what is shown was worked out for
        layout = QVBoxLayout(body)
        layout.setContentsMargins(10, 6, 8, 6)
        layout.setSpacing(4)
        layout.addLayout(self._range_row())
        layout.addWidget(self._head("Seam", "The difference between the end and the start"))
        self.table = self._seam_table()
        layout.addWidget(self.table)
        self.state = QLabel(wordWrap=True)
        self.state.setProperty("soft", True)
        layout.addWidget(self.state)
        layout.addWidget(self._head("What closes it", "Tick what should be done"))
        self.list = QListWidget()
        self.list.setWordWrap(True)
        self.list.setAccessibleName("What closes the seam")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarAlwaysOff)
        self.list.setMinimumHeight(66)
        self.list.setMaximumHeight(112)  # so that the buttons below it are seen at once
        layout.addWidget(self.list, 3)
        row = QHBoxLayout()
        self.drop = QComboBox()
        self.drop.addItem("Blend keys over", False)
        self.drop.addItem("Drop keys of", True)
        self.drop.setAccessibleName("How keys go back")
        self.drop.setToolTip("Blend the last keys into the first pose, or drop them and land on it in one sweep")
        self.drop.activated.connect(lambda _: self.refresh(again=True))
        row.addWidget(self.drop)
        self.blend = self._frames("Frames over which keys go back to the first value", 12)
        self.blend.changed.connect(lambda v: self.refresh(again=True))
        row.addWidget(self.blend)
        row.addStretch(1)
        self.close_button = QPushButton("Close the seam")
        self.close_button.setProperty("strong", True)
        self.close_button.setToolTip(actions["close_seam"].toolTip())
        self.close_button.clicked.connect(actions["close_seam"].trigger)
        row.addWidget(self.close_button)
        layout.addLayout(row)
        row = QHBoxLayout()
        self.solved_button = QPushButton("Close solved")
        self.solved_button.setToolTip(actions["close_solved"].toolTip())
        self.solved_button.clicked.connect(actions["close_solved"].trigger)
        self.fade = self._frames("Last frames of a solved loop that are faded into what came before its first", 0)
        self.fade.changed.connect(lambda v: self._set_fade(int(v)))
        for widget in (self.solved_button, QLabel("Faded over"), self.fade, QLabel("frames")):
            row.addWidget(widget)
        row.addStretch(1)
        layout.addLayout(row)
        layout.addWidget(self._head("In step", "Copies and layers that move as one"))
        self.steps = QListWidget()
        self.steps.setWordWrap(True)
        self.steps.setAccessibleName("What moves in step")
        self.steps.setHorizontalScrollBarPolicy(Qt.ScrollBarAlwaysOff)
        self.steps.setMinimumHeight(46)
        self.steps.setMaximumHeight(70)
        self.steps.itemClicked.connect(lambda item: session.selection.select(item.data(Qt.UserRole)))
        layout.addWidget(self.steps, 2)
        row = QHBoxLayout()
        self.look_button = QPushButton("Look for them")
        self.look_button.setToolTip(actions["find_in_step"].toolTip())
        self.look_button.clicked.connect(actions["find_in_step"].trigger)
        self.desync_button = QPushButton("Desync")
        self.desync_button.setToolTip(actions["desync"].toolTip())
        self.desync_button.clicked.connect(actions["desync"].trigger)
        self.vary = NumberField(VARY)
        self.vary.show_value(0.0)
        self.vary.setFixedWidth(74)
        for widget in (self.look_button, self.desync_button, QLabel("Vary"), self.vary):
            row.addWidget(widget)
        row.addStretch(1)
        layout.addLayout(row)
        session.work.lanes_changed.connect(self.refresh)  # when the scene rests
        session.work.in_step_changed.connect(self._found)
        session.replaced.connect(self._forget)
        self.refresh()

    @staticmethod
    def _head(text, tip):
        label = QLabel(text)
        label.setFont(theme.type_face(10, bold=True))
        label.setToolTip(tip)
        return label

    @staticmethod
    def _frames(tip, value):
        field = NumberField(whole(value, tip, title=tip, unit="frames", soft=(0, 0)))
        field.setFixedWidth(64)
        field.show_value(value)
        return field

    def _range_row(self):
        grid = QGridLayout()
        self.on = QCheckBox("Loop from")
        self.on.setToolTip("Choose a loop range; its last frame is the first again, and is left out of a print")
        self.on.clicked.connect(self._set_on)
        self.first, self.last = (
            self._frames("First frame of the loop", 1),
            self._frames("Frame that equals it again", 97),
        )
        self.first.changed.connect(lambda v: self._set_range(int(v), None))
        self.last.changed.connect(lambda v: self._set_range(None, int(v)))
        grid.addWidget(self.on, 0, 0)
        grid.addWidget(self.first, 0, 1)
        grid.addWidget(QLabel("comes again at"), 0, 2)
        grid.addWidget(self.last, 0, 3)
        self.run_up = self._frames("Frames that are solved before the first, so that nothing starts from rest there", 0)
        self.run_up.changed.connect(lambda v: session_run_up(self.session, int(v)))
        grid.addWidget(QLabel("Run-up"), 2, 0)
        grid.addWidget(self.run_up, 2, 1)
        grid.addWidget(QLabel("frames solved before the first"), 2, 2, 1, 3)
        grid.addWidget(QLabel("Seen from"), 1, 0)
        self.seen_from = QComboBox()
        self.seen_from.setToolTip("Measure from a thing that moves too, as the camera that rides along")
        self.seen_from.setAccessibleName("Seam seen from")
        self.seen_from.activated.connect(lambda _: self.refresh(again=True))
        grid.addWidget(self.seen_from, 1, 1, 1, 3)
        grid.setColumnStretch(4, 1)
        return grid

    def _seam_table(self):
        table = QTableWidget(0, 4)
        table.setHorizontalHeaderLabels(["", "Pose", "Turn", "Speed"])
        table.verticalHeader().hide()
        table.verticalHeader().setDefaultSectionSize(24)
        table.horizontalHeader().setSectionResizeMode(0, QHeaderView.Stretch)
        for column in (1, 2, 3):
            table.horizontalHeader().setSectionResizeMode(column, QHeaderView.ResizeToContents)
        table.setEditTriggers(QAbstractItemView.NoEditTriggers)
        table.setSelectionBehavior(QAbstractItemView.SelectRows)
        table.setShowGrid(False)
        table.setAccessibleName("Seam meter")
        table.cellClicked.connect(lambda row, _: self.session.selection.select(table.item(row, 0).data(Qt.UserRole)))
        return table

    # -- working it out ----------------------------------------------------------------------------------------
    def _forget(self):
        self._of = None
        self.steps.clear()
        self.refresh()

    def refresh(self, again: bool = False):
        doc = self.session.doc
        first, last = doc.loop_range
        self.on.setChecked(doc.loop is not None)
        for field, value in ((self.first, first), (self.last, last)):
            field.show_value(value)
            field.setEnabled(doc.loop is not None)
        self.run_up.show_value(doc.run_up)
        self.fade.show_value(doc.fade)
        kept = self.seen_from.currentData()
        self.seen_from.clear()
        self.seen_from.addItem("the world", None)
        for thing in doc.things:
            if thing.declared and "parent" in thing.declared.channels and thing.kind != "subject":
                self.seen_from.addItem(theme.icon(thing.kind), thing.name, thing.id)
        self.seen_from.setCurrentIndex(max(self.seen_from.findData(kept), 0))
        if not self.isVisible() or (doc is self._of and not again):
            self._fill_steps()
            return
        self._of = doc
        evaluator = Evaluator(doc, self.session.scene, self.session.store, True)
        seen, blend, drop = doc.find(self.seen_from.currentData()), int(self.blend.value), self.drop.currentData()

        def work(progress, cancelled):
            offers = closing.offers(doc, blend, drop)
            return loops.seams(evaluator, seen), closing.measured(evaluator, offers, cancelled)

        self.session.work.jobs.replace(Task("Seam", work, self._show, alongside=True))
        self._fill_steps()

    def showEvent(self, event):
        super().showEvent(event)
        self.refresh(again=True)

    def _show(self, result):
        seams, self.offers = result
        listed = sorted(seams, key=lambda s: s.closed)[:MOST_LISTED]  # open ones first
        self.table.setRowCount(len(listed))
        for row, seam in enumerate(listed):
            cells = [
                seam.name,
                f"{1000 * max(seam.pose, seam.between if seam.between > 1e-3 else 0):.2f} mm",
                f"{np.degrees(seam.turn):.2f}°",
                f"{1000 * seam.speed:.1f} mm/s",
            ]
            for column, text in enumerate(cells if seam.solved else [seam.name, "not solved", "", ""]):
                item = QTableWidgetItem(text)
                item.setTextAlignment((Qt.AlignRight if column else Qt.AlignLeft) | Qt.AlignVCenter)
                item.setData(Qt.UserRole, seam.thing)
                swings = f"; between frames it swings by {1000 * seam.between:.2f} mm" if seam.between > 1e-3 else ""
                item.setToolTip(f"largest at {seam.where}{swings}")
                if not seam.closed and column:
                    item.setForeground(theme.brush(theme.ink.accent))
                self.table.setItem(row, column, item)
        shown = min(max(len(listed), 1), 7)
        self.table.setFixedHeight(self.table.horizontalHeader().sizeHint().height() + 24 * shown + 4)
        opened = [s for s in seams if not s.closed]
        if not seams:
            self.state.setText("Nothing is there yet: import a mesh (Ctrl+I).")
        elif not opened:
            more = f" {len(seams) - len(listed):,} are not listed." if len(seams) > len(listed) else ""
            self.state.setText(f"Every seam is closed.{more}")
        elif not any(s.solved for s in opened):
            self.state.setText(f"{len(opened)} not solved yet: solve first (Ctrl+Space).")
        else:
            worst = max(opened, key=lambda s: s.pose if s.solved else -1.0)
            self.state.setText(
                f"{len(opened)} open; the largest is {format_value(worst.pose, 'm', 3)}, {worst.name}, {worst.where}."
            )
        self.list.clear()
        for offer in self.offers:
            item = QListWidgetItem(offer.in_full())
            item.setFlags(item.flags() | Qt.ItemIsUserCheckable)
            item.setCheckState(Qt.Checked)
            self.list.addItem(item)
        if not self.offers:
            solved = any(not s.closed for s in seams) and self.session.doc.loop is not None
            more = " What is solved is closed by “Close solved”." if solved else ""
            item = QListWidgetItem(f"Nothing to offer: rates go round, noise comes back, keys meet.{more}")
            item.setFlags(Qt.NoItemFlags)
            self.list.addItem(item)
        self.close_button.setEnabled(bool(self.offers))

    # -- what hands do -----------------------------------------------------------------------------------------
    def _set_on(self, on):
        doc = self.session.doc
        do.set_loop(self.session.scene, *((doc.start, doc.end + 1) if on else (None,)))
        self.refresh(again=True)

    def _set_range(self, first, last):
        loop = self.session.doc.loop
        try:
            do.set_loop(
                self.session.scene, first if first is not None else loop[0], last if last is not None else loop[1]
            )
        except EstampaError as err:
            self.session.tell(err)
        self.refresh(again=True)

    def close_seam(self):
        """Carry out the ticked offers, in one step."""
        if self.offers and self.list.count() == len(self.offers):
            chosen = [o for i, o in enumerate(self.offers) if self.list.item(i).checkState() == Qt.Checked]
        else:
            chosen = closing.offers(self.session.doc, int(self.blend.value), self.drop.currentData())
        done = closing.close(self.session.scene, chosen)
        words = f"{len(done)} changes close the seam; undo takes them back." if done else "There is nothing to close."
        self.session.notice.emit("done" if done else "note", words, "\n".join(o.words for o in done))
        self.refresh(again=True)

    def _set_fade(self, frames):
        self.session.carry_out(lambda: do.set_range(self.session.scene, fade=frames))
        self.refresh(again=True)

    def close_solved(self):
        """Let what is solved close its loop: a run-up until rounds agree, and a fade of what stays open."""
        s = self.session
        fade = s.doc.fade or None

        def work(progress, cancelled):
            return rounds.close_solved(s.scene, s.store, fade, progress=progress, cancelled=cancelled)

        def then(closed):
            if s.carry_out(lambda: rounds.put(s.scene, closed)):
                s.notice.emit("done", f"Solved loops: {closed.words()}. Undo takes it back.", "\n".join(closed.drivers))
                self.refresh(again=True)

        s.work.jobs.add(Task("Close solved loops", work, then))

    def find_in_step(self):
        """Look, beside the window, for copies and layers that move in step."""
        self._asked = True
        self.session.work.find_in_step()

    def _found(self):
        self._fill_steps()
        if self._asked and not self.found:
            self.session.notice.emit("done", "No copies and no layers move in step.", "")
        self._asked = False

    def _fill_steps(self):
        doc = self.session.doc
        self.found = [f for f in self.session.work.in_step if doc.find(f.thing) is not None]
        self.steps.clear()
        for found in self.found:
            item = QListWidgetItem(
                theme.icon("copies" if found.what == "copies" else "subject"), found.words(doc.find(found.thing).name)
            )
            item.setData(Qt.UserRole, found.thing)
            self.steps.addItem(item)
        if not self.found:
            item = QListWidgetItem("Not looked for yet, or nothing found.")
            item.setFlags(Qt.NoItemFlags)
            self.steps.addItem(item)
        self.desync_button.setEnabled(bool(self.found))

    def desync(self):
        """Bring what was found out of step: the chosen one, or all."""
        row = self.steps.currentRow()
        chosen = [self.found[row]] if 0 <= row < len(self.found) else list(self.found)
        if chosen:
            self._bring_out(chosen)

    def _bring_out(self, chosen):
        """Shift them, then look again beside the window, and say what is left."""
        s, vary = self.session, self.vary.value
        for found in chosen:
            s.carry_out(lambda f=found: sync.bring_out(s.scene, f, 1, vary))
        evaluator = Evaluator(s.doc, s.scene, s.store, True)

        def then(left):
            if evaluator.doc is not s.doc:
                return
            s.work.in_step = left
            s.work.in_step_changed.emit()
            words = "Brought out of step; undo takes it back."
            if left:
                left_in_step = " ".join(f.words(s.doc.find(f.thing).name) for f in left[:2])
                words = f"Shifted, but looking again: {left_in_step} Raise “Vary”, or give them motions of their own."
            s.notice.emit("note" if left else "done", words, "")

        s.work.jobs.add(Task("Look again", lambda progress, cancelled: sync.in_step(evaluator), then, alongside=True))
