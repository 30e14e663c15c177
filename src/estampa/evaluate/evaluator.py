"""The evaluator of one document: it computes only what is asked for, each result once.

What a layer reads is listed before it is computed (`reads`). The digest of that list names the result: a shape of a
layer without memory in the shape cache, a solved frame in the store. A solved frame's key is
H(key of the frame before, everything read at this frame).
"""

from collections.abc import Callable
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from ..errors import Cancelled, EstampaError
from ..forces.force import World
from ..hashing import digest
from ..motion.layer import Moment, Resolved
from ..scene.document import Document, Thing
from ..scene.things import Grip
from ..solve.solver import Inputs, State

MOVED = "(order or switch)"


class Read(NamedTuple):
    """One value that a layer reads at a frame."""

    path: str  # for the digest: which channel of what kind, in a fixed order
    label: str  # for a person: "Onshore wind · speed"
    value: object


@dataclass(frozen=True)
class Shape:
    """Points of a subject at a frame. When a frame is not solved, something stands in for it: its stale result (then
    `shown_frame` is the frame itself), an earlier solved frame, or the shape from the layers above (None)."""

    points: np.ndarray  # (n, 3) float64 m
    digest: bytes
    true: bool = True
    shown_frame: float | None = None


Progress = Callable[[float, str], None]  # (share done, what is under way)


