"""Work beside the window: one thread that keeps only the latest question, and one that does jobs in turn."""

import gc
import threading
import time
import traceback
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field

from PySide6.QtCore import QObject, Qt, QTimer, Signal

from ...errors import Cancelled, EstampaError

PATIENCE = 0.1  # s that the end of a window waits for each thread with work under way


class Collector(QObject):
    """Collects cyclic garbage on the window's thread only.

    Python may otherwise collect on whichever thread allocates, and a widget destroyed beside the window's thread
    brings the program down.
    """

    def __init__(self, parent: QObject):
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self, interval=500)
        self._timer.timeout.connect(self._collect)
        self._timer.start()

    @staticmethod
    def _collect():
        counts, limits = gc.get_count(), gc.get_threshold()
        for generation in (2, 1, 0):
            if counts[generation] > limits[generation]:
                gc.collect(generation)
                return


class Latest(QObject):
    """Answers only the newest question; older ones that wait are dropped. Answers arrive on the window's thread."""

    _answered = Signal(object, object, object)  # then, answer, trouble

    def __init__(self, name: str):
        super().__init__()
        self._wake = threading.Condition()
        self._asked = None
        self._ended, self._under_way = False, 0  # under way until the answer was delivered
        self._answered.connect(self._deliver, Qt.QueuedConnection)
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._thread.start()

    def ask(self, question: Callable[[], object], then: Callable[[object, Exception | None], None]) -> None:
        with self._wake:
            self._asked = (question, then)
            self._wake.notify()

    @property
    def busy(self) -> bool:
        return self._under_way > 0 or self._asked is not None

    @property
    def superseded(self) -> bool:
        """Whether a newer question waits, so that the one under way may as well be cut short."""
        return self._asked is not None

    def end(self, patience: float = PATIENCE) -> None:
        """Answer no more. patience -- seconds to wait for what is under way."""
        with self._wake:
            self._ended, self._asked = True, None
            self._wake.notify()
        self._thread.join(timeout=patience)

    def _run(self):
        while True:
            with self._wake:
                while self._asked is None and not self._ended:
                    self._wake.wait()
                if self._ended:
                    return
                question, then = self._asked
                self._asked, self._under_way = None, self._under_way + 1
            answer, trouble = None, None
            try:
                answer = question()
            except Exception as err:
                trouble = err
            if not self._ended:
                with suppress(RuntimeError):  # the window is gone
                    self._answered.emit(then, answer, trouble)

    def _deliver(self, then, answer, trouble):
        with self._wake:
            self._under_way -= 1
        then(answer, trouble)


@dataclass
class Task:
    """A long piece of work. `work(progress, cancelled)` runs beside the window and may raise Cancelled."""

    title: str
    work: Callable
    then: Callable[[object], None] = lambda result: None
    failed: Callable[[Exception], None] | None = None
    alongside: bool = False  # does not wait for its turn, as opening a file does not wait for a solve
    stop: threading.Event = field(default_factory=threading.Event)
    thread: threading.Thread | None = None


class Jobs(QObject):
    """Does jobs one after another, with progress and cancel; those that go alongside begin at once."""

    changed = Signal()  # a job began or ended
    progress = Signal(float, str)
    trouble = Signal(object)  # EstampaError
    _ended_job = Signal(object, object, object)

    def __init__(self):
        super().__init__()
        self._queue: list[Task] = []
        self._running: list[Task] = []
        self._has_ended = False
        self._ended_job.connect(self._finish, Qt.QueuedConnection)

    def add(self, job: Task) -> Task:
        if job.alongside:
            self._begin(job)
        else:
            self._queue.append(job)
            self._next()
        return job

    def replace(self, job: Task) -> Task:
        """Do this job instead of those of the same title that wait or are under way."""
        self._queue = [j for j in self._queue if j.title != job.title]
        for running in self._running:
            if running.title == job.title:
                running.stop.set()
        return self.add(job)

    def cancel(self) -> None:
        """Ask the jobs under way to stop, and drop those that wait."""
        self._queue.clear()
        for job in self._running:
            job.stop.set()

    @property
    def busy(self) -> bool:
        return bool(self._running)

    def _next(self):
        if self._queue and all(job.alongside for job in self._running):
            self._begin(self._queue.pop(0))

    def _begin(self, job: Task):
        self._running.append(job)
        job.thread = threading.Thread(target=self._run, args=(job,), name=job.title, daemon=True)
        job.thread.start()
        self.changed.emit()

    def _run(self, job: Task):
        result, trouble = None, None
        try:
            result = job.work(self.progress.emit, job.stop.is_set)
        except Exception as err:
            trouble = err
        with suppress(RuntimeError):  # the window is gone
            self._ended_job.emit(job, result, trouble)

    def _finish(self, job: Task, result, trouble):
        self._running.remove(job)
        if self._has_ended:
            return  # what it would be shown in is gone
        if trouble is None:
            job.then(result)
        elif not isinstance(trouble, Cancelled):
            (job.failed or self.trouble.emit)(trouble_in_words(trouble))
        self.changed.emit()
        self._next()

    def end(self) -> None:
        """Stop all that is under way, and wait a moment for it. What does not hear at once, as a solver within a frame,
        ends with the program; what it stored is whole."""
        self._has_ended = True
        self.cancel()
        until = time.monotonic() + PATIENCE
        for job in self._running:
            job.thread.join(timeout=max(until - time.monotonic(), 0))


def trouble_in_words(trouble: Exception) -> EstampaError:
    """Any exception as words for a person, the details kept for an engineer."""
    if isinstance(trouble, EstampaError):
        return trouble
    detail = "".join(traceback.format_exception(trouble))
    if isinstance(trouble, MemoryError):
        return EstampaError(
            "This", "needs more memory than there is.", "Use a lighter mesh or a shorter range.", detail
        )
    return EstampaError(
        "Something",
        "went wrong inside Estampa; your scene is unharmed.",
        "Undo the last step, and please report the details.",
        detail,
    )
