"""Preview movies: a pane's picture over a range of frames, as H.264 or as PNG pictures."""

import errno
import subprocess
import tempfile
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from PySide6.QtCore import QBuffer, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPushButton,
)

from ...disk import sweep, write_whole
from ...errors import Cancelled, EstampaError, disk_trouble
from ...evaluate.evaluator import Evaluator
from ...kinds.channels import whole
from ..model.grains import looker
from ..model.looks import look
from ..model.tasks import Task
from ..panels.fields import NumberField
from ..shell import theme
from ..shell.files import unless_there, with_ending
from .render import Renderer

SIZES = {
    "1280 × 720": (1280, 720),
    "1920 × 1080": (1920, 1080),
    "1080 × 1920, upright": (1080, 1920),
    "1080 × 1080, square": (1080, 1080),
    "640 × 360": (640, 360),
}


EVERY = 10_000_000  # grains of a swarm in a movie
MOST_TRIANGLES = 8_000_000  # of grains in a picture of a movie


@dataclass(frozen=True)
class Order:
    """A movie that is asked for."""

    path: Path
    size: tuple[int, int]
    frames: list[int]
    stamp: bool
    pictures: bool  # PNG pictures instead of a movie


def film(order: Order, viewport, evaluator: Evaluator, progress, cancelled) -> list[Path]:
    """Draw every frame and write it. Runs beside the window; raises EstampaError or Cancelled.

    A movie is written whole or not at all; of pictures, those that are done stay.
    """
    doc, width, height = evaluator.doc, *order.size
    evaluator.solve_through(max(order.frames), lambda share, text: progress(0.4 * share, text), cancelled)
    renderer, swarms = Renderer(), looker(EVERY, viewport.look.grain_trails)
    renderer.grains.budget = MOST_TRIANGLES
    shots = viewport.shooter(evaluator)

    def images():
        for i, frame in enumerate(order.frames):
            if cancelled():
                raise Cancelled
            data = shots(renderer, look(evaluator, frame, swarms=swarms), frame, width, height)
            image = QImage(data, width, height, width * 4, QImage.Format_RGBX8888).flipped(Qt.Vertical)
            if order.stamp:
                _stamp(image, frame, doc)
            yield frame, image
            progress(0.4 + 0.6 * (i + 1) / len(order.frames), f"Drawing frame {frame}")

    try:
        order.path.parent.mkdir(parents=True, exist_ok=True)
        sweep(order.path.parent)
        if order.pictures:
            written = []
            for frame, image in images():
                path = picture_path(order.path, frame)
                data = _png(image)
                write_whole(path, lambda part, data=data: part.write_bytes(data))
                written.append(path)
            return written
        write_whole(order.path, lambda part: _encode(part, images(), width, height, doc.frame_rate, len(order.frames)))
        return [order.path]
    except OSError as err:
        raise disk_trouble(f"The movie in {order.path.parent}", err, "Earlier files are untouched.") from err


def picture_path(path: Path, frame: int) -> Path:
    """Of one picture of a numbered sequence."""
    return path.with_name(f"{path.stem}_{frame:04d}.png")


def _png(image: QImage) -> bytes:
    """Encoded in memory, so that a disk that refuses is told by the system and not by an empty file."""
    buffer = QBuffer()
    buffer.open(QBuffer.WriteOnly)
    if not image.save(buffer, "PNG"):
        raise EstampaError("A picture", "could not be encoded.", "Take a smaller size.")
    return bytes(buffer.data())


def _encode(path: Path, images, width, height, rate, count):
    """Raises OSError with what the disk said, or EstampaError with the encoder's words, when not all was written."""
    import imageio_ffmpeg

    command = [imageio_ffmpeg.get_ffmpeg_exe(), "-y", "-v", "error", "-f", "rawvideo", "-pix_fmt", "rgba"]
    command += ["-s", f"{width}x{height}", "-r", f"{rate:g}", "-i", "-", "-an", "-vcodec", "libx264"]
    command += ["-pix_fmt", "yuv420p", "-crf", "18", "-f", "mp4", str(path)]
    with tempfile.TemporaryFile() as words:
        encoder = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=words)
        try:
            for _, image in images:
                rgba = image.convertToFormat(QImage.Format_RGBA8888)
                encoder.stdin.write(np.frombuffer(rgba.constBits(), np.uint8, width * height * 4))
            encoder.stdin.close()
            code = encoder.wait()
        except BrokenPipeError:
            code = encoder.wait() or 1
        except BaseException:
            encoder.kill()
            encoder.wait()
            raise
        words.seek(0)
        said = words.read().decode(errors="replace").strip()
    if "No space left" in said:
        raise OSError(errno.ENOSPC, "No space left on device")
    if code != 0 or not path.stat().st_size:
        raise EstampaError(
            "The movie", "was not finished by its encoder.", "Earlier files are untouched. Take PNG pictures.", said
        )
    held = imageio_ffmpeg.count_frames_and_secs(str(path))[0]
    if held != count:
        cure = "Earlier files are untouched. Film it again."
        raise EstampaError("The movie", f"holds {held} of {count} frames.", cure)


def _stamp(image: QImage, frame: int, doc) -> None:
    painter = QPainter(image)
    painter.setFont(theme.type_face(max(9.0, image.height() / 60)))
    text = f"{doc.name} · frame {frame} · {(frame - doc.start) / doc.frame_rate:.2f} s · {doc.frame_rate:g} fps"
    metrics = painter.fontMetrics()
    box = QRectF(0, 0, metrics.horizontalAdvance(text) + 20, metrics.height() + 8)
    box.moveBottomRight(image.rect().bottomRight() - (image.rect().topLeft() * 0))
    painter.fillRect(box, QColor(42, 36, 32, 170))
    painter.setPen(QColor("#fffaf0"))
    painter.drawText(box, Qt.AlignCenter, text)
    painter.end()


