"""The player: the present frame, playing, and live play."""

from PySide6.QtCore import QObject, QTimer, Signal

from ...evaluate.evaluator import Evaluator
from ...evaluate.live import Live
from .looks import look
from .tasks import trouble_in_words


class Player(QObject):
    """Goes from frame to frame; never ahead of the picture, nor of the solver."""

    frame_changed = Signal()
    playing_changed = Signal()

    def __init__(self, session):
        super().__init__(session)
        self.session = session
        self.frame = 1
        self.playing, self._once = False, False
        self.live: Live | None = None  # solvers that run on while hands move things
        self._clock = QTimer(self)
        self._clock.timeout.connect(self._tick)

    def go_to(self, frame: float) -> None:
        doc = self.session.doc
        frame = min(max(int(round(frame)), doc.start), doc.end)
        if frame != self.frame:
            self.frame = frame
            self.frame_changed.emit()
            self.session.pictures.look()

    def play(self, on: bool) -> None:
        self._once = False
        if self.live is not None and on:
            self.toggle_live()
        if on == self.playing:
            return
        self.playing = on
        if on:
            if self.session.work.needs_solve():
                self.session.work.solve()
            self._start_clock()
        else:
            self._clock.stop()
        self.playing_changed.emit()

    def play_once(self) -> None:
        """Play from the first frame to the last, and stop there, so that what moves is seen moving at once."""
        self.go_to(self.session.doc.start)
        self.play(True)
        self._once = True

    def _start_clock(self):
        self._clock.start(max(1, int(1000 / self.session.doc.frame_rate)))

    def _tick(self):
        pictures, work, doc = self.session.pictures, self.session.work, self.session.doc
        if pictures.looker.busy:
            return  # never run ahead of the picture
        if self.live is not None:
            self._live_tick()
            return
        if self._once and self.frame >= doc.end:
            self.play(False)
            self.go_to((doc.start + doc.end) // 2)
            return
        following = self.frame + 1 if self.frame < doc.end else doc.start
        if work.jobs.busy and not work.is_solved_at(following):
            return  # wait for the solver
        self.go_to(following)

    def toggle_live(self) -> None:
        """Let solvers run on from this frame while hands move things; again, and what is solved is shown again. With
        auto-key on, what the hand does is kept as keys."""
        s = self.session
        if self.live is not None:
            self.live = None
            self._clock.stop()
            s.pictures.look()
        else:
            self.play(False)
            self.live = Live(Evaluator(s.doc, s.scene, s.store, True), self.frame)
            self._start_clock()
        self.playing_changed.emit()

    def _live_tick(self):
        live, doc = self.live, self.session.doc

        def then(result, trouble):
            if self.live is not live:
                return
            if trouble is not None:
                self.toggle_live()
                self.session.tell(trouble_in_words(trouble))
                return
            self.frame = live.frame
            self.frame_changed.emit()
            self.session.pictures.show(result)

        self.session.pictures.looker.ask(lambda: look(live.step(doc), live.frame), then)

    def stop(self) -> None:
        """Stop playing, and live play."""
        self.play(False)
        if self.live is not None:
            self.toggle_live()

    def end(self) -> None:
        self._clock.stop()
