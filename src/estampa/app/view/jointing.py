"""Joints in a pane: drawn over the mesh, found under a pixel, taken hold of; and the weights of a skin."""

import numpy as np
from PySide6.QtGui import QPainter

from ...edits import joints as build
from ...geometry import pose as turns
from ...geometry.place import Place
from ...scene.bones import hand_pose
from ...scene.skeleton import STRETCHES, TURNS
from ...scene.values import Rows
from ...solve.bodies.limbs import limbs_of
from . import marks
from .limits import NEAR, LimbLimits

REACH = 10  # pixels within which a joint is picked


class Jointing:
    """The part of a Viewport that deals with joints and skins."""

    # -- what is seen ----------------------------------------------------------------------------------------
    def _looked_joints(self, skeleton):
        return self.session.pictures.picture.joints.get(skeleton.id) if skeleton is not None else None

    def draw_skeletons(self, painter: QPainter, view):
        s, chosen = self.session, {j.id for j in self.session.selection.joints}
        for skeleton in s.doc.skeletons:
            looked = self._looked_joints(skeleton)
            if looked is None or (s.selection.isolated and skeleton.id not in s.selection.isolated):
                continue
            active = s.selection.skeleton is not None and s.selection.skeleton.id == skeleton.id
            looks = looks_of(skeleton)
            marks.joint_shapes(painter, view, looked, chosen, looks)
            if not active and s.view.tool != "joint" and self.look.meshes:
                continue  # over the meshes, only those of what is worked on
            marks.skeleton(painter, view, looked, chosen, active, looks)
            if active:
                for limits in self.limits():
                    limits.draw(painter, view, self._hot[1] if self._is_hot(limits) else "")
            if active and s.view.tool in ("joint", "paint"):
                for joint in s.selection.joints[:1]:
                    where = looked.bones.where.get(joint.id)
                    if where is not None:
                        marks.name(painter, view, looked.world[where, :3, 3], joint.name)

    def limits(self) -> list[LimbLimits]:
        """Of the chosen joints of a ragdoll, or of all of them while its layer is chosen."""
        s, skeleton = self.session, self.session.selection.skeleton
        looked = self._looked_joints(skeleton)
        limp = next(iter(skeleton.layers_of("limp")), None) if skeleton is not None else None
        if limp is None or looked is None:
            return []
        every = s.selection.thing is not None and s.selection.thing.id == limp.id
        chosen, limbs = {j.id for j in s.selection.joints}, limbs_of(looked.bones)
        shown = [every or looked.bones.joints[j].id in chosen for j in limbs.joint]
        return [LimbLimits(looked, limbs, k) for k in np.flatnonzero(shown & (limbs.parent >= 0))]

    def _is_hot(self, limits: LimbLimits) -> bool:
        return isinstance(self._hot, tuple) and self._hot[0] == limits.joint.id

    def limit_under(self, x, y) -> tuple[LimbLimits, str, float] | None:
        """(limits, "cone" or "twist", where) of the limit that lies under a pixel."""
        if self.session.view.tool != "hand" or self.session.player.playing or not self.look.joints:
            return None
        found = [(*limits.under(self.view(), (x, y)), limits) for limits in self.limits()]
        gap, which, where, limits = min(found, key=lambda f: f[0], default=(np.inf, "", 0.0, None))
        return (limits, which, where) if gap <= NEAR else None

    def joint_under(self, x, y) -> str | None:
        """Id of the joint whose middle is under a pixel."""
        best, found = REACH, None
        for skeleton in self.session.doc.skeletons:
            looked = self._looked_joints(skeleton)
            if looked is None or not len(looked.world):
                continue
            pixels, depth = self.camera.project(looked.world[:, :3, 3], self.width(), self.height())
            gap = np.where(depth > 0, np.linalg.norm(pixels - [x, y], axis=1), np.inf)
            for joint, (look, size, up, _) in looks_of(skeleton).items():
                where = looked.bones.where.get(joint)
                if where is None:
                    continue
                gap[where] = np.inf
                if look != "hidden":  # a shape is taken by its line
                    line = marks.shape_of(look, size, up) @ looked.world[where, :3, :3].T + looked.world[where, :3, 3]
                    on, far = self.camera.project(line, self.width(), self.height())
                    gap[where] = _to_line(np.array([x, y]), on) if (far > 0).all() else np.inf
            if gap.min() < best:
                best, found = float(gap.min()), looked.bones.joints[int(gap.argmin())].id
        return found

    def joint_place(self, joint) -> Place:
        """Where a joint is seen: after all layers of its skeleton."""
        looked = self._looked_joints(self.session.doc.owner(joint.id))
        where = looked.bones.where.get(joint.id) if looked is not None else None
        if where is None:
            return self.session.scene.values.place(joint, Rows.one(self.session.player.frame))
        return Place.of_matrices(looked.world[where : where + 1])

    def middle_under(self, x, y) -> np.ndarray:
        """The middle of the volume under a pixel; of a mere surface the surface; else the floor, or a plane before the
        camera."""
        eye, direction = self.camera.ray(x, y, self.width(), self.height())
        hits = self.depth_under(x, y)
        if hits:
            size = max(float(np.ptp(np.concatenate([d.points for d in self.drawn()]), axis=0).max()), 1e-6)
            apart = [t for t in hits[1:] if t - hits[0] > 1e-4 * size]
            return eye + direction * (0.5 * (hits[0] + apart[0]) if apart else hits[0])
        last = self._last_joint()
        at = last if last is not None else self.camera.target
        back = self.camera.axes[2]
        return eye + direction * ((at - eye) @ back) / (direction @ back)

    def _last_joint(self):
        joints = self.session.selection.joints
        looked = self._looked_joints(self.session.selection.skeleton)
        if looked is None or not joints or joints[0].id not in looked.bones.where:
            return None
        where = looked.bones.where[joints[0].id]
        return (looked.world[where] @ [*looked.bones.tips[where], 1.0])[:3]

    # -- handles ---------------------------------------------------------------------------------------------
    def joint_values(self, joint, dragged: dict) -> dict:
        """Channels of a joint for where handles put it in the world. What its skeleton's layers do stays on top."""
        s = self.session
        skeleton = s.doc.owner(joint.id)
        bones = s.scene.values.bones(skeleton)
        where, looked = bones.where[joint.id], self._looked_joints(skeleton)
        world = looked.world[where]
        before = Place.of_matrices(world[None])
        after = Place.of({**before.values, **dragged})
        hand = hand_pose(s.scene.values, bones, Rows.one(s.player.frame))
        values = {}
        if any(n in dragged for n in TURNS):
            delta = turns.product(turns.inverse(turns.turns_of(before.axes)[0]), turns.turns_of(after.axes)[0])
            turn = turns.product(hand.turn[where], delta)
            own = turns.product(turns.inverse(bones.rest.turn[where]), turn)
            near = [float(s.scene.values.at(joint, n, s.player.frame)) for n in TURNS]
            values |= dict(zip(TURNS, turns.to_euler(own[None], near)[0].tolist(), strict=True))
        elif "size" in dragged:
            ratio = dragged["size"] / before.values["size"]
            values |= {n: float(s.scene.values.at(joint, n, s.player.frame)) * ratio for n in STRETCHES}
        else:
            parent = int(bones.parents[where])
            above = looked.world[parent] if parent >= 0 else self.place(skeleton).matrices[0]
            step = np.linalg.solve(above[:3, :3], after.origin[0] - before.origin[0])
            values |= {
                n: float(s.scene.values.at(joint, n, s.player.frame) + d) for n, d in zip("xyz", step, strict=True)
            }
        return values

    # -- weights ---------------------------------------------------------------------------------------------
    def painted(self):
        """(subject, skin layer, number of the joint among those bound) that a stroke would change, or None."""
        s, layer = self.session, self.session.selection.skin
        joint = s.selection.joints[0] if s.selection.joints else None
        if layer is None or joint is None or joint.id not in layer.bind.joints:
            return None
        return s.doc.owner(layer.id), layer, layer.bind.joints.index(joint.id)

    def heir(self, layer) -> int | None:
        """The joint that takes weights which no other one has: what the painted one hangs on, or its first own."""
        joint = self.session.selection.joints[0]
        bones = self.session.scene.values.bones(self.session.doc.owner(joint.id))
        where = bones.where[joint.id]
        near = [bones.parents[where], *bones.children[where]]
        ids = [bones.joints[i].id for i in near if i >= 0]
        return next((layer.bind.joints.index(i) for i in ids if i in layer.bind.joints), None)

    def weights_shown(self, layer) -> np.ndarray:
        """Weights of a skin; spread out anew only when they changed, since every picture and every sight line asks."""
        if self._spread is None or self._spread[0] is not layer.bind:
            self._spread = (layer.bind, build.weights_of(self.session.scene, layer))
        return self._spread[1]


def looks_of(skeleton) -> dict[str, tuple]:
    """Joint id -> (look, size m, how far along m, ink) of those that are not drawn as joints."""
    names = ("look", "look_size", "look_up", "look_ink")
    found = {j.id: tuple(j.constant(n) for n in names) for j in skeleton.joints if j.declared is not None}
    return {i: look for i, look in found.items() if look[0] != "needle"}


def _to_line(point, line) -> float:
    """Pixels from a point to a polyline (n, 2)."""
    a, way = line[:-1], np.diff(line, axis=0)
    share = np.clip(((point - a) * way).sum(axis=1) / np.maximum((way**2).sum(axis=1), 1e-12), 0, 1)
    return float(np.linalg.norm(a + share[:, None] * way - point, axis=1).min())
