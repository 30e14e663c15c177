"""The sheet: the channels of what is selected, drawn from its declaration."""

import numpy as np
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
from ...edits import clips
from ...errors import EstampaError
from ...geometry.pieces import Pieces, volumes_of
from ...geometry.pose import turn_matrices
from ...kinds.registry import kind_of, kinds_in, layers_for
from ...scene.curves import Curve
from ...scene.document import Formula, Link
from ...scene.values import Rows
from ...solve.stems.kind import parts_of
from ...units import format_bytes, format_length, format_volume
from ..session import Session
from ..shell import theme
from .channel_row import Row

MOST_PARTS = 12  # joints whose frequencies are listed


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
        told = self._told(thing) if thing and thing.declared and _tells(thing) else None
        wanted = (thing.id, thing.kind, thing.adopted, told, computed, folded, self._all) if thing else None
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

    def _told(self, thing) -> tuple:
        """What decides the facts of a solved frame: which frame, what it was solved from, and whether it is there."""
        frame, evaluator = self.session.player.frame, self.session.work.evaluator("window")
        try:
            run = _run_of(evaluator, thing)
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
            if thing.kind == "subject":
                self._subject(grid, thing)
            elif thing.kind == "skeleton":
                self._skeleton(grid, thing)
            elif thing.has_grains:
                self._swarm(grid, thing)
            elif thing.kind == "stems":
                self._frequencies(grid, thing)
            elif thing.kind == "break":
                self._pieces(grid, thing)
            elif _tells(thing):
                self._report(grid, thing)
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

    def _subject(self, grid, thing):
        mesh = self.session.scene.mesh(thing.mesh)
        facts = [
            ("Size", " × ".join(format_length(s) for s in mesh.size)),
            ("Vertices", f"{mesh.count:,}"),
            ("Faces", f"{len(mesh.face_counts):,}"),
            ("Islands", f"{mesh.island_count:,}"),
            ("Open edges", f"{mesh.open_edges:,}"),
            ("Crowded edges", f"{mesh.crowded_edges:,}"),
            ("From file", thing.mesh.source or "–"),
            ("Layers", f"{len(thing.stack)}"),
        ]
        self._facts(grid, facts)
        if not thing.stack:
            grid.addWidget(
                self._empty("It has no layers yet. Add one: a bend, a noise or a cloth."), len(facts), 0, 1, 4
            )
        grid.addWidget(self._add_button(thing), len(facts) + 1, 0, 1, 4)
        if thing.targets:
            names = ", ".join(t.name for t in thing.targets)
            grid.addWidget(self._empty(f"Morph targets: {names}."), len(facts) + 2, 0, 1, 4)

    def _add_button(self, thing):
        add = QPushButton(theme.icon("add"), "Add a layer")
        menu = QMenu(add)
        for kind in layers_for(thing.kind):
            menu.addAction(
                theme.icon(kind.kind), kind.title, lambda k=kind: add_layer(self.session, k.kind)
            ).setToolTip(kind.summary())
        add.setMenu(menu)
        return add

    def _swarm(self, grid, thing):
        if thing.stack:
            self._report(grid, thing)
            self._told_first(grid, thing)
        else:
            words = "It has no layers yet. Add a source, Sow or Emit, and then what guides and shows its grains."
            grid.addWidget(self._empty(words), 0, 0, 1, 4)
        grid.addWidget(self._add_button(thing), grid.rowCount(), 0, 1, 4)

    def _told_first(self, grid, thing):
        """How many grains it will have, and what they take, before anything is solved."""
        try:
            many = self.session.work.evaluator("window").swarms.expected(thing)
        except EstampaError:
            return
        words = f"About {many:,} grains at once"
        if hasattr(thing.declared, "a_frame"):
            bytes_, seconds = thing.declared.a_frame(many)
            words += f": some {format_bytes(bytes_)} to solve, {seconds:.2g} s a frame"
        at = grid.rowCount()
        grid.addWidget(self._empty(f"{words}."), at, 0, 1, 4)

    def _skeleton(self, grid, thing):
        bones = self.session.scene.values.bones(thing)
        strands = len(bones.strands(bones.order)) if len(bones) else 0
        present = clips.present(thing)
        facts = [
            ("Joints", f"{len(bones):,} in {strands:,} strand{'s' if strands != 1 else ''}"),
            ("Longest", format_length(float(bones.lengths.max(initial=0)))),
            ("Clips", f"{len(thing.clips)}" + (f", “{present.name}” is played" if present else "")),
            ("Layers", f"{len(thing.stack)}" + (f", {len(thing.live)} baked to keys" if thing.live else "")),
        ]
        self._facts(grid, facts)
        if not thing.stack:
            words = "It has no layers yet. Add one: wind on stems, a swinging chain, an aim."
            grid.addWidget(self._empty(words), len(facts), 0, 1, 4)
        grid.addWidget(self._add_button(thing), len(facts) + 1, 0, 1, 4)

    def _report(self, grid, thing):
        """What is told of an ensemble at this frame."""
        evaluator = self.session.work.evaluator("window")
        try:
            run = _run_of(evaluator, thing)
            frame = evaluator.runs.kept(run, self.session.player.frame) if run is not None else None
        except EstampaError as err:
            grid.addWidget(self._empty(str(err)), 0, 0, 1, 4)
            return
        if frame is None:
            nobody = "It has no members yet. Add a layer that plays in it to a subject."
            words = "Not solved at this frame." if run is not None else nobody
            grid.addWidget(self._empty(words), 0, 0, 1, 4)
            return
        members = [] if run.is_solo else [("Members", f"{len(run.members):,}")]
        self._facts(grid, [*members, *thing.declared().facts(frame)])

    def _pieces(self, grid, thing):
        """What a mesh was broken into, as it was cut last."""
        plan = self.session.scene.solver_cache.get(("plan", thing.id))
        if plan is None:
            grid.addWidget(self._empty("It is not cut yet."), 0, 0, 1, 4)
            return
        mesh = plan[2].mesh
        pieces = Pieces.each(mesh)
        of = lambda: pieces.of_vertex[mesh.triangles[:, 0]]
        volumes = mesh.cached("volumes", lambda: volumes_of(mesh.points, mesh.triangles, of(), pieces.count))
        self._facts(grid, [
            ("Pieces", f"{len(volumes):,}"),
            ("Volume", format_volume(volumes.sum())),
            ("Of a piece", f"{format_volume(volumes.min())} to {format_volume(volumes.max())}"),
            ("Triangles", f"{len(mesh.triangles):,}"),
        ])  # fmt: skip

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

    def _frequencies(self, grid, thing):
        """Natural frequency and period of each part, which is what people judge by eye."""
        owner, rate = self.session.doc.owner(thing.id), self.session.doc.frame_rate
        try:
            bones, chain, parts = parts_of(
                self.session.work.evaluator("window"), owner, thing, self.session.player.frame
            )
        except EstampaError:
            return
        found = list(zip(chain, parts.frequencies(), strict=True))
        told = []
        if len(chain) and len(chain) <= 120:
            frame = np.tile(np.eye(3), (len(chain), 1, 1))
            rest = turn_matrices(bones.rest.turn[chain])
            lowest = float(parts.modes(rest, frame, np.zeros((len(chain), 3)), 1)[0])
            told.append(("Sways as a whole", lowest))
        told += [(bones.joints[i].name, float(f)) for i, f in found[:MOST_PARTS]]
        facts = [(name, f"{f:.2f} Hz, {rate / f:.0f} frames" if f > 1e-6 else "hangs loose") for name, f in told]
        if len(found) > MOST_PARTS:
            facts.append(("", f"and {len(found) - MOST_PARTS} more joints"))
        self._facts(grid, facts)

    def _facts(self, grid, facts):
        for i, (name, value) in enumerate(facts):
            label = QLabel(name)
            label.setProperty("soft", True)
            grid.addWidget(label, i, 0)
            grid.addWidget(QLabel(value, wordWrap=True), i, 1, 1, 3)

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


