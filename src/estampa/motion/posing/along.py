"""Lie along a path: a chain of joints follows a curve, and one channel slides it."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import number, ref, switch
from ...scene.parts import joints_of
from ..pose_layer import PoseLayer, Walk


class Along(PoseLayer):
    """A chain of joints lies along a path, its first joint ahead, and keeps its lengths; sliding it makes it swim.

    Past an end of the path it goes straight on; on a closed path, round again.
    """

    kind, title = "along", "Lie along a path"
    icon = "M2 11 C5 3 7 3 8 8 S12 13 14 5 M4 6.4 a1 1 0 1 0 .01 0 M8 7 a1 1 0 1 0 .01 0 M11.5 9.4 a1 1 0 1 0 .01 0"
    group = "guide"

    path = ref("path", "The path it lies along.")
    slide = number(0, "How far along the path the first joint is.", unit="m", soft=(0, 10), along_path=True)
    speed = number(0, "It also goes along by itself.", unit="m/s", soft=(-5, 5), accumulates=True)
    tail_first = switch(False, "The last joint goes ahead, not the first.", title="Tail first")

    def pose(self, pose, v, now):
        bones = now.bones
        chain = joints_of(bones, v)
        chain = bones.strands(chain)[0] if len(chain) else chain
        if v.path is None or not len(chain):
            return pose
        line, place = v.path
        size = float(place.size[0])
        walk = Walk(pose, bones)
        distance = v.slide + v.travel["speed"]
        sign = 1.0 if v.tail_first else -1.0
        here, axes = _stand(line, place, distance / size)
        for i in chain:
            walk.settle(i)
            tip = bones.tips[i]
            length = np.linalg.norm(walk.at[i, :3, :3] @ tip)
            onward = line.chord(distance / size, length / size, sign) * size
            there, axes_there = _stand(line, place, onward / size)
            up = place.axes[0] @ axes[:, 1]
            rest = bones.at_rest[i, :3, :3]
            from_ = frame(rest @ tip)
            to = frame(there - here if length > 1e-9 else sign * (place.axes[0] @ axes[:, 2]), up)
            stands = turns.turns_of((to @ from_.T)[None])[0]
            stands = turns.product(stands, turns.turn_of(bones.at_rest[i]))
            above = turns.turn_of(walk.above(i))
            felt = now.feels[i]
            walk.pose.turn[i] = turns.slerp(pose.turn[i], turns.product(turns.inverse(above), stands), felt)
            if i == chain[0]:
                walk.pose.place[i] = pose.place[i] + felt * (walk.within(i, here) - pose.place[i])
            walk.settle(i)
            distance, here, axes = onward, there, axes_there
        return walk.pose


def _stand(line, place, distance) -> tuple[np.ndarray, np.ndarray]:
    """((3,) m in the skeleton's space, (3, 3) axes of the path) at a distance along it."""
    points, axes = line.at(distance)
    return place.apply(points[None])[0][0], axes[0]


def frame(ahead: np.ndarray, up=(0.0, 1.0, 0.0)) -> np.ndarray:
    """(3, 3) axes side, up, ahead; up is as near to the given one as can be."""
    ahead = ahead / max(np.linalg.norm(ahead), 1e-300)
    up = np.asarray(up, float) - ahead * (ahead @ up)
    if np.linalg.norm(up) < 1e-6:
        up = np.array([0.0, 0, 1]) - ahead * ahead[2]
    up /= np.linalg.norm(up)
    return np.stack([np.cross(up, ahead), up, ahead], axis=1)
