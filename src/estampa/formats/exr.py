"""OpenEXR: images of three or four channels, half or full float, losslessly compressed."""

from pathlib import Path

import numpy as np


def write_image(path: Path, pixels: np.ndarray) -> None:
    """pixels -- (height, width, 3 or 4) float16 or float32, first row on top."""
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    name = "RGB" if pixels.shape[2] == 3 else "RGBA"
    with OpenEXR.File(header, {name: np.ascontiguousarray(pixels)}) as file:
        file.write(str(path))


def read_image(path: Path) -> np.ndarray:
    """(height, width, 3 or 4), as it is stored."""
    import OpenEXR

    with OpenEXR.File(str(path)) as file:
        channels = file.channels()
        return np.array(channels["RGBA" if "RGBA" in channels else "RGB"].pixels)
