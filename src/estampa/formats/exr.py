"""OpenEXR: images of three channels, half or full float, losslessly compressed."""

from pathlib import Path

import numpy as np


def write_image(path: Path, pixels: np.ndarray) -> None:
    """pixels -- (height, width, 3) float16 or float32, first row on top."""
    import OpenEXR

    header = {"compression": OpenEXR.ZIP_COMPRESSION, "type": OpenEXR.scanlineimage}
    with OpenEXR.File(header, {"RGB": np.ascontiguousarray(pixels)}) as file:
        file.write(str(path))


def read_image(path: Path) -> np.ndarray:
    """(height, width, 3), as it is stored."""
    import OpenEXR

    with OpenEXR.File(str(path)) as file:
        return np.array(file.channels()["RGB"].pixels)
