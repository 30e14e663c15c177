"""Linear light and the screen's curve: IEC 61966-2-1 (sRGB)."""

import numpy as np


def on_screen(linear: np.ndarray) -> np.ndarray:
    """Linear light as the screen has it, both 0 to 1."""
    return np.where(linear <= 0.0031308, 12.92 * linear, 1.055 * np.maximum(linear, 0) ** (1 / 2.4) - 0.055)


def in_linear(screen: np.ndarray) -> np.ndarray:
    """The way back."""
    return np.where(screen <= 0.04045, screen / 12.92, ((screen + 0.055) / 1.055) ** 2.4)
