"""Our panels, in the order of their tabs."""

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter

from ...kinds.panels import Panel
from .joints import JointsPanel
from .loop import LoopPanel
from .maps import MapsPanel
from .press import PressPanel
from .remarks import RemarksPanel
from .sheet import Sheet


class _WithCommands:
    """A panel whose widget takes the session of a window and its commands."""

    def make(self, window):
        return self.widget(window.session, window.actions_by_name)


class SheetTab(Panel):
    word, title, rank, shortcut = "sheet", "Sheet", 1, "F5"

    def make(self, window):
        both = QSplitter(Qt.Vertical)  # with a second sheet beneath it, where one is pinned
        both.setHandleWidth(3)
        both.addWidget(Sheet(window.session))
        return both


class MapsTab(_WithCommands, Panel):
    word, title, rank, shortcut, widget = "maps", "Maps", 2, "F6", MapsPanel


class JointsTab(_WithCommands, Panel):
    word, title, rank, shortcut, widget = "joints", "Joints", 3, "F7", JointsPanel


class LoopTab(_WithCommands, Panel):
    word, title, rank, shortcut, widget = "loop", "Loop", 4, "F8", LoopPanel


class PressTab(_WithCommands, Panel):
    word, title, rank, shortcut, widget = "press", "Press", 5, "F9", PressPanel


class RemarksTab(Panel):
    word, title, rank, shortcut = "remarks", "Remarks", 6, "F10"

    def make(self, window):
        return RemarksPanel(window.session)
