"""What the window works on: the scene, the frame, what is selected; and the work that goes on beside it."""

import sys
import time
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QObject, QTimer, Signal

from .. import edits as do
from ..baking.keys import clip_remarks
from ..errors import EstampaError
from ..evaluate import starts
from ..evaluate.evaluator import Evaluator
from ..evaluate.live import Live
from ..inspect import sync
from ..inspect.lanes import LaneMemory, LaneState
from ..inspect.remarks.scene import remarks
from ..inspect.sync import InStep
from ..scene.copies import only_in_copies
from ..scene.document import Thing
from ..scene.scene import Scene
from ..store.frames import FrameStore
from .model.desk import Desk
from .model.looks import Looked, LookedShape, look, look_at, outlines, trail
from .model.preparing import Preparing
from .model.tasks import Collector, Job, Jobs, Latest, told

QUICK_TO_LISTEN = 8_000_000  # vertices


@dataclass
class Lane:
    """What a lane shows. reach -- (frames,) largest travel in metres, nan where it is not known; of an ensemble the
    share of its things that are awake."""

    reach: np.ndarray
    mean: np.ndarray
    state: LaneState | None = None
    awake: bool = False  # whether it is a share of things and not a distance


@dataclass
class Pane:
    """How one pane looks: its shading, what it shows, and what it looks through."""

    shading: str = "smooth"  # smooth, facets, none
    wire: bool = False
    yarns: bool = True
    show_map: bool = True
    meshes: bool = True
    controls: bool = True  # grips, zones, paths, cameras, winds
    floor: bool = True
    joints: bool = True  # joints of skeletons, over the mesh
    ghosts: bool = False
    shapes: bool = False  # what bodies run into
    trails: bool = True
    camera: str | None = None  # id of the camera that is looked through


@dataclass
class Brush:
    """How weights are painted."""

    how: str = "add"  # add, take, smooth, set
    radius: float = 0.15  # m
    strength: float = 0.5
    through: bool = False  # on both sides of a thin thing
    mirror: str = ""  # x, y or z


@dataclass
class Held:
    """A result held to compare with: the document as it was; its frames are worked out as they are looked at."""

    doc: object
    evaluator: Evaluator | None = None


@dataclass
class Beside:
    """A printed file played back beside its subject."""

    title: str
    subject: str
    reader: object


def _worked_out(evaluator):
    """Remarks on baked clips and start states; none while what they read cannot be worked out."""
    try:
        return [*clip_remarks(evaluator), *starts.remarks_on(evaluator)]
    except EstampaError:
        return []


def _report(evaluator, run, state) -> Lane:
    """The lane of an ensemble: how many of its things are awake."""
    frames = range(evaluator.doc.start, evaluator.doc.end + 1)
    awake = np.full(len(frames), np.nan)
    for i, frame in enumerate(frames):
        found = evaluator.runs.kept(run, frame)
        if found is not None and "report" in found.tables:
            awake[i] = found["report"]["awake"][0]
    return Lane(awake, awake, state, awake=True)


