"""The parts of a body: which joint of a skeleton is which, proposed and corrected, before it goes limp."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QGridLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
)

from ...edits import body_parts, ragdoll
from ...kinds.registry import kind_of
from ..panels.fields import NumberField

NONE = "—"
ROWS = [(part, ("",)) for part in body_parts.ONE] + [(part, ("left", "right")) for part in body_parts.TWO]
WORDS = {"spine": "Middle spine"}


class BodyParts(QDialog):
    """A row for each part of a body, its joints on the left and on the right of it."""

    def __init__(self, window, skeleton):
        super().__init__(window)
        self.session, self.skeleton = window.session, skeleton
        self.bones = self.session.scene.values.bones(skeleton)
        self.setWindowTitle(f"The body of {skeleton.name}")
        self.boxes: dict[tuple[str, str], QComboBox] = {}
        column, grid = QVBoxLayout(self), QGridLayout()
        column.addWidget(
            _soft(
                "Which joint is which part: proposed by names and places. A part without a joint keeps its pose on "
                "what it hangs on; with none named at all, every joint that is not short is a limb."
            )
        )
        for side, words in (("left", "On its left (+X)"), ("right", "On its right")):
            grid.addWidget(_soft(words), 0, 1 if side == "left" else 2)
        for row, (part, sides) in enumerate(ROWS, 1):
            label = QLabel(WORDS.get(part, part.replace("_", " ").capitalize()))
            grid.addWidget(label, row, 0)
            for k, side in enumerate(sides):
                box = self.boxes[part, side] = self._joints(f"{label.text()} {side}".strip())
                grid.addWidget(box, row, 1 + k, 1, 2 if not side else 1)
                label.setBuddy(box)
        column.addLayout(grid)
        self.proposals = QPushButton("Propose anew")
        self.proposals.clicked.connect(lambda: self.show_parts(body_parts.proposed(self.bones)))
        column.addWidget(self.proposals, alignment=Qt.AlignLeft)
        weight = kind_of("limp").channels["weight"]
        self.weight = NumberField(weight)
        limp = next(iter(skeleton.layers_of("limp")), None)
        self.weight.show_value(limp.constant("weight") if limp is not None else weight.default)
        self.weight.setAccessibleName(weight.label)
        self.weight.refused.connect(self.session.tell)
        mass = QGridLayout()
        mass.addWidget(QLabel(weight.label), 0, 0)
        mass.addWidget(self.weight, 0, 1)
        column.addLayout(mass)
        turned = ragdoll.turned_away(skeleton)
        self.at_zero = QCheckBox(f"Put the turns of {len(turned)} joints by hand to zero (mirrored ones stay)")
        self.at_zero.setToolTip("; ".join(j.name for j in turned[:12]))
        self.at_zero.setVisible(bool(turned))
        column.addWidget(self.at_zero)
        self.report = _soft("")
        column.addWidget(self.report)
        buttons = QDialogButtonBox(QDialogButtonBox.Cancel)
        buttons.addButton("Make limp" if limp is None else "Name them so", QDialogButtonBox.AcceptRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self.setMinimumWidth(520)
        self.finished.connect(self.deleteLater)
        named = {j.id: j.constant("part") for j in skeleton.joints if j.constant("part") not in ("none", "limb")}
        self.show_parts(named or body_parts.proposed(self.bones))

    def _joints(self, name) -> QComboBox:
        box = QComboBox()
        box.setAccessibleName(name)
        box.addItem(NONE, "")
        for joint in self.bones.joints:
            box.addItem(joint.name, joint.id)
        box.currentIndexChanged.connect(self._tell)
        return box

    def show_parts(self, parts: dict[str, str]) -> None:
        slots = body_parts.by_slot(self.bones, parts)
        for slot, box in self.boxes.items():
            box.setCurrentIndex(max(box.findData(slots.get(slot, "")), 0))
        self._tell()

    def parts(self) -> dict[str, str]:
        """Joint id -> part, as they are chosen."""
        return {box.currentData(): part for (part, _), box in self.boxes.items() if box.currentData()}

    def _tell(self):
        """Say what is odd about what is chosen."""
        parts = self.parts()
        chosen = [box.currentData() for box in self.boxes.values() if box.currentData()]
        twice = sorted({self.bones.joints[self.bones.where[j]].name for j in chosen if chosen.count(j) > 1})
        lacks, wrong = body_parts.missing(parts), []
        for (part, side), box in self.boxes.items():
            if side and box.currentData() and body_parts.side_of(self.bones, box.currentData()) not in (side, ""):
                wrong.append(f"the {side} {part.replace('_', ' ')} is on the other side")
        words = [f"{', '.join(twice)} is chosen twice."] if twice else []
        words += [f"Missing: {', '.join(lacks)}."] if lacks else []
        words += [f"{'; '.join(wrong).capitalize()}."] if wrong else []
        close = ragdoll.unlike_rest(self.bones, parts)
        if close:
            words.append(
                f"{', '.join(close[:2])} rest along the body: rest it with its limbs apart "
                "(Make this the rest, Alt+Shift+H), or limbs that overlap are pushed apart."
            )
        self.report.setText(" ".join(words))

    def accept(self):
        s, parts = self.session, self.parts()

        def run():
            at_zero = self.at_zero.isChecked()
            layer = ragdoll.make_limp(s.scene, self.skeleton.id, parts, at_zero, self.weight.value)
            s.selection.select(layer.id)
            limbs = f"{len(parts)} parts of its body are told" if parts else "each of its joints is a limb"
            s.notice.emit("done", f"{self.skeleton.name} is limp: {limbs}. Solve (Ctrl+Space) to let it fall.", "")

        if s.carry_out(run):
            super().accept()


def _soft(text) -> QLabel:
    label = QLabel(text, wordWrap=True)
    label.setProperty("soft", True)
    return label
