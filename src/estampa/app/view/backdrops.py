"""Backdrops: a picture, or a numbered sequence, behind a pane."""

import re
from functools import lru_cache
from pathlib import Path

import numpy as np
from PySide6.QtGui import QImage, QImageReader

from ...errors import EstampaError

LARGEST = 8192  # pixels a side


def at(doc, frame: float) -> tuple[str, np.ndarray, float] | None:
    """(name, (h, w, 4) uint8, opacity) of the scene's backdrop at a frame; None when there is none.

    Raises EstampaError when its picture cannot be read.
    """
    item = next((t for t in doc.of_kind("backdrop") if t.on and t.constant("file")), None)
    if item is None:
        return None
    path = Path(item.constant("file")).expanduser()
    if item.constant("sequence"):
        path = numbered(path, int(frame) - int(item.constant("first")))
    return str(path), read(str(path), _stamp(path)), float(item.constant("opacity"))


def numbered(path: Path, step: int) -> Path:
    """The picture of a numbered sequence that is `step` after its first; held before and after."""
    match = re.search(r"(\d+)(?=\D*$)", path.stem)
    if match is None:
        return path
    head, tail = path.stem[: match.start()], path.stem[match.end() :]
    found = {}
    for other in path.parent.glob(f"*{path.suffix}"):
        part = re.fullmatch(re.escape(head) + r"(\d+)" + re.escape(tail), other.stem)
        if part:
            found[int(part[1])] = other
    order = sorted(found)
    return found[order[min(max(step, 0), len(order) - 1)]] if order else path


def _stamp(path: Path) -> int:
    try:
        return path.stat().st_mtime_ns
    except OSError:
        return 0


@lru_cache(maxsize=48)
def read(path: str, stamp: int) -> np.ndarray:
    """(h, w, 4) uint8 of a picture; read again when it changed."""
    reader = QImageReader(path)
    reader.setAutoTransform(True)
    size = reader.size()
    if size.isValid() and max(size.width(), size.height()) > LARGEST:
        raise EstampaError(
            "The backdrop",
            f"is {size.width()} × {size.height()} pixels.",
            f"Use one of at most {LARGEST} a side.",
            path,
        )
    image = reader.read()
    if image.isNull():
        raise EstampaError(
            "The backdrop",
            f"“{Path(path).name}” cannot be read.",
            "Choose a PNG or JPEG that is there.",
            f"{path}: {reader.errorString()}",
        )
    image = image.convertToFormat(QImage.Format_RGBA8888)
    rows = np.frombuffer(image.constBits(), np.uint8).reshape(image.height(), image.bytesPerLine())
    return rows[:, : image.width() * 4].reshape(image.height(), image.width(), 4).copy()