class Session(QObject):
    replaced = Signal()  # another scene
    doc_changed = Signal(object, object)
    frame_changed = Signal()
    selected = Signal()
    chosen_changed = Signal()  # vertices or active map
    view_changed = Signal()
    looked = Signal()
    lanes_changed = Signal()
    in_step_changed = Signal()
    playing_changed = Signal()
    notice = Signal(str, str, str)  # level, text, detail

    def __init__(self, store: FrameStore | None = None):
        super().__init__()
        self.store = store or FrameStore.default()
        Collector(self)
        sys.setswitchinterval(2e-5)  # the window has its turn at once: painting asks for it hundreds of times
        self.jobs, self.looker, self.planner = Jobs(), Latest("look"), Latest("plan")
        self.listener = Latest("sync")
        self.preparing = Preparing(self)
        self.jobs.trouble.connect(self.tell)
        self.jobs.progress.connect(lambda share, text: self._solved_more())
        self.scene = Scene()
        self.desk = Desk(self)
        self.frame = 1
        self.selected_id: str | None = None
        self.also: frozenset[str] = frozenset()
        self.brush = Brush()
        self.live: Live | None = None  # solvers that run on while hands move things
        self.test_turn = 0.0  # rad that the selected joint is bent for a look at the weights; never saved
        self.map_id: str | None = None
        self.chosen: dict[str, np.ndarray] = {}
        self.panes, self.pane = [Pane(), Pane(meshes=False)], 0
        self.tool = "hand"
        self.auto_key = False
        self.isolated: set[str] = set()  # only these are drawn, when any are
        self.ghost_step, self.ghost_count = 4, 2  # frames apart, and how many either way
        self.held: Held | None = None
        self.trails: dict[str, np.ndarray] = {}
        self.in_step: list[InStep] = []  # copies and layers that move in step
        self._listened_to = None  # the document they were looked for in
        self.picture = Looked(1)
        self.lanes: dict[str, Lane] = {}
        self.remarks = []
        self.beside: Beside | None = None
        self.playing, self._once = False, False
        self._shown_at: list[float] = []  # when the last pictures came while playing
        self.wants_solved = False  # a solve was asked for and goes on when the scene changes
        self._solving = None  # the document that is being solved
        self._evaluators: dict[str, Evaluator] = {}
        self._lane_memory = LaneMemory()
        self._last_plan, self._plan_took = 0.0, 0.0  # when lanes were last worked out, and how many seconds it took
        self._clock = QTimer(self)
        self._clock.timeout.connect(self._tick)
        # lanes are worked out once a drag rests, so that the picture follows the hand
        self._plan_soon = QTimer(self, singleShot=True, interval=120)
        self._plan_soon.timeout.connect(self._settled)
        self._listen()

    # -- scene ---------------------------------------------------------------------------------------------
    @property
    def doc(self):
        return self.scene.doc

    def _listen(self):
        self.scene.changed.connect(self._on_change)

    def replace(self, scene: Scene) -> None:
        """Work on another scene from now on."""
        self.jobs.cancel()
        self._solving = None
        self.play(False)
        if self.live is not None:
            self.toggle_live()
        self.scene.changed.disconnect()
        self.desk.put_down()
        self.scene = scene
        self._lane_memory = LaneMemory()
        self._evaluators.clear()
        self.lanes, self.beside, self.wants_solved = {}, None, False
        self.isolated, self.held, self.trails, self.in_step = set(), None, {}, []
        for pane in self.panes:
            pane.camera = None
        self.chosen, self.map_id, self.selected_id = {}, None, None
        self.desk.take_up()
        self._listen()
        self.frame = scene.doc.start
        subjects = [s for s in scene.doc.subjects if s.stack] or scene.doc.subjects
        self.replaced.emit()
        self.select(subjects[0].id if subjects else None)
        self.look()
        self.plan()
        self.frame_changed.emit()

    def _on_change(self, before, after):
        for name in list(self.chosen):
            subject = after.find(name)
            if subject is None or subject.mesh is None:
                del self.chosen[name]
        if after.find(self.selected_id) is None:
            self.selected_id = None
            self.selected.emit()
        subject = self.subject
        if subject is not None and subject.map(self.map_id) is None:
            self.map_id = subject.maps[0].id if subject.maps else None
        self.doc_changed.emit(before, after)
        self._plan_soon.start()
        if self.frame < after.start or self.frame > after.end:
            self.go_to(self.frame)
        self.look()

    def _settled(self):
        """The scene rests after edits: work out the lanes, and go on solving if that is what the person watches."""
        self.plan()
        if self.wants_solved or (self.playing and self.needs_solve()):
            self.solve()

    # -- selection -----------------------------------------------------------------------------------------
    def select(self, thing_id: str | None, also=()) -> None:
        """Select a thing; `also` are others that some commands take along, as joints."""
        also = frozenset(also) - {thing_id}
        if thing_id != self.selected_id or also != self.also:
            self.also = also
            before = self.subject
            self.selected_id = thing_id
            subject = self.subject
            if subject is not None and (before is None or before.id != subject.id):
                self.map_id = subject.maps[0].id if subject.maps else None
            self.selected.emit()

    @property
    def thing(self) -> Thing | None:
        return self.doc.find(self.selected_id)

    @property
    def watched(self) -> Thing | None:
        """What ghosts and comparisons are of: the selected subject or copies, the copies of the selected subject when
        it is off itself, or else the first that is there."""
        doc, thing = self.doc, self.thing
        if thing is not None and thing.kind == "copies":
            return thing
        subject = self.subject
        copies = [t for t in doc.things if t.kind == "copies" and t.on]
        hidden = only_in_copies(doc)
        if subject is not None and (subject.id in hidden or not subject.on):
            return next((c for c in copies if c.constant("subject") == subject.id), subject)
        shown = [s for s in doc.subjects if s.on and s.stack and s.id not in hidden]
        return subject or next(iter([*shown, *copies]), None)

    @property
    def subject(self) -> Thing | None:
        """The selected subject, or the owner of the selected layer."""
        return self._owner("subject")

    @property
    def skeleton(self) -> Thing | None:
        """The selected skeleton, that of the selected joint, layer or skin; or else the only one there is."""
        found, subject = self._owner("skeleton"), self.subject
        if found is None and subject is not None:
            skins = [l for l in subject.stack if l.kind == "skin"]
            found = self.doc.find(skins[0].constant("skeleton")) if skins else None
        every = self.doc.skeletons
        return found or (every[0] if len(every) == 1 else None)

    def _owner(self, kind: str) -> Thing | None:
        thing = self.thing
        if thing is None:
            return None
        found = thing if thing.kind == kind else self.doc.owner(thing.id)
        return found if found is not None and found.kind == kind else None

    @property
    def joints(self) -> list[Thing]:
        """The joints that are selected, the one whose sheet is shown first."""
        found = [self.doc.find(i) for i in (self.selected_id, *sorted(self.also))]
        return [t for t in found if t is not None and t.kind == "joint"]

    @property
    def skin(self) -> Thing | None:
        """The skin that is painted: the selected one, that of the selected subject, or one of the selected joint."""
        thing, subject = self.thing, self.subject
        if thing is not None and thing.kind == "skin" and thing.bind is not None:
            return thing
        skeleton = self.skeleton
        for owner in [subject] if subject is not None else self.doc.subjects:
            for layer in owner.stack:
                bound = layer.kind == "skin" and layer.bind is not None
                if bound and (subject is not None or (skeleton and layer.constant("skeleton") == skeleton.id)):
                    return layer
        return None

    def chosen_of(self, subject: Thing) -> np.ndarray:
        count = len(self.scene.arrays.get(subject.mesh.points))
        mask = self.chosen.get(subject.id)
        return mask if mask is not None and len(mask) == count else np.zeros(count, bool)

    def choose(self, subject: Thing, mask: np.ndarray) -> None:
        self.chosen[subject.id] = mask
        self.chosen_changed.emit()

    def use_map(self, map_id: str | None) -> None:
        self.map_id = map_id
        self.chosen_changed.emit()

    def set_view(self, **changes) -> None:
        """Change how the active pane looks, or the tool in hand."""
        for name, value in changes.items():
            setattr(self.look_of_pane if hasattr(self.look_of_pane, name) else self, name, value)
        self.view_changed.emit()
        if "ghosts" in changes or "shapes" in changes:
            self.look()

    @property
    def look_of_pane(self) -> Pane:
        return self.panes[self.pane]

    def hold(self) -> None:
        """Hold the present result, to compare with while channels change; or let go of what is held."""
        self.held = None if self.held else Held(self.doc)
        self.look()
        self.view_changed.emit()

    def set(self, thing_id: str, values: dict, merge: str | None = None, label: str | None = None) -> None:
        """Set channels as a hand does: at this frame where they are keyed, and with keys where auto-key is on."""
        do.set_values(self.scene, thing_id, values, self.frame, merge, label, auto_key=self.auto_key)

    # -- looking -------------------------------------------------------------------------------------------
    def go_to(self, frame: float) -> None:
        frame = min(max(int(round(frame)), self.doc.start), self.doc.end)
        if frame != self.frame:
            self.frame = frame
            self.frame_changed.emit()
            self.look()

    def evaluator(self, purpose: str) -> Evaluator:
        """One evaluator a thread, kept as long as the document is the same."""
        kept = self._evaluators.get(purpose)
        if kept is None or kept.doc is not self.scene.doc or kept.scene is not self.scene:
            kept = self._evaluators[purpose] = Evaluator(self.scene.doc, self.scene, self.store)
            kept.stale_keys = self._lane_memory.keys
        return kept

    def look(self) -> None:
        """Work out the present frame beside the window; the last true one stays until then."""
        if self.live is not None:
            return  # the next step shows it
        evaluator, frame, beside, held = self._looking(), self.frame, self.beside, self.held
        watched = self.watched
        ghosts = [k * self.ghost_step for k in range(-self.ghost_count, self.ghost_count + 1) if k]
        ghosts = ghosts if any(p.ghosts for p in self.panes) and not self.playing else []

        shapes = any(p.shapes for p in self.panes)

        def work():
            result = look(evaluator, frame)
            if shapes:
                result.outlines = outlines(evaluator, frame)
            shape = result.shapes.get(beside.subject) if beside else None
            if shape is not None:
                at = min(max(int(frame), beside.reader.frames[0]), beside.reader.frames[-1])
                points = np.asarray(beside.reader.points(at), np.float64)
                smooth = evaluator.values.at(evaluator.doc.find(beside.subject), "smooth", frame)
                result.shapes["beside"] = LookedShape.of(points, shape.mesh, smooth, shown_frame=at)
            if watched is not None:
                for away in ghosts:
                    if evaluator.doc.start <= frame + away <= evaluator.doc.end:
                        found = look_at(evaluator, watched, frame + away)
                        result.ghosts += [(away, found)] if found is not None and found.true else []
                then = held.doc.find(watched.id) if held else None
                if then is not None:
                    held.evaluator = held.evaluator or Evaluator(held.doc, evaluator.scene, evaluator.store)
                    found = look_at(held.evaluator, then, frame)
                    if found is not None:
                        result.held[watched.id] = found
            return result

        self.looker.ask(work, self._on_looked)

    def _looking(self) -> Evaluator:
        """What is looked at: the scene, with the selected joint bent while weights are tried."""
        joint = self.thing
        if not self.test_turn or joint is None or joint.kind != "joint":
            return self.evaluator("look")
        bent = joint.with_(values={**joint.values, "turn_x": self.test_turn})
        return Evaluator(self.doc.replace(bent), self.scene, self.store)

    def _on_looked(self, result, trouble):
        if trouble is not None:
            self.tell(told(trouble))
            return
        self.picture = result
        self._shown_at = [*self._shown_at[-12:], time.monotonic()] if self.playing else []
        self.looked.emit()

    # -- lanes ---------------------------------------------------------------------------------------------
    def plan(self) -> None:
        """Work out what the lanes show, beside the window."""
        evaluator, memory, snapshot = self.evaluator("plan"), self._lane_memory, self.scene.snapshot()
        scene = self.scene
        self._last_plan = time.monotonic()

        def work():
            doc, lanes = evaluator.doc, {}
            if scene.doc is doc:
                evaluator.pin()  # what the open scene needs stays in the store
            copied = {t.constant("subject") for t in doc.things if t.kind == "copies" and t.on}
            for owner in (*doc.subjects, *doc.skeletons):
                for layer in evaluator.layers(owner) if owner.on or owner.id in copied else ():
                    state = memory.state(evaluator, owner, layer) if layer.declared.memory else None
                    lanes[layer.id] = Lane(*self._envelope(evaluator, owner, layer), state)
            for run in evaluator.runs.every():
                if not run.is_solo:
                    lanes[run.id] = _report(evaluator, run, lanes[run.members[0][1].id].state)
            frames = np.arange(doc.start, doc.end + 1, dtype=float)
            trails = {t.id: trail(evaluator, t, frames) for t in doc.things}
            found = [*remarks(snapshot), *_worked_out(evaluator)]
            return doc, lanes, {i: p for i, p in trails.items() if p is not None}, found

        self.planner.ask(work, self._on_planned)

    def _envelope(self, evaluator, subject, layer):
        doc = evaluator.doc
        count = doc.end - doc.start + 1
        reach, mean = np.full(count, np.nan), np.full(count, np.nan)
        vertices = len(self.scene.arrays.get(subject.mesh.points)) if subject.mesh else 200 * len(subject.joints)
        step = max(1, int(count * vertices / 4_000_000))  # a heavy subject is sampled, so that lanes keep up
        for i in range(0, count, step):
            if self.planner.superseded:
                break
            found = evaluator.travel_of(subject, layer, doc.start + i)
            if found:
                mean[i : i + step], reach[i : i + step] = found
        return reach, mean

    def _on_planned(self, result, trouble):
        if trouble is not None:
            if not isinstance(trouble, EstampaError):
                self.tell(told(trouble))  # a layer's own trouble is told where the frame is looked at
            return
        doc, lanes, trails, found = result
        self._plan_took = time.monotonic() - self._last_plan
        if doc is self.doc:
            self.lanes, self.trails, self.remarks = lanes, trails, found
            self._listen_for_sync()
            self.lanes_changed.emit()

    def _listen_for_sync(self, always: bool = False):
        """Look for what moves in step once the scene rests, when it is soon done; a heavy scene only when asked."""
        evaluator = Evaluator(self.doc, self.scene, self.store)
        if self.playing or (evaluator.doc is self._listened_to and not always):
            return
        self._listened_to = evaluator.doc

        def work():
            return sync.in_step(evaluator) if always or sync.cost(evaluator) < QUICK_TO_LISTEN else None

        def then(found, trouble):
            if trouble is None and found is not None and evaluator.doc is self.doc:
                self.in_step = found
                self.in_step_changed.emit()

        self.listener.ask(work, then)

    def find_in_step(self):
        """Look for what moves in step now, whatever it takes."""
        self._listen_for_sync(always=True)

    def _solved_more(self):
        # what is worked out beside a solve takes its time from it, so the more it takes the rarer it is done
        if time.monotonic() - self._last_plan > max(0.4, 4 * self._plan_took) and not self.planner.busy:
            self.plan()
            shown = self.picture.shapes.values()
            if not all(s.true for s in shown) and not self.looker.busy:
                self.look()

    # -- solving and playing -------------------------------------------------------------------------------
    def needs_solve(self) -> bool:
        runs = self.evaluator("window").runs
        return any(not self.store.has(key) for run in runs.every() for key in runs.keys(run, self.doc.solved_to))

    def solve(self) -> None:
        """Solve the whole range beside the window, and go on when the scene changes, until done or cancelled."""
        self.wants_solved = True
        if self._solving is self.doc:
            return  # it is under way
        evaluator, self._solving = Evaluator(self.doc, self.scene, self.store), self.doc

        def ended():
            if self._solving is evaluator.doc:
                self._solving = None

        def failed(err):
            ended()
            self.wants_solved = False
            self.play(False)
            self.tell(err)
            self.plan()

        def then(made):
            ended()
            if evaluator.doc is self.doc:
                self.wants_solved = False
            self.plan()
            self.look()

        self.jobs.replace(
            Job(
                "Solve",
                lambda progress, cancelled: evaluator.solve_through(evaluator.doc.solved_to, progress, cancelled),
                then,
                failed,
            )
        )

    @property
    def solver(self) -> Thing | None:
        """The selected solver, or the only one on what is selected, or in the scene."""
        thing = self.thing
        every = {run.id: run.thing for run in self.evaluator("window").runs.every()}
        if thing is not None and thing.id in every:
            return thing
        owner = self.doc.owner(thing.id) or thing if thing is not None else None
        own = [every[l.id] for l in owner.stack if l.id in every] if owner is not None else []
        found = own or list(every.values())
        return found[0] if len(found) == 1 else None

    def start_here(self) -> None:
        """Let the selected solver begin from the present frame, which is solved first where it has to be."""
        layer, scene, frame = self._solver(), self.scene, self.frame
        evaluator = Evaluator(self.doc, scene, self.store)

        def then(adopted):
            if self.carry_out(lambda: do.set_start(scene, layer.id, adopted)):
                self.notice.emit("done", f"{layer.name} now begins from frame {frame}, settled as it is here.", "")

        self.jobs.add(Job("Start state", lambda progress, cancelled: starts.adopt(evaluator, layer.id, frame), then))

    def start_from_rest(self) -> None:
        do.set_start(self.scene, self._solver().id, None)

    def _solver(self) -> Thing:
        if self.solver is None:
            raise EstampaError("A start state", "is of one solver.", "Select a cloth or another solver in the roster.")
        return self.solver

    def cancel(self) -> None:
        self.wants_solved, self._solving = False, None
        self.play(False)
        if self.live is not None:
            self.toggle_live()
        self.jobs.cancel()
        self.plan()

    def toggle_live(self) -> None:
        """Let solvers run on from this frame while hands move things; again, and what is solved is shown again. With
        auto-key on, what the hand does is kept as keys."""
        if self.live is not None:
            self.live = None
            self._clock.stop()
            self.look()
        else:
            self.play(False)
            self.live = Live(Evaluator(self.doc, self.scene, self.store), self.frame)
            self._clock.start(max(1, int(1000 / self.doc.frame_rate)))
        self.playing_changed.emit()

    def _live_tick(self):
        live, doc = self.live, self.doc

        def then(result, trouble):
            if self.live is not live:
                return
            if trouble is not None:
                self.toggle_live()
                self.tell(told(trouble))
                return
            self.frame = live.frame
            self.frame_changed.emit()
            self._on_looked(result, None)

        self.looker.ask(lambda: look(live.step(doc), live.frame), then)

    @property
    def play_rate(self) -> float | None:
        """Pictures a second while playing, once there are enough to tell."""
        times = self._shown_at
        return (len(times) - 1) / max(times[-1] - times[0], 1e-6) if len(times) > 6 else None

    def play_once(self) -> None:
        """Play from the first frame to the last, and stop there, so that what moves is seen moving at once."""
        self.go_to(self.doc.start)
        self.play(True)
        self._once = True

    def play(self, on: bool) -> None:
        self._once = False
        if self.live is not None and on:
            self.toggle_live()
        if on == self.playing:
            return
        self.playing = on
        if on:
            if self.needs_solve():
                self.solve()
            self._clock.start(max(1, int(1000 / self.doc.frame_rate)))
        else:
            self._clock.stop()
        self.playing_changed.emit()

    def _tick(self):
        if self.looker.busy:
            return  # never run ahead of the picture
        if self.live is not None:
            self._live_tick()
            return
        if self._once and self.frame >= self.doc.end:
            self.play(False)
            self.go_to((self.doc.start + self.doc.end) // 2)
            return
        following = self.frame + 1 if self.frame < self.doc.end else self.doc.start
        runs = self.evaluator("window").runs
        if self.jobs.busy and not all(self.store.has(runs.key(run, following)) for run in runs.every()):
            return  # wait for the solver
        self.go_to(following)

    # -- words -----------------------------------------------------------------------------------------------
    def carry_out(self, run) -> bool:
        """Run something; trouble that a person can act on is told, not raised. Returns whether it was done."""
        try:
            run()
            return True
        except EstampaError as err:
            self.tell(err)
            return False

    def tell(self, err: EstampaError) -> None:
        self.notice.emit("error", str(err), err.detail)

    @property
    def busy(self) -> bool:
        """Whether any work goes on beside the window, or is about to."""
        beside = (self.jobs, self.looker, self.planner, self.desk, self.listener)
        return any(worker.busy for worker in beside) or self._plan_soon.isActive()

    def end(self) -> None:
        self._clock.stop()
        self._plan_soon.stop()
        for worker in (self.jobs, self.looker, self.planner, self.listener, self.preparing, self.desk):
            worker.end()
