"""Joints by hand: strands clicked into a mesh, and chains between two points."""

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QPen

from ....edits import joints as build
from ....scene.values import Rows
from .. import marks
from .tool import Banded, Tool


class Joints(Tool):
    """Begins a strand, or goes on with it: the first click sets its root, each next one the end of a joint."""

    hint = "click into the mesh: a joint sits in the middle of what is under the pointer"

    def __init__(self, pane):
        super().__init__(pane)
        self._root: np.ndarray | None = None  # where a strand begins that has no joint yet

    def release(self, at, modifiers=Qt.NoModifier):
        if self.is_click(at):
            self._click(*at)
        super().release(at)

    def put_away(self):
        self._root = None

    def _click(self, x, y):
        s = self.session
        found = self.pane.joint_under(x, y)
        if found is not None and self._root is None:
            s.selection.select(found)
            return
        point = self.pane.middle_under(x, y)
        if self._root is None and not s.selection.joints:
            self._root = point
            s.notice.emit("note", "The root is set. Click where the joint ends; go on clicking to extend it.", "")
            self.pane.update()
            return
        s.carry_out(lambda: self._extend(point))

    def _extend(self, point):
        s, skeleton = self.session, self.session.selection.skeleton
        if self._root is not None:
            line = np.stack([self._root, point])
            if skeleton is None:
                made = build.add_skeleton(s.scene, [line]).joints
            else:
                made = build.extend(s.scene, None, skeleton.id, line)
        else:
            joint = s.selection.joints[0]
            bones = s.scene.values.bones(skeleton)
            where = bones.where[joint.id]
            at = s.scene.values.place(skeleton, Rows.one(s.doc.start)).matrices[0] @ bones.at_rest[where]
            end = (at @ [*bones.tips[where], 1.0])[:3]
            made = build.extend(s.scene, joint.id, skeleton.id, np.stack([end, point]))
        self._root = None
        s.selection.select(made[-1].id)

    def draw(self, painter):
        if self._root is not None:
            marks.dot(painter, self.pane.view(), self._root, 5, marks.AMBER)


class ChainTool(Banded):
    """A drag from where a chain of joints begins to where it ends."""

    hint = "drag from where the chain begins to where it ends"

    def press(self, at, modifiers=Qt.NoModifier):
        super().press(at)
        self._from = self.pane.middle_under(*at)

    def dragged(self, start, end, modifiers):
        self.pane.chain_dragged.emit(self._from, self.pane.middle_under(*end))

    def draw_band(self, painter, a, b):
        for colour, wide in ((marks.DARK, 5), (marks.AMBER, 2.5)):
            painter.setPen(QPen(colour, wide, Qt.SolidLine, Qt.RoundCap))
            painter.drawLine(a, b)
        for p in (a, b):
            painter.setBrush(marks.PAPER)
            painter.drawEllipse(p, 5, 5)
