"""Work beside the window: solving, and what the lanes and remarks show."""

import time
from contextlib import suppress
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from ... import edits as do
from ...errors import Cancelled, EstampaError
from ...evaluate import starts
from ...evaluate.evaluator import Evaluator
from ...evaluate.run import Run
from ...inspect import sync
from ...inspect.lanes import SOLVED, LaneMemory, LaneState
from ...inspect.remarks.worked_out import all_remarks
from ...inspect.sync import InStep
from ...kinds.lanes import ReportLane
from ...scene.document import Thing
from .looks import trail
from .preparing import Preparing
from .tasks import Jobs, Latest, Task, trouble_in_words

QUICK_TO_LISTEN = 8_000_000  # vertices


@dataclass
class Lane:
    """What a lane shows. reach -- (frames,) m, the largest travel, or what is reported; nan where it is not known."""

    reach: np.ndarray
    mean: np.ndarray
    state: LaneState | None = None
    report: ReportLane | None = None  # what is reported, where it is that and not a distance
    frame_words: tuple[str, ...] = ()  # words of each frame then
    size: float = 0.0  # m, of what is moved: a travel that is small against it is drawn small
    alarms: np.ndarray | None = None  # (frames,) what is wrong at each, 0 where nothing is
    alarm_words: str = ""  # of all of them


