"""The evaluator of one document: it computes only what is asked for, each result once.

What a layer reads is listed before it is computed (`reads`). The digest of that list names the result: a shape of a
layer without memory in the shape cache, a solved frame in the store. A solved frame's key is
H(key of the frame before, everything read at this frame).

Layers without memory work on rows: the subject itself is one row, its copies are many. Rows that read the same values
from the same shape are worked out once.
"""

from collections.abc import Callable
from contextlib import contextmanager
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from .. import target
from ..errors import Cancelled, EstampaError
from ..forces.force import World
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..geometry.weights import few_of, spread
from ..hashing import digest
from ..motion.layer import Moment, Resolved, moved
from ..motion.remesh import Plan
from ..scene.curves import Curve
from ..scene.document import Document, Formula, Link, Thing
from ..scene.graph import Graph
from ..scene.values import Rows, Values
from ..scene.zones import combined, weights
from ..solve.solver import Inputs, PoseInputs, State
from .arrange import Many, Stage
from .poses import Poses
from .reads import MOVED, Read


@dataclass(frozen=True)
class Shape:
    """Points of a subject at a frame. When a frame is not solved, something stands in for it: its stale result (then
    `shown_frame` is the frame itself), an earlier solved frame, or the shape from the layers above (None)."""

    points: np.ndarray  # (n, 3) float64 m; (k, n, 3) for copies
    digest: bytes
    true: bool = True
    shown_frame: float | None = None


@dataclass(frozen=True)
class Copied:
    """The copies of a subject at a frame: k places, and one shape for all of them or one for each."""

    shape: Shape  # points (1 or k, n, 3), in the subject's own space
    places: Place  # (k)
    mesh: Mesh

    @property
    def alike(self) -> bool:
        return len(self.shape.points) == 1

    def points(self) -> np.ndarray:
        """(k, n, 3) in the world, metres."""
        return self.places.apply(self.shape.points)


DEEP = 3  # how many steps down the values of named things are told one by one
KEYS = "keys/3"  # raise it when keys are made in another way

Progress = Callable[[float, str], None]  # (share done, what is under way)


