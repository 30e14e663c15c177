"""The strip of tools over the viewport: pictures with words where there is room, else with words at once on hover."""

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QFrame, QHBoxLayout, QSizePolicy, QToolButton, QToolTip

GAP, SIDES = 3, 16


class ToolButton(QToolButton):
    """Its words come at once, without the wait of other tips."""

    def enterEvent(self, event):
        super().enterEvent(event)
        if self.toolButtonStyle() == Qt.ToolButtonIconOnly and self.isEnabled():
            words = f"{self.defaultAction().text()}: {self.toolTip()}"
            QToolTip.showText(self.mapToGlobal(self.rect().bottomLeft()), words, self)


class ToolStrip(QFrame):
    """actions -- in order, None for a gap; worded -- names of those whose words are kept the longest"""

    def __init__(self, actions, worded: tuple[str, ...]):
        super().__init__()
        self.setProperty("strip", True)
        self.setMinimumWidth(200)
        self.setSizePolicy(QSizePolicy.Ignored, QSizePolicy.Fixed)
        self._row = QHBoxLayout(self)
        self._row.setContentsMargins(8, 3, 8, 3)
        self._row.setSpacing(GAP)
        self._gaps, self.buttons, self._worded = [], [], worded
        for action in actions:
            if action is None:
                self._row.addSpacing(8)
                continue
            button = ToolButton(iconSize=QSize(16, 16))
            button.setDefaultAction(action)
            self._row.addWidget(button)
            self.buttons.append(button)
        self._row.addStretch(1)

    def say(self, words: str) -> None:
        """What stands at the right end, as far as there is room for it."""
        self._label.setProperty("whole", words)
        self._label.setToolTip(words)
        self.fit()

    def put_last(self, label, action):
        self._label = label
        label.setSizePolicy(QSizePolicy.Ignored, QSizePolicy.Preferred)
        label.setAlignment(Qt.AlignRight | Qt.AlignVCenter)
        self._row.addWidget(label, 2)
        button = ToolButton(iconSize=QSize(16, 16))
        button.setDefaultAction(action)
        button.setToolButtonStyle(Qt.ToolButtonIconOnly)
        self._row.addWidget(button)
        self._last = button

    def resizeEvent(self, event):
        super().resizeEvent(event)
        self.fit()

    def fit(self):
        """Words on all, on some, or on none, as there is room."""
        words = self._label.property("whole") or ""
        self._label.setText(self._label.fontMetrics().elidedText(words, Qt.ElideMiddle, max(self._label.width(), 0)))
        room = self.width() - SIDES - self._last.sizeHint().width() - 2 * GAP
        every = [b.defaultAction().objectName() for b in self.buttons]
        for worded in (every, self._worded, ()):
            wide = 0
            for button, name in zip(self.buttons, every, strict=True):
                style = Qt.ToolButtonTextBesideIcon if name in worded else Qt.ToolButtonIconOnly
                button.setToolButtonStyle(style)
                wide += button.sizeHint().width() + GAP
            if wide + 3 * 8 + 60 <= room:
                return
