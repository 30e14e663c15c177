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


class SheetTab(Panel):
    word, title, rank, shortcut = "sheet", "Sheet", 1, "F5"

    def make(self, window):
        both = QSplitter(Qt.Vertical)  # with a second sheet beneath it, where one is pinned
        both.setHandleWidth(3)
        both.addWidget(Sheet(window.session))
        return both


class MapsTab(Panel):
    word, title, rank, shortcut = "maps", "Maps", 2, "F6"

    def make(self, window):
        return MapsPanel(window.session, window.actions_by_name)


class JointsTab(Panel):
    word, title, rank, shortcut = "joints", "Joints", 3, "F7"

    def make(self, window):
        return JointsPanel(window.session, window.actions_by_name)


class LoopTab(Panel):
    word, title, rank, shortcut = "loop", "Loop", 4, "F8"

    def make(self, window):
        return LoopPanel(window.session, window.actions_by_name)


class PressTab(Panel):
    word, title, rank, shortcut = "press", "Press", 5, "F9"

    def make(self, window):
        return PressPanel(window.session, window.actions_by_name)


class RemarksTab(Panel):
    word, title, rank, shortcut = "remarks", "Remarks", 6, "F10"

    def make(self, window):
        return RemarksPanel(window.session)
