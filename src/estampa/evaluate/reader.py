"""The reader: what the channels of a thing are worth to whoever reads it, and the digest that names what was read.

A channel that names something is read by the one entry for it in `references.py`, which gives both the value and what
decides it, so that the two cannot part. A solved thing is told by its key, so that a digest never waits for a solve.
"""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from ..errors import EstampaError
from ..fields.force import giving
from ..formats.usd_points import stamp
from ..geometry.place import Place
from ..hashing import digest
from ..kinds.channels import Channel
from ..motion.layer import Resolved
from ..scene.bones import Bones
from ..scene.curves import Curve
from ..scene.document import Formula, Link, Thing
from ..scene.graph import is_own_obstacle
from ..scene.values import Rows
from .arrange import InstanceRows


@dataclass(frozen=True, eq=False)
class Scope:
    """For whom, at which frames and into which space the channels of a thing are read."""

    rows: Rows
    owner: Thing | None = None  # whose maps, targets and joints are meant
    into: Place | None = None  # (1 or k) where the space of what is read stands in the world; None: in the world
    many: InstanceRows | None = None  # rows of a subject: numbers come as (k,), and grips may ride along with copies
    bones: Bones | None = None  # of the skeleton that it is read for, whose own joints come as their numbers

    @classmethod
    def world(cls, frame: float, owner: Thing | None = None, bones: Bones | None = None) -> "Scope":
        return cls(Rows.one(frame), owner, bones=bones)

    @classmethod
    def of_rows(cls, subject: Thing, many: InstanceRows) -> "Scope":
        return cls(many.rows, subject, many.place, many)

    @property
    def frame(self) -> float:
        return float(self.rows.frames[0])

    @property
    def whole_frames(self) -> tuple[np.ndarray, np.ndarray]:
        """(the different whole frames, which of them each row is)."""
        return np.unique(np.floor(self.rows.frames), return_inverse=True)


class Reading(NamedTuple):
    """What a channel that names something gives."""

    fingerprint: object  # what decides the value, for digests
    value: Callable[[], object]  # worked out when it is wanted
    stands: Callable[[], tuple[bool, float | None]] = lambda: (True, None)
    # whether all of it is solved, and the frame that is shown instead where it is not


NOTHING = Reading(None, lambda: None)


