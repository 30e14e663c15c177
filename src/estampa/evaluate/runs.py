"""Runs: what is solved frame by frame, each frame named by the one before it and all that is read for it.

A run is an ensemble being advanced: a solver that is a layer of its one owner, or a thing whose members are layers of
several. The same code advances it into the store and, for live play, in memory.
"""

from collections.abc import Callable
from contextlib import contextmanager
from dataclasses import replace
from hashlib import blake2b
from itertools import repeat
from typing import Any

import numpy as np

from .. import target
from ..errors import Cancelled, EstampaError
from ..fields.force import World
from ..geometry.pieces import Pieces
from ..hashing import SIZE, digest
from ..kinds.plugins import blamed, cure_for
from ..scene.document import Thing
from ..scene.graph import Graph, member_of
from ..solve.aid import AidInputs, eased
from ..solve.ensemble import EnsembleInputs, Entering, member_number
from ..solve.frame import ALL_BUT_BLOB, Frame
from ..solve.solver import Inputs, PoseInputs
from ..solve.swarm.kind import SwarmInputs
from ..store.manifest import Manifest, sampled
from .fading import between, fade_at
from .reader import Scope
from .reasons import reads_of_run
from .run import Run, Shown

MOST_KEPT = 100_000_000  # bytes of frames of ensembles
KEYS = "keys/4"  # raise it when keys are made in another way

Progress = Callable[[float, str], None]  # (share done, what is under way)


