"""The score: transport and range on top, the roster and its lanes beneath."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QProgressBar,
    QPushButton,
    QSizePolicy,
    QSplitter,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ... import edits as do
from ...errors import EstampaError
from ...kinds.channels import Channel
from ..panels.fields import NumberField
from ..session import Session
from ..shell import theme
from .curve_view import CurveView
from .lanes import Lanes
from .roster import Roster


class Score(QWidget):
    def __init__(self, session: Session, actions: dict):
        super().__init__()
        self.session = session
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._transport(actions))
        self.roster = Roster(session)
        self.lanes = Lanes(session, self.roster)
        self.curves = CurveView(session)
        self.stack = QStackedWidget()
        self.stack.addWidget(self.lanes)
        self.stack.addWidget(self.curves)
        split = QSplitter(Qt.Horizontal)
        split.setHandleWidth(1)
        split.addWidget(self.roster)
        split.addWidget(self.stack)
        split.setSizes([270, 900])
        split.setStretchFactor(1, 1)
        layout.addWidget(split, 1)
        s = session
        s.player.playing_changed.connect(self.refresh)
        s.player.frame_changed.connect(self.refresh)
        s.replaced.connect(self.refresh)
        s.doc_changed.connect(lambda *_: self.refresh())
        s.work.lanes_changed.connect(self.refresh)
        s.work.jobs.changed.connect(self.refresh)
        s.work.jobs.progress.connect(self._progress)
        s.work.preparing.changed.connect(self.refresh)
        self.refresh()

    def _transport(self, actions):
        strip = QFrame()
        strip.setProperty("strip", True)
        row = QHBoxLayout(strip)
        row.setContentsMargins(8, 4, 8, 4)
        row.setSpacing(4)
        for name in ("first", "play", "last"):
            button = QToolButton(iconSize=QSize(16, 16))
            button.setDefaultAction(actions[name])
            row.addWidget(button)
        self.frame_box = self._box(row, "Frame", lambda v: self.session.player.go_to(v))
        row.addSpacing(10)
        self.start_box = self._box(row, "From", lambda v: self._range(start=v))
        self.end_box = self._box(row, "To", lambda v: self._range(end=v))
        self.rate_box = self._box(row, "Frames a second", lambda v: self._range(frame_rate=v), "number")
        row.addSpacing(12)
        for name in ("auto_key", "curves"):
            button = QToolButton(iconSize=QSize(16, 16))
            button.setDefaultAction(actions[name])
            row.addWidget(button)
        row.addSpacing(12)
        self.solve_button = QPushButton(theme.icon("solve"), "Solve")
        self.solve_button.setProperty("strong", True)
        self.solve_button.setIcon(theme.icon("solve", theme.ink.on_accent))
        self.solve_button.setToolTip(actions["solve"].toolTip())
        self.solve_button.clicked.connect(actions["solve"].trigger)
        row.addWidget(self.solve_button)
        self.cancel_button = QPushButton(theme.icon("stop"), "Cancel")
        self.cancel_button.clicked.connect(actions["cancel"].trigger)
        row.addWidget(self.cancel_button)
        self.bar = QProgressBar(maximum=1000, textVisible=True)
        self.bar.setMinimumWidth(120)
        self.bar.setMaximumWidth(260)
        self.bar.setFixedHeight(18)
        row.addWidget(self.bar)
        self.status = QLabel()
        self.status.setProperty("soft", True)
        self.status.setSizePolicy(QSizePolicy.Ignored, QSizePolicy.Preferred)
        row.addWidget(self.status, 1)
        return strip

    def _box(self, row, words, run, type_="whole"):
        label = QLabel(words)
        label.setProperty("soft", True)
        box = NumberField(Channel(type_, 0, words, title=words, soft=(0.0, 0.0)))
        box.setFixedWidth(62)
        box.changed.connect(lambda v: run(int(v) if type_ == "whole" else v))
        box.refused.connect(self.session.tell)
        row.addWidget(label)
        row.addWidget(box)
        return box

    def _range(self, **changes):
        try:
            do.set_range(self.session.scene, **changes)
        except EstampaError as err:
            self.session.tell(err)
            self.refresh()

    def refresh(self):
        doc, s = self.session.doc, self.session
        for box, value in (
            (self.frame_box, s.player.frame),
            (self.start_box, doc.start),
            (self.end_box, doc.end),
            (self.rate_box, doc.frame_rate),
        ):
            box.show_value(value)
        busy = s.work.jobs.busy
        self.solve_button.setVisible(not busy)
        self.cancel_button.setVisible(busy)
        self.bar.setVisible(busy)
        states = [lane.state for lane in s.work.lanes.values() if lane.state is not None]
        self.solve_button.setEnabled(any(not state.done for state in states))
        if s.player.playing and s.pictures.rate and not busy:
            words = f"plays {s.pictures.rate:.0f} of {doc.frame_rate:g} frames a second"
        elif not states:
            words = ""
        elif all(state.done for state in states):
            words = "every frame is solved"
        else:
            words = "; ".join(dict.fromkeys(state.words() for state in states if not state.done))
        self.status.setText("; ".join(filter(None, (words, s.work.preparing.words))))

    def _progress(self, share, text):
        self.bar.setValue(int(share * 1000))
        self.bar.setFormat(text)