class MovieDialog(QDialog):
    """Asks for the size, range and file of a preview movie."""

    def __init__(self, window, viewport):
        super().__init__(window)
        self.window_, self.viewport, self.session = window, viewport, window.session
        self.setWindowTitle("Preview movie of this pane")
        doc = self.session.doc
        grid = QGridLayout(self)
        self.kind = QComboBox()
        self.kind.addItems(["Movie (H.264, .mp4)", "Pictures (PNG)"])
        self.size = QComboBox()
        self.size.addItems([*SIZES, "Another size"])
        self.size.currentTextChanged.connect(self._sized)
        self.wide, self.tall = (self._whole(t, v) for t, v in (("Width", 1280), ("Height", 720)))
        self.first, self.last = self._whole("First frame", doc.start), self._whole("Last frame", doc.end)
        self.stamp = QCheckBox("Frame stamp")
        self.stamp.setToolTip("Write the frame number and time into the corner of each picture")
        self.loop = QCheckBox("The loop range")
        self.loop.setEnabled(doc.loop is not None)
        self.loop.setToolTip("Without the last frame, which equals the first")
        self.loop.clicked.connect(self._looped)
        home = str(Path.home())
        self.path = QLineEdit(str(window.press.folder / f"{doc.name}.mp4").replace(home, "~", 1))
        choose = QPushButton("Choose…")
        choose.clicked.connect(self._choose)
        sizes, frames, file = QHBoxLayout(), QHBoxLayout(), QHBoxLayout()
        for widget in (self.size, self.wide, QLabel("×"), self.tall):
            sizes.addWidget(widget)
        for widget in (self.first, QLabel("to"), self.last, self.loop):
            frames.addWidget(widget)
        frames.addStretch(1)
        for widget in (self.path, choose):
            file.addWidget(widget)
        rows = (("Kind", self.kind), ("Size", sizes), ("Frames", frames), ("", self.stamp), ("File", file))
        for i, (name, field) in enumerate(rows):
            grid.addWidget(QLabel(name), i, 0)
            (grid.addLayout if isinstance(field, QHBoxLayout) else grid.addWidget)(field, i, 1)
        buttons = QDialogButtonBox(QDialogButtonBox.Ok | QDialogButtonBox.Cancel)
        buttons.button(QDialogButtonBox.Ok).setText("Film it")
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        grid.addWidget(buttons, len(rows), 0, 1, 2)
        self._agreed: Path | None = None
        self.resize(470, 210)
        self._sized(self.size.currentText())

    @staticmethod
    def _whole(title, value):
        unit = "frames" if "frame" in title else ""
        field = NumberField(whole(value, title, title=title, unit=unit, soft=(0, 0)))
        field.show_value(value)
        field.setFixedWidth(72)
        return field

    def _sized(self, words):
        known = SIZES.get(words)
        for field, i in ((self.wide, 0), (self.tall, 1)):
            field.setEnabled(known is None)
            if known:
                field.show_value(known[i])

    def _looped(self, on):
        first, last = self.session.doc.loop_range
        if on:
            self.first.show_value(first)
            self.last.show_value(last - 1)

    def _choose(self):
        path, _ = QFileDialog.getSaveFileName(self, "Save the movie", self.path.text())
        if path:
            self.path.setText(path)
            self._agreed = Path(path)  # the dialog asked already whether it may be replaced

    def order(self) -> Order:
        """Raises EstampaError when what is asked for cannot be filmed."""
        size = int(self.wide.value) // 2 * 2, int(self.tall.value) // 2 * 2
        first, last = int(self.first.value), int(self.last.value)
        if not (16 <= size[0] <= 8192 and 16 <= size[1] <= 8192):
            raise EstampaError("The movie", f"cannot be {size[0]} × {size[1]} pixels.", "Give 16 to 8192 a side.")
        if last < first:
            raise EstampaError("The movie", f"would end at frame {last}, before its start at {first}.", "Swap them.")
        pictures = self.kind.currentIndex() == 1
        path = Path(self.path.text()).expanduser()
        other, ending = (".mp4", ".png") if pictures else (".png", ".mp4")
        path = path.with_suffix("") if path.suffix.lower() == other else path  # the kind was changed after the name
        path = with_ending(path, ending)
        return Order(path, size, list(range(first, last + 1)), self.stamp.isChecked(), pictures)

    def accept(self):
        try:
            order = self.order()
        except EstampaError as err:
            self.session.tell(err)
            return
        first = picture_path(order.path, order.frames[0]) if order.pictures else order.path
        unless_there(self.window_, None if first == self._agreed else first, lambda: self._film(order))

    def _film(self, order: Order):
        super().accept()
        s, viewport = self.session, self.viewport
        evaluator = Evaluator(s.doc, s.scene, s.store)

        def then(written):
            size = sum(p.stat().st_size for p in written)
            words = f"{written[0].name}" if len(written) == 1 else f"{len(written)} pictures"
            s.notice.emit(
                "done", f"Filmed {words}, {len(order.frames)} frames, {size / 1e6:.2f} MB", str(written[0].parent)
            )

        work = lambda progress, cancelled: film(order, viewport, evaluator, progress, cancelled)
        s.work.jobs.add(Task("Preview movie", work, then))
