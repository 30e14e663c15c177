"""What facets draw with in a pane."""

from typing import Any

import numpy as np
from PySide6.QtGui import QPainter

from . import marks
from .handles import View


class Canvas:
    """Ink over the picture of one pane. Points are in the world, metres; widths and radii in pixels."""

    def __init__(self, painter: QPainter, pane: Any, view: View, hot: Any):
        self.painter, self.pane, self.view = painter, pane, view
        self.hot: int | None = hot if isinstance(hot, int) else None  # the point under the pointer

    def dot(self, point: np.ndarray, radius: float = 4.0, strong: bool = False) -> None:
        """A dot at (3,) m; strong -- in the ink of what can be taken hold of."""
        marks.dot(self.painter, self.view, point, radius, marks.AMBER if strong else marks.PAPER)

    def line(self, points: np.ndarray, width: float = 1.6) -> None:
        """A line through (k, 3) m."""
        marks.line(self.painter, self.view, np.asarray(points, float), wide=width)

    def words(self, point: np.ndarray, text: str) -> None:
        """Words beside (3,) m."""
        marks.name(self.painter, self.view, point, text)
