"""Films: a pane over a range of frames, as a movie or as numbered pictures, on its ground or over nothing."""

import errno
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QBuffer, QRectF, Qt
from PySide6.QtGui import QColor, QImage, QPainter

from ...disk import sweep, write_whole
from ...errors import Cancelled, EstampaError, disk_trouble
from ...evaluate.evaluator import Evaluator
from ...formats import exr
from ...light import in_linear
from ..model.grains import looker
from ..model.looks import look
from ..shell import theme
from .passes import NOTHING
from .render import Renderer

EVERY = 10_000_000  # grains of a swarm in a movie
MOST_TRIANGLES = 8_000_000  # of grains in a picture of a movie
# by the ending of the file: words, and what alpha can be in it: "" has none, the pane's own ground is behind all
FORMS = {
    ".mp4": ("Movie (H.264, .mp4)", ("",)),
    ".mov": ("Movie with alpha (ProRes 4444, .mov)", ("straight", "premultiplied")),
    ".png": ("Pictures (PNG)", ("", "straight", "premultiplied")),
    ".exr": ("Pictures (OpenEXR, linear light)", ("premultiplied", "straight")),
}
ALPHAS = {
    "": "What the pane shows",
    "straight": "Nothing: straight alpha",
    "premultiplied": "Nothing: premultiplied alpha",
}
_ENCODERS = {
    ".mp4": ("libx264", "yuv420p", "-crf", "18", "-f", "mp4"),
    ".mov": ("prores_ks", "yuva444p10le", "-profile:v", "4444", "-alpha_bits", "16", "-f", "mov"),
}


@dataclass(frozen=True)
class Order:
    """A film that is asked for; what it is says the ending of its path, a key of FORMS.

    alpha -- what is behind it, a key of ALPHAS; mattes -- a picture, or in OpenEXR a channel, for each thing;
    measured -- depth and motion too, in OpenEXR
    """

    path: Path
    size: tuple[int, int]
    frames: list[int]
    stamp: bool = False
    alpha: str = ""
    mattes: bool = False
    measured: bool = False

    @property
    def form(self) -> str:
        return self.path.suffix.lower()

    @property
    def is_pictures(self) -> bool:
        return self.form in (".png", ".exr")

    def check(self) -> None:
        """Raises EstampaError when it cannot be filmed."""
        width, height = self.size
        if self.form not in FORMS:
            raise EstampaError(self.path.name, f"ends in none of {', '.join(FORMS)}.", "Name it so.")
        if not (16 <= width <= 8192 and 16 <= height <= 8192):
            raise EstampaError("The movie", f"cannot be {width} × {height} pixels.", "Give 16 to 8192 a side.")
        if not self.frames:
            raise EstampaError("The movie", "would have no frames.", "Give a last frame that is not before the first.")
        if self.alpha not in FORMS[self.form][1]:
            words = f"“{self.form}” is no place for {self.alpha or 'no'} alpha."
            raise EstampaError(self.path.name, words, f"Take {' or '.join(w or 'none' for w in FORMS[self.form][1])}.")
        if self.mattes and not (self.is_pictures and self.alpha):
            raise EstampaError(self.path.name, "holds no mattes.", "Take pictures over nothing, PNG or OpenEXR.")
        if self.measured and self.form != ".exr":
            raise EstampaError(self.path.name, "holds neither depth nor motion.", "Take OpenEXR.")


@dataclass
class Shot:
    """A frame that is drawn: a picture on its ground, or (h, w, 4) float32 premultiplied over nothing."""

    frame: int
    image: Any = None  # QImage
    element: Any = None
    depth: np.ndarray | None = None
    motion: np.ndarray | None = None
    mattes: dict[str, np.ndarray] = field(default_factory=dict)


def film(order: Order, viewport, evaluator: Evaluator, progress, cancelled) -> list[Path]:
    """Draw every frame and write it. Runs beside the window; raises EstampaError or Cancelled.

    A movie is written whole or not at all; of pictures, those that are done stay.
    """
    order.check()
    last = max(order.frames)
    last = min(last + 1, max(evaluator.doc.end, last)) if order.measured else last  # motion looks a frame ahead
    evaluator.solve_through(last, lambda share, text: progress(0.4 * share, text), cancelled)
    shots = _shots(order, viewport, evaluator, progress, cancelled)
    try:
        order.path.parent.mkdir(parents=True, exist_ok=True)
        sweep(order.path.parent)
        if order.is_pictures:
            return [path for shot in shots for path in _write_pictures(order, shot)]
        rate = evaluator.doc.frame_rate
        write_whole(order.path, lambda part: _encode(part, order, (_pixels(order, s) for s in shots), rate))
        return [order.path]
    except OSError as err:
        raise disk_trouble(f"The movie in {order.path.parent}", err, "Earlier files are untouched.") from err