class Evaluator:
    """Reads a document that does not change under it. One thread at a time; make another for another thread."""

    def __init__(self, doc: Document, scene, store):
        self.doc, self.scene, self.store = doc, scene, store
        self.stale_keys: dict[
            tuple[str, int], bytes
        ] = {}  # (layer, frame) -> key of its last result, if a view keeps them
        self._keys: dict[str, list[bytes]] = {}
        self._reads: dict[tuple, list[Read]] = {}
        self._grips: dict[tuple, tuple] = {}

    # -- what is read --------------------------------------------------------------------------------------
    def thing_reads(self, thing: Thing, owner: Thing | None, frame: float) -> list[Read]:
        """Every value of a thing at a frame, those of the grips it names included."""
        declared, reads = thing.declared, []
        head = f"{thing.kind}/{declared.version}"
        for name, channel in declared.channels.items():
            label = f"{thing.name} · {channel.label.lower()}"
            value = thing.at(name, frame)
            if channel.to == "map":
                found = owner.map(value) if owner else None
                value = found.weights if found else None
            elif channel.to:
                held = self.doc.find(value)
                value = None
                if held is not None and held.declared is not None:
                    reads += [
                        Read(f"{head}/{name}/{r.path}", r.label, r.value) for r in self.thing_reads(held, None, frame)
                    ]
                    value = held.kind
            elif channel.accumulates:
                reads.append(Read(f"{head}/{name}/travel", label, self.travel(thing, name, frame)))
            reads.append(Read(f"{head}/{name}", label, value))
        return reads

    def travel(self, thing: Thing, name: str, frame: float) -> float:
        """Integral of a channel over time since frame 0, in its unit x seconds."""
        curve = thing.curve(name)
        if curve is None:
            return thing.at(name, frame) * frame / self.doc.frame_rate
        return curve.integral(0.0, frame) / self.doc.frame_rate

    def layers(self, subject: Thing) -> list[Thing]:
        return [l for l in subject.stack if l.on and l.declared is not None]

    def layers_above(self, subject: Thing, layer: Thing) -> list[Thing]:
        layers = self.layers(subject)
        return layers[: [l.id for l in layers].index(layer.id)]

    def forces(self) -> list[Thing]:
        return [t for t in self.doc.things if t.on and t.declared is not None and t.declared.family == "force"]

    def reads(self, subject: Thing, layer: Thing, frame: float) -> list[Read]:
        """Everything that decides a layer's result at a frame: the rest shape, the layers above, its own channels and,
        for a layer with memory, the forces."""
        key = (layer.id, frame)
        if key not in self._reads:
            mesh = subject.mesh
            found = [
                Read("mesh", f"{subject.name} · mesh", (mesh.points, mesh.face_counts, mesh.face_indices, mesh.uv))
            ]
            for above in self.layers_above(subject, layer):
                if above.declared.memory:
                    found.append(Read("above", above.name, self.key(subject, above, frame)))
                else:
                    found += self._layer_reads(above, subject, frame)
            found += self._layer_reads(layer, subject, frame)
            if layer.declared.memory:
                found.append(Read("rate", "Frame rate", self.doc.frame_rate))
                for force in self.forces():
                    found.append(Read(f"force/{force.kind}", f"{force.name} {MOVED}", True))
                    found += self.thing_reads(force, None, frame)
            self._reads[key] = found
        return self._reads[key]

    def _layer_reads(self, layer: Thing, subject: Thing, frame: float) -> list[Read]:
        here = [Read(f"layer/{layer.kind}", f"{layer.name} {MOVED}", True)]
        return here + self.thing_reads(layer, subject, frame)

    def layer_digest(self, subject: Thing, layer: Thing, frame: float) -> bytes:
        if layer.declared.memory:
            return self.key(subject, layer, frame)
        return self._reads_digest(subject, layer, frame)

    def _reads_digest(self, subject: Thing, layer: Thing, frame: float) -> bytes:
        return digest(*((r.path, r.value) for r in self.reads(subject, layer, frame)))

    def key(self, subject: Thing, layer: Thing, frame: float) -> bytes:
        """The key of a solved frame; frames before the first are the first."""
        keys = self._keys.setdefault(layer.id, [])
        place = max(0, int(np.floor(frame)) - self.doc.start)
        while len(keys) <= place:
            at = self.doc.start + len(keys)
            keys.append(digest(keys[-1] if keys else b"start", self._reads_digest(subject, layer, at)))
        return keys[place]

    # -- values --------------------------------------------------------------------------------------------
    def resolve(self, thing: Thing, owner: Thing | None, frame: float) -> Resolved:
        """Channel values as a layer or force reads them."""
        v = Resolved()
        v.travel = {}
        for name, channel in thing.declared.channels.items():
            value = thing.at(name, frame)
            if channel.to == "map":
                found = owner.map(value) if owner else None
                value = self.scene.arrays.get(found.weights) if found else None
            elif channel.to == "grip":
                held = self.doc.find(value)
                value = self.grip(held, frame) if held is not None and held.kind == "grip" else None
            elif channel.accumulates:
                v.travel[name] = self.travel(thing, name, frame)
            v[name] = value
        return v

    def grip(self, grip: Thing, frame: float) -> tuple[np.ndarray, np.ndarray, float]:
        if (grip.id, frame) not in self._grips:
            self._grips[grip.id, frame] = Grip.frame({n: grip.at(n, frame) for n in Grip.channels})
        return self._grips[grip.id, frame]

    def world(self, frame: float) -> World:
        world = World()
        for force in self.forces():
            force.declared().act(world, self.resolve(force, None, frame))
        return world

    # -- shapes --------------------------------------------------------------------------------------------
    def subject(self, subject: Thing, frame: float) -> Shape:
        """The result of a subject's whole stack."""
        return self.through(subject, self.layers(subject), frame)

    def above(self, subject: Thing, layer: Thing, frame: float) -> Shape:
        """The shape that enters a layer."""
        return self.through(subject, self.layers_above(subject, layer), frame)

    def through(self, subject: Thing, layers: list[Thing], frame: float) -> Shape:
        """The rest shape after the given layers, which are the top part of the stack."""
        mesh = self.scene.mesh(subject.mesh)
        if not layers:
            return Shape(mesh.points, digest(subject.mesh.points))
        layer = layers[-1]
        key = self.layer_digest(subject, layer, frame)
        if layer.declared.memory:
            points = self.store.points(key)
            if points is not None:
                return Shape(points.astype(np.float64), key, shown_frame=frame)
            return self._stand_in(subject, layers, frame)
        found = self.scene.shapes.get(key)
        if found is not None:
            return Shape(found, key)
        entering = self.through(subject, layers[:-1], frame)
        now = Moment(frame, frame / self.doc.frame_rate, mesh)
        points = layer.declared().apply(entering.points, self.resolve(layer, subject, frame), now)
        if not np.isfinite(points).all():
            raise EstampaError(
                f"{layer.name} on {subject.name}",
                f"gives points that are not numbers at frame {frame:g}.",
                "Undo the last change of its channels, or switch it off.",
            )
        if entering.true:
            self.scene.shapes.put(key, points)
        return Shape(points, key, entering.true, entering.shown_frame)

    def _stand_in(self, subject, layers, frame) -> Shape:
        """For a frame that is not solved: its stale result, the nearest solved frame before it, or else the shape from
        above."""
        layer, at = layers[-1], int(np.floor(frame))
        stale = self.stale_keys.get((layer.id, at))
        points = self.store.points(stale) if stale else None
        if points is not None and len(points) == len(self.scene.mesh(subject.mesh).points):
            return Shape(points.astype(np.float64), stale, False, frame)
        for earlier in range(int(np.floor(frame)) - 1, self.doc.start - 1, -1):
            key = self.key(subject, layer, earlier)
            points = self.store.points(key) if self.store.has(key) else None
            if points is not None:
                return Shape(points.astype(np.float64), key, False, earlier)
        entering = self.through(subject, layers[:-1], frame)
        return Shape(entering.points, entering.digest, False, None)

    def travel_of(self, subject: Thing, layer: Thing, frame: float) -> tuple[float, float] | None:
        """How far a layer moves its subject at a frame: (mean, largest) in metres; None when it is not solved."""
        above = self.layers_above(subject, layer)
        through = [*above, layer]
        if any(l.declared.memory and not self.store.has(self.key(subject, l, frame)) for l in through):
            return None
        key = digest("envelope", self.layer_digest(subject, layer, frame))
        found = self.scene.shapes.get(key)
        if found is None:
            before, after = self.through(subject, above, frame), self.through(subject, through, frame)
            moved = np.linalg.norm(after.points - before.points, axis=1)
            found = np.array([moved.mean(), moved.max()])
            self.scene.shapes.put(key, found)
        return float(found[0]), float(found[1])

    # -- solving -------------------------------------------------------------------------------------------
    def solvers(self) -> list[tuple[Thing, Thing]]:
        """(subject, layer) for each layer with memory that is on, in the order they must be solved."""
        return [(s, l) for s in self.doc.subjects if s.on for l in self.layers(s) if l.declared.memory]

    def solve_through(
        self, frame: float, progress: Progress | None = None, cancelled: Callable[[], bool] = lambda: False
    ) -> int:
        """Solve all that is needed up to a frame. Returns how many frames were computed.

        Raises Cancelled, or EstampaError with the layer and the frame; what was solved before stays.
        """
        work = self.solvers()
        first, last = self.doc.start, max(self.doc.start, int(np.floor(frame)))
        made = 0
        for i, (subject, layer) in enumerate(work):
            for at in range(first, last + 1):
                if cancelled():
                    raise Cancelled
                made += self._solve_frame(subject, layer, at)
                if progress:
                    progress((i + (at - first + 1) / (last - first + 1)) / len(work), f"{layer.name} · frame {at}")
        return made

    def _solve_frame(self, subject: Thing, layer: Thing, frame: int) -> bool:
        key = self.key(subject, layer, frame)
        if self.store.has(key):
            return False
        solver = layer.declared()
        v = self.resolve(layer, subject, frame)
        now = self.above(subject, layer, frame).points
        if frame == self.doc.start:
            before, state = now, None
        else:
            before = self.above(subject, layer, frame - 1).points
            state = self.store.state(self.key(subject, layer, frame - 1))
            if state is None:
                raise EstampaError(
                    f"{layer.name} on {subject.name}",
                    f"lost its solved frame {frame - 1} from the store.",
                    "Solve again. If it happens often, raise the store's size limit.",
                )
        inputs = Inputs(self.scene.mesh(subject.mesh), before, now, v, self.world(frame), self.scene.solver_cache)
        try:
            state = solver.start(inputs) if state is None else solver.step(state, inputs, 1 / self.doc.frame_rate)
        except EstampaError as err:
            raise EstampaError(
                f"{layer.name} on {subject.name}, frame {frame}", err.cause, err.cure, err.detail
            ) from err
        _refuse_nonsense(state, layer, subject, frame)
        self.store.write(key, state)
        return True


def _refuse_nonsense(state: State, layer: Thing, subject: Thing, frame: int) -> None:
    if not (np.isfinite(state.points).all() and np.isfinite(state.velocity).all()):
        raise EstampaError(
            f"{layer.name} on {subject.name}, frame {frame}",
            "gave points that are not numbers.",
            "Raise Substeps, or undo the last change.",
        )