def add_layer(session: Session, kind: str):
    """Add a layer to the selected subject or skeleton, with a grip of its own where it reads one."""
    if kind_of(kind).moves == "joints":
        _add_pose_layer(session, kind)
        return
    if kind_of(kind).moves == "grains":
        _add_grain_layer(session, kind)
        return
    subject = session.selection.subject
    if subject is None:
        subjects = session.doc.subjects
        if len(subjects) != 1:
            session.tell(EstampaError("A layer", "needs a subject to move.", "Select a subject in the roster first."))
            return
        subject = subjects[0]
    mesh = session.scene.mesh(subject.mesh)
    declared = next(k for k in kinds_in("layer") if k.kind == kind)
    grip = None
    if "grip" in declared.channels and kind != "offset":
        grip = dict(zip("xyz", mesh.foot.tolist(), strict=True))
    values = declared.first_values(mesh)
    if kind == "cloth" and subject.map(session.selection.map_id):
        values |= {"pins": session.selection.map_id}
    layer = do.add_layer(session.scene, subject.id, kind, values=values, grip=grip)
    session.selection.select(layer.id)


def _add_grain_layer(session: Session, kind: str):
    """On the selected swarm, or the only one there is, with a grip of its own where it goes by one."""
    swarm, declared = session.selection.swarm, kind_of(kind)
    if swarm is None:
        raise EstampaError(declared.title, "guides the grains of a swarm.", "Select a swarm, or add one first.")
    grip = None
    if "around" in declared.channels or (declared.channels.get("grip") and kind != "grain_turbulence"):
        grip = {"y": 1.0}
    layer = do.add_layer(session.scene, swarm.id, kind, grip=grip)
    session.selection.select(layer.id)


def _add_pose_layer(session: Session, kind: str):
    """On the joint that is selected and all that hang on it, or on the whole skeleton."""
    skeleton, declared = session.selection.skeleton, kind_of(kind)
    if skeleton is None:
        raise EstampaError(declared.title, "needs a skeleton.", "Build one first (Joint tool, J).")
    joint = (
        session.selection.thing
        if session.selection.thing is not None and session.selection.thing.kind == "joint"
        else None
    )
    bones = session.scene.values.bones(skeleton)
    values = {}
    if joint is not None and kind == "reach":
        values["last"] = joint.id
    elif joint is not None and "first" in declared.channels and bones.parents[bones.where[joint.id]] >= 0:
        values["first"] = joint.id
    if "target" in declared.channels and kind != "copy_turn":
        place = session.scene.values.place(joint, Rows.one(session.player.frame)).origin[0] if joint else np.zeros(3)
        size = float(bones.lengths.sum()) if len(bones) else 1.0
        grip = do.add_thing(
            session.scene, "grip", f"{declared.title} target",
            {"x": float(place[0] + 0.5 * size), "y": float(place[1] + 0.3 * size), "z": float(place[2]), "size": 0.3},
        )  # fmt: skip
        values["target"] = grip.id
    session.selection.select(do.add_layer(session.scene, skeleton.id, kind, values=values).id)


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


def _run_of(evaluator, thing):
    """What solves an ensemble, or a layer that is one by itself; None where it has no members."""
    return next((r for r in evaluator.runs.every() if r.id == thing.id), None)


def _tells(thing) -> bool:
    """Whether a solved frame of it has facts to tell: an ensemble, or a layer that is one by itself."""
    return hasattr(thing.declared, "facts") and not (thing.declared.family == "layer" and thing.constant("together"))