class Runs:
    """Runs of one document, for one evaluator."""

    def __init__(self, evaluator):
        self.evaluator, self.reader = evaluator, evaluator.reader
        self.doc, self.store = evaluator.doc, evaluator.store
        self._solvers: list[tuple[Thing, Thing]] | None = None
        self._ensembles: dict[str, Run] = {}
        self._every: list[Run] | None = None
        self._keys: dict[str, list[bytes]] = {}
        self._still: dict[str, bytes | None] = {}  # what a run reads but forces, where all of it stands still
        self._keying: list[str] = []  # runs whose keys are being worked out, to find rings
        self._solved_through = -(10**9)
        self._began: dict[str, Frame | None] = {}  # run -> its first frame, where that was adopted
        self._unremembered: set[str] = set()  # runs of which frames were solved because another one needed them
        self._frames: dict[bytes, Frame] = {}  # of ensembles, as they were read
        self._frames_size = 0
        self._last: dict[str, tuple[bytes, Frame]] = {}  # run -> the frame that was solved last, and its key

    def solvers(self) -> list[tuple[Thing, Thing]]:
        """(subject or skeleton, layer) for each layer with memory that is on, in the order they must be solved."""
        if self._solvers is None:
            in_order = (t for t in Graph(self.doc).in_order() if t.on and t.stack)
            self._solvers = [(o, l) for o in in_order for l in self.evaluator.owner(o).solvers(o)]
        return self._solvers

    def of(self, owner: Thing, layer: Thing) -> Run:
        """The run that a layer with memory belongs to."""
        together = self.reader.values.find(member_of(layer))
        if together is None:
            return Run(layer.id, layer, ((owner, layer),))
        if together.id not in self._ensembles:
            members = [(o, l) for o in self.doc.things for l in self.evaluator.layers(o) if member_of(l) == together.id]
            members = sorted((m for m in members if m[0].on or m[1] is layer), key=lambda m: member_number(m[1].id))
            self._ensembles[together.id] = Run(together.id, together, tuple(members))
        return self._ensembles[together.id]

    def every(self) -> list[Run]:
        """Each run once, in the order they must be solved: of an ensemble, after what stands above its members."""
        if self._every is None:
            waiting = list({run.id: run for run in (self.of(*s) for s in self.solvers())}.values())
            found: dict[str, Run] = {}
            while waiting:
                ready = [r for r in waiting if all(self.of(o, l).id in found for o, l in self._above(r))]
                if not ready:
                    names = " → ".join(r.name for r in waiting)
                    raise EstampaError(names, "need one another.", "Move one of these layers, or switch it off.")
                found |= {r.id: r for r in ready[:1]}
                waiting.remove(ready[0])
            self._every = list(found.values())
        return self._every

    def _above(self, run):
        """What is solved above the members of a run."""
        for owner, layer in run.members:
            for above in self.evaluator.layers_above(owner, layer):
                if above.declared.memory:
                    yield owner, above

    def stands(self, subject: Thing, frame: float) -> tuple | None:
        """(pieces, where they stand, their origins at first) of a subject whose last layer moves pieces as wholes; else
        None."""
        layers = self.evaluator.layers(subject)
        if layers and layers[-1].declared.moves_pieces:
            return self._since_first(subject, layers[-1], frame)
        if not layers or member_of(layers[-1]) is None:
            return None
        found = self.shown(subject, layers[-1], frame)
        if found is None:
            return None
        mesh = self.evaluator.topology.sized(subject, layers[-1])
        return layers[-1].declared().stands(found.frame, layers[-1].id, mesh)

    def _since_first(self, subject: Thing, layer: Thing, frame: float) -> tuple | None:
        """The same, from where the points of pieces were at first and are now."""
        if self.shown(subject, layer, frame) is None:
            return None
        entering, now = self.entering(subject, layer, frame), self.evaluator.subject(subject, frame).points
        pieces, first = Pieces.each(entering.mesh), entering.first()
        return pieces, *pieces.since(first, now)

    # -- keys ------------------------------------------------------------------------------------------------
    def look_key(self, owner: Thing, layer: Thing, frame: float) -> bytes:
        """The key of what is shown of a run at a frame: of its solved frame, or of two that are faded."""
        run, fade = self.of(owner, layer), fade_at(self.doc, frame)
        if fade is None:
            return self.key(run, frame)
        return digest("faded", self.key(run, frame), self.key(run, fade.earlier), fade.share)

    def key(self, run: Run, frame: float) -> bytes:
        """The key of a solved frame, H(key of the frame before, all that is read at this one); frames before the first
        are the first."""
        place = max(0, int(np.floor(frame)) - self.doc.solved_from)
        return self._keys_to(run, place)[place]

    def keys(self, run: Run, last: int) -> list[bytes]:
        """The keys of all frames from the first that is solved to this one."""
        place = max(0, last - self.doc.solved_from)
        return self._keys_to(run, place)[: place + 1]

    def _keys_to(self, run, place):
        keys = self._keys.setdefault(run.id, [])
        if len(keys) <= place:
            with self._guarded(run):
                self._extend(run, keys, place)
        return keys

    def _extend(self, run, keys, place):
        """Work out the keys up to a place. What stands still is told once; where all does, a frame costs one digest,
        and its keys are worked out to the end."""
        first = self.doc.solved_from
        last = keys[-1] if keys else digest("start", KEYS, target.name(), self.doc.frame_rate)
        if run.id not in self._still:
            self._still[run.id] = self._step_fingerprint(run, first) if self._is_still(run) else None
        still = self._still[run.id]
        if still and len(self._keying) == 1:  # asked for by another run, it may need that one's keys, frame by frame
            place = max(place, self.doc.solved_to - first)
        felt = self.reader.force_fingerprints(run.thing, first + len(keys), first + place)
        frames = range(first + len(keys), first + place + 1)
        fingerprint = repeat(still, len(frames)) if still else (self._step_fingerprint(run, frame) for frame in frames)
        for acts, read in zip(felt, fingerprint, strict=True):
            last = blake2b(last + read + acts, digest_size=SIZE).digest()
            keys.append(last)

    def _step_fingerprint(self, run, frame) -> bytes:
        fingerprint = [
            (layer.id, self.evaluator.owner(owner).step_fingerprint(owner, layer, frame))
            for owner, layer in run.members
        ]
        if run.is_solo:
            return fingerprint[0][1]
        return digest(self.reader.fingerprint(run.thing, Scope.world(frame)), fingerprint)

    def aids_fingerprint(self, owner: Thing, layer: Thing, scope: Scope) -> list:
        """What the layers tell that help a solver, now and, of those that follow something, at first."""
        found = []
        for aid in self.evaluator.aids(owner, layer):
            found.append((aid.kind, aid.id, self.reader.fingerprint(aid, scope)))
            if aid.declared.follows:
                found.append(self.reader.fingerprint(aid, self.scope(owner, self.doc.solved_from)))
        return found

    def aids(self, owner: Thing, layer: Thing, frame: int) -> tuple[AidInputs, ...]:
        """What those layers tell at a frame."""
        first, found = self.doc.solved_from, []
        read = lambda aid, f: self.reader.resolved(aid, self.scope(owner, f))
        for aid in self.evaluator.aids(owner, layer):
            before = (read(aid, max(frame - 1, first)), read(aid, first)) if aid.declared.follows else ()
            name = f"{aid.name} on {owner.name}"
            now, adopted = read(aid, frame), self.of(owner, layer).thing.adopted
            acted = adopted is not None and (adopted.acting is None or aid.id in adopted.acting)
            shares = [1.0 if acted else eased(now.get("ease", 0), frame - k - first) for k in (1, 0)]
            more = (*(before or (None, None)), frame, *shares, frame - first)
            found.append(AidInputs(aid.id, name, aid.declared, now, *more))
        return tuple(found)

    def _is_still(self, run) -> bool:
        """Whether all that a run reads but forces is the same at every frame."""
        stand = all(self.evaluator.owner(o).is_still(o, layer) for o, layer in run.members)
        return stand and (run.is_solo or self.reader.still(run.thing))

    @contextmanager
    def _guarded(self, run):
        """Refuses, by name, what would need its own result."""
        if run.id in self._keying:
            raise EstampaError(
                run.name,
                "needs its own result: something that it reads is moved by it.",
                "Let it read something else, or switch that off.",
            )
        self._keying.append(run.id)
        try:
            yield
        finally:
            self._keying.pop()

    # -- what is read ------------------------------------------------------------------------------------------
    def scope(self, owner: Thing, frame: float) -> Scope:
        """Solvers read in the world."""
        return self.evaluator.owner(owner).scope(owner, frame)

    def world(self, thing: Thing, frame: float) -> World:
        """What acts at a frame on a solver."""
        world, earlier = World(), max(frame - 1, self.doc.solved_from)
        for force in self.reader.felt(thing):
            v = self.reader.resolved(force, Scope.world(frame))
            if force.declared.is_solid:
                v.before = self.reader.resolved(force, Scope.world(earlier))
            with blamed(force.declared, force.name):
                force.declared().act(world, v)
        return world

    def inputs(self, run: Run, frame: int) -> Inputs | PoseInputs | SwarmInputs | EnsembleInputs:
        """All that a run reads at a frame."""
        if run.is_solo:
            owner, layer = run.members[0]
            return self.evaluator.owner(owner).inputs(owner, layer, frame)
        members = tuple(self.evaluator.owner(o).member(o, layer, frame) for o, layer in run.members)
        v = self.reader.resolved(run.thing, Scope.world(frame))
        return EnsembleInputs(members, v, self.world(run.thing, frame), frame, self.doc.solved_from)

    def entering(self, owner: Thing, layer: Thing, frame: float) -> Entering:
        """What enters a layer with memory, for what it makes of it."""
        evaluator = self.evaluator
        above = evaluator.layers_above(owner, layer)
        looked_after = evaluator.owner(owner)
        first = lambda: looked_after.first_points(owner, layer)
        now = first if looked_after.is_still(owner, layer) else lambda: evaluator.through(owner, above, frame).points
        return Entering(layer.id, evaluator.topology.sized(owner, layer), first, now)

    # -- frames ------------------------------------------------------------------------------------------------
    def a_frame_ago(self, thing: Thing, frame: float) -> tuple[bytes | None, Callable[[], Frame] | None]:
        """(the key of what a thing was in the frame before, what gives that frame: it is solved where it is not yet);
        None of the first one."""
        run, at = self.of(thing, thing), int(np.floor(frame)) - 1
        if run.id in self.evaluator.live:
            now = self.evaluator.live[run.id].now
            return digest("live"), lambda: now
        if at < self.doc.solved_from:
            return None, None
        key = self.key(run, at)

        return key, lambda: self.solved(run, at)

    def solved(self, run: Run, frame: float, wanted: tuple[str, ...] | None = ALL_BUT_BLOB) -> Frame:
        """The one door to a frame that must be true: read, and where it cannot be read, as when it was never solved, is
        damaged or was taken away, solved again. wanted -- names of the columns to read."""
        frame = max(int(np.floor(frame)), self.doc.solved_from)
        key = self.key(run, frame)
        found = self._read(key, wanted)
        if found is None:
            with self._exact():
                self._solve_frame(run, frame)
            self._unremembered.add(run.id)
            found = self._read(key, wanted)
        if found is None:
            cure = "Look at the disk of the frame store, or set ESTAMPA_STORE to a folder on another one."
            raise EstampaError(f"{run.name}, frame {frame}", "was solved and cannot be read again.", cure)
        return found

    @contextmanager
    def _exact(self):
        """What is solved reads no stand-ins."""
        before, self.evaluator.stand_ins = self.evaluator.stand_ins, False
        try:
            yield
        finally:
            self.evaluator.stand_ins = before

    def shown(self, owner: Thing, layer: Thing, frame: float) -> Shown | None:
        """What is shown of a run at a frame: as it was solved, or faded at the end of a loop."""
        found, fade = self._shown(owner, layer, frame), fade_at(self.doc, frame)
        if fade is None or found is None or self.of(owner, layer).id in self.evaluator.live:
            return found
        other = self._shown(owner, layer, fade.earlier)
        if other is None:
            return replace(found, is_current=False)
        run = self.of(owner, layer)
        kind: Any = run.thing.declared
        faded = between(kind, found.frame, other.frame, fade.share)
        if faded is None:
            return found
        for own, member in run.members:
            mesh = lambda own=own, member=member: self.evaluator.topology.sized(own, member)
            kind = member.declared
            faded = kind().faded(faded, found.frame, other.frame, fade.share, member.id, mesh)
        is_current = found.is_current and other.is_current
        return Shown(faded, found.at, self.look_key(owner, layer, frame), is_current)

    def _shown(self, owner: Thing, layer: Thing, frame: float) -> Shown | None:
        """A solved frame of a run. One that cannot be read is solved; to a viewer that marks stand-ins its
        stale frame is given, or the nearest solved one before it; else there is none."""
        run, at, wanted = self.of(owner, layer), int(np.floor(frame)), layer.declared.shown
        live = self.evaluator.live.get(run.id)
        if live is not None:
            found = live.now if np.floor(frame) >= live.at else live.before
            columns = [(n, c) for t in found.tables.values() for n, c in t.columns.items()]
            return Shown(found, frame, digest("live", columns), True)
        stale = self.evaluator.stale_keys.get((layer.id, at))
        wanted = wanted if run.is_solo else None  # of an ensemble all is read at once, for all of its members
        if not self.evaluator.stand_ins:
            return Shown(self.solved(run, frame, wanted), frame, self.key(run, frame), True)
        for key, is_current in ((self.key(run, frame), True), (stale, False)):
            found = self._read(key, wanted) if key else None
            if found is not None:
                return Shown(found, frame, key, is_current)
        for earlier in range(at - 1, self.doc.solved_from - 1, -1):
            key = self.key(run, earlier)
            found = self._read(key, wanted) if self.store.has(key) else None
            if found is not None:
                return Shown(found, earlier, key, False)
        return None

    def kept(self, run: Run, frame: float, wanted: tuple[str, ...] | None = None) -> Frame | None:
        """A frame as it was solved, or None where it was not. wanted -- names of the columns to read; None reads all of
        an ensemble's, once for all of its members."""
        return self._read(self.key(run, frame), wanted)

    def _read(self, key: bytes, wanted) -> Frame | None:
        """A frame from the store; those of ensembles are kept, since each member asks for the same ones."""
        if wanted is not None:
            return self.store.frame(key, wanted)
        found = self._frames.get(key)
        if found is None and self.store.has(key):
            found = self.store.frame(key, ALL_BUT_BLOB)
            if found is not None:
                self._frames_size += found.nbytes
                if self._frames_size > MOST_KEPT:
                    self._frames.clear()
                    self._frames_size = found.nbytes
                self._frames[key] = found
        return found

    def first(self, run: Run, inputs) -> Frame:
        """The frame that a run begins with: at rest, or as it was adopted."""
        solver = run.thing.declared()
        first = solver.start(inputs)
        if run.thing.adopted is None:
            return first
        from .starts import begun

        found = begun(self.evaluator.scene.arrays, run.thing, first, solver.rests(inputs))[0]
        return solver.resumed(found, inputs)

    def began(self, owner: Thing, layer: Thing) -> np.ndarray | None:
        """(n, 3) m in the world, how what a layer moves stood as its run began, where that was adopted."""
        run = self.of(owner, layer)
        if run.thing.adopted is None:
            return None
        if run.id not in self._began:
            self._began[run.id] = None  # what is read to begin with does not ask for it again
            self._began[run.id] = self.first(run, self.inputs(run, self.doc.solved_from))
        found = self._began[run.id]
        if found is None or "points" not in found.tables:
            return None
        return found["points"].own(layer.id)["position"]

    def rests(self, run: Run) -> dict[str, np.ndarray]:
        """Table -> (n, 3) m, where its rows are at rest."""
        return run.thing.declared().rests(self.inputs(run, self.doc.solved_from))

    def stepped(self, run: Run, frame: int, before: Frame | None, inputs) -> Frame:
        """The frame after `before` from what is read for it; without one, the first."""
        where = f"{run.name}, frame {frame}"
        try:
            with blamed(run.thing.declared, where):
                if before is None:
                    found = self.first(run, inputs)
                else:
                    found = run.thing.declared().step(before, inputs, 1 / self.doc.frame_rate)
        except EstampaError as err:
            raise EstampaError(where, err.cause, err.cure, err.detail) from err
        trouble = found.trouble(run.thing.declared)
        if trouble:
            cure = f"Raise Substeps, or undo the last change. {cure_for(run.thing.declared)}"
            raise EstampaError(where, f"gave {trouble}.", cure)
        return found

    def solve_through(
        self, frame: float, progress: Progress | None = None, cancelled: Callable[[], bool] = lambda: False
    ) -> int:
        """Solve all that is needed up to a frame. Returns how many frames were computed. What was solved stays in the
        store as long as the scene is open.

        Raises Cancelled, or EstampaError with the layer and the frame, or when the store cannot hold the shot; what
        was solved before stays.
        """
        work, first, last = list(self.every()), self.doc.solved_from, max(self.doc.start, int(np.floor(frame)))
        if not work:
            return 0
        if self._solved_through >= last and all(self.store.has(self.key(run, last)) for run in work):
            return 0
        self._refuse_too_much(work, self.pin(last))
        with self._exact():
            return self._solve_all(work, first, last, progress, cancelled)

    def _solve_all(self, work, first, last, progress, cancelled) -> int:
        made = 0
        for i, run in enumerate(work):
            own = 0
            try:
                for at in range(first, last + 1):
                    if cancelled():
                        raise Cancelled
                    own += self._solve_frame(run, at)
                    if progress:
                        share = (i + (at - first + 1) / (last - first + 1)) / len(work)
                        progress(share, f"{run.thing.name} · frame {at}")
            finally:
                made += own
                if own or run.id in self._unremembered:
                    self._unremembered.discard(run.id)
                    self.store.remember(run.id, self._manifest(run, last))
        self._solved_through = last
        return made

    def _manifest(self, run: Run, last: int) -> Manifest:
        """What is to be remembered of a run up to a frame."""
        first = self.doc.solved_from
        read = {f: reads_of_run(self.evaluator, run, f) for f in sampled(first, last)}
        return Manifest(first, tuple(self.keys(run, last)), read)

    def pin(self, last: int | None = None) -> list[bytes]:
        """Keep what the scene needs (up to a frame, or all of it) in the store while it is open. Returns the keys."""
        last = max(last or self.doc.start, self.doc.solved_to)
        keys = [key for run in self.every() for key in self.keys(run, last)]
        self.store.pin(self.evaluator.scene, keys)
        return keys

    def _refuse_too_much(self, work, keys) -> None:
        """A shot that the store cannot hold is refused before it is solved, with its size."""
        if all(map(self.store.has, keys)):
            return
        few = lambda run: ("report", *run.thing.declared.passing)  # one row, or in some frames alone
        row = lambda run: sum(
            np.dtype(c.dtype).itemsize * int(np.prod(c.shape, initial=1))
            for name, table in run.thing.declared.tables.items()
            for c in table
            if name not in few(run) and any(c.keep == "state" for c in table)
        )
        rows = lambda owner, layer: self.evaluator.owner(owner).rows(owner, layer)
        bytes_ = sum(row(run) * rows(*member) for run in work for member in run.members)
        self.store.refuse_too_much(len(keys), bytes_ * len(keys) / len(work))

    def _solve_frame(self, run: Run, frame: int) -> bool:
        if self.store.has(self.key(run, frame)):
            return False
        found, at = self._ready(run, frame)
        for now in range(at + 1, frame + 1):
            try:
                found = self.stepped(run, now, found, self.inputs(run, now))
            except EstampaError as err:  # remarked upon for as long as the same would be solved
                self.evaluator.scene.memo.put(run.id, "stopped", self.key(run, now), (now, err))
                raise
            if not self.store.has(self.key(run, now)):
                self.store.write(self.key(run, now), found)
        self._last[run.id] = (self.key(run, frame), found)
        return True

    def _ready(self, run: Run, frame: int) -> tuple[Frame | None, int]:
        """(the last frame before this one that a step can begin from, the frame that it is of): one that is whole, and
        of an engine one that has its state. None, and the frame before the first, where there is none."""
        can_resume = run.thing.declared().can_resume
        key, found = self._last.get(run.id, (None, None))
        if found is not None and frame > self.doc.solved_from and key == self.key(run, frame - 1) and can_resume(found):
            return found, frame - 1
        for at in range(frame - 1, self.doc.solved_from - 1, -1):
            found = self.store.frame(self.key(run, at))
            if found is not None and can_resume(found):
                return found, at
        return None, self.doc.solved_from - 1

    def playing_from(self, run: Run, frame: int) -> Frame | None:
        """The solved frame of a run that a step can go on from, as live play does; None when it is not solved."""
        if not self.store.has(self.key(run, frame)):
            return None
        found, at = self._ready(run, frame + 1)
        with self._exact():
            for now in range(at + 1, frame + 1):
                found = self.stepped(run, now, found, self.inputs(run, now))
        return found
