"""A row of the sheet: one channel, with its editor, its key, its reset, and what links and computes it."""

from PySide6.QtCore import QEvent, QMimeData, QObject, QSize, Qt
from PySide6.QtGui import QDrag
from PySide6.QtWidgets import QCheckBox, QComboBox, QFileDialog, QLabel, QLineEdit, QMenu, QMessageBox, QToolButton

from ... import edits as do
from ...errors import EstampaError
from ...kinds.channels import Channel
from ...motion.refine import needs
from ...scene.document import Formula, Link, Opaque
from ...scene.limit_checks import fits_reference
from ...units import format_bytes
from ..shell import theme
from .fields import NumberField
from .linking import CHANNEL, LinkDialog, LinkRow, describe
from .ramp import RampField

MOST_LISTED = 500  # joints of a skeleton in a list of what can be named
MANY_FACES = 1_000_000  # more than these are asked about first


class Row:
    """One channel: its label, its editor, its key and its reset."""

    def __init__(self, sheet, channel: Channel):
        self.sheet, self.session, self.channel = sheet, sheet.session, channel
        self.label = QLabel(channel.label)
        self.label.setMinimumWidth(78)
        self.editor = self._make_editor()
        thing = sheet.thing
        held = thing.values.get(channel.name)
        self.computed = LinkRow(sheet, thing.id, channel) if isinstance(held, (Link, Formula)) else None
        self._carrier = Carrier(self)
        for widget in (self.label, self.computed or self.editor):
            widget.setAcceptDrops(True)
            widget.installEventFilter(self._carrier)
            widget.setContextMenuPolicy(Qt.CustomContextMenu)
            widget.customContextMenuRequested.connect(lambda at, w=widget: self.menu(w.mapToGlobal(at)))
        self.label.setCursor(Qt.OpenHandCursor if channel.animates else Qt.ArrowCursor)
        self.key = self._button("key", "Set or remove a key at this frame (K)", self.toggle_key)
        self.choose = self._button("open", "Choose a file", self.ask_file) if channel.file else None
        self.reset = self._button("reset", "Back to its default", self._reset)
        help_text = f"{channel.label}: {channel.help}"
        for widget in (self.label, self.editor):
            widget.setToolTip(help_text)
            widget.enterEvent = lambda event, text=help_text: sheet.say(text)

    def _button(self, icon, tip, run):
        button = QToolButton(icon=theme.icon(icon), toolTip=tip, iconSize=QSize(13, 13))
        button.setProperty("flat", True)
        button.setAccessibleName(f"{tip}: {self.channel.label}")
        button.clicked.connect(run)
        return button

    def _make_editor(self):
        c = self.channel
        if c.type in ("number", "whole"):
            field = NumberField(c, short=bool(c.group))
            field.changed.connect(lambda v: self._set(int(v) if c.type == "whole" else v, merge=True))
            field.formula.connect(self._formula)
            field.takes_formula = c.animates
            field.released.connect(self.session.scene.end_merge)
            field.refused.connect(self.session.tell)
            return field
        if c.type == "switch":
            box = QCheckBox()
            box.clicked.connect(lambda on: self._set(bool(on)))
            return box
        if c.ramp:
            field = RampField(c)
            field.changed.connect(lambda words: self._set(words, merge=True))
            field.released.connect(self.session.scene.end_merge)
            return field
        if c.type == "text":
            line = QLineEdit(placeholderText=c.empty)
            line.editingFinished.connect(lambda: self._set(line.text()))
            return line
        combo = QComboBox()
        combo.setSizeAdjustPolicy(QComboBox.AdjustToMinimumContentsLengthWithIcon)  # long words do not widen the sheet
        combo.setMinimumContentsLength(8)
        combo.activated.connect(lambda i: self._set(combo.itemData(i)))
        for value, words in self._options():
            combo.addItem(words, value)
        return combo

    def _options(self):
        c, s = self.channel, self.session
        if c.type == "choice":
            return list(c.choices)
        if c.to == "map":
            subject = s.doc.owner(self.sheet.thing.id) if self.sheet.thing else None
            return [(None, "– none –"), *((m.id, m.name) for m in (subject.maps if subject else ()))]
        if c.to == "target":
            subject = s.doc.owner(self.sheet.thing.id) if self.sheet.thing else None
            return [(None, "– none –"), *((t.id, t.name) for t in (subject.targets if subject else ()))]
        if c.to == "targets":
            subject = s.doc.owner(self.sheet.thing.id) if self.sheet.thing else None
            return [(None, f"– all {len(subject.targets) if subject else 0} morph targets –")]
        own = self.sheet.thing.id if self.sheet.thing else None
        owner = s.doc.owner(own) if own else None
        if c.to in ("target_map", "target_weights"):
            held = s.doc.find(self.sheet.thing.constant(c.name.removesuffix("_map"))) if own else None
            return [(None, "– none –"), *((m.id, m.name) for m in (held.maps if held else ()))]
        if c.to == "joint":
            return [(None, "– none –"), *((j.id, j.name) for j in (owner.joints if owner else ()) if j.id != own)]
        not_it = (own, owner.id if owner else None)
        things = [t for t in s.doc.things if t.declared and t.id not in not_it]
        found = [(t.id, t.name) for t in things if fits_reference(c, t)]
        if c.to == "placed":
            found += [(j.id, f"{t.name} · {j.name}") for t in s.doc.skeletons for j in t.joints[:MOST_LISTED]]
        return [(None, "– none –"), *found]

    def outdated(self) -> bool:
        if not isinstance(self.editor, QComboBox):
            return False
        shown = [(self.editor.itemData(i), self.editor.itemText(i)) for i in range(self.editor.count())]
        return shown != [tuple(o) for o in self._options()]

    def refresh(self):
        thing = self.sheet.thing
        if thing is None or thing.declared is None or self.channel.name not in thing.declared.channels:
            return
        name = self.channel.name
        try:
            value, curve = self.session.scene.values.at(thing, name, self.session.player.frame), thing.curve(name)
        except EstampaError as err:
            value, curve = None, None
            if self.computed is not None:
                self.computed.show_trouble(err)
        if self.computed is not None:
            if value is not None:
                self.computed.show_value(value)
            self.reset.setEnabled(True)
            return
        self.editor.setEnabled(name not in thing.locked)
        if isinstance(self.editor, NumberField):
            self.editor.show_value(value, curve is not None)
        elif isinstance(self.editor, RampField):
            self.editor.show_value(value)
        elif isinstance(self.editor, QCheckBox):
            self.editor.setChecked(value)
        elif isinstance(self.editor, QLineEdit):
            if not self.editor.hasFocus():
                self.editor.setText(value)
        else:
            self.editor.setCurrentIndex(max(self.editor.findData(value), 0))
        here = curve is not None and any(k.frame == self.session.player.frame for k in curve.keys)
        colour = theme.ink.accent if here else theme.ink.ink if curve else theme.ink.rule
        locked = name in thing.locked
        self.key.setIcon(theme.icon("lock", theme.ink.soft) if locked else theme.icon("key", colour))
        self.key.setEnabled(not locked)
        changed = name in thing.values
        self.reset.setEnabled(changed)
        self.reset.setIcon(theme.icon("reset", theme.ink.soft if changed else theme.ink.fold))
        face = self.label.font()
        face.setBold(isinstance(thing.values.get(name), Opaque) or changed)
        self.label.setFont(face)

    def _set(self, value, merge=False):
        s = self.session
        if self.channel.fixed and self._asks_first(value):
            return
        try:
            own = self.sheet.thing.id
            s.set(own, {self.channel.name: value}, merge=f"drag {own} {self.channel.name}" if merge else None)
        except EstampaError as err:
            s.tell(err)
            self.refresh()

    def _asks_first(self, value) -> bool:
        """Whether a person is asked before a layer makes more than a million faces."""
        s, layer = self.session, self.sheet.thing
        if not hasattr(layer.declared, "faces"):
            return False
        subject = s.doc.owner(layer.id)
        evaluator = s.work.evaluator("window")
        try:
            mesh = evaluator.mesh(subject, evaluator.layers_above(subject, layer) if layer.on else [])
        except EstampaError:  # what stands above it cannot be worked out, or not yet
            return False
        v = {n: layer.constant(n) for n in layer.declared.channels} | {self.channel.name: value}
        faces = layer.declared.faces(mesh, v)
        if faces <= MANY_FACES:
            return False
        text = f"{layer.name} would make {faces:,} faces, which take about {format_bytes(needs(faces))}. Go on?"
        self.asked = QMessageBox(
            QMessageBox.Question, "Refine", text, QMessageBox.Yes | QMessageBox.No, self.sheet.window()
        )
        own, name = layer.id, self.channel.name
        self.asked.accepted.connect(lambda: self.session.carry_out(lambda: s.set(own, {name: value})))
        self.asked.finished.connect(lambda _: self.sheet.refresh())
        self.asked.open()
        return True

    def _formula(self, text):
        """What was typed is no number but begins with “=”: a formula."""
        self.session.carry_out(lambda: do.set_formula(self.session.scene, self.sheet.thing.id, self.channel.name, text))

    def ask_file(self):
        """Choose the file that a text channel names."""
        title = f"{self.sheet.thing.name} · {self.channel.label.lower()}"
        self.dialog = QFileDialog(self.sheet.window(), title, "", self.channel.file)
        self.dialog.fileSelected.connect(lambda path: self._set(path))
        self.dialog.open()

    # -- links, formulas, locks ------------------------------------------------------------------------------
    def menu(self, at):
        """What can be done with a channel, besides giving it a value."""
        s, thing, name = self.session, self.sheet.thing, self.channel.name
        self.shown_menu = menu = QMenu(self.sheet)
        if self.channel.animates:
            menu.addAction(theme.icon("link"), "Link to another channel…", self.ask_link)
            menu.addAction(theme.icon("formula"), "Compute by a formula", self.begin_formula)
            menu.addAction(theme.icon("key"), "Set or remove a key here", self.toggle_key)
        locked = name in thing.locked
        menu.addAction(
            theme.icon("lock"),
            "Unlock" if locked else "Lock, so that nothing moves it",
            lambda: do.set_locked(s.scene, thing.id, name, not locked),
        )
        menu.addAction(theme.icon("reset"), "Back to its default", self._reset)
        menu.popup(at)

    def ask_link(self):
        LinkDialog(self.sheet, self.sheet.thing.id, self.channel).open()

    def begin_formula(self):
        """Start from what the channel is now, as a formula that can be written on."""
        from ...units import to_shown

        s, thing = self.session, self.sheet.thing
        now = to_shown(float(s.scene.values.at(thing, self.channel.name, s.player.frame)), self.channel.unit)
        self.session.carry_out(lambda: do.set_formula(s.scene, thing.id, self.channel.name, f"{now:.6g}"))

    def take_link(self, word: str):
        """A channel was dropped on this one: read it."""
        thing_id, name = word.split("|", 1)
        s = self.session
        if (thing_id, name) == (self.sheet.thing.id, self.channel.name):
            return
        self.session.carry_out(lambda: do.link(s.scene, self.sheet.thing.id, self.channel.name, thing_id, name))
        held = s.doc.find(self.sheet.thing.id)
        if isinstance(held.values.get(self.channel.name), Link):
            s.notice.emit(
                "done", f"{held.name} · {self.channel.label.lower()} {describe(s.doc, held, self.channel)}", ""
            )

    def toggle_key(self):
        s, thing = self.session, self.sheet.thing
        curve = thing.curve(self.channel.name)
        if curve and any(k.frame == s.player.frame for k in curve.keys):
            do.remove_key(s.scene, thing.id, self.channel.name, s.player.frame)
        else:
            do.set_key(s.scene, thing.id, self.channel.name, s.player.frame)

    def _reset(self):
        do.reset_value(self.session.scene, self.sheet.thing.id, self.channel.name)