class Work(QObject):
    """Solves the scene of a session, and plans its lanes."""

    lanes_changed = Signal()
    in_step_changed = Signal()

    def __init__(self, session):
        super().__init__(session)
        self.session = session
        self.jobs, self.planner, self.listener = Jobs(), Latest("plan"), Latest("sync")
        self.preparing = Preparing(session)
        self.jobs.trouble.connect(session.tell)
        self.jobs.progress.connect(lambda share, text: self._solved_more())
        self._last_plan, self._plan_took = 0.0, 0.0  # when lanes were last worked out, and how many seconds it took
        # lanes are worked out once a drag rests, so that the picture follows the hand
        self._plan_soon = QTimer(self, singleShot=True, interval=120)
        self._plan_soon.timeout.connect(self._settled)
        self.clear()

    def clear(self) -> None:
        """Forget what is of one scene."""
        self.lanes: dict[str, Lane] = {}
        self._lanes_of = None  # the document that they are of
        self.trails: dict[str, np.ndarray] = {}
        self.remarks = []
        self.in_step: list[InStep] = []  # copies and layers that move in step
        self._listened_to = None  # the document they were looked for in
        self.wants_solved = False  # a solve was asked for and goes on when the scene changes
        self._solving = None  # the document that is being solved
        self._evaluators: dict[str, Evaluator] = {}
        self._lane_memory = LaneMemory()

    @property
    def doc(self):
        return self.session.doc

    def _evaluator(self, stand_ins: bool = True) -> Evaluator:
        """One of its own for a piece of work that may outlast the document."""
        evaluator = Evaluator(self.doc, self.session.scene, self.session.store, stand_ins)
        evaluator.on_progress = self._cutting
        return evaluator

    def _cutting(self, subject, layer, share: float) -> None:
        """A slow layer is being planned, on whichever thread asked for it first; an edit of it stops that."""
        now = self.doc.find(layer.id)
        if now is not layer:
            raise Cancelled
        if share < 1:
            self.session.notice.emit("note", f"Cutting {subject.name} into pieces: {share:.0%}. Undo stops it.", "")
        else:
            self.session.notice.emit("done", f"{subject.name} is cut into pieces.", "")

    def evaluator(self, purpose: str) -> Evaluator:
        """One evaluator a thread, kept as long as the document is the same."""
        scene, kept = self.session.scene, self._evaluators.get(purpose)
        if kept is None or kept.doc is not scene.doc or kept.scene is not scene:
            kept = self._evaluators[purpose] = self._evaluator()
            kept.stale_keys = self._lane_memory.keys
            kept.waits = purpose != "window"
        return kept

    def forget_what_was_read(self) -> None:
        """Read everything anew, as a file that is read has changed."""
        self._evaluators = {}

    # -- lanes ---------------------------------------------------------------------------------------------
    def plan_soon(self) -> None:
        """Work out lanes once edits rest."""
        self._plan_soon.start()

    def doubt(self, frame: int) -> None:
        """Something stands in at a frame. Where the lanes have it as solved, a frame was damaged or taken away since:
        they are worked out anew."""
        if self._lanes_of is not self.doc or self._plan_soon.isActive():
            return  # they are about to be
        states = [lane.state.states for lane in self.lanes.values() if lane.state is not None]
        at = frame - self.doc.start
        if states and all(0 <= at < len(s) and s[at] == SOLVED for s in states):
            self.plan_soon()

    def _settled(self):
        """The scene rests after edits: work out the lanes, and go on solving if that is what the person watches."""
        self.plan()
        if self.wants_solved or (self.session.player.playing and self.needs_solve()):
            self.solve()

    def plan(self) -> None:
        """Work out what the lanes show, beside the window."""
        scene, memory = self.session.scene, self._lane_memory
        evaluator, snapshot = self.evaluator("plan"), scene.snapshot()
        self._last_plan = time.monotonic()

        def work():
            doc, lanes = evaluator.doc, {}
            if scene.doc is doc:
                evaluator.pin()  # what the open scene needs stays in the store
            needs = evaluator.dependencies
            copied = {t.constant("subject") for t in doc.owned_by("copies") if t.on}
            for owner in (*doc.subjects, *doc.skeletons):
                made_of = needs.of(owner)
                for layer in evaluator.layers(owner) if owner.on or owner.id in copied else ():
                    if self.planner.superseded:
                        raise Cancelled
                    with suppress(EstampaError):  # one that stops is remarked upon, and the others have their lanes
                        make = lambda o=owner, l=layer: self._lane(evaluator, memory, o, l)
                        lanes[layer.id] = scene.memo.get(layer.id, "lane", made_of, make) if made_of else make()
            with suppress(EstampaError):
                for run in evaluator.runs.every():
                    with suppress(EstampaError):
                        if run.id not in lanes:
                            lanes[run.id] = _reported(evaluator, run, memory.state(evaluator, *run.members[0]))
            frames, trails = np.arange(doc.start, doc.end + 1, dtype=float), {}
            for t in doc.things:
                with suppress(EstampaError):
                    make, made_of = lambda t=t: trail(evaluator, t, frames), needs.of(t)
                    trails[t.id] = scene.memo.get(t.id, "trail", made_of, make) if made_of else make()
            found = all_remarks(evaluator, snapshot, patience=0.2)
            return doc, lanes, {i: p for i, p in trails.items() if p is not None}, found

        self.planner.ask(work, self._on_planned)

    def _lane(self, evaluator, memory, owner, layer) -> Lane:
        state = memory.state(evaluator, owner, layer) if layer.declared.memory else None
        size = float(evaluator.scene.mesh(owner.mesh).size.max()) if owner.mesh else 0.0
        run = evaluator.runs.of(owner, layer) if layer.declared.alarm else None
        alarms = _alarms(evaluator, run) if run is not None and run.is_solo else (None, "")
        return Lane(*self._envelope(evaluator, owner, layer), state, None, (), size, *alarms)

    def _envelope(self, evaluator, subject, layer):
        doc = evaluator.doc
        count = doc.end - doc.start + 1
        reach, mean = np.full(count, np.nan), np.full(count, np.nan)
        points = evaluator.scene.arrays.get(subject.mesh.points) if subject.mesh else ()
        vertices = len(points) or 200 * len(subject.joints)
        step = max(1, int(count * vertices / 4_000_000))  # a heavy subject is sampled, so that lanes keep up
        for i in range(0, count, step):
            if self.planner.superseded:
                raise Cancelled
            found = evaluator.travel_of(subject, layer, doc.start + i)
            if found:
                mean[i : i + step], reach[i : i + step] = found
        return reach, mean

    def _on_planned(self, result, trouble):
        if isinstance(trouble, Cancelled):
            return
        if trouble is not None:
            if not isinstance(trouble, EstampaError):
                # a layer's own trouble is told where the frame is looked at
                self.session.tell(trouble_in_words(trouble))
            return
        doc, lanes, trails, found = result
        self._plan_took = time.monotonic() - self._last_plan
        if doc is self.doc:
            self.lanes, self.trails, self.remarks, self._lanes_of = lanes, trails, found, doc
            self._listen_for_sync()
            self.lanes_changed.emit()

    def _listen_for_sync(self, always: bool = False):
        """Look for what moves in step once the scene rests, when it is soon done; a heavy scene only when asked."""
        evaluator = self._evaluator()
        if self.session.player.playing or (evaluator.doc is self._listened_to and not always):
            return
        self._listened_to = evaluator.doc

        def work():
            return sync.in_step(evaluator) if always or sync.cost(evaluator) < QUICK_TO_LISTEN else None

        def then(found, trouble):
            if trouble is None and found is not None and evaluator.doc is self.doc:
                self.in_step = found
                self.in_step_changed.emit()

        self.listener.ask(work, then)

    def find_in_step(self) -> None:
        """Look for what moves in step now, whatever it takes."""
        self._listen_for_sync(always=True)

    def _solved_more(self):
        # what is worked out beside a solve takes its time from it, so the more it takes the rarer it is done
        pictures = self.session.pictures
        if time.monotonic() - self._last_plan > max(0.4, 4 * self._plan_took) and not self.planner.busy:
            self.plan()
            if not all(s.is_current for s in pictures.picture.shapes.values()) and not pictures.looker.busy:
                pictures.look()

    # -- solving -------------------------------------------------------------------------------------------
    def needs_solve(self) -> bool:
        runs, has = self.evaluator("window").runs, self.session.store.has
        return any(not has(key) for run in runs.every() for key in runs.keys(run, self.doc.solved_to))

    def is_solved_at(self, frame: float) -> bool:
        """Whether everything that is solved has this frame."""
        runs, has = self.evaluator("window").runs, self.session.store.has
        return all(has(runs.key(run, frame)) for run in runs.every())

    def solve(self) -> None:
        """Solve the whole range beside the window, and go on when the scene changes, until done or cancelled."""
        self.wants_solved = True
        if self._solving is self.doc:
            return  # it is under way
        evaluator, self._solving = self._evaluator(stand_ins=False), self.doc

        def ended():
            if self._solving is evaluator.doc:
                self._solving = None

        def failed(err):
            ended()
            self.wants_solved = False
            self.session.player.play(False)
            self.session.tell(err)
            self.plan()

        def then(made):
            ended()
            if evaluator.doc is self.doc:
                self.wants_solved = False
            self.plan()
            self.session.pictures.look()

        def work(progress, cancelled):
            return evaluator.solve_through(evaluator.doc.solved_to, progress, cancelled)

        self.jobs.replace(Task("Solve", work, then, failed))

    def cancel(self) -> None:
        self.wants_solved, self._solving = False, None
        self.session.player.stop()
        self.jobs.cancel()
        self.plan()

    # -- start states --------------------------------------------------------------------------------------
    @property
    def solver(self) -> Thing | None:
        """The selected solver, or the only one on what is selected, or in the scene."""
        thing = self.session.selection.thing
        every = {run.id: run.thing for run in self.evaluator("window").runs.every()}
        if thing is not None and thing.id in every:
            return thing
        owner = self.doc.owner(thing.id) or thing if thing is not None else None
        own = [every[l.id] for l in owner.stack if l.id in every] if owner is not None else []
        found = own or list(every.values())
        return found[0] if len(found) == 1 else None

    def start_here(self) -> None:
        """Let the selected solver begin from the present frame, which is solved first where it has to be."""
        s, layer, evaluator = self.session, self._solver(), self._evaluator(stand_ins=False)
        scene, frame = s.scene, s.player.frame

        def then(adopted):
            if s.carry_out(lambda: do.set_start(scene, layer.id, adopted)):
                s.notice.emit("done", f"{layer.name} now begins from frame {frame}, settled as it is here.", "")

        self.jobs.add(Task("Start state", lambda progress, cancelled: starts.adopt(evaluator, layer.id, frame), then))

    def start_from_rest(self) -> None:
        do.set_start(self.session.scene, self._solver().id, None)

    def _solver(self) -> Thing:
        if self.solver is None:
            raise EstampaError("A start state", "is of one solver.", "Select a cloth or another solver in the roster.")
        return self.solver

    @property
    def busy(self) -> bool:
        return self.jobs.busy or self.planner.busy or self.listener.busy or self._plan_soon.isActive()

    def end(self) -> None:
        self._plan_soon.stop()
        for worker in (self.jobs, self.planner, self.listener, self.preparing):
            worker.end()


