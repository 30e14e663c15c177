"""A skeleton: joints that its layers pose."""

from dataclasses import replace

import numpy as np

from ..evaluate.owner import Owner
from ..evaluate.reader import Scope
from ..evaluate.reasons import Read
from ..geometry.pose import ends_of, split, turn_matrices
from ..hashing import digest
from ..lazy import spatial
from ..scene.document import Thing
from ..scene.graph import member_of
from ..scene.skins import skins_on
from ..solve.bodies.limb_shapes import LimbSkin
from ..solve.bodies.limbs import limbs_of
from ..solve.ensemble import MemberInputs
from ..solve.solver import PoseInputs


class SkeletonOwner(Owner):
    """Skeletons."""

    word, always_moves = "skeleton", True

    def __init__(self, evaluator):
        super().__init__(evaluator)
        self._still_members: dict[str, MemberInputs] = {}
        self._first_limbs: dict[str, tuple] = {}  # (joints (j, 4, 4), points (n, 3) m, m3) at the first solved frame

    def solvers(self, owner):
        return [l for l in self.evaluator.layers(owner) if l.declared.memory]

    def scope(self, owner, frame):
        return Scope.world(frame, owner, self.evaluator.poses.bones(owner))

    def fingerprint(self, owner, frame, layers=None):
        layers = self.evaluator.layers(owner) if layers is None else layers
        return digest(self.evaluator.poses.name(owner, frame, layers), self.reader.stand_name(owner, frame))

    def read_at_step(self, owner, layer, frame):
        found = super().read_at_step(owner, layer, frame)
        if not member_of(layer):
            return found
        skin = self.limb_skin(owner)
        return digest(found, skin and skin.fingerprint)

    def inputs(self, owner, layer, frame):
        poses, first = self.evaluator.poses, self.doc.solved_from
        v, world = self.reader.resolved(layer, self.scope(owner, frame)), self.evaluator.runs.world(layer, frame)
        above, frames = self.above(owner, layer), (max(frame - 2, first), max(frame - 1, first), frame)
        bones, entering = poses.bones(owner), [poses.world(owner, f, above) for f in frames]
        hang = self.reader.values.find(layer.constant("hang_on")) if "hang_on" in layer.declared.channels else None
        carried = None
        if hang is not None and hang.mesh is not None:
            carried = tuple(self._carried(hang, poses.world(owner, self.doc.start, above), f) for f in frames[1:])
        return PoseInputs(bones, *entering, v, world, poses.factors(bones, frame), carried)

    def _carried(self, subject: Thing, at_start: np.ndarray, frame: float) -> np.ndarray:
        """(n, 3) m, how far the points of a moving mesh nearest to joints at the start have gone by a frame."""
        first, now = (self.evaluator.subject(subject, f).points for f in (self.doc.start, frame))
        nearest = spatial.cKDTree(first).query(at_start[:, :3, 3])[1]
        return now[nearest] - first[nearest]

    def since_last_step(self, inputs, seen):
        if seen is not None and seen[1].shape == inputs.now.shape:
            inputs = replace(inputs, earlier=seen[0], before=seen[1])
        return inputs, (inputs.before, inputs.now)

    def member(self, owner, layer, frame):
        """Its limbs, as pieces of one mesh."""
        found = self._still_members.get(layer.id)
        if found is not None:
            return found
        poses, start = self.evaluator.poses, self.doc.solved_from
        above = self.above(owner, layer)
        limbs = limbs_of(poses.bones(owner), self.limb_skin(owner))
        at = lambda f: poses.world(owner, f, above)
        if layer.id not in self._first_limbs:
            world = at(start)
            self._first_limbs[layer.id] = (world, limbs.points(world), float(limbs.volumes(world).sum()))
        stood, first, volume = self._first_limbs[layer.id]
        now, earlier = at(frame), at(max(frame - 1, start))
        v = self.reader.resolved(layer, self.scope(owner, frame))
        before = limbs.points(earlier)
        after = before if np.array_equal(now, earlier) else limbs.points(now)
        name = f"{layer.name} on {owner.name}"
        v = layer.declared().as_body(v, volume)
        found = MemberInputs(layer.id, name, limbs.mesh, first, before, after, v, (), limbs, (stood, earlier, now))
        if self.is_still(owner, layer):
            self._still_members[layer.id] = found
        return found

    def limb_skin(self, skeleton: Thing) -> LimbSkin | None:
        """The first skin that a skeleton carries, by which its limbs have their shape."""
        for subject, layer in skins_on(self.doc, skeleton):
            bones = self.evaluator.poses.bones(skeleton)

            def make(subject=subject, layer=layer, bones=bones):
                arrays, mesh = self.evaluator.scene.arrays, self.evaluator.scene.mesh(subject.mesh)
                bind = (arrays.get(getattr(layer.bind, name)) for name in ("back", "indices", "weights"))
                return LimbSkin.of(bones, mesh, list(layer.bind.joints), *bind)

            return self.evaluator.scene.memo.get(layer.id, "limb skin", (layer.bind, subject.mesh, bones), make)
        return None

    def attempt(self, thing, frame):
        self.evaluator.poses.at(thing, frame)

    def rows(self, owner, layer):
        return len(self.evaluator.poses.bones(owner))

    def travel(self, owner, layer, frame):
        above = self.above(owner, layer)
        return self.evaluator.poses.travel_of(owner, above, [*above, layer], frame)

    def posed(self, thing, frame):
        poses = self.evaluator.poses
        bones, world = poses.bones(thing), poses.world(thing, frame)
        if not len(bones):
            return None
        return ends_of(world, bones.tips), turn_matrices(split(world[:, :3, :3])[0]), poses.at(thing, frame).is_current

    def point_name(self, thing, point, points, turns):
        return f"at the end of {thing.joints[point].name}"

    def judged_parts(self, thing):
        return list(self.evaluator.poses.bones(thing).joints)

    def facts(self, thing):
        return [j.name for j in thing.joints]

    def reads_as_named(self, thing, frame):
        return [Read("pose", f"{thing.name} · pose", self.evaluator.poses.name(thing, frame))]

    def reads(self, owner, frame):
        bones, found = self.evaluator.poses.bones(owner), super().reads(owner, frame)
        found.append(Read("bones", f"{owner.name} · joints", bones.digest))
        for i, name in bones.numbers:
            joint = bones.joints[i]
            label = f"{joint.name} · {joint.declared.channels[name].label.lower()}"
            found.append(Read(f"joint/{i}/{name}", label, self.evaluator.values.at(joint, name, frame)))
        return found


class JointOwner(Owner):
    """Joints, which have no stack: where one stands is the pose of its skeleton."""

    word, always_moves, is_posed, has_channels_of_its_own = "joint", True, True, False

    def stand_fingerprint(self, thing, frame):
        values, poses = self.evaluator.values, self.evaluator.poses
        skeleton = values.owner(thing.id)
        place, pose = values.bones(skeleton).where[thing.id], poses.name(skeleton, frame)
        return digest("joint", place, pose, self.reader.stand_name(skeleton, frame))

    def point_name(self, thing, point, points, turns):
        return "at its end"

    def is_solved(self, thing):
        skeleton = self.evaluator.values.owner(thing.id)
        return self.evaluator.owner(skeleton).is_solved(skeleton)

    def reads_as_named(self, thing, frame):
        return [Read("joint", f"{thing.name} · where it is", self.reader.stand_name(thing, frame))]
