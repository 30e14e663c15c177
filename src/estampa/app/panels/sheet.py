"""The sheet: the channels of what is selected, drawn from its declaration."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import (
    QFrame,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMenu,
    QPushButton,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ... import edits as do
from ...errors import EstampaError
from ...kinds.facets import Facts
from ...kinds.registry import layers_for
from ...scene.curves import Curve
from ...scene.document import Formula, Link
from ..facets import facet_of
from ..facets.by_hand import add_layer
from ..session import Session
from ..shell import theme
from .channel_row import Row
from .reported import reported, reports, run_of


class Sheet(QWidget):
    """The channels of what is selected, or of one thing that stays (`pinned`)."""

    def __init__(self, session: Session, pinned: str | None = None):
        super().__init__()
        self.session, self.pinned = session, pinned
        self._shown: object = "nothing yet"  # (thing id, kind) the rows were made for
        self._rows: list[Row] = []
        self._all = False  # also what cannot matter as the other channels are set
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self._head = Head(self)
        layout.addWidget(self._head)
        self._scroll = QScrollArea(widgetResizable=True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarAlwaysOff)
        layout.addWidget(self._scroll, 1)
        self._help = QLabel(wordWrap=True)
        self._help.setProperty("soft", True)
        self._help.setContentsMargins(10, 5, 10, 6)
        self._help.setMinimumHeight(44)
        self._help.setAlignment(Qt.AlignTop)
        layout.addWidget(self._help)
        session.selection.selected.connect(self.refresh)
        session.doc_changed.connect(lambda *_: self.refresh())
        session.replaced.connect(self.refresh)
        session.player.frame_changed.connect(self.refresh)
        session.work.lanes_changed.connect(self.refresh)
        self._spread_of = None  # what the spread that is plotted is of
        self.refresh()

    @property
    def thing(self):
        """What the sheet is of."""
        return self.session.doc.find(self.pinned) if self.pinned else self.session.selection.thing

    def row(self, channel: str) -> "Row":
        return next(r for r in self._rows if r.channel.name == channel)

    def say(self, text: str) -> None:
        self._help.setText(text)

    def redraw(self) -> None:
        """Make the rows again even though the selection is the same, as when the ink changes."""
        self._shown = "nothing yet"
        self.refresh()

    def showEvent(self, event):
        super().showEvent(event)
        self.refresh()

    def refresh(self) -> None:
        if not self.isVisible():
            return  # it is drawn again when it is shown
        thing = self.thing
        form = lambda v: (type(v).__name__, getattr(v, "span", 0) is None, getattr(v, "curve", 0) is None)
        held = thing.values.items() if thing else ()
        computed = tuple((n, *form(v), *getattr(v, "inputs", ())) for n, v in held if isinstance(v, (Link, Formula)))
        folded = tuple(c.name for c in self._channels_of(thing) if not self._matters(thing, c))
        solved = self._solved_facts(thing) if thing and thing.declared and reports(thing) else None
        wanted = (thing.id, thing.kind, thing.adopted, solved, computed, folded, self._all) if thing else None
        if wanted != self._shown or (thing and any(r.outdated() for r in self._rows)):
            self._shown = wanted
            self._build(thing)
        self._head.refresh()
        for row in self._rows:
            row.refresh()
        self._ask_spreads(thing)

    def _ask_spreads(self, thing) -> None:
        """Let the ramps of a layer that shows grains plot how these are spread, worked out beside the window."""
        s, ramps = self.session, [r for r in self._rows if r.channel.ramp]
        asked = (id(s.doc), s.player.frame, thing.id if thing else None, [id(r) for r in ramps])
        swarm = s.doc.owner(thing.id) if thing is not None and ramps else None
        if asked == self._spread_of or swarm is None or s.player.playing:
            return
        self._spread_of, frame = asked, s.player.frame
        evaluator, layer = s.work.evaluator("spread"), thing
        names = [r.channel.name.removesuffix("_ramp") for r in ramps]
        work = lambda: [evaluator.dressing.spread(swarm, layer, n, frame) for n in names]

        def show(found, trouble):
            for row, entering in zip(ramps, found or [None] * len(ramps), strict=True):
                if row in self._rows:
                    row.editor.show_spread(entering)

        s.pictures.plotter.ask(work, show)

    def _solved_facts(self, thing) -> tuple:
        """What decides the facts of a solved frame: which frame, what it was solved from, and whether it is there."""
        frame, evaluator = self.session.player.frame, self.session.work.evaluator("window")
        try:
            run = run_of(evaluator, thing)
            key = evaluator.runs.key(run, frame) if run is not None else None
            return frame, key, key is not None and evaluator.store.has(key)
        except EstampaError as err:
            return frame, str(err)

    @staticmethod
    def _channels_of(thing):
        return thing.declared.channels.values() if thing is not None and thing.declared is not None else ()

    def _matters(self, thing, channel) -> bool:
        """Whether a channel can matter as the others are set; a key or link on one keeps it in sight."""
        if isinstance(thing.values.get(channel.name), (Curve, Link, Formula)):
            return True
        return channel.applies(thing.constant)

    def show_all(self, on: bool) -> None:
        self._all = on
        self.refresh()

    def _build(self, thing):
        self._rows = []
        body = QWidget()
        grid = QGridLayout(body)
        grid.setContentsMargins(10, 8, 8, 8)
        grid.setHorizontalSpacing(4)
        grid.setVerticalSpacing(4)
        grid.setColumnStretch(1, 1)
        self.say(thing.declared.summary() if thing and thing.declared else "")
        if thing is None:
            grid.addWidget(self._empty("Select a thing in the roster or the viewport to see its channels."), 0, 0, 1, 4)
        elif thing.declared is None:
            grid.addWidget(
                self._empty(
                    f"This is a “{thing.kind}”, made by a newer Estampa. It does nothing here and is kept "
                    "as it is when you save."
                ),
                0,
                0,
                1,
                4,
            )
        else:
            self._facts(grid, thing)
            if thing.adopted is not None:
                self._start(grid, thing)
            self._channels(grid, thing)
        grid.setRowStretch(grid.rowCount(), 1)
        before = self._scroll.takeWidget()
        self._scroll.setWidget(body)
        if before is not None:  # it may be the one whose event brought us here, so it goes a little later
            before.hide()
            before.deleteLater()

    def _empty(self, text):
        label = QLabel(text, wordWrap=True)
        label.setProperty("soft", True)
        return label

    def _facts(self, grid, thing):
        """What is told of it above its channels, with a button to add layers where it has a stack."""
        facts = facet_of(thing.declared).facts(self.session, thing)
        if facts is None:
            facts = reported(self.session, thing) if reports(thing) else Facts([])
        for i, (name, value) in enumerate(facts.rows):
            label = QLabel(name)
            label.setProperty("soft", True)
            grid.addWidget(label, i, 0)
            grid.addWidget(QLabel(value, wordWrap=True), i, 1, 1, 3)
        if facts.words:
            grid.addWidget(self._empty(facts.words), grid.rowCount(), 0, 1, 4)
        if layers_for(thing.kind) and thing.declared.family != "layer":
            grid.addWidget(self._add_button(thing), grid.rowCount(), 0, 1, 4)

    def _add_button(self, thing):
        add = QPushButton(theme.icon("add"), "Add a layer")
        menu = QMenu(add)
        for kind in layers_for(thing.kind):
            menu.addAction(
                theme.icon(kind.kind), kind.title, lambda k=kind: add_layer(self.session, k.kind)
            ).setToolTip(kind.summary())
        add.setMenu(menu)
        return add

    def _start(self, grid, thing):
        at = grid.rowCount()
        label = QLabel("Begins from")
        label.setProperty("soft", True)
        grid.addWidget(label, at, 0)
        grid.addWidget(QLabel(thing.adopted.words, wordWrap=True), at, 1, 1, 2)
        rest = QPushButton("From rest")
        rest.setToolTip("Begin from rest again")
        rest.clicked.connect(lambda: do.set_start(self.session.scene, thing.id, None))
        grid.addWidget(rest, at, 3)

    def _channels(self, grid, thing):
        at, groups, folded = grid.rowCount() + 1, {}, 0
        for channel in thing.declared.channels.values():
            if not self._all and not self._matters(thing, channel):
                folded += 1
                continue
            row = Row(self, channel)
            self._rows.append(row)
            if channel.group and row.computed is None:
                if channel.group not in groups:
                    groups[channel.group] = QHBoxLayout()
                    groups[channel.group].setSpacing(1)
                    grid.addWidget(QLabel(channel.group), at, 0)
                    grid.addLayout(groups[channel.group], at, 1, 1, 3)
                    at += 1
                groups[channel.group].addWidget(row.editor, 1)
                row.key.setFixedWidth(17)
                row.key.setIconSize(QSize(11, 11))
                groups[channel.group].addWidget(row.key)
                continue
            grid.addWidget(row.label, at, 0)
            if row.computed is not None:
                grid.addWidget(row.computed, at, 1)
                grid.addWidget(row.reset, at, 3)
                at += 1
                continue
            grid.addWidget(row.editor, at, 1)
            if channel.animates or row.choose is not None:
                grid.addWidget(row.choose or row.key, at, 2)
            grid.addWidget(row.reset, at, 3)
            at += 1
        if folded or self._all and any(not self._matters(thing, c) for c in self._channels_of(thing)):
            words = "Fold what does nothing now" if self._all else f"{folded} more do nothing as it is set"
            more = QPushButton(words)
            more.setProperty("flat", True)
            more.setToolTip("Show every channel, also those that cannot matter as the others are set")
            more.clicked.connect(lambda: self.show_all(not self._all))
            grid.addWidget(more, at, 0, 1, 4)


class Head(QFrame):
    """Name, kind, presets and switch of what a sheet is of."""

    def __init__(self, sheet):
        super().__init__()
        self.sheet, self.session = sheet, sheet.session
        self.setProperty("strip", True)
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 5, 8, 5)
        self.kind = QLabel()
        self.name = QLineEdit(placeholderText="Nothing selected")
        self.name.setAccessibleName("Name")
        self.name.editingFinished.connect(self._rename)
        self.presets = QToolButton(text="Presets ▾", popupMode=QToolButton.InstantPopup)
        self.presets.setMenu(QMenu(self.presets))
        for widget in (self.kind, self.name, self.presets):
            row.addWidget(widget)
        row.setStretch(1, 1)

    def refresh(self):
        thing = self.sheet.thing
        declared = thing.declared if thing else None
        self.name.setEnabled(thing is not None and thing.unknown is None)
        if not self.name.hasFocus():
            self.name.setText(thing.name if thing else "")
        self.kind.setPixmap(theme.icon(thing.kind if thing else "unknown").pixmap(18, 18))
        self.kind.setToolTip(declared.title if declared else "")
        menu = self.presets.menu()
        menu.clear()
        self.presets.setVisible(bool(declared and declared.presets))
        for words, values in (declared.presets if declared else {}).items():
            menu.addAction(words, lambda w=words, v=values: self._preset(w, v))

    def _preset(self, words, values):
        s = self.session
        thing = self.sheet.thing
        s.set(thing.id, values, label=f"{thing.name}: {words}")

    def _rename(self):
        thing = self.sheet.thing
        if thing is not None and thing.unknown is None:
            do.rename(self.session.scene, thing.id, self.name.text())
