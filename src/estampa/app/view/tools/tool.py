"""What a tool is, and the two that turn the view whatever tool is in hand."""

from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QPainter

At = tuple[float, float]  # a pixel of the pane
CLICK = 4  # pixels that still count as a click


class Tool:
    """A hand's work in a pane, from press to release. Override what it needs."""

    hint = ""  # what to do with it, shown over the picture while it is in hand

    def __init__(self, pane):
        self.pane = pane
        self.start: At | None = None  # where the button went down, while it is down

    @property
    def session(self):
        return self.pane.session

    def press(self, at: At, modifiers=Qt.NoModifier) -> None:
        """The button goes down."""
        self.start = at

    def move(self, at: At) -> None:
        """The pointer moves with the button down."""

    def release(self, at: At, modifiers=Qt.NoModifier) -> None:
        """The button comes up."""
        self.start = None

    def hover(self, at: At) -> None:
        """The pointer moves with no button down."""

    def double(self, at: At, modifiers=Qt.NoModifier) -> None:
        """The second click of two."""

    def take_back(self) -> bool:
        """Take away what it put down last; whether there was any."""
        return False

    def put_away(self) -> None:
        """Another tool is taken."""

    def draw(self, painter: QPainter) -> None:
        """What is drawn over the picture while it is in hand."""

    def is_click(self, at: At) -> bool:
        return abs(at[0] - self.start[0]) + abs(at[1] - self.start[1]) <= CLICK


class Banded(Tool):
    """A tool whose drag draws a line or a box from where it began to where it is."""

    def __init__(self, pane):
        super().__init__(pane)
        self.end: At | None = None

    def press(self, at, modifiers=Qt.NoModifier):
        super().press(at)
        self.end = None

    def move(self, at):
        self.end = at
        self.pane.update()

    def release(self, at, modifiers=Qt.NoModifier):
        start, self.end = self.start, None
        if self.is_click(at):
            self.clicked(at, modifiers)
        else:
            self.dragged(start, at, modifiers)
        super().release(at)
        self.pane.update()

    def clicked(self, at: At, modifiers) -> None:
        """It was a click."""

    def dragged(self, start: At, end: At, modifiers) -> None:
        """It was a drag."""

    def draw(self, painter):
        if self.start is not None and self.end is not None:
            self.draw_band(painter, QPointF(*self.start), QPointF(*self.end))

    def draw_band(self, painter: QPainter, a: QPointF, b: QPointF) -> None:
        """Draw what lies between the two points."""


class OrbitTool(Tool):
    """Turns the view about what is looked at."""

    def press(self, at, modifiers=Qt.NoModifier):
        super().press(at)
        self._last = at

    def move(self, at):
        self.turn(at[0] - self._last[0], at[1] - self._last[1])
        self._last = at
        self.pane.redraw()

    def turn(self, dx: float, dy: float) -> None:
        self.pane.camera = self.pane.camera.orbited(dx, dy)


class Pan(OrbitTool):
    """Moves the view along the picture."""

    def turn(self, dx, dy):
        self.pane.camera = self.pane.camera.panned(dx, dy, self.pane.height())
