"""Links and formulas in the sheet: the row that shows one, and the list to pick a channel from."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen, QPolygonF
from PySide6.QtWidgets import (
    QCheckBox,
    QDialog,
    QDialogButtonBox,
    QGridLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ... import edits as do
from ...errors import EstampaError
from ...formula import FUNCTIONS, NAMES
from ...kinds.channels import Channel, number
from ...scene.curves import Curve, Key
from ...scene.document import Formula, Link, Source
from ...units import format_value, to_shown
from ..shell import theme
from ..shell.painting import Guarded
from .fields import NumberField

CHANNEL = "application/x-estampa-channel"
LETTERS = "abcdefghjkmqrsuvwxyz"


def describe(doc, thing, channel: Channel) -> str:
    """A link in words."""
    held = thing.values[channel.name]
    other = doc.find(held.reads.thing)
    name = f"{other.name} · {other.declared.channels[held.reads.channel].label.lower()}" if other else "nothing"
    if held.curve is not None:
        return f"reads {name} through a curve"
    if held.span is None:
        return f"reads {name}"
    unit = other.declared.channels[held.reads.channel].unit if other else ""
    show = lambda values, u: " … ".join(format_value(v, u, 3) for v in values)
    return f"reads {name}: {show(held.span, unit)} becomes {show(held.to, channel.unit)}"


def readable(doc, but=None):
    """Yields (thing, channel) for every channel that can be read."""
    for thing, _ in doc.everything():
        for channel in thing.declared.channels.values() if thing.declared else ():
            if channel.type in ("number", "whole", "switch") and (thing.id, channel.name) != but:
                yield thing, channel


class LinkRow(QWidget):
    """Shows and edits a channel's link (what it reads, and its range map) or formula (text and inputs)."""

    def __init__(self, sheet, thing_id: str, channel: Channel):
        super().__init__()
        self.sheet, self.session, self.thing_id, self.channel = sheet, sheet.session, thing_id, channel
        self.grid = QGridLayout(self)
        self.grid.setContentsMargins(0, 0, 0, 2)
        self.grid.setSpacing(3)
        self.value = QLabel()
        self.value.setProperty("soft", True)
        self.value.setWordWrap(True)
        (self._build_link if isinstance(self.held, Link) else self._build_formula)()
        self.grid.addWidget(self.value, self.grid.rowCount(), 0, 1, 3)

    @property
    def held(self):
        return self.session.doc.find(self.thing_id).values.get(self.channel.name)

    # -- links -----------------------------------------------------------------------------------------------
    def _build_link(self):
        doc, held = self.session.doc, self.held
        other = doc.find(held.reads.thing)
        source = other.declared.channels.get(held.reads.channel) if other and other.declared else None
        name = QToolButton(text=f"{other.name} · {source.label.lower()}" if source else "nothing")
        name.setIcon(theme.icon("link", theme.ink.accent))
        name.setToolButtonStyle(Qt.ToolButtonTextBesideIcon)
        name.setProperty("flat", True)
        name.setToolTip("What it reads. Click to choose another channel.")
        name.setAccessibleName(f"{self.channel.label} reads")
        name.clicked.connect(lambda: LinkDialog(self.sheet, self.thing_id, self.channel).open())
        self.grid.addWidget(name, 0, 0, 1, 3)
        if source is None:
            return
        self.mapped = QCheckBox("range")
        self.mapped.setToolTip("Read through a range map: these two values of what is read become those two")
        self.mapped.setChecked(held.span is not None)
        self.mapped.clicked.connect(self._set_mapped)
        self.grid.addWidget(self.mapped, 1, 0)
        bend = QCheckBox("curve")
        bend.setToolTip(
            "Read through a small curve: drag its points, double-click for another, right-click takes one away"
        )
        bend.setChecked(held.curve is not None)
        bend.clicked.connect(self._set_curved)
        self.grid.addWidget(
            bend, 3 if held.span is not None and held.curve is None else 1, 1 if held.span is None or held.curve else 0
        )
        self.bend = bend
        if held.curve is not None:
            self.small = SmallCurve(self, source.unit, self.channel.unit)
            self.grid.addWidget(self.small, 2, 0, 1, 3)
            self.mapped.hide()
            return
        if held.span is None:
            return
        self.fields = []
        for row, (words, unit, values) in enumerate(
            (("from", source.unit, held.span), ("to", self.channel.unit, held.to)), 1
        ):
            for column, value in enumerate(values, 1):
                field = NumberField(number(0.0, words, unit=unit, title=f"{words} {column}", soft=(0.0, 0.0)))
                field.show_value(value)
                field.changed.connect(lambda v, r=row, c=column: self._set_range(r, c, v))
                field.refused.connect(self.session.tell)
                self.grid.addWidget(field, row, column)
                self.fields.append(field)
        self.grid.addWidget(QLabel("becomes"), 2, 0)

    def _replace(self, value, merge=None):
        self.session.carry_out(
            lambda: do.set_computed(self.session.scene, self.thing_id, self.channel.name, value, merge)
        )

    def _set_mapped(self, on):
        held, doc = self.held, self.session.doc
        source = doc.find(held.reads.thing).declared.channels[held.reads.channel]
        self._replace(Link(reads=held.reads, span=source.soft if on else None, to=self.channel.soft if on else None))

    def _set_curved(self, on):
        held, doc = self.held, self.session.doc
        source = doc.find(held.reads.thing).declared.channels[held.reads.channel]
        span, to = held.span or source.soft, held.to or self.channel.soft
        if on:
            ends = sorted(zip(span, to, strict=True))
            keys = tuple(Key(frame=x, value=y, segment="linear") for x, y in ends)
            self._replace(Link(reads=held.reads, span=span, to=to, curve=Curve(keys=keys)))
        else:
            self._replace(Link(reads=held.reads, span=span, to=to))

    def set_points(self, keys):
        """New points of the small curve."""
        curve = self.held.curve.with_keys(keys)
        link = Link(reads=self.held.reads, span=self.held.span, to=self.held.to, curve=curve)
        self._replace(link, merge=f"link curve {self.thing_id} {self.channel.name}")

    def _set_range(self, row, column, value):
        held = self.held
        span, to = list(held.span), list(held.to)
        (span if row == 1 else to)[column - 1] = value
        try:
            link = Link(reads=held.reads, span=tuple(span), to=tuple(to), hold=held.hold)
        except ValueError:
            self.session.tell(
                EstampaError(self.channel.label, "needs two different values to read from.", "Type another value.")
            )
            return
        self._replace(link, merge=f"range {self.thing_id} {self.channel.name}")

    # -- formulas --------------------------------------------------------------------------------------------
    def _build_formula(self):
        held, doc = self.held, self.session.doc
        self.text = QLineEdit(held.formula)
        self.text.setAccessibleName(f"Formula of {self.channel.label}")
        self.text.setToolTip(
            "A formula, in the unit shown.\nNames: "
            + "; ".join(f"{n} – {w}" for n, w in NAMES.items())
            + "\nFunctions: "
            + ", ".join(FUNCTIONS)
        )
        self.text.editingFinished.connect(self._set_formula)
        self.grid.addWidget(self.text, 0, 0, 1, 2)
        add = QToolButton(icon=theme.icon("link"), toolTip="Read another channel in the formula, by a letter")
        add.setProperty("flat", True)
        add.setAccessibleName(f"Add an input to the formula of {self.channel.label}")
        add.clicked.connect(lambda: LinkDialog(self.sheet, self.thing_id, self.channel, formula=True).open())
        self.grid.addWidget(add, 0, 2)
        for row, (letter, source) in enumerate(held.inputs.items(), 1):
            other = doc.find(source.thing)
            name = f"{other.name} · {other.declared.channels[source.channel].label.lower()}" if other else "nothing"
            label = QLabel(f"{letter} = {name}")
            label.setProperty("soft", True)
            self.grid.addWidget(label, row, 0, 1, 3)

    def _set_formula(self):
        if isinstance(self.held, Formula) and self.text.text().strip() != self.held.formula:
            self.session.carry_out(
                lambda: do.set_formula(self.session.scene, self.thing_id, self.channel.name, self.text.text())
            )

    # -- what it gives -----------------------------------------------------------------------------------------
    def show_value(self, value):
        shown = (
            format_value(float(value), self.channel.unit)
            if self.channel.type != "switch"
            else ("on" if value else "off")
        )
        self.value.setText(f"= {shown}")

    def show_trouble(self, err: EstampaError):
        self.value.setText(f"{err.cause} {err.cure}")