class Reader:
    """Reads the things of one document for one evaluator."""

    def __init__(self, evaluator):
        self.evaluator, self.doc, self.values = evaluator, evaluator.doc, evaluator.values
        self._fingerprints: dict[tuple, bytes] = {}
        self._steady: dict[str, tuple[bytes, frozenset[str]]] = {}
        self._stills: dict[str, bool] = {}
        self._constants: dict[tuple, tuple] = {}
        self._stand_names: dict[tuple, bytes] = {}
        self._on_joints: dict[str, bool] = {}
        self._force_fingerprints: dict[tuple, dict[int, bytes]] = {}
        self._open: list[tuple] = []  # what is being named, to find rings

    # -- one thing -------------------------------------------------------------------------------------------
    def reading(self, thing: Thing, channel: Channel, scope: Scope) -> Reading:
        """What a channel of a thing that names something gives in a scope."""
        from .references import REFERENCES

        read = REFERENCES.get(channel.to)
        held = self.values.find(thing.constant(channel.name))  # None of maps and targets, which their owners have
        if held is not None and not (channel.may_name(held.declared) and (held.on or not held.declared.only_while_on)):
            held = None
        return read(self, thing, channel, held, scope) if read else Reading(held.id if held else None, lambda: held)

    def resolved(self, thing: Thing, scope: Scope) -> Resolved:
        """The values of a thing's channels: numbers as they are, or (k,) in a scope of rows; what they name as the
        table of references says."""
        constants, _, moving = self._parts(thing, scope)
        v = Resolved(constants)
        v.travel = {}
        for name, channel in moving:
            if channel.to:
                v[name] = self.reading(thing, channel, scope).value()
            else:
                v[name] = self._number(thing, name, channel, scope)
            if channel.accumulates and not channel.to:
                v.travel[name] = self._travel(thing, name, scope)
        v.id, v.called = thing.id, thing.name
        v.loop = self._loop(v.get("loops"), scope)
        if "parent" in thing.declared.channels and scope.many is None:
            v.here = self.values.place(thing, scope.rows)
        if thing.bind and scope.owner is not None and thing.declared.moves == "points":
            v.bind = self.evaluator.topology.bound(scope.owner, thing)
        return v

    def fingerprint(self, thing: Thing, scope: Scope) -> bytes:
        """Digest of everything that is read of a thing in a scope; made once for what stands still."""
        if scope.many is not None:
            return digest(*((name, fingerprint) for name, _, fingerprint in self.reads(thing, scope)))
        owner = scope.owner.id if scope.owner is not None else None
        key = (thing.id, owner, scope.bones is not None, None if self.still(thing) else scope.frame)
        found = self._fingerprints.get(key)
        if found is None:
            with self.guarded(thing, scope):
                steady = self._steady.get(thing.id)
                if steady is None:
                    steady = self._steady[thing.id] = self._steady_fingerprint(thing, scope)
                found = digest(
                    steady[0], *((n, fingerprint) for n, _, fingerprint in self.reads(thing, scope, steady[1]))
                )
            self._fingerprints[key] = found
        return found

    def _steady_fingerprint(self, thing, scope) -> tuple[bytes, frozenset[str]]:
        """(digest of the channels that are the same at all frames and name nothing, their names)."""
        moves = lambda name: isinstance(thing.value(name), (Curve, Link, Formula))
        names = {
            n
            for n, c in thing.declared.channels.items()
            if not (c.to or c.accumulates or moves(n) or n == "loops" or any(moves(w) for w, _ in c.when))
        }
        fingerprint = [
            (n, fingerprint) for n, c, fingerprint in self.reads(thing, scope) if c is not None and n in names
        ]
        return digest(thing.kind, fingerprint), frozenset(names)

    def reads(self, thing: Thing, scope: Scope, but=frozenset()) -> Iterator[tuple[str, Channel | None, object]]:
        """(name, channel, what is read of it) of all that matters of a thing, but for some channels; what is more than
        a channel has none."""
        declared = thing.declared
        constants, fingerprint, moving = self._parts(thing, scope)
        yield "kind", None, (thing.kind, declared.version)
        if fingerprint is not None:
            yield "constants", None, fingerprint
        switches = dict(constants)
        for name, channel in moving:
            if name in but or not self._applies(thing, channel, scope):
                continue
            if channel.to:
                yield name, channel, self.reading(thing, channel, scope).fingerprint
                continue
            value = switches[name] = self._number(thing, name, channel, scope)
            yield name, channel, _named(channel, value)
            if channel.accumulates:
                yield f"{name}/travel", channel, self._travel(thing, name, scope)
        loop = self._loop(switches.get("loops"), scope)
        if loop:
            yield "loops/range", None, (*loop, self.doc.frame_rate)
        if getattr(declared, "reads_time", False):
            yield "time", None, (scope.rows.frames, self.doc.frame_rate)
        if thing.spots:
            yield "points", None, thing.spots
        if thing.adopted:
            yield "start", None, thing.adopted.model_dump(include={"source", "acting", "tables"})
        if thing.bind:
            yield "bind", None, (thing.bind.indices, thing.bind.weights, thing.bind.back)

    def _parts(self, thing, scope):
        """(values that are the same at all frames, their digest, the other channels). Where a thing is read value by
        value, in the world, all channels are "the other"."""
        rows = scope.many is not None
        key = (thing.id, rows)
        if key not in self._constants:
            v, fingerprint, moving = {}, [], []
            for name, channel in thing.declared.channels.items():
                own = channel.to in ("map", "target")
                value = thing.value(name)
                if not rows or ((channel.to or channel.accumulates) and not own):
                    moving.append((name, channel))
                elif isinstance(value, (Curve, Link, Formula)):
                    moving.append((name, channel))
                elif own:
                    found = self.reading(thing, channel, scope)
                    v[name] = found.value()
                    if self._applies(thing, channel, scope):
                        fingerprint.append((name, found.fingerprint))
                else:
                    v[name] = self.values.at(thing, name, self.doc.start)
                    if self._applies(thing, channel, scope):
                        fingerprint.append((name, _named(channel, v[name])))
                    if channel.type == "number":
                        v[name] = np.array([float(v[name])])
            self._constants[key] = (v, digest(fingerprint) if rows else None, moving)
        return self._constants[key]

    def _applies(self, thing, channel, scope) -> bool:
        return not channel.drawn and (
            not channel.when or channel.applies(lambda n: self.values.at(thing, n, scope.frame))
        )

    def _number(self, thing, name, channel, scope):
        if scope.many is not None and channel.type == "number":
            return self.values.few(thing, name, scope.rows)
        return self.values.at(thing, name, scope.frame)

    def _travel(self, thing, name, scope):
        if scope.many is None:
            return self.values.travel(thing, name, scope.frame)
        return alike(self.values.travels(thing, name, scope.rows))

    def _loop(self, loops, scope) -> tuple | None:
        """(how far round the loop range, its length in seconds) of what is asked to close it."""
        if not loops or not self.doc.loop:
            return None
        first, last = self.doc.loop
        turns = np.mod((scope.rows.frames - first) / (last - first), 1.0)
        seconds = (last - first) / self.doc.frame_rate
        return (float(turns[0]) if scope.many is None else alike(turns), seconds)

    def still(self, thing: Thing) -> bool:
        """Whether what is read of a thing is the same at every frame."""
        found = self._stills.get(thing.id)
        if found is None:
            self._stills[thing.id] = False  # for what names itself, which is refused elsewhere
            found = self._stills[thing.id] = self._is_still(thing)
        return found

    def _is_still(self, thing) -> bool:
        if getattr(thing.declared, "reads_time", False):
            return False
        if any(isinstance(v, (Curve, Link, Formula)) for v in thing.values.values()):
            return False
        for name, channel in thing.declared.channels.items():
            if channel.accumulates or (name == "loops" and thing.constant(name) and self.doc.loop):
                return False
            if channel.to and channel.to not in ("map", "target"):
                held = self.values.find(thing.values.get(name))
                if held is None or held.declared is None or channel.to == "joint":
                    continue
                if self.evaluator.owner(held).always_moves:
                    return False
                if not self.still(held):
                    return False
        return True

    @contextmanager
    def guarded(self, thing, scope):
        """Refuses, by name, what would have to be read to be read itself."""
        place = (thing.id, scope.frame)
        if place in self._open:
            raise EstampaError(thing.name, "needs itself to be read.", "Let it name something else.")
        self._open.append(place)
        try:
            yield
        finally:
            self._open.pop()

    # -- where things stand ----------------------------------------------------------------------------------
    def place(self, thing: Thing, scope: Scope) -> Place:
        """(1 or k) where a thing stands, in the space of a scope."""
        if scope.many is not None and thing.declared.may_ride_with_copies:
            return self.evaluator.stage.within(scope.many, thing)
        place = self.values.place(thing, scope.rows)
        return place if scope.into is None else scope.into.inverse() @ place

    def stand(self, thing: Thing, scope: Scope) -> object:
        """What decides where a thing stands in a scope: the numbers themselves, unless a joint carries it."""
        owner = scope.owner if scope.into is not None else None
        if not self.on_joint(thing) and not (owner is not None and self.on_joint(owner)):
            return self.place(thing, scope)
        frames = np.unique(scope.rows.frames)
        fingerprint = [[self.stand_name(t, f) for f in frames] for t in (thing, owner) if t is not None]
        copy = scope.many.copy if scope.many is not None else None
        return (fingerprint, None if copy is None else (copy, scope.rows.frames))

    def stand_name(self, thing: Thing, frame: float) -> bytes:
        """Digest of everything that decides where a thing stands in the world, whether it is solved yet or not."""
        key = (thing.id, float(frame))
        found = self._stand_names.get(key)
        if found is None:
            fingerprint = self.evaluator.owner(thing).stand_fingerprint(thing, frame)
            if len(self._stand_names) > 100_000:
                self._stand_names.clear()
            found = self._stand_names[key] = fingerprint
        return found

    def on_joint(self, thing: Thing) -> bool:
        """Whether a thing is a joint or rides on one, so that where it stands may have to be solved first."""
        found = self._on_joints.get(thing.id)
        if found is None:
            self._on_joints[thing.id] = False  # for what rides on itself, which is refused elsewhere
            parent = self.values.find(thing.constant("parent")) if "parent" in thing.declared.channels else None
            found = self.evaluator.owner(thing).is_posed or (
                parent is not None and parent.declared is not None and self.on_joint(parent)
            )
            self._on_joints[thing.id] = found
        return found

    def stands_true(self, thing: Thing, frames) -> tuple[bool, float | None]:
        """Whether the poses are solved that a thing rides on at frames, and the frame that is shown instead."""
        while thing is not None and self.on_joint(thing):
            if self.evaluator.owner(thing).is_posed:
                thing = self.values.owner(thing.id)
                for frame in np.unique(frames):
                    posed = self.evaluator.poses.at(thing, frame)
                    if not posed.is_current:
                        return False, posed.shown_frame
            thing = self.values.find(thing.constant("parent"))
        return True, None

    # -- what acts -------------------------------------------------------------------------------------------
    def felt(self, layer: Thing) -> list[Thing]:
        """The forces that a layer with memory feels: those that give a field which it reads. Of the sort of force that
        it names (a wind), the named one alone."""
        chosen = self.values.find(layer.constant("wind")) if "wind" in layer.declared.channels else None
        forces = giving(self.doc, *layer.declared.reads_in(layer))
        forces = (t for t in forces if not is_own_obstacle(self.doc, layer, t))
        return [t for t in forces if chosen is None or t.kind != chosen.kind or t is chosen]

    def force_fingerprints(self, layer: Thing, first: int, last: int) -> Iterator[bytes]:
        """Digests of everything that those forces read at frames from first to last; the same for all that feel the
        same. Each is told when it is asked for, as it may need the key of the frame before."""
        felt = self.felt(layer)
        known = self._force_fingerprints.setdefault(tuple(t.id for t in felt), {})
        for frame in range(first, last + 1):
            if frame not in known:
                scope = Scope.world(frame)
                known[frame] = digest(*(self.fingerprint(force, scope) for force in felt))
            yield known[frame]


def _named(channel: Channel, value):
    """What decides a value: of a text that names a file, that file as it is now, too."""
    return (value, stamp(value)) if channel.file and value else value


def alike(values: np.ndarray) -> np.ndarray:
    """(1,) when all rows are the same, else as they are."""
    return values[:1] if len(values) > 1 and (values == values[0]).all() else values
