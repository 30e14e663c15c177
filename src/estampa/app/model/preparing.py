"""Compiles what the open scene did not need, beside the window and out of its process, once the window is idle."""

import sys

from PySide6.QtCore import QObject, QProcess, QTimer, Signal

from ... import warm
from ...worker_processes import HOME

QUIET = 2_000  # ms that the window has nothing to do before others begin


class Preparing(QObject):
    """Runs the programs of estampa.warm at a low priority; `words` tells what is under way, or nothing."""

    changed = Signal()

    def __init__(self, session):
        super().__init__(session)
        self.session, self.words = session, ""
        self._running: list[QProcess] = []
        self._idle = QTimer(self, interval=QUIET)
        self._idle.timeout.connect(self._begin)

    def begin_soon(self) -> None:
        """Begin once nothing else is under way; nothing is done where all is there."""
        self._idle.start()

    def _begin(self):
        if self.session.busy or self.session.player.playing:
            return
        self._idle.stop()
        if warm.is_prepared():
            return
        for program, *arguments in warm.commands():
            process = QProcess(self)
            process.setWorkingDirectory(HOME)
            process.finished.connect(lambda code, *_, p=process: self._ended(p, code))
            nice = ["-n", "19", program, *arguments]
            process.start(*(("nice", nice) if sys.platform != "win32" else (program, arguments)))
            self._running.append(process)
        self._failed = False
        self._tell()

    def _ended(self, process, code):
        self._running.remove(process)
        self._failed |= code != 0
        if not self._running and not self._failed:
            warm.note_prepared()
        self._tell()

    def _tell(self):
        self.words = "preparing what other scenes need …" if self._running else ""
        self.changed.emit()

    def end(self) -> None:
        self._idle.stop()
        for process in self._running:
            process.finished.disconnect()
            process.kill()
            process.waitForFinished(100)
        self._running = []