def _shots(order: Order, viewport, evaluator: Evaluator, progress, cancelled) -> Iterator[Shot]:
    doc, width, height = evaluator.doc, *order.size
    renderer, swarms = Renderer(), looker(EVERY, viewport.look.grain_trails)
    renderer.grains.budget = MOST_TRIANGLES
    shooter = viewport.shooter(evaluator)
    seen = lambda frame: look(evaluator, frame, swarms=swarms)
    for i, frame in enumerate(order.frames):
        if cancelled():
            raise Cancelled
        picture, shot = seen(frame), Shot(frame)
        if order.alpha:
            shot.element = shooter.element(renderer, picture, frame, width, height)
        else:
            data = shooter.picture(renderer, picture, frame, width, height)
            shot.image = QImage(data, width, height, width * 4, QImage.Format.Format_RGBX8888).flipped(
                Qt.Orientation.Vertical
            )
            if order.stamp:
                _stamp(shot.image, frame, doc)
        if order.measured:
            back = frame + 1 > max(doc.end, order.frames[-1])  # of the last frame as it came there
            later = seen(frame - 1 if back else frame + 1)
            shot.depth, shot.motion = shooter.measured(renderer, picture, later, width, height, back)
        if order.mattes:
            shot.mattes = shooter.mattes(renderer, picture, width, height)
        yield shot
        progress(0.4 + 0.6 * (i + 1) / len(order.frames), f"Drawing frame {frame}")


def picture_path(path: Path, frame: int, part: str = "") -> Path:
    """Of one picture of a numbered sequence. part -- what it shows of the frame"""
    return path.with_name(f"{path.stem}{part and f'_{part}'}_{frame:04d}{path.suffix}")


def first_path(order: Order) -> Path:
    """The first file that it will write."""
    return picture_path(order.path, order.frames[0]) if order.is_pictures else order.path


def _write_pictures(order: Order, shot: Shot) -> list[Path]:
    path = picture_path(order.path, shot.frame)
    if order.form == ".exr":
        write_whole(path, lambda part: exr.write_layers(part, _layers(order, shot), _words(order)))
        return [path]
    images = {path: shot.image if shot.image is not None else _image(_pixels(order, shot))}
    for name, matte in shot.mattes.items():
        grey = np.ascontiguousarray(matte)
        image = QImage(grey.data, *order.size, order.size[0], QImage.Format.Format_Grayscale8).copy()
        images[picture_path(order.path, shot.frame, f"matte {name}")] = image
    for path, image in images.items():
        data = _png(image)
        write_whole(path, lambda part, data=data: part.write_bytes(data))
    return list(images)


def _layers(order: Order, shot: Shot) -> dict[str, np.ndarray]:
    alpha = shot.element[:, :, 3:]
    linear = in_linear(_straight(shot.element)) * (alpha if order.alpha == "premultiplied" else 1)
    found = {"RGBA": np.concatenate([linear, alpha], axis=2).astype(np.float16)}
    if shot.depth is not None:
        found |= {"Z": shot.depth, "motion.x": shot.motion[:, :, 0], "motion.y": shot.motion[:, :, 1]}
    return found | {f"matte.{name}": (m / 255).astype(np.float16) for name, m in shot.mattes.items()}


def _words(order: Order) -> str:
    words = f"RGB: linear light, primaries of IEC 61966-2-1, {order.alpha} alpha."
    if order.measured:
        words += (
            f" Z: metres along the line of sight, {NOTHING:g} where nothing is seen."
            " motion.x, motion.y: pixels to the right and up by which what is seen moves until the next frame."
            " Z and motion are not smoothed at edges."
        )
    return words + (" matte.*: share of the pixel that the thing covers." if order.mattes else "")