class SmallCurve(Guarded, QWidget):
    """A link's curve: what is read along, what it becomes upwards. Points are dragged, added and taken away."""

    def __init__(self, row: LinkRow, unit_read: str, unit: str):
        super().__init__()
        self.row, self.units = row, (unit_read, unit)
        self.setFixedHeight(84)
        self.setAccessibleName(f"Curve of {row.channel.label}")
        self.setMouseTracking(True)
        self._drag: int | None = None

    @property
    def curve(self) -> Curve:
        return self.row.held.curve

    def box(self):
        """((lowest, highest) read, (lowest, highest) given, left, top, width, height)."""
        keys = self.curve.keys
        xs = [k.frame for k in keys] + list(self.row.held.span or ())
        ys = [k.value for k in keys] + list(self.row.held.to or ())
        wide = lambda v: (min(v), max(v)) if max(v) > min(v) else (min(v) - 0.5, max(v) + 0.5)
        return wide(xs), wide(ys), 8, 8, self.width() - 16, self.height() - 26

    def at(self, x, y) -> QPointF:
        (a, b), (c, d), left, top, wide, tall = self.box()
        return QPointF(left + (x - a) / (b - a) * wide, top + (1 - (y - c) / (d - c)) * tall)

    def values_at(self, p) -> tuple[float, float]:
        (a, b), (c, d), left, top, wide, tall = self.box()
        return a + (p.x() - left) / wide * (b - a), c + (1 - (p.y() - top) / tall) * (d - c)

    def under(self, p) -> int | None:
        gaps = [(self.at(k.frame, k.value) - p).manhattanLength() for k in self.curve.keys]
        return int(np.argmin(gaps)) if min(gaps) < 10 else None

    def paint(self, painter: QPainter):
        if not isinstance(self.row.held, Link) or self.row.held.curve is None:
            return
        ink = theme.ink
        painter.fillRect(self.rect(), QColor(ink.sheet))
        (a, b), (c, d), *_ = self.box()
        painter.setPen(QPen(QColor(ink.accent), 1.5))
        x = np.linspace(a, b, 120)
        painter.drawPolyline(QPolygonF([self.at(*p) for p in zip(x, self.curve.at(x), strict=True)]))
        painter.setBrush(QColor(ink.ink))
        for key in self.curve.keys:
            painter.drawEllipse(self.at(key.frame, key.value), 4, 4)
        painter.setPen(QColor(ink.soft))
        painter.setFont(theme.type_face(8))
        plain = lambda v, unit: f"{to_shown(v, unit):.3g}"
        words = f"{plain(a, self.units[0])} … {format_value(b, self.units[0], 3)} becomes "
        words += f"{plain(c, self.units[1])} … {format_value(d, self.units[1], 3)}"
        painter.drawText(self.rect().adjusted(8, 0, -4, -2), Qt.AlignBottom | Qt.AlignLeft, words)

    def mousePressEvent(self, event):
        self._drag = self.under(event.position())
        if event.button() == Qt.RightButton and self._drag is not None and len(self.curve.keys) > 1:
            self.row.set_points([k for i, k in enumerate(self.curve.keys) if i != self._drag])
            self._drag = None

    def mouseMoveEvent(self, event):
        if self._drag is None or not event.buttons() & Qt.LeftButton:
            return
        x, y = self.values_at(event.position())
        keys = list(self.curve.keys)
        low = keys[self._drag - 1].frame + 1e-6 if self._drag else -np.inf
        high = keys[self._drag + 1].frame - 1e-6 if self._drag + 1 < len(keys) else np.inf
        keys[self._drag] = keys[self._drag].with_(frame=float(np.clip(x, low, high)), value=float(y))
        self.row.set_points(keys)
        self.update()

    def mouseReleaseEvent(self, event):
        self._drag = None
        self.row.session.scene.end_merge()

    def mouseDoubleClickEvent(self, event):
        x, y = self.values_at(event.position())
        self.row.set_points([*self.curve.keys, Key(frame=float(x), value=float(y), segment="linear")])
        self.update()