def _alarms(evaluator: Evaluator, run: Run) -> tuple[np.ndarray | None, str]:
    """((frames,) what its report says is wrong at each solved frame, words); none for a kind that never does."""
    alarm = run.alarm
    if alarm is None:
        return None, ""
    found = np.zeros(evaluator.doc.end - evaluator.doc.start + 1)
    for i in range(len(found)):
        frame = evaluator.runs.kept(run, evaluator.doc.start + i, (alarm.column,))
        if frame is not None and alarm.column in frame["report"].columns:
            found[i] = float(frame["report"][alarm.column][0])
    return found, alarm.words(int((found > 0).sum()))


def _reported(evaluator: Evaluator, run: Run, state: LaneState) -> Lane:
    """The lane of what is solved together, as its kind declares it; a report that lacks a column is told as not known
    (a plug-in's may)."""
    declared, frames = run.thing.declared, range(evaluator.doc.start, evaluator.doc.end + 1)
    shown = declared.lane
    there = {c.name for c in declared.tables.get("report", ())}
    nothing = np.full(len(frames), np.nan)
    if shown is None or not set(shown.columns) <= there:
        return Lane(nothing, nothing, state, None, (), 0.0, *_alarms(evaluator, run))
    values, frame_words = nothing.copy(), [""] * len(frames)
    for i, frame in enumerate(frames):
        found = evaluator.runs.kept(run, frame, shown.columns)
        if found is not None and "report" in found.tables:
            row = {n: float(found["report"][n][0]) for n in shown.columns}
            values[i], frame_words[i] = row[shown.column], shown.at_frame(row)
    return Lane(values, values, state, shown, tuple(frame_words), 0.0, *_alarms(evaluator, run))
