"""The rehearsal in a window: printed files alone, played as a target would, with how far they are from the scene."""

import time
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import Qt, QTimer
from PySide6.QtGui import QImage, QPainter
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from ...errors import EstampaError
from ...kinds.channels import number, whole
from ...press import run as press
from ...press.grains import Shapes, SwarmPrint
from ...press.prints import Job
from ...press.takes import copies_of
from ...rehearsal.actor import once
from ...rehearsal.stage import RehearsalStage, Trigger
from ...units import format_length
from ..panels.fields import NumberField
from ..view.camera import Camera
from ..view.rehearsed import drawn
from ..view.render import Renderer

SPEED = number(1, "How fast; below 0 backwards.", title="Speed", unit="factor", soft=(-2, 2))
FADE = number(0.2, "How long one clip fades into the next.", title="Fade", unit="s", soft=(0, 2), hard=(0, None))
COPIES = whole(
    1, "How many play, each a little later than the one before.", title="Copies", soft=(1, 12), hard=(1, 200)
)
BEAT = 40  # ms from a picture to the next
LATER = 0.23  # s, by which each copy is later


class SeenFile(QWidget):
    """What the stage shows; a drag turns the view, the wheel goes nearer."""

    def __init__(self, stage: RehearsalStage):
        super().__init__()
        self.stage, self.now, self.camera, self._last = stage, 0.0, None, None
        self.setMinimumSize(560, 340)
        self.setAccessibleName("What is rehearsed")
        try:
            self.renderer = Renderer()
        except RuntimeError:
            self.renderer = None

    def paintEvent(self, event):
        painter = QPainter(self)
        if self.renderer is None:
            painter.drawText(self.rect(), Qt.AlignCenter, "OpenGL could not be started.")
            return
        size = self.width(), self.height()
        if self.camera is None:
            every = [s.in_world() for s in self.stage.shown(self.now)]
            every = np.concatenate([p for p in every if len(p)] or [np.zeros((1, 3))])
            self.camera = Camera().framing(every, size[0] / size[1], 0.7)
        pixels = self.renderer.picture(drawn(self.stage, self.now), self.camera, *size, fine=False)
        painter.drawImage(0, 0, QImage(pixels, *size, QImage.Format_RGBA8888).mirrored(False, True))

    def mousePressEvent(self, event):
        self._last = event.position()

    def mouseMoveEvent(self, event):
        if self._last is not None and self.camera is not None:
            gone, self._last = event.position() - self._last, event.position()
            self.camera = self.camera.orbited(gone.x(), gone.y())
            self.update()

    def wheelEvent(self, event):
        if self.camera is not None:
            self.camera = self.camera.zoomed(event.angleDelta().y() / 120)
            self.update()