class LinkDialog(QDialog):
    """A list of every channel that can be read, found by typing."""

    def __init__(self, sheet, thing_id: str, channel: Channel, formula: bool = False):
        super().__init__(sheet.window())
        self.session, self.thing_id, self.channel, self.formula = sheet.session, thing_id, channel, formula
        thing = self.session.doc.find(thing_id)
        self.setWindowTitle(f"{thing.name} · {channel.label.lower()} reads")
        self.resize(420, 420)
        layout = QVBoxLayout(self)
        self.find = QLineEdit(placeholderText="Type a part of its name")
        self.find.textChanged.connect(self._fill)
        layout.addWidget(self.find)
        self.list = QListWidget()
        self.list.itemActivated.connect(lambda _: self.accept())
        layout.addWidget(self.list, 1)
        self.note = QLabel(wordWrap=True)
        self.note.setProperty("soft", True)
        layout.addWidget(self.note)
        buttons = QDialogButtonBox(QDialogButtonBox.Ok | QDialogButtonBox.Cancel)
        buttons.button(QDialogButtonBox.Ok).setText("Add" if formula else "Link")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout.addWidget(buttons)
        self.list.currentItemChanged.connect(self._tell)
        self._fill("")

    def _fill(self, text):
        self.list.clear()
        words = text.lower().split()
        for thing, channel in readable(self.session.doc, (self.thing_id, self.channel.name)):
            name = f"{thing.name} · {channel.label}" + (f" ({channel.group.lower()})" if channel.group else "")
            if all(w in name.lower() for w in words):
                item = QListWidgetItem(theme.icon(thing.kind), name)
                item.setData(Qt.UserRole, (thing.id, channel.name))
                self.list.addItem(item)
        if self.list.count():
            self.list.setCurrentRow(0)
        else:
            self.note.setText("Nothing has that in its name.")

    def _tell(self, item, _before=None):
        if item is None:
            return
        thing_id, name = item.data(Qt.UserRole)
        source = self.session.doc.find(thing_id).declared.channels[name]
        same = source.unit == self.channel.unit
        words = "It is read as it is." if same else "Its unit is another one, so a range map is laid between the two."
        self.note.setText("In the formula it stands in the unit that it shows." if self.formula else words)

    def accept(self):
        item = self.list.currentItem()
        if item is None:
            return
        super().accept()
        s, (thing_id, name) = self.session, item.data(Qt.UserRole)
        try:
            if self.formula:
                held = s.doc.find(self.thing_id).values[self.channel.name]
                letter = next(l for l in LETTERS if l not in held.inputs and l not in NAMES)
                inputs = {**held.inputs, letter: Source(thing=thing_id, channel=name)}
                do.set_computed(s.scene, self.thing_id, self.channel.name, Formula(formula=held.formula, inputs=inputs))
            else:
                do.link(s.scene, self.thing_id, self.channel.name, thing_id, name)
        except EstampaError as err:
            s.tell(err)
