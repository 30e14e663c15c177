"""The curve view: the graph with its strip of tools."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QComboBox, QFrame, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from ... import edits as do
from ...kinds.channels import number
from ...scene.curves import EXTENDS, TANGENTS
from ..panels.fields import NumberField
from ..session import Session
from ..shell import theme
from .graph import CurveGraph

EXTEND_HELP = {
    "hold": "Keep the value of the outermost key",
    "slope": "Go on in a straight line",
    "cycle": "Begin again",
    "mirror": "Go back the way it came, then forth again",
    "accumulate": "Begin again from where the last round ended",
}


class CurveView(QWidget):
    """The graph with its strip of tools."""

    def __init__(self, session: Session):
        super().__init__()
        self.session, self.graph = session, CurveGraph(session)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self._strip())
        layout.addWidget(self.graph, 1)
        for signal in (session.selection.selected, session.replaced):
            signal.connect(self.refresh)
        session.doc_changed.connect(lambda *_: self.refresh())
        self.refresh()

    def _strip(self):
        strip = QFrame()
        strip.setProperty("strip", True)
        row = QHBoxLayout(strip)
        row.setContentsMargins(6, 2, 6, 2)
        row.setSpacing(2)
        g, s = self.graph, self.session
        tangent = lambda w: lambda: g.each_chosen(lambda n, f: do.set_tangent(s.scene, *n, f, w))
        segment = lambda w: lambda: g.each_chosen(lambda n, f: do.set_segment(s.scene, *n, f, w))
        for word in ("flat", "smooth", "free", "broken"):
            self._button(row, f"tangent_{word}", f"{TANGENTS[word]} tangent on the chosen keys", tangent(word))
        row.addSpacing(8)
        for word, words in (("curve", "Curve"), ("linear", "Straight"), ("step", "Hold")):
            self._button(row, f"segment_{word}", f"{words} from the chosen keys to the next", segment(word))
        row.addSpacing(8)
        self.before, self.after = (self._extend(row, side) for side in ("before", "after"))
        row.addSpacing(8)
        self.soft = self._button(row, "soft", "Soft range: moving a key carries its neighbours with it", self._soft)
        self.soft.setCheckable(True)
        self.soft_width = NumberField(
            number(
                12, "How far the soft range reaches.", title="Soft range", unit="frames", soft=(0, 0), hard=(1, None)
            )
        )
        self.soft_width.setFixedWidth(56)
        self.soft_width.show_value(12)
        self.soft_width.changed.connect(lambda v: setattr(g.options, "soft_width", v))
        row.addWidget(self.soft_width)
        self.snap = self._button(
            row, "snap", "Snap keys to whole frames", lambda: setattr(g.options, "snap", self.snap.isChecked())
        )
        self.snap.setCheckable(True)
        self.snap.setChecked(True)
        self.normalised = self._button(row, "normalise", "Show each curve over its own range", self._normalise)
        self.normalised.setCheckable(True)
        self._button(row, "copy", "Copy the chosen keys (Ctrl+C)", g.copy)
        self._button(row, "paste", "Paste them at this frame (Ctrl+V)", g.paste)
        self._button(row, "paste_offset", "Paste them at this frame, raised to the value here", lambda: g.paste(True))
        self._button(row, "frame", "Show all of every curve", g.fit)
        row.addStretch(1)
        return strip

    def _button(self, row, icon, tip, run):
        button = QToolButton(icon=theme.icon(icon), toolTip=tip, iconSize=QSize(16, 16))
        button.setProperty("flat", True)
        button.setProperty("icon", icon)
        button.setAccessibleName(tip)
        button.clicked.connect(run)
        row.addWidget(button)
        return button

    def _extend(self, row, side):
        label = QLabel("before" if side == "before" else "after")
        label.setProperty("soft", True)
        row.addWidget(label)
        combo = QComboBox()
        combo.setAccessibleName(f"What the curves do {side} their keys")
        combo.setToolTip(combo.accessibleName())
        for word, words in EXTENDS.items():
            combo.addItem(words, word)
            combo.setItemData(combo.count() - 1, EXTEND_HELP[word], Qt.ToolTipRole)
        combo.activated.connect(lambda i: self._set_extend(side, combo.itemData(i)))
        combo.setMaximumWidth(132)
        row.addWidget(combo)
        return combo

    def _set_extend(self, side, word):
        s, names = self.session, {n for n, _ in self.graph.chosen} or set(self.graph.curves())
        for name in names:
            do.set_extend(s.scene, *name, **{side: word})

    def _soft(self):
        self.graph.options.soft = self.soft.isChecked()

    def _normalise(self):
        self.graph.options.normalised = self.normalised.isChecked()
        self.graph.fit()

    def refresh(self):
        curves = self.graph.curves()
        curve = next(iter(curves.values()), None)
        for combo, word in (
            (self.before, curve.before if curve else "hold"),
            (self.after, curve.after if curve else "hold"),
        ):
            combo.setEnabled(curve is not None)
            combo.setCurrentIndex(combo.findData(word))
        self.graph.chosen = {(n, f) for n, f in self.graph.chosen if n in curves and curves[n].key_at(f)}
        self.graph.update()

    def redraw(self):
        for button in self.findChildren(QToolButton):
            button.setIcon(theme.icon(button.property("icon")))