class Rehearsal(QDialog):
    """Plays a print's files. item -- the print that they are of, to hold them against the scene; or None."""

    def __init__(self, window, paths: list[Path], item=None):
        super().__init__(window)
        self.session, self.item = window.session, item
        self.stage = RehearsalStage.of(paths)
        self.setWindowTitle(f"Rehearsal of {', '.join(p.name for p in paths)}")
        column = QVBoxLayout(self)
        self.seen = SeenFile(self.stage)
        column.addWidget(self.seen, 1)
        row = QHBoxLayout()
        self.play = QPushButton("Play", checkable=True)
        self.play.toggled.connect(self._toggled)
        row.addWidget(self.play)
        self.clip = QComboBox()
        self.clip.setAccessibleName("Clip")
        for clip in self.actor.clips:
            self.clip.addItem(f"{clip.name}, {clip.seconds:.2f} s", clip.name)
        self.clip.currentIndexChanged.connect(self._choose)
        row.addWidget(self.clip, 1)
        self.loop = QCheckBox("Goes round")
        self.loop.setChecked(True)
        self.loop.toggled.connect(self._choose)
        row.addWidget(self.loop)
        self.fields = {}
        for name, channel in (("speed", SPEED), ("fade", FADE), ("copies", COPIES)):
            field = self.fields[name] = NumberField(channel)
            field.show_value(channel.default)
            field.setToolTip(channel.help)
            field.setAccessibleName(channel.label)
            field.changed.connect(self._choose)
            row.addWidget(QLabel(channel.label))
            row.addWidget(field)
        column.addLayout(row)
        self.report = QLabel(wordWrap=True)
        self.gap = QLabel(wordWrap=True)
        hint = QLabel("A letter key plays the clip once, and backwards when it is pressed again.", wordWrap=True)
        hint.setProperty("soft", True)
        for label in (self.report, self.gap, hint):
            column.addWidget(label)
        buttons = QDialogButtonBox(QDialogButtonBox.Close)
        buttons.rejected.connect(self.reject)
        column.addWidget(buttons)
        self._timer = QTimer(self, interval=BEAT, timeout=self._tick)
        self._begun = 0.0
        self.finished.connect(self._timer.stop)
        self.finished.connect(self.deleteLater)
        self.report.setText("\n".join(self.stage.words()))
        self._choose()
        self._show_gap()
        self.resize(760, 620)

    @property
    def actor(self):
        return self.stage.parts[0].actor

    def _choose(self, *_):
        """Play the chosen clip, faded over from the one before, by as many copies as are wanted."""
        clip = next(c for c in self.actor.clips if c.name == self.clip.currentData())
        speed, fade = float(self.fields["speed"].value), float(self.fields["fade"].value)
        before = self.stage.parts[0]
        changed = before.clip is not clip
        first = before.play(clip, self.seen.now, fade if changed else 0.0, speed, self.loop.isChecked())
        if not changed:
            first = replace(first, at=before.own(self.seen.now))
        many = int(self.fields["copies"].value)
        later = [replace(first, at=first.at - LATER * k) for k in range(1, many)]
        self.stage.parts = [first, *later]
        self.seen.update()

    def _toggled(self, on):
        self.play.setText("Pause" if on else "Play")
        self._begun = time.monotonic() - self.seen.now
        (self._timer.start if on else self._timer.stop)()
        if not on:
            self._show_gap()

    def _tick(self):
        self.seen.now = time.monotonic() - self._begun
        self.seen.update()

    def keyPressEvent(self, event):
        key = event.text().lower()
        if key.isalpha() and len(key) == 1:
            self.stage.triggers.setdefault(key, Trigger(0, self.clip.currentData(), float(self.fields["fade"].value)))
            self.stage.press(key, self.seen.now)
            if not self.play.isChecked():
                self.play.setChecked(True)
            return
        super().keyPressEvent(event)

    def _show_gap(self):
        """How far what the file plays now is from the scene at that frame."""
        if self.item is None:
            self.gap.setText("")
            return
        try:
            frame, apart = gap_of(self.session, self.item, self.stage.parts[0], self.seen.now)
            words = "its points are parted otherwise than the scene's" if apart is None else format_length(apart)
            self.gap.setText(f"Largest difference to the scene at frame {frame}: {words}.")
        except EstampaError as err:
            self.gap.setText(str(err))


def gap_of(session, item, part, now: float) -> tuple[int, float | None]:
    """(the frame, m: the largest distance between what a file plays and the scene there); None where the two cannot be
    held against each other point by point. Raises EstampaError where the scene is not solved."""
    doc, evaluator = session.doc, session.work.evaluator("window")
    frames = item.declared().frames(press.frames_of(doc, item), press.values_of(doc, item))
    k = int(np.clip(np.floor(part.own(now) / part.actor.step + 1e-6), 0, len(frames) - 1))
    job = Job(item, press.printed(doc, item), None, frames, doc.frame_rate, evaluator, press.values_of(doc, item))
    job.copies = copies_of(doc, item)
    shown = once(part.actor.shown(part.clip, k * part.actor.step))
    if issubclass(item.declared, SwarmPrint) and all(s.ids is not None for s in shown):
        wanted = item.declared().instances(job, frames[k], Shapes())
        ids = np.concatenate([s.ids for s in shown] or [np.zeros(0, np.int64)])
        place = np.concatenate(
            [s.points if s.stand is None else s.stand[:, :3, 3] for s in shown] or [np.zeros((0, 3))]
        )
        order = np.argsort(ids)
        if not np.array_equal(ids[order], wanted.ids):
            return frames[k], None
        return frames[k], float(np.linalg.norm(place[order] - wanted.place, axis=1).max(initial=0.0))
    wanted, found = job.points(frames[k]), np.concatenate([s.in_world() for s in shown])
    if len(found) < len(wanted):
        return frames[k], None
    return frames[k], float(np.linalg.norm(found[: len(wanted)] - wanted, axis=1).max(initial=0.0))
