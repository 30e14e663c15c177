"""Joints in a pane: drawn over the mesh, clicked into it, taken hold of; and weights painted on a skin."""

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtGui import QColor, QPainter, QPen

from ...edits import joints as build
from ...geometry import pose as turns
from ...geometry import weights as bound
from ...geometry.place import Place
from ...lazy import spatial
from ...scene.bones import hand_pose
from ...scene.skeleton import STRETCHES, TURNS
from ...scene.values import Rows
from . import marks

REACH = 10  # pixels within which a joint is picked


class Jointing:
    """The part of a Viewport that deals with joints and skins."""

    # -- what is seen ----------------------------------------------------------------------------------------
    def _looked_joints(self, skeleton):
        return self.session.picture.joints.get(skeleton.id) if skeleton is not None else None

    def draw_skeletons(self, painter: QPainter, view):
        s, chosen = self.session, {j.id for j in self.session.joints}
        for skeleton in s.doc.skeletons:
            looked = self._looked_joints(skeleton)
            if looked is None or (s.isolated and skeleton.id not in s.isolated):
                continue
            active = s.skeleton is not None and s.skeleton.id == skeleton.id
            if not active and s.tool != "joint" and self.look.meshes:
                continue  # over the meshes, only those of what is worked on
            marks.skeleton(painter, view, looked, chosen, active)
            if active and s.tool in ("joint", "paint"):
                for joint in s.joints[:1]:
                    where = looked.bones.where.get(joint.id)
                    if where is not None:
                        marks.name(painter, view, looked.world[where, :3, 3], joint.name)

    def draw_brush(self, painter: QPainter):
        """The ring of the brush, as large as it is on the mesh under the pointer."""
        s = self.session
        if s.tool != "paint" or self._brush_at is None:
            return
        at, point = self._brush_at
        point = self.camera.target if point is None else point
        size = s.brush.radius / self.camera.metres_per_pixel(self.height(), point)
        for colour, wide in ((QColor(42, 36, 32, 190), 3.0), (marks.AMBER, 1.5)):
            painter.setPen(QPen(colour, wide, Qt.DashLine if s.brush.through else Qt.SolidLine))
            painter.setBrush(Qt.NoBrush)
            painter.drawEllipse(QPointF(*at), size, size)

    def joint_under(self, x, y) -> str | None:
        """Id of the joint whose middle is under a pixel."""
        best, found = REACH, None
        for skeleton in self.session.doc.skeletons:
            looked = self._looked_joints(skeleton)
            if looked is None or not len(looked.world):
                continue
            pixels, depth = self.camera.project(looked.world[:, :3, 3], self.width(), self.height())
            gap = np.where(depth > 0, np.linalg.norm(pixels - [x, y], axis=1), np.inf)
            if gap.min() < best:
                best, found = float(gap.min()), looked.bones.joints[int(gap.argmin())].id
        return found

    def joint_place(self, joint) -> Place:
        """Where a joint is seen: after all layers of its skeleton."""
        looked = self._looked_joints(self.session.doc.owner(joint.id))
        where = looked.bones.where.get(joint.id) if looked is not None else None
        if where is None:
            return self.session.scene.values.place(joint, Rows.one(self.session.frame))
        return Place.of_matrices(looked.world[where : where + 1])

    # -- the joint tool --------------------------------------------------------------------------------------
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
        joints = self.session.joints
        looked = self._looked_joints(self.session.skeleton)
        if looked is None or not joints or joints[0].id not in looked.bones.where:
            return None
        where = looked.bones.where[joints[0].id]
        return (looked.world[where] @ [*looked.bones.tips[where], 1.0])[:3]

    def click_joint(self, x, y):
        """Begin a strand, or go on with it: the first click sets its root, each next one the end of a joint."""
        s = self.session
        found = self.joint_under(x, y)
        if found is not None and self._strand_from is None:
            s.select(found)
            return
        point = self.middle_under(x, y)
        if self._strand_from is None and not s.joints:
            self._strand_from = point
            s.notice.emit("note", "The root is set. Click where the joint ends; go on clicking to extend it.", "")
            self.update()
            return
        s.carry_out(lambda: self._extend(point))

    def _extend(self, point):
        s, skeleton = self.session, self.session.skeleton
        if self._strand_from is not None:
            line = np.stack([self._strand_from, point])
            if skeleton is None:
                skeleton = build.add_skeleton(s.scene, [line])
                made = skeleton.joints
            else:
                made = build.extend(s.scene, None, skeleton.id, line)
        else:
            joint = s.joints[0]
            bones = s.scene.values.bones(skeleton)
            where = bones.where[joint.id]
            at = s.scene.values.place(skeleton, Rows.one(s.doc.start)).matrices[0] @ bones.at_rest[where]
            end = (at @ [*bones.tips[where], 1.0])[:3]
            made = build.extend(s.scene, joint.id, skeleton.id, np.stack([end, point]))
        self._strand_from = None
        s.select(made[-1].id)

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
        hand = hand_pose(s.scene.values, bones, Rows.one(s.frame))
        values = {}
        if any(n in dragged for n in TURNS):
            delta = turns.product(turns.inverse(turns.turns_of(before.axes)[0]), turns.turns_of(after.axes)[0])
            turn = turns.product(hand.turn[where], delta)
            own = turns.product(turns.inverse(bones.rest.turn[where]), turn)
            near = [float(s.scene.values.at(joint, n, s.frame)) for n in TURNS]
            values |= dict(zip(TURNS, turns.to_euler(own[None], near)[0].tolist(), strict=True))
        elif "size" in dragged:
            ratio = dragged["size"] / before.values["size"]
            values |= {n: float(s.scene.values.at(joint, n, s.frame)) * ratio for n in STRETCHES}
        else:
            parent = int(bones.parents[where])
            above = looked.world[parent] if parent >= 0 else self.place(skeleton).matrices[0]
            step = np.linalg.solve(above[:3, :3], after.origin[0] - before.origin[0])
            values |= {n: float(s.scene.values.at(joint, n, s.frame) + d) for n, d in zip("xyz", step, strict=True)}
        return values

    # -- painting --------------------------------------------------------------------------------------------
    def painted(self):
        """(subject, skin layer, number of the joint among those bound) that a stroke would change, or None."""
        s, layer = self.session, self.session.skin
        joint = s.joints[0] if s.joints else None
        if layer is None or joint is None or joint.id not in layer.bind.joints:
            return None
        return s.doc.owner(layer.id), layer, layer.bind.joints.index(joint.id)

    def begin_stroke(self, x, y):
        found = self.painted()
        if found is None:
            words = "Bind the mesh to a skeleton and select one of its joints; its weights are painted."
            self.session.notice.emit("note", words, "")
            return
        self._stroke = build.weights_of(self.session.scene, found[1])
        self.move_brush(x, y)
        self.stroke()

    def stroke(self):
        """Paint where the brush is. The whole stroke is one step of the history."""
        s, found = self.session, self.painted()
        shape = s.picture.shapes.get(found[0].id) if found else None
        if self._stroke is None or shape is None or len(shape.own) != len(self._stroke):
            return
        subject, layer, joint = found
        felt = self._felt(shape)
        if felt is None or not felt.any():
            return
        mesh, locked = s.scene.mesh(subject.mesh), [layer.bind.joints.index(j) for j in layer.bind.locked]
        heir = self._heir(layer)
        change = lambda joint, felt: bound.painted(self._stroke, joint, s.brush.how, felt, mesh, locked, heir)
        self._stroke = change(joint, felt)
        if s.brush.mirror:
            other, across = self._mirrored(subject, layer, joint)
            self._stroke = change(other, felt[across])
        name = next((j.name for j in s.joints[:1]), "")
        build.set_weights(s.scene, layer.id, self._stroke, f"Paint {name}", f"paint {layer.id}")

    def _felt(self, shape) -> np.ndarray | None:
        """(n,) how much each vertex feels of the brush where it is."""
        brush, points, (at, surface) = self.session.brush, shape.own, self._brush_at
        eye, direction = self.camera.ray(*at, self.width(), self.height())
        if brush.through:
            away = points - eye
            far = np.linalg.norm(away - np.outer(away @ direction, direction), axis=1)
        elif surface is not None:
            far = np.linalg.norm(points - surface, axis=1)
            if shape.base is None:  # only what faces the eye
                far = np.where(((eye - points) * shape.normals).sum(axis=1) > 0, far, np.inf)
        else:
            return None
        near = np.clip(1 - (far / max(brush.radius, 1e-9)) ** 2, 0, 1)
        return near**2 * brush.strength

    def _mirrored(self, subject, layer, joint):
        """(the joint across, which vertex lies across from each) in the subject's own space."""
        s = self.session
        flip = np.ones(3)
        flip["xyz".index(s.brush.mirror)] = -1
        points = s.scene.mesh(subject.mesh).points
        across = spatial.cKDTree(points).query(points * flip)[1]
        places = np.linalg.inv(s.scene.arrays.get(layer.bind.back))[:, :3, 3]
        return int(np.linalg.norm(places - places[joint] * flip, axis=1).argmin()), across

    def _heir(self, layer) -> int | None:
        """The joint that takes weights which no other one has: what the painted one hangs on, or its first own."""
        joint = self.session.joints[0]
        bones = self.session.scene.values.bones(self.session.doc.owner(joint.id))
        where = bones.where[joint.id]
        near = [bones.parents[where], *bones.children[where]]
        ids = [bones.joints[i].id for i in near if i >= 0]
        return next((layer.bind.joints.index(i) for i in ids if i in layer.bind.joints), None)

    def end_stroke(self):
        self._stroke = None
        self.session.scene.end_merge()

    def move_brush(self, x, y):
        self._brush_at = ((x, y), self.surface_under(x, y))
        self.update()

    def weights_shown(self, layer) -> np.ndarray:
        """Weights of a skin; spread out anew only when they changed, since every picture and every sight line asks."""
        if self._spread is None or self._spread[0] is not layer.bind:
            self._spread = (layer.bind, build.weights_of(self.session.scene, layer))
        return self._spread[1]

    def lay_joint_gradient(self, start, end) -> bool:
        """A straight gradient of the selected joint's weights, 0 where the drag begins and 1 where it ends."""
        s, found = self.session, self.painted()
        if found is None:
            return False
        subject, layer, joint = found
        shape = s.picture.shapes.get(subject.id)
        dense = build.weights_of(s.scene, layer)
        if shape is None or len(shape.own) != len(dense):
            return False
        pixels, _ = self.camera.project(shape.own, self.width(), self.height())
        a, b = (self._surface_point(*p, shape.own, pixels) for p in (start, end))
        along = (shape.own - a) @ (b - a) / max(float((b - a) @ (b - a)), 1e-12)
        locked = [layer.bind.joints.index(j) for j in layer.bind.locked]
        wanted = bound.given(dense, joint, np.clip(along, 0, 1), locked, self._heir(layer))
        build.set_weights(s.scene, layer.id, wanted, f"Gradient of {s.joints[0].name}")
        return True