class Carrier(QObject):
    """Lets a channel be dragged from its label and dropped on another channel, which then reads it."""

    def __init__(self, row: Row):
        super().__init__(row.sheet)
        self.row, self._from = row, None

    def eventFilter(self, widget, event):
        kind, row = event.type(), self.row
        if widget is row.label and row.channel.animates:
            if kind == QEvent.MouseButtonPress and event.button() == Qt.LeftButton:
                self._from = event.position().toPoint()
            elif kind == QEvent.MouseMove and self._from is not None:
                if (event.position().toPoint() - self._from).manhattanLength() > 8:
                    self._from = None
                    self.begin_drag(widget)
            elif kind == QEvent.MouseButtonRelease:
                self._from = None
        if kind in (QEvent.DragEnter, QEvent.DragMove) and event.mimeData().hasFormat(CHANNEL):
            if row.channel.animates:
                event.acceptProposedAction()
            return True
        if kind == QEvent.Drop and event.mimeData().hasFormat(CHANNEL):
            event.acceptProposedAction()
            row.take_link(bytes(event.mimeData().data(CHANNEL).data()).decode())
            return True
        return False

    def begin_drag(self, widget):
        drag, data = QDrag(widget), QMimeData()
        data.setData(CHANNEL, f"{self.row.sheet.thing.id}|{self.row.channel.name}".encode())
        drag.setMimeData(data)
        drag.setPixmap(theme.icon("link").pixmap(20, 20))
        drag.exec(Qt.LinkAction | Qt.CopyAction)