class Evaluator:
    """Reads a document that does not change under it. One thread at a time; make another for another thread."""

    def __init__(self, doc: Document, scene, store):
        self.doc, self.scene, self.store = doc, scene, store
        self.values = Values(doc)
        self.stage = Stage(self.values, scene)
        self.poses = Poses(self)
        self.live: dict[str, State] = {}  # states of solvers that run on without the store, by layer
        # (layer, frame) -> key of its last result, if a view keeps them
        self.stale_keys: dict[tuple[str, int], bytes] = {}
        self._untrue = 0  # how often something that is not solved has been read
        self._solvers: list[tuple[Thing, Thing]] | None = None
        self._solved_through = -(10**9)
        self._keys: dict[str, list[bytes]] = {}
        self._keying: list[str] = []  # layers whose keys are being worked out, to find rings
        self._thing_keys: dict[tuple, bytes] = {}
        self._stack_keys: dict[tuple, bytes] = {}
        self._force_keys: dict[tuple, bytes] = {}
        self._stills: dict[str, bool] = {}
        self._layers: dict[str, tuple[Thing, list[Thing]]] = {}
        self._constants: dict[str, tuple] = {}
        self._digests: dict[tuple, bytes] = {}
        self._resolved: dict[tuple, tuple[Resolved, bytes]] = {}

    # -- what is read --------------------------------------------------------------------------------------
    def thing_reads(self, thing: Thing, owner: Thing | None, frame: float, own=(), deep: int = 0) -> list[Read]:
        """Every value of a thing at a frame. Of the things it names there is one digest each, or (`deep` > 0) every
        value of theirs, so many steps down, to say by name what is different; of `own` joints only their ids."""
        declared, reads = thing.declared, []
        head = f"{thing.kind}/{declared.version}"
        for name, channel in declared.channels.items():
            label = f"{thing.name} · {channel.label.lower()}"
            value = self.values.at(thing, name, frame)
            if channel.to == "map":
                found = owner.map(value) if owner else None
                value = found.weights if found else None
            elif channel.to == "target":
                value = next((t.points for t in owner.targets if t.id == value), None) if owner else None
            elif channel.to and value in own:
                pass
            elif channel.to:
                held = self.values.find(value)
                value = None
                if held is not None and held.declared is not None:
                    found = self._held_reads(held, channel, frame, deep)
                    reads += [Read(f"{head}/{name}/{r.path}", r.label, r.value) for r in found]
                    value = (held.kind, held.on) if held.kind == "zone" else held.kind
            elif channel.accumulates:
                reads.append(Read(f"{head}/{name}/travel", label, self.values.travel(thing, name, frame)))
            elif name == "loops" and value and self.doc.loop:
                reads.append(Read(f"{head}/{name}/range", "Loop range", (self.doc.loop, self.doc.frame_rate)))
            reads.append(Read(f"{head}/{name}", label, value))
        if thing.spots:
            reads.append(Read(f"{head}/points", f"{thing.name} · points", thing.spots))
        return reads

    def _held_reads(self, held, channel, frame, deep) -> list[Read]:
        """What is read of a thing that another one names."""
        if held.kind == "joint":
            skeleton = self.values.owner(held.id)
            value = (held.id, self.poses.name(skeleton, frame))
            return [Read("joint", f"{held.name} · where it is", value), *self._own(skeleton, frame, deep)]
        if channel.to == "skeleton":
            pose = Read("pose", f"{held.name} · pose", self.poses.name(held, frame))
            return [pose, *self._own(held, frame, deep)]
        found = self._own(held, frame, deep)
        if channel.to == "subject" and held.mesh is not None:
            found.append(Read("shape", f"{held.name} · shape", self.shape_name(held, frame)))
        return found

    def _own(self, held, frame, deep) -> list[Read]:
        if deep > 0:
            return self.thing_reads(held, None, frame, deep=deep - 1)
        return [Read("thing", held.name, self.thing_key(held, None, frame))]

    def thing_key(self, thing: Thing, owner: Thing | None, frame: float, own=()) -> bytes:
        """Digest of everything that is read of a thing at a frame; worked out once for one that stands still."""
        key = (thing.id, owner.id if owner is not None else None, None if self._still(thing) else frame)
        found = self._thing_keys.get(key)
        if found is None:
            found = digest(*((r.path, r.value) for r in self.thing_reads(thing, owner, frame, own)))
            self._thing_keys[key] = found
        return found

    def _still(self, thing: Thing) -> bool:
        """Whether what is read of a thing is the same at every frame."""
        found = self._stills.get(thing.id)
        if found is None:
            self._stills[thing.id] = False  # for what names itself, which is refused elsewhere
            found = self._stills[thing.id] = self._is_still(thing)
        return found

    def _is_still(self, thing) -> bool:
        if any(isinstance(v, (Curve, Link, Formula)) for v in thing.values.values()):
            return False
        for name, channel in thing.declared.channels.items():
            if channel.accumulates:
                return False
            if channel.to and channel.to not in ("map", "target"):
                held = self.values.find(thing.values.get(name))
                if held is None or held.declared is None:
                    continue
                if held.kind in ("joint", "skeleton") or held.mesh is not None or not self._still(held):
                    return False
        return True

    def shape_name(self, subject: Thing, frame: float) -> bytes:
        """Digest of everything that decides a subject's shape in the world, whether it is solved yet or not."""
        return self.stack_key(subject, self.layers(subject), frame)

    def stack_key(self, owner: Thing, layers: list[Thing], frame: float) -> bytes:
        """Digest of everything that decides what comes out of the given layers, which are the top part of a stack."""
        key = (owner.id, len(layers), layers[-1].id if layers else None, frame)
        found = self._stack_keys.get(key)
        if found is None:
            if not layers:
                found = digest(*((r.path, r.value) for r in self._own_reads(owner, frame)))
            elif layers[-1].declared.memory:
                found = digest("solved", self.key(owner, layers[-1], frame))
            else:
                above = self.stack_key(owner, layers[:-1], frame)
                found = digest(above, *((r.path, r.value) for r in self._layer_reads(layers[-1], owner, frame)))
            if len(self._stack_keys) > 200_000:
                self._stack_keys.clear()
            self._stack_keys[key] = found
        return found

    def layers(self, subject: Thing) -> list[Thing]:
        """The layers of a subject's or skeleton's stack that do something."""
        found = self._layers.get(subject.id)
        if found is None or found[0] is not subject:
            on = [l for l in subject.stack if l.on and l.declared is not None]
            found = self._layers[subject.id] = (subject, [] if subject.kind == "skeleton" and not subject.on else on)
        return found[1]

    def layers_above(self, subject: Thing, layer: Thing) -> list[Thing]:
        layers = self.layers(subject)
        return layers[: [l.id for l in layers].index(layer.id)]

    def forces(self, felt: tuple[str, ...]) -> list[Thing]:
        """The forces of those kinds that are on."""
        return [t for t in self.doc.things if t.on and t.kind in felt and t.declared is not None]

    def reads(self, subject: Thing, layer: Thing, frame: float) -> list[Read]:
        """Everything that decides a layer's result at a frame, value by value, to say by name what is different: the
        rest shape, the layers above, where the subject stands, its own channels, and forces that it feels."""
        found = self._own_reads(subject, frame, DEEP)
        for above in self.layers_above(subject, layer):
            if above.declared.memory:
                found.append(Read("above", above.name, self.key(subject, above, frame)))
            else:
                found += self._layer_reads(above, subject, frame, DEEP)
        found += self._layer_reads(layer, subject, frame, DEEP)
        if layer.declared.memory:
            found.append(Read("rate", "Frame rate", self.doc.frame_rate))
            for force in self.forces(layer.declared.feels):
                found.append(Read(f"force/{force.kind}", f"{force.name} {MOVED}", True))
                found += self.thing_reads(force, None, frame, deep=DEEP)
        return found

    def _own_reads(self, owner: Thing, frame: float, deep: int = 0) -> list[Read]:
        """What a subject or skeleton is before its layers."""
        if owner.kind == "skeleton":
            return self.poses.reads(owner, frame)
        mesh = owner.mesh
        rest = (mesh.points, mesh.face_counts, mesh.face_indices, mesh.uv)
        return [Read("mesh", f"{owner.name} · mesh", rest), *self._part_reads(owner, None, frame, deep)]

    def _part_reads(self, thing, owner, frame, deep, own=()) -> list[Read]:
        """What is read of a thing itself: value by value, or as one digest."""
        if deep:
            return self.thing_reads(thing, owner, frame, own, deep)
        return [Read(thing.kind, thing.name, self.thing_key(thing, owner, frame, own))]

    def _layer_reads(self, layer: Thing, subject: Thing, frame: float, deep: int = 0) -> list[Read]:
        here = [Read(f"layer/{layer.kind}", f"{layer.name} {MOVED}", True)]
        if layer.declared.moves == "joints":
            own = self.poses.bones(subject).where
            here += self._part_reads(layer, None, frame, deep, own)
            return here + self.poses.target_reads(subject, layer, frame)
        course = getattr(layer.declared, "reads_course", None)
        if course:
            found = self._course(layer, subject, Rows.one(frame))
            here.append(Read(f"layer/{layer.kind}/course", f"{subject.name} · its way", found))
        if layer.bind:
            bind = layer.bind
            here.append(
                Read(f"layer/{layer.kind}/bind", f"{layer.name} · weights", (bind.indices, bind.weights, bind.back))
            )
        return here + self._part_reads(layer, subject, frame, deep)

    def layer_digest(self, subject: Thing, layer: Thing | None, frame: float) -> bytes:
        """Digest of a subject's shape after a layer (None: at rest), and of where it stands."""
        many = self.stage.one(subject, frame)
        through = [*self.layers_above(subject, layer), layer] if layer is not None else []
        return digest(self._digest(subject, through, many), many.place)

    def layer_digest_of(self, subject: Thing, many: Many) -> bytes:
        """Digest of the rows after the whole stack."""
        return self._digest(subject, self.layers(subject), many)

    def key(self, subject: Thing, layer: Thing, frame: float) -> bytes:
        """The key of a solved frame; frames before the first are the first."""
        keys = self._keys.setdefault(layer.id, [])
        place = max(0, int(np.floor(frame)) - self.doc.solved_from)
        if len(keys) <= place:
            above = self.layers_above(subject, layer)
            rest = digest(KEYS, target.name(), self.doc.frame_rate)
            while len(keys) <= place:
                at = self.doc.solved_from + len(keys)
                with self._guarded(subject, layer):
                    read = self._layer_reads(layer, subject, at)
                    now = digest(
                        self.stack_key(subject, above, at),
                        *((r.path, r.value) for r in read),
                        self._forces_key(layer.declared.feels, at),
                    )
                keys.append(digest(keys[-1] if keys else b"start", rest, now))
        return keys[place]

    def _forces_key(self, felt: tuple[str, ...], frame: float) -> bytes:
        """Digest of everything that forces of those kinds read at a frame; the same for all that feel them."""
        key = (felt, frame)
        if key not in self._force_keys:
            told = [(f.kind, self.thing_key(f, None, frame)) for f in self.forces(felt)]
            self._force_keys[key] = digest(told)
        return self._force_keys[key]

    @contextmanager
    def _guarded(self, subject, layer):
        """Refuses, by name, what would need its own result."""
        if layer.id in self._keying:
            raise EstampaError(
                f"{layer.name} on {subject.name}",
                "needs its own result: something that it reads is moved by it.",
                "Let it read something else, or switch that off.",
            )
        self._keying.append(layer.id)
        try:
            yield
        finally:
            self._keying.pop()

    # -- values --------------------------------------------------------------------------------------------
    def resolve(self, thing: Thing, owner: Thing | None, frame: float) -> Resolved:
        """Channel values as a force or a solver reads them: plain numbers, grips as (origin, axes, size)."""
        v = Resolved()
        v.travel = {}
        for name, channel in thing.declared.channels.items():
            value = self.values.at(thing, name, frame)
            if channel.to == "map":
                found = owner.map(value) if owner else None
                value = self.map_weights(owner, found, thing) if found else None
            elif channel.to == "joint":
                value = self.poses.bones(owner).where.get(value) if owner else None
            elif channel.to == "grip":
                held = self.values.find(value)
                value = self.grip(held, frame) if held is not None and held.kind == "grip" else None
            elif channel.to == "zone":
                value = self._field(self.values.find(value), frame)
            elif channel.accumulates:
                v.travel[name] = self.values.travel(thing, name, frame)
            v[name] = value
        if v.get("loops") and self.doc.loop:
            turns, seconds = self.loop_turns(np.array([float(frame)]))
            v.loop = (float(turns[0]), seconds)
        return v

    def loop_turns(self, frames):
        """(how far round the loop range frames are, its length in seconds)."""
        first, last = self.doc.loop
        return np.mod((frames - first) / (last - first), 1.0), (last - first) / self.doc.frame_rate

    def grip(self, grip: Thing, frame: float) -> tuple[np.ndarray, np.ndarray, float]:
        return self.values.place(grip, Rows.one(frame)).at(0)

    def world(self, frame: float, felt: tuple[str, ...], wind: str | None = None) -> World:
        """What acts at a frame, of the forces that are felt; with the id of a wind, of the winds that one alone."""
        world = World()
        chosen = self.values.find(wind)
        for force in self.forces(felt):
            if force.kind != "wind" or chosen is None or chosen.kind != "wind" or force.id == wind:
                force.declared().act(world, self._resolve_force(force, frame))
        return world

    def _resolve_force(self, force: Thing, frame: float) -> Resolved:
        v = self.resolve(force, None, frame)
        if "parent" in force.declared.channels:  # it stands somewhere itself, and may have moved since the last frame
            earlier = max(frame - 1, self.doc.solved_from)
            v.places = [self.values.place(force, Rows.one(f)) for f in (earlier, frame)]
            held = self.values.find(force.constant("subject")) if "subject" in force.declared.channels else None
            v["solid"] = None
            if held is not None and held.mesh is not None:
                points = [self.subject(held, f).points for f in (earlier, frame)]
                v["solid"] = (*points, self.mesh(held).triangles)
        return v

    def _field(self, zone: Thing | None, frame: float):
        """A function from (n, 3) points in the world to weights (n,), or None."""
        if zone is None or zone.kind != "zone" or not zone.on:
            return None
        rows = Rows.one(frame)
        return lambda points: self.zone_weights(zone, points[None], rows, Place.still(1))[0]

    def zone_weights(self, zone: Thing, points: np.ndarray, rows: Rows, into: Place, within: tuple = ()) -> np.ndarray:
        """(k, n) weights of a zone, and of those it is combined with, at (k, n, 3) points; `into` is the place of
        their space in the world."""
        v = {n: self.values.at(zone, n, rows.frames[0]) for n in zone.declared.channels}
        place = into.inverse() @ self.values.place(zone, rows)
        path = self.values.find(v["path"])
        line = None
        if v["shape"] == "path":
            sampled = self.stage.sampled(path) if path is not None else None
            if sampled is None:
                return np.zeros(points.shape[:2])
            # the path stands where it stands, not where the zone does
            line = self.values.place(path, rows).apply(sampled.points[None])[0]
            place = into.inverse()
        result = weights(points, place, v, line)
        other = self.values.find(v["other"])
        if other is not None and other.kind == "zone" and other.on and other.id not in (*within, zone.id):
            result = combined(result, self.zone_weights(other, points, rows, into, (*within, zone.id)), v["how"])
        return result

    # -- topology --------------------------------------------------------------------------------------------
    def mesh(self, subject: Thing, layers: list[Thing] | None = None) -> Mesh:
        """The mesh of a subject after the given layers (all of them when none are given), at rest."""
        mesh = self.scene.mesh(subject.mesh)
        for plan in self.plans(subject, self.layers(subject) if layers is None else layers):
            mesh = plan.mesh
        return mesh

    def plans(self, subject: Thing, layers: list[Thing]) -> list[Plan]:
        """Of those layers that change topology, in order."""
        found, mesh = [], self.scene.mesh(subject.mesh)
        for layer in layers:
            if layer.declared.remeshes:
                found.append(self._plan(subject, layer, mesh, found))
                mesh = found[-1].mesh
        return found

    def _plan(self, subject, layer, mesh, before) -> Plan:
        declared = layer.declared
        v = {n: layer.constant(n) for n, c in declared.channels.items() if not c.animates}
        found = subject.map(v.get("map"))
        name = digest("plan", layer.kind, {n: x for n, x in v.items() if n != "map"}, found.weights if found else None)
        kept = self.scene.solver_cache.get(("plan", layer.id))
        if kept is None or kept[0] != name or kept[1] is not mesh:
            weights = self.scene.arrays.get(found.weights) if found else None
            for plan in before:
                weights = plan.carried(weights) if weights is not None else None
            try:
                plan = declared().plan(mesh, v, weights)
            except EstampaError as err:
                raise EstampaError(f"{layer.name} on {subject.name}", err.cause, err.cure, err.detail) from err
            kept = self.scene.solver_cache["plan", layer.id] = (name, mesh, plan)
        return kept[2]

    def map_weights(self, subject: Thing, found, layer: Thing | None = None) -> np.ndarray:
        """(n,) float32 weights of a map, carried to the topology that enters a layer (or leaves the stack)."""
        weights = self.scene.arrays.get(found.weights)
        layers = self.layers_above(subject, layer) if layer is not None and layer.on else self.layers(subject)
        plans = self.plans(subject, layers)
        if not plans:
            return weights
        return plans[-1].mesh.cached(("carried", found.id), lambda: _carried_weights(weights, plans), found.weights)

    # -- rows ------------------------------------------------------------------------------------------------
    def _resolve(self, subject: Thing, layer: Thing, many: Many) -> tuple[Resolved, bytes]:
        """(channel values as a layer without memory reads them, their digest)."""
        key = (layer.id, many.key)
        found = self._resolved.get(key)
        if found is None:
            untrue = self._untrue
            found = self._resolve_now(subject, layer, many)
            if self._untrue == untrue:  # else it may be solved before it is asked for again
                if len(self._resolved) > 4000:
                    self._resolved.clear()
                self._resolved[key] = found
        return found

    def _resolve_now(self, subject, layer, many):
        declared, rows = layer.declared, many.rows
        constants, told, moving = self._constants_of(subject, layer)
        v, told = Resolved(constants), [told]
        v.travel = {}
        for name, channel in moving:
            if channel.to:
                held = self.values.find(layer.constant(name))
                v[name], read = self._held(channel, held, many, layer)
                told.append(read)
            elif channel.type == "number":
                v[name] = self.values.few(layer, name, rows)
                if channel.accumulates:
                    v.travel[name] = few(self.values.travels(layer, name, rows))
                    told.append(v.travel[name])
                told.append(v[name])
            else:
                v[name] = self.values.at(layer, name, rows.frames[0])
                told.append(v[name])
        if v.get("loops") and self.doc.loop:
            turns, seconds = self.loop_turns(rows.frames)
            v.loop = (few(turns), seconds)
            told.append((*v.loop, self.doc.frame_rate))
        if getattr(declared, "reads_course", None):
            v.course = self._course(layer, subject, rows)
            told += [v.course, rows.frames, many.place]
        if layer.bind:
            v.bind = self.bound(subject, layer)
            told.append((layer.bind.indices, layer.bind.weights))
        return v, digest(told)

    def bound(self, subject: Thing, layer: Thing):
        """(indices (n, m), weights (n, m)) that a layer was bound with, carried to the topology that enters it."""
        bind, plans = layer.bind, self.plans(subject, self.layers_above(subject, layer))
        arrays = self.scene.arrays
        indices = arrays.get(bind.indices) if bind.indices else None
        if not plans:
            return indices, arrays.get(bind.weights)
        name = ("bound", layer.id)
        kept = self.scene.solver_cache.get(name)
        if kept is None or kept[0] is not plans[-1] or kept[1] != bind:
            dense = arrays.get(bind.weights)
            if indices is not None:
                dense = spread(indices, dense, len(bind.joints))
            for plan in plans:
                dense = plan.carried(dense)
            found = few_of(dense, indices.shape[1]) if indices is not None else (None, dense.astype(np.float32))
            kept = self.scene.solver_cache[name] = (plans[-1], bind, found)
        return kept[2]

    def _constants_of(self, subject, layer):
        """(values of a layer's channels that are the same at all frames, their digest, the other channels)."""
        if layer.id not in self._constants:
            v, told, moving = {}, [layer.kind, layer.declared.version], []
            for name, channel in layer.declared.channels.items():
                value = layer.value(name)
                if channel.to == "map":
                    found = subject.map(layer.constant(name))
                    wanted = found is not None and not layer.declared.remeshes
                    v[name] = self.map_weights(subject, found, layer) if wanted else None
                    told.append((name, found.weights if found else None))
                elif channel.to == "target":
                    found = next((t for t in subject.targets if t.id == layer.constant(name)), None)
                    v[name] = self.scene.arrays.get(found.points) if found else None
                    told.append((name, found.points if found else None))
                elif channel.to or channel.accumulates or isinstance(value, (Curve, Link, Formula)):
                    moving.append((name, channel))
                else:
                    v[name] = self.values.at(layer, name, self.doc.start)
                    told.append((name, v[name]))
                    if channel.type == "number":
                        v[name] = np.array([float(v[name])])
            self._constants[layer.id] = (v, digest(told), moving)
        return self._constants[layer.id]

    def _held(self, channel, held, many, layer):
        """(what a layer gets of a thing it names, what of it is read)."""
        if held is None or held.declared is None:
            return None, None
        if held.kind == "grip":
            place = self.stage.within(many, held)
            return place, place
        if held.kind == "zone":
            if not held.on:
                return None, None
            reads = self.thing_reads(held, None, many.rows.frames[0])
            place = many.place.inverse() @ self.values.place(held, many.rows)
            return held, [(r.path, r.value) for r in reads] + [place]
        if held.kind == "path":
            sampled = self.stage.sampled(held)
            place = many.place.inverse() @ self.values.place(held, many.rows)
            read = (held.spots, self.values.at(held, "closed", 0.0), self.values.at(held, "rounded", 0.0), place)
            return (sampled, place) if sampled is not None else None, read
        if channel.to == "skeleton":
            if held.kind != "skeleton" or layer.bind is None:
                return None, None
            back = self.scene.arrays.get(layer.bind.back)
            palette, true = self.poses.palette(held, layer.bind, back, many.own, many.rows)
            self._untrue += not true
            return palette, (palette, true)
        if channel.to == "subject":
            return self._cage(held, many)
        return held, held.id

    def _cage(self, held, many):
        """(points (k, c, 3) of another subject in this one's space, what of it is read)."""
        if held.mesh is None:
            return None, None
        frames, which = np.unique(np.floor(many.rows.frames), return_inverse=True)
        shapes = [self.subject(held, f) for f in frames]
        if any(len(s.points) != len(shapes[0].points) for s in shapes):
            return None, None
        points = many.own.inverse().apply(np.stack([s.points for s in shapes])[which])
        true = all(s.true for s in shapes)
        self._untrue += not true
        return points, [s.digest for s in shapes] + [true]

    def _course(self, layer, subject, rows: Rows):
        """(whole frames (m,), positions (m, 3) over the deck, its axes (m, 3, 3)) of a subject up to these frames."""
        first = min(self.doc.start, int(np.floor(rows.frames.min())))
        frames = np.arange(first, int(np.floor(rows.frames.max())) + 2, dtype=float)
        over = Rows.over(frames)
        places = self.values.place(subject, over).spread(len(frames))
        deck = self.values.find(layer.constant(layer.declared.reads_course))
        still = deck is None or deck.declared is None or "parent" not in deck.declared.channels
        deck = Place.still(len(frames)) if still else self.values.place(deck, over).spread(len(frames))
        return frames, (deck.inverse() @ places).origin * deck.size[:, None], deck.axes

    def _digest(self, subject: Thing, layers: list[Thing], many: Many) -> bytes:
        """Digest of the rows after the given layers."""
        name = (subject.id, len(layers), layers[-1].id if layers else None, many.key)
        found = self._digests.get(name)
        if found is None:
            untrue = self._untrue
            found = self._digest_now(subject, layers, many)
            if self._untrue == untrue:
                if len(self._digests) > 20_000:
                    self._digests.clear()
                self._digests[name] = found
        return found

    def _digest_now(self, subject, layers, many):
        if not layers:
            mesh = subject.mesh
            return digest(mesh.points, mesh.face_counts, mesh.face_indices)
        layer = layers[-1]
        if layer.declared.memory:
            frames = np.floor(many.rows.frames)
            if layer.id in self.live:
                return self.state_at(subject, layer, frames[0])[2]
            return digest([self.key(subject, layer, f) for f in np.unique(frames)], few(frames - frames[0]))
        return digest(self._digest(subject, layers[:-1], many), self._resolve(subject, layer, many)[1])

    def rows(self, subject: Thing, layers: list[Thing], many: Many) -> Shape:
        """The rest shape after the given layers, which are the top part of the stack, in the subject's own space:
        points (k, n, 3), or (1, n, 3) when all rows are alike."""
        if not layers:
            return Shape(self.scene.mesh(subject.mesh).rest[None], self._digest(subject, layers, many))
        layer, key = layers[-1], self._digest(subject, layers, many)
        found = self.scene.shapes.get(key)
        if found is not None:
            return Shape(found, key)
        if layer.declared.memory:
            return self._solved_rows(subject, layers, many, key)
        entering = self.rows(subject, layers[:-1], many)
        v = self._resolve(subject, layer, many)[0]
        true, shown = self._held_true(layer, many, entering)
        points = self._applied(subject, layers, entering.points, v, many)
        stack = self.layers(subject)
        after = stack[len(layers)] if len(stack) > len(layers) else None
        last = after is None or after.declared.memory
        # a point that is no number stays one down the stack, so that it is enough to look at the end
        if last and not np.isfinite(points.sum()):
            self._refuse_no_numbers(subject, layers, many)
        # of many copies only what is looked at in the end is worth keeping
        if true and (len(points) == 1 or last):
            self.scene.shapes.put(key, points)
        return Shape(points, key, true, shown)

    def _held_true(self, layer, many, entering):
        """(whether all that a layer reads is solved, the frame that is shown instead where it is not)."""
        true, shown = entering.true, entering.shown_frame
        for name, channel in layer.declared.channels.items():
            if channel.to not in ("skeleton", "subject"):
                continue
            held = self.values.find(layer.constant(name))
            if held is None:
                continue
            for frame in np.unique(many.rows.frames):
                found = self.poses.at(held, frame) if held.kind == "skeleton" else self.subject(held, np.floor(frame))
                if not found.true:
                    true, shown = False, found.shown_frame
        return true, shown

    def _refuse_no_numbers(self, subject, layers, many):
        """Name the first layer whose points are not numbers."""
        for count, layer in enumerate(layers, 1):
            if layer.declared.memory:
                continue
            entering = self.rows(subject, layers[: count - 1], many).points
            points = self._applied(subject, layers[:count], entering, self._resolve(subject, layer, many)[0], many)
            if not np.isfinite(points).all():
                raise EstampaError(
                    f"{layer.name} on {subject.name}",
                    f"gives points that are not numbers at frame {many.rows.frames[0]:g}.",
                    "Undo the last change of its channels, or switch it off.",
                )

    def _applied(self, subject, layers, points, v, many):
        layer = layers[-1]
        declared, count = layer.declared, len(many.rows)
        mesh = self.mesh(subject, layers[:-1])
        wanted = 1 if len(points) == 1 and v.alike else count
        if len(points) != wanted:
            points = np.repeat(points, wanted, axis=0)
        v, place = v.in_rows(wanted), many.place.spread(count)
        zone = v.get("zone")
        if zone is not None:
            v["zone"] = self.zone_weights(zone, points, _first(many.rows, wanted), _rows_of(place, wanted))
        now = Moment(
            many.rows.frames[:wanted],
            self.doc.frame_rate,
            mesh,
            _rows_of(place, wanted),
            v.course,
        )
        if declared.remeshes:
            return declared().apply(points, self.plans(subject, layers)[-1], v, now)
        try:
            return moved(declared(), points, v, now)
        except EstampaError as err:
            raise EstampaError(
                f"{layer.name} on {subject.name}", f"{err.what} {err.cause}", err.cure, err.detail
            ) from err

    def _solved_rows(self, subject, layers, many, key) -> Shape:
        """Rows of a layer with memory: each copy shows the subject's own solved frame nearest before its time."""
        frames = np.floor(many.rows.frames)
        unique, where = np.unique(frames, return_inverse=True)
        shapes = [self._solved(subject, layers, f) for f in unique]
        true = all(s.true for s in shapes)
        points = np.stack([s.points for s in shapes])
        if len(unique) > 1:
            points = points[where]
        return Shape(points, key if true else shapes[0].digest, true, shapes[-1].shown_frame)

    def _solved(self, subject, layers, frame) -> Shape:
        """A solved frame in the subject's own space; solvers work in the world."""
        state, shown, key, true = self.state_at(subject, layers[-1], frame)
        if state is None or len(state.points) != self.mesh(subject, layers).count:
            entering = self.rows(subject, layers[:-1], self.stage.one(subject, frame))
            return Shape(entering.points[0], entering.digest, False, None)
        at = shown if true or shown is None else max(shown, self.doc.solved_from)
        return Shape(self._from_world(subject, state.points, at), key, true, shown)

    def _from_world(self, subject, points, frame):
        return self.stage.one(subject, frame).place.inverse().apply(points.astype(np.float64)[None])[0]

    def state_at(self, owner: Thing, layer: Thing, frame: float) -> tuple[State | None, float | None, bytes, bool]:
        """(state of a solver, the frame it is of, its key, whether it is the true one). For a frame that is not solved
        its stale state stands in, or the nearest solved one before it; else there is none."""
        at = int(np.floor(frame))
        if layer.id in self.live:
            return self.live[layer.id], frame, digest("live", self.live[layer.id].points), True
        key = self.key(owner, layer, frame)
        points = self.store.points(key)
        if points is not None:
            return State(points, None), frame, key, True
        stale = self.stale_keys.get((layer.id, at))
        points = self.store.points(stale) if stale else None
        if points is not None:
            return State(points, None), frame, stale, False
        for earlier in range(at - 1, self.doc.solved_from - 1, -1):
            key = self.key(owner, layer, earlier)
            points = self.store.points(key) if self.store.has(key) else None
            if points is not None:
                return State(points, None), earlier, key, False
        return None, None, b"", False

    # -- shapes --------------------------------------------------------------------------------------------
    def subject(self, subject: Thing, frame: float) -> Shape:
        """The result of a subject's whole stack, in the world."""
        return self.through(subject, self.layers(subject), frame)

    def above(self, subject: Thing, layer: Thing, frame: float) -> Shape:
        """The shape that enters a layer, in the world."""
        return self.through(subject, self.layers_above(subject, layer), frame)

    def through(self, subject: Thing, layers: list[Thing], frame: float) -> Shape:
        """The rest shape after the given layers, which are the top part of the stack, in the world: points (n, 3)."""
        many = self.stage.one(subject, frame)
        shape = self.rows(subject, layers, many)
        points = many.place.apply(shape.points)[0]
        return Shape(points, digest(shape.digest, many.place), shape.true, shape.shown_frame)

    def copies(self, copies: Thing, frame: float) -> Copied | None:
        """The copies of a subject at a frame; None when they name no subject."""
        subject = self.doc.shape_of(copies)
        if subject is None:
            return None
        many = self.stage.many(copies, subject, frame)
        mesh = self.mesh(subject)
        if len(many.rows) == 0:
            return Copied(Shape(np.zeros((1, mesh.count, 3)), b""), Place.still(0), mesh)
        shape = self.rows(subject, self.layers(subject), many)
        if many.amounts is not None:
            points = mesh.points + many.amounts[:, None, None] * (shape.points - mesh.points)
            told = digest(shape.digest, many.amounts)
            shape = replace(shape, points=points, digest=told)
        return Copied(shape, many.place.spread(len(many.rows)), mesh)

    def travel_of(self, subject: Thing, layer: Thing, frame: float) -> tuple[float, float] | None:
        """How far a layer moves its subject at a frame: (mean, largest) in metres; None when it is not solved."""
        above = self.layers_above(subject, layer)
        through = [*above, layer]
        if subject.kind == "skeleton":
            return self.poses.travel_of(subject, above, through, frame)
        if any(l.declared.memory and not self.store.has(self.key(subject, l, frame)) for l in through):
            return None
        many = self.stage.one(subject, frame)
        key = digest("envelope", self._digest(subject, through, many))
        found = self.scene.shapes.get(key)
        if found is None:
            before, after = self.rows(subject, above, many).points[0], self.rows(subject, through, many).points[0]
            if layer.declared.remeshes:
                before = self.plans(subject, through)[-1].carried(before)
            apart = np.linalg.norm(after - before, axis=1) * many.place.size[0]
            found = np.array([apart.mean(), apart.max()])
            self.scene.shapes.put(key, found)
        return float(found[0]), float(found[1])

    # -- solving -------------------------------------------------------------------------------------------
    def solvers(self) -> list[tuple[Thing, Thing]]:
        """(subject or skeleton, layer) for each layer with memory that is on, in the order they must be solved."""
        if self._solvers is None:
            self._solvers = [(o, l) for o in self._owners_in_order() for l in self.layers(o) if l.declared.memory]
        return self._solvers

    def _owners_in_order(self) -> list[Thing]:
        """What has a stack and is on, each after those that it needs."""
        graph, found, seen = Graph(self.doc), [], set()
        wanted = [t.id for t in self.doc.things if t.on and t.stack]
        for start in wanted:
            stack = [(start, iter(graph.needs(start)))] if start not in seen else []
            seen.add(start)
            while stack:
                at, left = stack[-1]
                following = next((n for n in left if n not in seen), None)
                if following is not None:
                    seen.add(following)
                    stack.append((following, iter(graph.needs(following))))
                    continue
                stack.pop()
                owner = graph.by_id[at]
                if owner.on and owner.stack and (owner.mesh is not None or owner.kind == "skeleton"):
                    found.append(owner)
        return found

    def solve_through(
        self, frame: float, progress: Progress | None = None, cancelled: Callable[[], bool] = lambda: False
    ) -> int:
        """Solve all that is needed up to a frame. Returns how many frames were computed. What was solved stays in the
        store as long as the scene is open.

        Raises Cancelled, or EstampaError with the layer and the frame, or when the store cannot hold the shot; what
        was solved before stays.
        """
        work = self.solvers()
        first, last = self.doc.solved_from, max(self.doc.start, int(np.floor(frame)))
        if not work:
            return 0
        if self._solved_through >= last and all(self.store.has(self.key(o, l, last)) for o, l in work):
            return 0
        keys = self.pin(last)
        self._refuse_too_much(work, keys)
        made = 0
        for i, (subject, layer) in enumerate(work):
            for at in range(first, last + 1):
                if cancelled():
                    raise Cancelled
                made += self._solve_frame(subject, layer, at)
                if progress:
                    progress((i + (at - first + 1) / (last - first + 1)) / len(work), f"{layer.name} · frame {at}")
        self._solved_through = last
        return made

    def pin(self, last: int | None = None) -> list[bytes]:
        """Keep what the scene needs (up to a frame, or all of it) in the store while it is open. Returns the keys."""
        first, last = self.doc.solved_from, max(last or self.doc.start, self.doc.solved_to)
        keys = [self.key(o, l, f) for o, l in self.solvers() for f in range(first, last + 1)]
        self.store.pin(self.scene, keys)
        return keys

    def _refuse_too_much(self, work, keys) -> None:
        """A shot that the store cannot hold is refused before it is solved, with its size."""
        if all(map(self.store.has, keys)):
            return
        rows = sum(
            self.mesh(o, self.layers_above(o, l)).count if o.mesh is not None else len(self.poses.bones(o))
            for o, l in work
        )
        self.store.refuse_too_much(len(keys), rows * len(keys) // len(work))

    def _solve_frame(self, subject: Thing, layer: Thing, frame: int) -> bool:
        key = self.key(subject, layer, frame)
        if self.store.has(key):
            return False
        state, at = None, frame
        while at > self.doc.solved_from and state is None:  # back to the last frame that is whole
            at -= 1
            state = self.store.state(self.key(subject, layer, at))
        for now in range(at if state is None else at + 1, frame + 1):
            state = self.advanced(subject, layer, now, state)
            self.store.write(self.key(subject, layer, now), state)
        return True

    def advanced(self, subject: Thing, layer: Thing, frame: int, state: State | None) -> State:
        """The state of a solver at a frame from that at the frame before; without one, its first."""
        return self.stepped(subject, layer, frame, state, self.inputs(subject, layer, frame))

    def stepped(self, subject: Thing, layer: Thing, frame: int, state: State | None, inputs) -> State:
        """The same, with what the solver reads given."""
        solver = layer.declared()
        try:
            state = solver.start(inputs) if state is None else solver.step(state, inputs, 1 / self.doc.frame_rate)
        except EstampaError as err:
            raise EstampaError(
                f"{layer.name} on {subject.name}, frame {frame}", err.cause, err.cure, err.detail
            ) from err
        _refuse_nonsense(state, layer, subject, frame)
        return state

    def inputs(self, owner: Thing, layer: Thing, frame: int) -> Inputs | PoseInputs:
        v = self.resolve(layer, owner, frame)
        wind = layer.constant("wind") if "wind" in layer.declared.channels else None
        world = self.world(frame, layer.declared.feels, wind)
        earlier = max(frame - 1, self.doc.solved_from)
        if owner.kind != "skeleton":
            before, now = (self.above(owner, layer, f).points for f in (earlier, frame))
            return Inputs(self._solver_mesh(owner, layer), before, now, v, world)
        above, poses = self.layers_above(owner, layer), self.poses
        frames = (max(frame - 2, self.doc.solved_from), earlier, frame)
        bones, entering = poses.bones(owner), [poses.world(owner, f, above) for f in frames]
        hang = self.values.find(layer.constant("hang_on")) if "hang_on" in layer.declared.channels else None
        carried = None
        if hang is not None and hang.mesh is not None:
            carried = tuple(self._carried(hang, poses.world(owner, self.doc.start, above), f) for f in frames[1:])
        return PoseInputs(bones, *entering, v, world, poses.factors(bones, frame), carried)

    def _carried(self, subject: Thing, at_start: np.ndarray, frame: float) -> np.ndarray:
        """(n, 3) how far the points of a moving mesh nearest to joints at the start have gone by a frame, metres."""
        first, now = (self.subject(subject, f).points for f in (self.doc.start, frame))
        nearest = cKDTree(first).query(at_start[:, :3, 3])[1]
        return now[nearest] - first[nearest]

    def _solver_mesh(self, subject, layer) -> Mesh:
        """The mesh that enters a solver, at the size that the subject has in the world at the first frame."""
        mesh = self.mesh(subject, self.layers_above(subject, layer))
        size = float(self.stage.one(subject, self.doc.start).place.size[0])
        if size == 1:
            return mesh
        kept = self.scene.solver_cache.get(("sized", layer.id))
        if kept is None or kept[0] is not mesh or kept[1] != size:
            kept = self.scene.solver_cache["sized", layer.id] = (mesh, size, mesh.with_points(mesh.points * size))
        return kept[2]


def few(values: np.ndarray) -> np.ndarray:
    """(1,) when all rows are the same, else as they are."""
    return values[:1] if len(values) > 1 and (values == values[0]).all() else values


def _carried_weights(weights, plans) -> np.ndarray:
    for plan in plans:
        weights = plan.carried(weights)
    weights = np.clip(weights, 0, 1).astype(np.float32)
    weights.flags.writeable = False  # as those that the scene keeps, so that kernels see one sort of array
    return weights


def _first(rows: Rows, count: int) -> Rows:
    return rows if len(rows) == count else Rows(rows.frames[:count], rows.index[:count], rows.count)


def _rows_of(place: Place, count: int) -> Place:
    return place if place.rows == count else Place(*(part[:count] for part in place))


def _refuse_nonsense(state: State, layer: Thing, subject: Thing, frame: int) -> None:
    if not (np.isfinite(state.points).all() and np.isfinite(state.velocity).all()):
        raise EstampaError(
            f"{layer.name} on {subject.name}, frame {frame}",
            "gave points that are not numbers.",
            "Raise Substeps, or undo the last change.",
        )
