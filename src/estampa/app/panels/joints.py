"""The joints panel: build a skeleton, bind a mesh to it and paint its weights, bake it to keys, keep clips."""

import numpy as np
from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QScrollArea,
    QSlider,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from ...edits import clips
from ...edits import joints as build
from ...kinds.channels import number, whole
from ..session import Session
from ..shell import theme
from .fields import NumberField

HOWS = {"add": "Add", "take": "Take away", "set": "Set", "smooth": "Smooth"}
BUILD = (
    *("tool_joint", "joint_chain", "joint_path", "joint_beads"),
    *("joint_subdivide", "joint_mirror", "joint_rename", "joint_rest"),
)
ACROSS = {"": "One side", "x": "Mirror across X", "y": "Mirror across Y", "z": "Mirror across Z"}
RADIUS = number(0.15, "How far the brush reaches.", title="Radius", unit="m", soft=(0.01, 1), hard=(1e-4, None))
STRENGTH = number(0.5, "How much a dab does.", title="Strength", unit="fraction", soft=(0, 1), hard=(0, 1))
SPEED = number(1, "Speed; negative plays it backwards.", title="Speed", unit="factor", soft=(-2, 2))
BIND = ("bind_skin", "bind_cage", "tool_paint", "rest_here")
BAKE = ("bake_keys", "back_to_live", "in_place", "clip_new")


