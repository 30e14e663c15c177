"""Pictures: the present frame, worked out beside the window; the last true one stays until the next is there."""

import time

import numpy as np
from PySide6.QtCore import QObject, Signal

from ...errors import Cancelled
from ...evaluate.evaluator import Evaluator
from .grains import looker
from .looks import DisplayMesh, Looked, alarms, look, look_at, outlines
from .tasks import Latest, trouble_in_words


class Pictures(QObject):
    """Works out what the panes draw."""

    looked = Signal()

    def __init__(self, session):
        super().__init__(session)
        self.session, self.looker, self.plotter = session, Latest("look"), Latest("plot")
        self.picture = Looked(1)
        self._shown_at: list[float] = []  # when the last pictures came while playing

    def look(self) -> None:
        """Work out the present frame."""
        s = self.session
        if s.player.live is not None:
            return  # the next step shows it
        evaluator, frame, beside, held = self._looking(), s.player.frame, s.view.beside, s.view.held
        watched, panes = s.selection.watched, s.view.panes
        step, count = s.view.ghost_step, s.view.ghost_count
        ghosts = [k * step for k in range(-count, count + 1) if k]
        ghosts = ghosts if any(p.ghosts for p in panes) and not s.player.playing else []
        swarms = looker(s.view.most_grains, any(p.grain_trails for p in panes), s.view.picked)
        shapes, apart = any(p.shapes for p in panes), any(p.pieces for p in panes)

        def work():
            result = look(evaluator, frame, apart, swarms)
            result.alarms = alarms(evaluator, frame)
            if shapes:
                result.outlines = outlines(evaluator, frame)
            if beside is not None and beside.subject in result.shapes:
                result.shapes["beside"] = _played_back(evaluator, beside, result.shapes[beside.subject], frame)
            if watched is None:
                return result
            for away in ghosts:
                if evaluator.doc.start <= frame + away <= evaluator.doc.end:
                    found = look_at(evaluator, watched, frame + away)
                    result.ghosts += [(away, found)] if found is not None and found.is_current else []
            then = held.doc.find(watched.id) if held else None
            if then is not None:
                held.evaluator = held.evaluator or Evaluator(held.doc, evaluator.scene, evaluator.store, True)
                found = look_at(held.evaluator, then, frame)
                if found is not None:
                    result.held[watched.id] = found
            return result

        self.looker.ask(work, self.show)

    def _looking(self) -> Evaluator:
        """What is looked at: the scene, with the selected joint bent while weights are tried."""
        s, joint = self.session, self.session.selection.thing
        if not s.view.test_turn or joint not in s.selection.joints:
            return s.work.evaluator("look")
        bent = joint.with_(values={**joint.values, "turn_x": s.view.test_turn})
        return Evaluator(s.doc.replace(bent), s.scene, s.store, True)

    def show(self, result, trouble=None) -> None:
        """Show what was worked out, or tell what was in the way."""
        if isinstance(trouble, Cancelled):  # what was being cut was edited meanwhile
            self.look()
            return
        if trouble is not None:
            self.session.tell(trouble_in_words(trouble))
            return
        self.picture = result
        self._shown_at = [*self._shown_at[-12:], time.monotonic()] if self.session.player.playing else []
        if any(not shape.is_current for shape in result.shapes.values()):
            self.session.work.doubt(int(result.frame))
        self.looked.emit()

    @property
    def rate(self) -> float | None:
        """Pictures a second while playing, once there are enough to tell."""
        times = self._shown_at
        return (len(times) - 1) / max(times[-1] - times[0], 1e-6) if len(times) > 6 else None


def _played_back(evaluator, beside, shape, frame) -> DisplayMesh:
    """A printed file's shape at a frame, held at its ends."""
    at = min(max(int(frame), beside.reader.frames[0]), beside.reader.frames[-1])
    points = np.asarray(beside.reader.points(at), np.float64)
    smooth = evaluator.values.at(evaluator.doc.find(beside.subject), "smooth", frame)
    return DisplayMesh.of(points, shape.mesh, smooth, shown_frame=at)
