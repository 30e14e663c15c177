"""Reach: two joints bend so that a third comes to a target (two-joint inverse kinematics)."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import ref
from ..pose_layer import PoseLayer, Walk, point_of


class Reach(PoseLayer):
    """The joint under “To joint” comes to the target: the two that it hangs on bend, as an elbow or a knee does.

    The bend lies towards the pole; without one it stays in the plane that it has. Out of reach, both lie straight.
    """

    kind, title = "reach", "Reach"
    own_joint = "last"
    icon = "M3 13 L4.5 6 L10 5 M4.5 5 a1.2 1.2 0 1 0 .01 0 M10 3.5 H13 M11.5 2 V5 M10 8 a1.5 1.5 0 1 1 .01 0"
    group = "guide"

    target = ref("placed", "Where the last joint comes to.", title="To")
    pole = ref("placed", "The side that the middle joint bends to.", title="Bends towards")

    def pose(self, pose, v, now):
        bones = now.bones
        walk = Walk(pose, bones)
        to = point_of(v.target, walk.at)
        up = bones.up(v.last) if v.last is not None else []
        if to is None or len(up) < 3:
            return pose
        c, b, a = (int(i) for i in up[:3])
        pa, pb, pc = (walk.at[i, :3, 3] for i in (a, b, c))
        bent = elbow(pa, pb, pc, to, point_of(v.pole, walk.at))
        if bent is None:
            return pose
        for i, below, place in ((a, b, bent[0]), (b, c, bent[1])):
            walk.settle(i)
            walk.settle(below)
            now_ = walk.within(i, walk.at[below, :3, 3]) - walk.pose.place[i]
            way = walk.within(i, place) - walk.pose.place[i]
            whole = turns.product(turns.between(now_, way), walk.pose.turn[i])
            walk.pose.turn[i] = turns.slerp(walk.pose.turn[i], whole, now.feels[i])
            walk.settle(i)
        return walk.pose


def elbow(pa, pb, pc, to, pole=None):
    """(middle (3,), end (3,)) of two segments a-b-c that keep their lengths, with the end at `to` or as near as can be.

    By the law of cosines. None when a segment has no length.
    """
    l1, l2 = np.linalg.norm(pb - pa), np.linalg.norm(pc - pb)
    if min(l1, l2) < 1e-9:
        return None
    way = to - pa
    far = np.linalg.norm(way)
    way = way / far if far > 1e-9 else (pc - pa) / max(np.linalg.norm(pc - pa), 1e-9)
    far = np.clip(far, abs(l1 - l2) + 1e-9, l1 + l2)
    side = (pole if pole is not None else pb) - pa
    side = side - way * (side @ way)
    if np.linalg.norm(side) < 1e-9:  # straight: any side will do, but always the same one
        side = np.cross(way, [0.0, 0, 1] if abs(way[2]) < 0.9 else [1.0, 0, 0])
    side /= np.linalg.norm(side)
    cosine = np.clip((l1 * l1 + far * far - l2 * l2) / (2 * l1 * far), -1, 1)
    return pa + l1 * (cosine * way + np.sqrt(1 - cosine**2) * side), pa + far * way