def _straight(element: np.ndarray) -> np.ndarray:
    """(h, w, 3) its colours, not multiplied; black where nothing is."""
    alpha = element[:, :, 3:]
    return np.clip(np.divide(element[:, :, :3], alpha, where=alpha > 0, out=np.zeros_like(element[:, :, :3])), 0, 1)


def _pixels(order: Order, shot: Shot) -> np.ndarray:
    """(h, w, 4) as an encoder takes them: uint8 on a ground, uint16 over nothing."""
    if shot.element is None:
        image, (width, height) = shot.image.convertToFormat(QImage.Format.Format_RGBA8888), order.size
        return np.frombuffer(image.constBits(), np.uint8, width * height * 4).reshape(height, width, 4).copy()
    found = shot.element.clip(0, 1)
    if order.alpha == "straight":
        found = np.concatenate([_straight(shot.element), found[:, :, 3:]], axis=2)
    return np.rint(found * 65535).astype(np.uint16)


def _image(pixels: np.ndarray) -> QImage:
    """Of (h, w, 4) uint16 over nothing, in bytes; whatever its alpha means, it is written as it is."""
    small = np.ascontiguousarray(np.rint(pixels / 257).astype(np.uint8))
    height, width = small.shape[:2]
    return QImage(small.data, width, height, width * 4, QImage.Format.Format_RGBA8888).copy()


def _png(image: QImage) -> bytes:
    """Encoded in memory, so that a disk that refuses is told by the system and not by an empty file."""
    buffer = QBuffer()
    buffer.open(QBuffer.OpenModeFlag.WriteOnly)
    if not image.save(buffer, "PNG"):
        raise EstampaError("A picture", "could not be encoded.", "Take a smaller size.")
    return bytes(buffer.data())


def _encode(path: Path, order: Order, frames: Iterator[np.ndarray], rate: float) -> None:
    """Raises OSError with what the disk said, or EstampaError with the encoder's words, when not all was written."""
    import imageio_ffmpeg

    (width, height), (codec, kept, *more) = order.size, _ENCODERS[order.form]
    given = "rgba64le" if order.alpha else "rgba"
    command = [imageio_ffmpeg.get_ffmpeg_exe(), "-y", "-v", "error", "-f", "rawvideo", "-pix_fmt", given]
    command += ["-s", f"{width}x{height}", "-r", f"{rate:g}", "-i", "-", "-an", "-vcodec", codec]
    command += ["-pix_fmt", kept, *more, str(path)]
    code, said = _run(command, frames)
    if "No space left" in said:
        raise OSError(errno.ENOSPC, "No space left on device")
    if code != 0 or not path.stat().st_size:
        raise EstampaError(
            "The movie", "was not finished by its encoder.", "Earlier files are untouched. Take PNG pictures.", said
        )
    held, count = imageio_ffmpeg.count_frames_and_secs(str(path))[0], len(order.frames)
    if held != count:
        cure = "Earlier files are untouched. Film it again."
        raise EstampaError("The movie", f"holds {held} of {count} frames.", cure)


def _run(command: list[str], frames: Iterator[np.ndarray]) -> tuple[int, str]:
    """(how the encoder ended, what it said) after all frames were given to it."""
    with tempfile.TemporaryFile() as words:
        encoder = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=words)
        given: Any = encoder.stdin
        try:
            for pixels in frames:
                given.write(np.ascontiguousarray(pixels).view(np.uint8).data)
            given.close()
            code = encoder.wait()
        except BrokenPipeError:
            code = encoder.wait() or 1
        except BaseException:
            encoder.kill()
            encoder.wait()
            raise
        words.seek(0)
        return code, words.read().decode(errors="replace").strip()


def _stamp(image: QImage, frame: int, doc) -> None:
    painter = QPainter(image)
    painter.setFont(theme.type_face(max(9.0, image.height() / 60)))
    text = f"{doc.name} · frame {frame} · {(frame - doc.start) / doc.frame_rate:.2f} s · {doc.frame_rate:g} fps"
    metrics = painter.fontMetrics()
    box = QRectF(0, 0, metrics.horizontalAdvance(text) + 20, metrics.height() + 8)
    box.moveBottomRight(image.rect().bottomRight() - (image.rect().topLeft() * 0))
    painter.fillRect(box, QColor(42, 36, 32, 170))
    painter.setPen(QColor("#fffaf0"))
    painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
    painter.end()
