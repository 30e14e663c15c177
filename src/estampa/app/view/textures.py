"""Pictures of materials as textures on the card: decoded once, smaller where they are huge."""

from collections import OrderedDict

import moderngl
import numpy as np
from PySide6.QtCore import QBuffer, QByteArray, QSize
from PySide6.QtGui import QImage, QImageReader

from ...geometry.material import Material, Picture

LARGEST = 2048  # pixels a side that are looked at
MOST = 64  # textures that are kept
CHECKS = 8


def pixels(picture: Picture) -> np.ndarray | None:
    """(h, w, 4) uint8, rows from the bottom, at most LARGEST a side; None of what is no picture."""
    buffer = QBuffer()
    buffer.setData(QByteArray(picture.data))
    buffer.open(QBuffer.ReadOnly)
    reader = QImageReader(buffer)
    reader.setAllocationLimit(2048)
    size = reader.size()
    if size.isValid() and max(size.width(), size.height()) > LARGEST:
        scale = LARGEST / max(size.width(), size.height())
        reader.setScaledSize(QSize(max(1, round(size.width() * scale)), max(1, round(size.height() * scale))))
    image = reader.read()
    if image.isNull():
        return None
    image = image.convertToFormat(QImage.Format_RGBA8888)
    rows = np.frombuffer(image.constBits(), np.uint8, image.bytesPerLine() * image.height())
    rows = rows.reshape(image.height(), image.bytesPerLine())[:, : 4 * image.width()]
    return rows.reshape(image.height(), image.width(), 4)[::-1].copy()  # the image goes


def checker() -> np.ndarray:
    """What stands in for a picture that is missing: a grey checker."""
    i, j = np.indices((CHECKS, CHECKS))
    grey = np.where((i + j) % 2, 190, 120).astype(np.uint8)
    return np.dstack([grey, grey, grey, np.full_like(grey, 255)])


class Textures:
    """Of one context."""

    def __init__(self, context):
        self.context, self._kept = context, OrderedDict()
        self._white = self._made(np.full((1, 1, 4), 255, np.uint8))
        self._missing = self._made(checker())
        self._missing.filter = (moderngl.NEAREST, moderngl.NEAREST)

    def _made(self, image):
        made = self.context.texture((image.shape[1], image.shape[0]), 4, np.ascontiguousarray(image).tobytes())
        made.build_mipmaps()
        made.filter = (moderngl.LINEAR_MIPMAP_LINEAR, moderngl.LINEAR)
        return made

    def of(self, material: Material):
        """The texture of a material: white where it has no picture, a checker where that is missing."""
        if material.picture is None:
            return self._missing if material.missing else self._white
        if material.picture not in self._kept:
            image = pixels(material.picture)
            self._kept[material.picture] = self._missing if image is None else self._made(image)
            while len(self._kept) > MOST:
                old = self._kept.popitem(last=False)[1]
                if old is not self._missing:
                    old.release()
        self._kept.move_to_end(material.picture)
        return self._kept[material.picture]