class JointsPanel(QScrollArea):
    def __init__(self, session: Session, actions: dict):
        super().__init__(widgetResizable=True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarAlwaysOff)
        self.session, self.actions, self._filling = session, actions, False
        body = QWidget()
        self.setWidget(body)
        layout = QVBoxLayout(body)
        layout.setContentsMargins(10, 6, 8, 8)
        layout.setSpacing(4)
        self.title = QLabel(wordWrap=True)
        self.title.setProperty("title", True)
        layout.addWidget(self.title)
        self.hint = QLabel(wordWrap=True)
        self.hint.setProperty("soft", True)
        layout.addWidget(self.hint)
        layout.addLayout(self._buttons(BUILD))
        layout.addWidget(self._head("Skin"))
        layout.addLayout(self._buttons(BIND))
        self._brush(layout)
        layout.addWidget(self._head("Keys and clips"))
        layout.addLayout(self._buttons(BAKE))
        self.live = QLabel(wordWrap=True)
        self.live.setProperty("soft", True)
        layout.addWidget(self.live)
        self._clips(layout)
        layout.addStretch(1)
        for signal in (session.selection.selected, session.replaced, session.view.view_changed):
            signal.connect(self.refresh)
        session.doc_changed.connect(lambda *_: self.refresh())
        self.refresh()

    @staticmethod
    def _head(text):
        label = QLabel(text)
        label.setFont(theme.type_face(10, bold=True))
        label.setContentsMargins(0, 6, 0, 0)
        return label

    def _buttons(self, names):
        grid = QGridLayout()
        grid.setSpacing(4)
        for i, name in enumerate(names):
            button = QToolButton(toolButtonStyle=Qt.ToolButtonTextBesideIcon, iconSize=QSize(14, 14))
            button.setDefaultAction(self.actions[name])
            button.setSizePolicy(button.sizePolicy().Policy.Expanding, button.sizePolicy().Policy.Fixed)
            grid.addWidget(button, i // 2, i % 2)
        return grid

    # -- painting --------------------------------------------------------------------------------------------
    def _brush(self, layout):
        s = self.session
        grid = QGridLayout()
        self.how = QComboBox()
        for value, words in HOWS.items():
            self.how.addItem(words, value)
        self.how.setToolTip("What the brush does to the weights of the selected joint")
        self.how.setAccessibleName("Brush")
        self.how.activated.connect(lambda _: self._set_brush(how=self.how.currentData()))
        self.radius, self.strength = NumberField(RADIUS), NumberField(STRENGTH)
        self.radius.changed.connect(lambda v: self._set_brush(radius=v))
        self.strength.changed.connect(lambda v: self._set_brush(strength=v))
        self.through = QCheckBox("Right through")
        self.through.setToolTip("Paint what lies behind too, so that both sides of a leaf get it")
        self.through.clicked.connect(lambda on: self._set_brush(through=bool(on)))
        self.mirror = QComboBox()
        for value, words in ACROSS.items():
            self.mirror.addItem(words, value)
        self.mirror.setAccessibleName("Mirror the brush")
        self.mirror.setToolTip("Paint the joint across too, in the subject's own space")
        self.mirror.activated.connect(lambda _: self._set_brush(mirror=self.mirror.currentData()))
        for row, (a, b) in enumerate(
            ((self.how, self.mirror), (self._named("Radius", self.radius), self._named("Strength", self.strength)))
        ):
            grid.addWidget(a, row, 0)
            grid.addWidget(b, row, 1)
        grid.addWidget(self.through, 2, 0)
        layout.addLayout(grid)
        row = QHBoxLayout()
        row.addWidget(QLabel("Test pose"))
        self.test = QSlider(Qt.Horizontal, minimum=-100, maximum=100)
        self.test.setToolTip("Bend the selected joint for a look at its weights; let go, and it is as it was")
        self.test.setAccessibleName("Test pose")
        self.test.valueChanged.connect(self._bend)
        self.test.sliderReleased.connect(lambda: self.test.setValue(0))
        row.addWidget(self.test, 1)
        layout.addLayout(row)
        self.joints = QListWidget()
        self.joints.setAccessibleName("Joints of the skin")
        self.joints.setToolTip("A tick locks a joint's weights against the brush")
        self.joints.setMinimumHeight(84)
        self.joints.setMaximumHeight(150)
        self.joints.itemClicked.connect(lambda item: s.selection.select(item.data(Qt.UserRole)))
        self.joints.itemChanged.connect(self._lock)
        layout.addWidget(self.joints)

    @staticmethod
    def _named(text, field):
        holder = QWidget()
        row = QHBoxLayout(holder)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(QLabel(text))
        row.addWidget(field, 1)
        return holder

    def _set_brush(self, **changes):
        for name, value in changes.items():
            setattr(self.session.view.brush, name, value)
        self.session.view.view_changed.emit()

    def _bend(self, value):
        self.session.view.test_turn = float(np.radians(value * 0.9))
        self.session.pictures.look()

    def _lock(self, item):
        layer = self.session.selection.skin
        if not self._filling and layer is not None:
            on = item.checkState() == Qt.Checked
            build.set_joint_locked(self.session.scene, layer.id, item.data(Qt.UserRole), on)

    # -- clips -----------------------------------------------------------------------------------------------
    def _clips(self, layout):
        self.clips = QListWidget()
        self.clips.setAccessibleName("Clips")
        self.clips.setMinimumHeight(62)
        self.clips.setMaximumHeight(130)
        self.clips.itemDoubleClicked.connect(lambda item: self.play_clip())
        self.clips.currentRowChanged.connect(lambda _: self._show_clip())
        layout.addWidget(self.clips)
        row = QHBoxLayout()
        frames = lambda title: NumberField(whole(1, title, title=title, unit="frames", soft=(0, 0)))
        self.first, self.last = frames("First frame of the clip"), frames("Last frame of the clip")
        self.speed = NumberField(SPEED)
        self.loops = QCheckBox("Loops")
        self.first.changed.connect(lambda v: self._change_clip(first=int(v)))
        self.last.changed.connect(lambda v: self._change_clip(last=int(v)))
        self.speed.changed.connect(lambda v: self._change_clip(speed=float(v)))
        self.loops.clicked.connect(lambda on: self._change_clip(loops=bool(on)))
        for words, field in (("From", self.first), ("to", self.last), ("at", self.speed)):
            row.addWidget(QLabel(words))
            row.addWidget(field, 1)
        row.addWidget(self.loops)
        layout.addLayout(row)
        row = QHBoxLayout()
        self.clip_buttons = []
        for name in ("clip_play", "clip_reverse", "clip_remove"):
            button = QPushButton(self.actions[name].text())
            button.setToolTip(self.actions[name].toolTip())
            button.clicked.connect(self.actions[name].trigger)
            self.clip_buttons.append(button)
            row.addWidget(button)
        layout.addLayout(row)

    @property
    def owner(self):
        """What the clips are of: the skeleton, or a subject with morphs."""
        s = self.session
        return s.selection.skeleton if s.selection.skeleton is not None else s.selection.subject

    def chosen_clip(self):
        owner, row = self.owner, self.clips.currentRow()
        return owner.clips[row] if owner is not None and 0 <= row < len(owner.clips) else None

    def _change_clip(self, **changes):
        s, clip = self.session, self.chosen_clip()
        if clip is not None and not self._filling:
            s.carry_out(lambda: clips.set_clip(s.scene, self.owner.id, clip.id, **changes))

    def _show_clip(self):
        clip = self.chosen_clip()
        for field in (self.first, self.last, self.speed, self.loops, *self.clip_buttons):
            field.setEnabled(clip is not None)
        if clip is not None:
            self.first.show_value(clip.first)
            self.last.show_value(clip.last)
            self.speed.show_value(clip.speed)
            self.loops.setChecked(clip.loops)

    def play_clip(self):
        clip = self.chosen_clip()
        if clip is not None:
            clips.use_clip(self.session.scene, self.owner.id, clip.id)

    def reverse_clip(self):
        clip = self.chosen_clip()
        if clip is not None:
            clips.reverse_clip(self.session.scene, self.owner.id, clip.id)

    def remove_clip(self):
        clip = self.chosen_clip()
        if clip is not None:
            clips.remove_clip(self.session.scene, self.owner.id, clip.id)

    # -- what is shown -----------------------------------------------------------------------------------------
    def refresh(self):
        s, skeleton, layer = self.session, self.session.selection.skeleton, self.session.selection.skin
        self._filling = True
        if skeleton is None:
            self.title.setText("No skeleton is selected" if s.doc.skeletons else "No skeleton yet")
            self.hint.setText(
                "Take the Joint tool (J) and click into a mesh: each joint sits in the middle of the volume under the "
                "pointer. Or make a chain between two points, along a path, or from a mesh of beads."
            )
        else:
            joint = s.selection.joints[0] if s.selection.joints else None
            self.title.setText(f"{skeleton.name}: {len(skeleton.joints):,} joints")
            more = f" and {len(s.selection.joints) - 1} more" if len(s.selection.joints) > 1 else ""
            self.hint.setText(
                f"{joint.name}{more} selected. The next click of the Joint tool extends it."
                if joint
                else "Select a joint to extend, turn or paint it."
            )
        self._fill_joints(layer)
        self.how.setCurrentIndex(self.how.findData(s.view.brush.how))
        self.mirror.setCurrentIndex(self.mirror.findData(s.view.brush.mirror))
        self.radius.show_value(s.view.brush.radius)
        self.strength.show_value(s.view.brush.strength)
        self.through.setChecked(s.view.brush.through)
        self.test.setEnabled(bool(s.selection.joints))
        self._fill_clips()
        self._filling = False

    def _fill_joints(self, layer):
        s = self.session
        chosen = {j.id for j in s.selection.joints}
        ids = layer.bind.joints if layer is not None else ()
        self.joints.clear()
        for joint_id in ids[:2000]:
            joint = s.doc.find(joint_id)
            item = QListWidgetItem(joint.name if joint is not None else "a joint that is gone")
            item.setData(Qt.UserRole, joint_id)
            item.setFlags(item.flags() | Qt.ItemIsUserCheckable)
            item.setCheckState(Qt.Checked if joint_id in layer.bind.locked else Qt.Unchecked)
            self.joints.addItem(item)
            if joint_id in chosen:
                self.joints.setCurrentItem(item)
        if not ids:
            item = QListWidgetItem("No skin yet: select a mesh and bind it.")
            item.setFlags(Qt.NoItemFlags)
            self.joints.addItem(item)

    def _fill_clips(self):
        owner, row = self.owner, max(self.clips.currentRow(), 0)
        self.clips.clear()
        for clip in owner.clips if owner is not None else ():
            played = " · played" if clip.values is None else ""
            item = QListWidgetItem(
                theme.icon("play" if clip.values is None else "movie"),
                f"{clip.name} · {clip.first} to {clip.last}{' · loops' if clip.loops else ''}{played}",
            )
            self.clips.addItem(item)
        if owner is None or not owner.clips:
            item = QListWidgetItem("No clips yet: bake to keys, or keep the keys there are as one.")
            item.setFlags(Qt.NoItemFlags)
            self.clips.addItem(item)
        else:
            self.clips.setCurrentRow(min(row, len(owner.clips) - 1))
        self._show_clip()
        live = len(owner.live) if owner is not None else 0
        self.live.setText(
            f"{live} layer(s) are baked to keys and switched off. “Back to live” takes that back."
            if live
            else "Joints can be baked to keys, which anyone can edit by hand. A cage cannot: it moves vertices."
        )
