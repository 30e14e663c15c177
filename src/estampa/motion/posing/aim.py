"""Aim: joints point at a target, each as much as it is told."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import number, ref
from ...scene.parts import joints_of
from ..pose_layer import PoseLayer, Walk, point_of


class Aim(PoseLayer):
    """Joints point at a grip, a joint, or the middle of a weight map on a moving mesh.

    Each is turned the least that will do from the pose that enters, so it never flips when the target goes overhead.
    A tail lags more gracefully when the joints feel less and less of it towards the tip (common practice).
    """

    kind, title = "aim", "Aim"
    icon = "M3 13 L8 8 M8 4.5 a3.5 3.5 0 1 0 .01 0 M8 7 a1 1 0 1 0 .01 0 M8 2.5 V4.5 M11.5 8 H13.5"
    group = "guide"

    target = ref("placed", "What they point at: a grip, a joint, a subject.", title="At")
    target_map = ref("target_map", "Of a subject: the middle of this weight map.", title="Middle of map")
    tip_strength = number(
        0.25, "How much the last joint feels, against the first.", unit="fraction", soft=(0, 1), hard=(0, None)
    )

    def pose(self, pose, v, now):
        bones = now.bones
        walk = Walk(pose, bones)
        point, own = point_of(v.target, walk.at), v.target if isinstance(v.target, int) else -1
        point = point if v.target_map is None else v.target_map
        chain = joints_of(bones, v)
        if point is None or not len(chain):
            return pose
        share = bones.tapered(chain, v.tip_strength)[1]
        for i, felt in zip(chain, now.feels[chain] * share, strict=True):
            if i != own:
                self._turn(walk, i, point, bones.tips[i], felt)
            walk.settle(i)
        return walk.pose

    @staticmethod
    def _turn(walk, i, point, tip, felt):
        walk.settle(i)
        way = walk.within(i, point) - walk.pose.place[i]
        ahead = tip if np.linalg.norm(tip) > 1e-9 else np.array([0.0, 1, 0])
        ahead = turns.turned(walk.pose.turn[i], ahead * walk.pose.stretch[i])
        if np.linalg.norm(way) > 1e-9 and np.linalg.norm(ahead) > 1e-12 and felt:
            least = turns.between(ahead, way)
            whole = turns.product(least, walk.pose.turn[i])
            walk.pose.turn[i] = turns.slerp(walk.pose.turn[i], whole, felt)
