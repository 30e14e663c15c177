"""Poses of skeletons at a frame: by hand, through the layers of the skeleton's stack, and in the world."""

from contextlib import contextmanager
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from ..errors import EstampaError
from ..geometry.place import Place
from ..geometry.pose import Pose, ends_of, in_skeleton
from ..hashing import digest
from ..kinds.plugins import blamed
from ..motion.pose_layer import PoseMoment
from ..scene.bones import Bones, hand_pose
from ..scene.document import Thing
from ..scene.skeleton import PHYSICAL
from ..scene.values import Rows
from .reader import Scope

KEPT = 3_000_000  # joints in poses that are kept


@dataclass(frozen=True)
class Posed:
    """A skeleton's pose at a frame. When a frame is not solved, something stands in for it, as for a Shape."""

    bones: Bones
    pose: Pose
    digest: bytes
    is_current: bool = True
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
            if not found.is_current:  # it may be solved before it is asked for again
                return found
            if self._size > KEPT:
                self._kept.clear()
                self._size = 0
            self._kept[key], self._size = found, self._size + len(found.bones)
        return found

    def name(self, skeleton: Thing, frame: float, layers: list[Thing] | None = None) -> bytes:
        """Digest of everything that decides the pose after the given layers, whether it is solved yet or not."""
        layers = self.evaluator.layers(skeleton) if layers is None else layers
        key = (skeleton.id, len(layers), layers[-1].id if layers else None, float(frame))
        found = self._names.get(key)
        if found is None:
            with self._guarded(skeleton, ("names", len(layers)), layers[-1] if layers else skeleton):
                found = self._names[key] = self._named(skeleton, frame, layers)
        return found

    def _named(self, skeleton, frame, layers):
        bones = self.bones(skeleton)
        if not layers:
            return digest("pose", bones.digest, [self.values.at(bones.joints[i], n, frame) for i, n in bones.numbers])
        layer, above = layers[-1], layers[:-1]
        if layer.declared.memory:
            if layer.id in self.evaluator.live:
                return self.evaluator.runs.shown(skeleton, layer, frame).key
            return digest("solved", self.evaluator.runs.look_key(skeleton, layer, frame))
        scope = self.scope(skeleton, frame)
        others = []
        if layer.declared.reads_frames:
            v = self.evaluator.reader.resolved(layer, scope)
            others = [self.name(skeleton, f, above) for f in layer.declared.frames_read(v, bones, frame)]
        return digest(self.name(skeleton, frame, above), self.evaluator.reader.fingerprint(layer, scope), others)

    def scope(self, skeleton: Thing, frame: float) -> Scope:
        """Layers of a skeleton read in its own space."""
        return Scope(Rows.one(frame), skeleton, self.skeleton_place(skeleton, frame), bones=self.bones(skeleton))

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
            return Posed(bones, hand_pose(self.values, bones, Rows.one(frame)), self.name(skeleton, frame, layers))
        with self._guarded(skeleton, len(layers), layers[-1]):
            return self._through(skeleton, frame, layers)

    def _through(self, skeleton, frame, layers):
        layer, above = layers[-1], self.at(skeleton, frame, layers[:-1])
        if layer.declared.memory:
            return self._solved(skeleton, frame, layers, above)
        scope, reader = self.scope(skeleton, frame), self.evaluator.reader
        v = reader.resolved(layer, scope)
        entering = lambda f: self.at(skeleton, f, layers[:-1]).pose
        feels = self.feels(skeleton, layer, above.bones, frame)
        now = PoseMoment(float(frame), self.evaluator.doc.frame_rate, above.bones, feels, entering)
        try:
            # what is no number is refused below, by its layer's name
            with np.errstate(all="ignore"), blamed(layer.declared, f"{layer.name} on {skeleton.name}"):
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
        named = [c for n, c in layer.declared.channels.items() if c.to and layer.constant(n)]
        stands = [reader.reading(layer, channel, scope).stands() for channel in named]
        is_current, shown = next(
            (s for s in [(above.is_current, above.shown_frame), *stands] if not s[0]), (True, None)
        )
        name = self.name(skeleton, frame, layers)
        return Posed(above.bones, pose, name if is_current else digest("stands in", name, *pose), is_current, shown)

    def _solved(self, skeleton, frame, layers, above):
        layer = layers[-1]
        found = self.evaluator.runs.shown(skeleton, layer, frame)
        if found is None:
            return Posed(above.bones, above.pose, digest("unsolved", above.digest), False, None)
        v = self.evaluator.resolve(layer, skeleton, frame)
        world = self.skeleton_place(skeleton, frame)
        pose = layer.declared().pose(found.frame, above.bones, above.pose, above.at, world, v)
        return Posed(
            above.bones, pose, digest(found.key, above.digest), found.is_current and above.is_current, found.at
        )

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

    def travel_of(self, skeleton: Thing, above, through, frame: float) -> tuple[float, float] | None:
        """How far a layer moves the tips of the joints at a frame: (mean, largest) in metres; None when not solved."""
        before, after = self.at(skeleton, frame, above), self.at(skeleton, frame, through)
        if not after.is_current or not len(after.bones):
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
        return moved, all(p.is_current for p in posed)
