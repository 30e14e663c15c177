"""OpenEXR: images of three or four channels, half or full float, losslessly compressed."""

from pathlib import Path

import numpy as np

from ..errors import EstampaError
from . import bounds

MOST_PIXELS = 8192 * 8192


def write_image(path: Path, pixels: np.ndarray) -> None:
    """pixels -- (height, width, 3 or 4) float16 or float32, first row on top."""
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    name = "RGB" if pixels.shape[2] == 3 else "RGBA"
    with OpenEXR.File(header, {name: np.ascontiguousarray(pixels)}) as file:
        file.write(str(path))


def write_layers(path: Path, layers: dict[str, np.ndarray], words: str = "") -> None:
    """Several layers of one picture, each lossless. layers -- by name (height, width) or, of RGB and RGBA, (height,
    width, 3 or 4), float16 or float32, first row on top; words -- what they are, for whoever reads the file"""
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage, "comments": words}
    with OpenEXR.File(header, {name: np.ascontiguousarray(pixels) for name, pixels in layers.items()}) as file:
        file.write(str(path))


def read_image(path: Path) -> np.ndarray:
    """(height, width, 3 or 4), as it is stored."""
    import OpenEXR

    bounds.plain(path)
    with bounds.in_words(path.name):
        with OpenEXR.File(str(path), header_only=True) as file:
            window = file.header()["dataWindow"]
        wide, tall = (int(b) - int(a) + 1 for a, b in zip(*window, strict=True))
        if not (0 < wide and 0 < tall and wide * tall <= MOST_PIXELS):
            raise EstampaError(path.name, f"says it is {wide:,} × {tall:,} pixels.", "Take a smaller one.")
        return _pixels(path)


def _pixels(path: Path) -> np.ndarray:
    import OpenEXR

    with OpenEXR.File(str(path)) as file:
        channels = file.channels()
        return np.array(channels["RGBA" if "RGBA" in channels else "RGB"].pixels)
