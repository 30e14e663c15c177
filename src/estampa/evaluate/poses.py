"""Poses of skeletons at a frame: by hand, through the layers of the skeleton's stack, and in the world."""

from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..errors import EstampaError
from ..geometry.place import Place
from ..geometry.pose import Pose, ends_of, in_skeleton
from ..hashing import digest
from ..motion.layer import Resolved
from ..motion.pose_layer import PoseMoment
from ..scene.bones import Bones, hand_pose
from ..scene.document import Thing
from ..scene.skeleton import PHYSICAL
from ..scene.values import Rows
from .reads import Read

KEPT = 3_000_000  # joints in poses that are kept


@dataclass(frozen=True)
class Posed:
    """A skeleton's pose at a frame. When a frame is not solved, something stands in for it, as for a Shape."""

    bones: Bones
    pose: Pose
    digest: bytes
    true: bool = True
    shown_frame: float | None = None

    @cached_property
    def at(self) -> np.ndarray:
        """(n, 4, 4) of the joints in the skeleton's own space."""
        return in_skeleton(self.pose, self.bones.parents, self.bones.order)


class Poses:
    """Poses of one document, for one evaluator."""

    def __init__(self, evaluator):
        self.evaluator, self.values = evaluator, evaluator.values
        self.values.joint_place = self.joint_place
        self._kept: dict[tuple, Posed] = {}
        self._size = 0
        self._names: dict[tuple, bytes] = {}
        self._open: list[tuple] = []  # skeletons being posed, to find rings

    def bones(self, skeleton: Thing) -> Bones:
        return self.values.bones(skeleton)

    # -- poses -----------------------------------------------------------------------------------------------
    def at(self, skeleton: Thing, frame: float, layers: list[Thing] | None = None) -> Posed:
        """The pose after the given layers, which are the top part of the stack (all of them when none are given)."""
        layers = self.evaluator.layers(skeleton) if layers is None else layers
        key = (skeleton.id, len(layers), layers[-1].id if layers else None, float(frame))
        found = self._kept.get(key)
        if found is None:
            found = self._at(skeleton, frame, layers)
            if not found.true:  # it may be solved before it is asked for again
                return found
            if self._size > KEPT:
                self._kept.clear()
                self._size = 0
            self._kept[key], self._size = found, self._size + len(found.bones)
        return found

    def name(self, skeleton: Thing, frame: float) -> bytes:
        """Digest of everything that decides the pose after all layers, whether it is solved yet or not."""
        key = (skeleton.id, float(frame))
        if key not in self._names:
            with self._guarded(skeleton, "names", skeleton):
                self._names[key] = self.evaluator.stack_key(skeleton, self.evaluator.layers(skeleton), frame)
        return self._names[key]

    @contextmanager
    def _guarded(self, skeleton, what, layer):
        """Refuses, by name, what reads itself."""
        place = (skeleton.id, what)
        if place in self._open:
            raise EstampaError(
                f"{layer.name} on {skeleton.name}" if layer is not skeleton else skeleton.name,
                "reads what hangs on the same skeleton, so it would read itself.",
                "Aim at something that does not ride on it, or at one of its own joints.",
            )
        self._open.append(place)
        try:
            yield
        finally:
            self._open.pop()

    def forget(self) -> None:
        """Let go of the poses that are kept, as when the state of a solver changed under them."""
        self._kept.clear()

    def _at(self, skeleton, frame, layers):
        if not layers:
            bones = self.bones(skeleton)
            pose = hand_pose(self.values, bones, Rows.one(frame))
            return Posed(bones, pose, digest("pose", bones.digest, *pose))
        with self._guarded(skeleton, len(layers), layers[-1]):
            return self._through(skeleton, frame, layers)

    def _through(self, skeleton, frame, layers):
        layer, above = layers[-1], self.at(skeleton, frame, layers[:-1])
        if layer.declared.memory:
            return self._solved(skeleton, frame, layers, above)
        v, told, true = self.resolve(skeleton, layer, frame)
        entering = lambda f: self.at(skeleton, f, layers[:-1]).pose
        feels = self.feels(skeleton, layer, above.bones, frame)
        now = PoseMoment(float(frame), self.evaluator.doc.frame_rate, above.bones, feels, entering)
        try:
            with np.errstate(all="ignore"):  # what is no number is refused below, by its layer's name
                pose = layer.declared().pose(above.pose, v, now)
        except EstampaError as err:
            raise EstampaError(
                f"{layer.name} on {skeleton.name}", f"{err.what} {err.cause}", err.cure, err.detail
            ) from err
        if not all(np.isfinite(part).all() for part in pose):
            raise EstampaError(
                f"{layer.name} on {skeleton.name}",
                f"puts joints where there are no numbers, at frame {frame:g}.",
                "Undo the last change of its channels, or switch it off.",
            )
        others = layer.declared.frames_read(v, above.bones, frame)
        extra = [self.at(skeleton, f, layers[:-1]).digest for f in others]
        name = digest(above.digest, layer.kind, layer.declared.version, told, feels, extra)
        return Posed(above.bones, pose, name, above.true and true, above.shown_frame)

    def _solved(self, skeleton, frame, layers, above):
        evaluator, layer = self.evaluator, layers[-1]
        found, shown, key, true = evaluator.state_at(skeleton, layer, frame)
        if found is None:
            return Posed(above.bones, above.pose, above.digest, False, None)
        solver = layer.declared()
        v = evaluator.resolve(layer, skeleton, frame)
        world = self.skeleton_place(skeleton, frame)
        pose = solver.pose(found, above.bones, above.pose, above.at, world, v)
        return Posed(above.bones, pose, digest(key, above.digest), true and above.true, shown)

    def feels(self, skeleton, layer, bones, frame) -> np.ndarray:
        """(n,) how much each joint feels of a layer."""
        strength = self.values.at(layer, "strength", frame) if "strength" in layer.declared.channels else 1.0
        return strength * self.own(bones, "influence", frame)

    def own(self, bones: Bones, name: str, frame: float) -> np.ndarray:
        """(n,) the joints' own values of a channel."""
        result = np.ones(len(bones))
        for i, number in bones.numbers:
            if number == name:
                result[i] = self.values.at(bones.joints[i], name, frame)
        return result

    def factors(self, bones: Bones, frame: float) -> dict[str, np.ndarray]:
        """What the joints' own channels make of a solver's: stiffness, mass and area, (n,) each."""
        return {name: self.own(bones, name, frame) for name in PHYSICAL}

    # -- what layers read ------------------------------------------------------------------------------------
    def resolve(self, skeleton: Thing, layer: Thing, frame: float) -> tuple[Resolved, list, bool]:
        """(channel values as a layer of a skeleton reads them, what was read, whether all of it is solved)."""
        v, told, true = Resolved(), [], True
        v.travel = {}
        bones, back = self.bones(skeleton), None
        for name, channel in layer.declared.channels.items():
            value = self.values.at(layer, name, frame)
            if channel.to == "joint":
                value = bones.where.get(value)
            elif channel.to in ("placed", "grip"):
                held = self.values.find(value)
                back = back or self.skeleton_place(skeleton, frame).inverse()
                value, ok = self._target(skeleton, layer, name, held, frame, back)
                true &= ok
            elif channel.to == "path":
                held = self.values.find(value)
                back = back or self.skeleton_place(skeleton, frame).inverse()
                line = self.evaluator.stage.sampled(held) if held is not None and held.kind == "path" else None
                value = (line, back @ self.values.place(held, Rows.one(frame))) if line is not None else None
                told.append((held.spots, self.values.at(held, "closed", 0.0), value[1]) if value else None)
            elif channel.to == "subject":
                held = self.values.find(value)
                if held is not None and held.mesh is not None:
                    layers = self.evaluator.layers(held)
                    told.append(self.evaluator.layer_digest(held, layers[-1] if layers else None, frame))
                    v.travel[name] = told[-1]
            elif channel.accumulates:
                v.travel[name] = self.values.travel(layer, name, frame)
                told.append(v.travel[name])
            if channel.to != "path":
                told.append(value if isinstance(value, (np.ndarray, int, float, str, bool)) else None)
            v[name] = value
        if v.get("loops") and self.evaluator.doc.loop:
            turns, seconds = self.evaluator.loop_turns(np.array([float(frame)]))
            v.loop = (float(turns[0]), seconds)
            told.append((*v.loop, self.evaluator.doc.frame_rate))
        return v, told, true

    def _target(self, skeleton, layer, name, held, frame, back):
        """(a joint of this skeleton by its number, or the matrix of something else in its space; whether solved)."""
        if held is None or held.declared is None:
            return None, True
        if held.kind == "joint":
            own = self.bones(skeleton).where.get(held.id)
            if own is not None:
                return own, True
            owner = self.values.owner(held.id)
            posed = self.at(owner, frame)
            matrix = self.skeleton_place(owner, frame).matrices[0] @ posed.at[posed.bones.where[held.id]]
            return back.matrices[0] @ matrix, posed.true
        matrix, true = self.values.place(held, Rows.one(frame)).matrices[0], True
        found = held.map(layer.constant(f"{name}_map")) if f"{name}_map" in layer.declared.channels else None
        if found is not None and held.mesh is not None:
            shape = self.evaluator.subject(held, frame)
            weights = self.evaluator.map_weights(held, found).astype(float)
            if weights.sum() > 0:
                matrix = matrix.copy()
                matrix[:3, 3] = weights @ shape.points / weights.sum()
            true = shape.true
        return back.matrices[0] @ matrix, true

    def travel_of(self, skeleton: Thing, above, through, frame: float) -> tuple[float, float] | None:
        """How far a layer moves the tips of the joints at a frame: (mean, largest) in metres; None when not solved."""
        before, after = self.at(skeleton, frame, above), self.at(skeleton, frame, through)
        if not after.true or not len(after.bones):
            return None
        apart = np.linalg.norm(ends_of(after.at - before.at, after.bones.tips), axis=1)
        size = float(self.skeleton_place(skeleton, frame).size[0])
        return float(apart.mean()) * size, float(apart.max()) * size

    # -- in the world ----------------------------------------------------------------------------------------
    def skeleton_place(self, skeleton: Thing, frame: float) -> Place:
        return self.values.place(skeleton, Rows.one(frame))

    def world(self, skeleton: Thing, frame: float, layers: list[Thing] | None = None) -> np.ndarray:
        """(n, 4, 4) of the joints in the world."""
        return self.skeleton_place(skeleton, frame).matrices[0] @ self.at(skeleton, frame, layers).at

    def joint_place(self, joint: Thing, skeleton: Thing, rows: Rows) -> Place:
        """Where a joint stands in the world, for what rides on it."""
        where = self.bones(skeleton).where[joint.id]
        return Place.of_matrices(np.stack([self.world(skeleton, f)[where] for f in rows.frames]))

    def palette(self, skeleton: Thing, bind, back: np.ndarray, into: Place, rows: Rows) -> tuple[np.ndarray, bool]:
        """((k, j, 3, 4) what each bound joint makes of a point of the subject, whether all of it is solved).

        back -- (j, 4, 4) from the subject's space into each joint's, at rest; into -- (k) where the subject stands.
        A joint that is gone leaves its vertices where they were bound.
        """
        where = self.bones(skeleton).where
        gone = np.array([j not in where for j in bind.joints], bool)
        picked = np.array([where.get(j, 0) for j in bind.joints], np.int64)
        frames, which = np.unique(rows.frames, return_inverse=True)
        posed = [self.at(skeleton, f) for f in frames]
        world = np.stack(
            [self.skeleton_place(skeleton, f).matrices[0] @ p.at for f, p in zip(frames, posed, strict=True)]
        )
        inward = into.inverse().matrices
        joints = world[:, picked][which] if len(world[0]) else np.zeros((len(which), len(picked), 4, 4))
        moved = inward[:, None] @ joints @ back[None]
        moved[:, gone] = np.eye(4)
        same = len(moved) > 1 and (moved == moved[0]).all()
        moved = np.ascontiguousarray((moved[:1] if same else moved)[:, :, :3])
        return moved, all(p.true for p in posed)

    # -- what is read, by name -------------------------------------------------------------------------------
    def reads(self, skeleton: Thing, frame: float) -> list[Read]:
        """Everything of a skeleton's own that decides its pose by hand at a frame."""
        bones = self.bones(skeleton)
        found = [Read("bones", f"{skeleton.name} · joints", bones.digest)]
        found += self.evaluator.thing_reads(skeleton, None, frame, deep=1)
        for i, name in bones.numbers:
            joint = bones.joints[i]
            label = f"{joint.name} · {joint.declared.channels[name].label.lower()}"
            found.append(Read(f"joint/{i}/{name}", label, self.values.at(joint, name, frame)))
        return found

    def target_reads(self, skeleton: Thing, layer: Thing, frame: float) -> list[Read]:
        """What a layer reads besides its own values: maps of its targets, and what enters at other frames."""
        found = []
        for name, channel in layer.declared.channels.items():
            if channel.to != "target_map":
                continue
            target = self.values.find(layer.constant(name.removesuffix("_map")))
            chosen = target.map(layer.constant(name)) if target is not None else None
            if chosen is not None and target.mesh is not None:
                value = (chosen.weights, self.evaluator.shape_name(target, frame))
                found.append(Read(f"{layer.kind}/{name}", f"{target.name} · {chosen.name}", value))
        if layer.declared.reads_frames:
            above = self.evaluator.layers_above(skeleton, layer)
            v = self.resolve(skeleton, layer, frame)[0]
            for other in layer.declared.frames_read(v, self.bones(skeleton), frame):
                name = self.evaluator.stack_key(skeleton, above, other)
                found.append(Read(f"{layer.kind}/entering", f"{skeleton.name} · what enters {layer.name}", name))
        return found
