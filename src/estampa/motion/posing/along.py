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
        size, sign = float(place.size[0]), 1.0 if v.tail_first else -1.0
        walk = Walk(pose, bones)
        rest_frames, rest_turns = bones.kept(("along", chain.tobytes()), lambda: _at_rest(bones, chain))
        lengths = np.linalg.norm(np.einsum("nij,nj->ni", walk.at[chain, :3, :3], bones.tips[chain]), axis=1)
        distances = [(v.slide + v.travel["speed"]) / size]
        for length in lengths / size:
            distances.append(line.chord(distances[-1], float(length), sign))
        points, axes = line.at(np.array(distances))
        here = place.apply(points[None])[0]
        ahead, along = np.diff(here, axis=0), sign * axes[:-1, :, 2] @ place.axes[0].T
        ahead = np.where((lengths > 1e-9)[:, None], ahead, along)
        to = frames(ahead, axes[:-1, :, 1] @ place.axes[0].T)
        stands = turns.product(turns.turns_of(to @ rest_frames.transpose(0, 2, 1)), rest_turns)
        first, above = chain[0], turns.turn_of(walk.above(chain[0]))
        walk.pose.place[first] = pose.place[first] + now.feels[first] * (
            walk.within(first, here[0]) - pose.place[first]
        )
        for k, i in enumerate(chain):  # each hangs on the one before
            turn = turns.slerp(pose.turn[i], turns.product(turns.inverse(above), stands[k]), now.feels[i])
            walk.pose.turn[i] = turn
            above = turns.product(above, turn)
        return walk.pose


def _at_rest(bones, chain) -> tuple[np.ndarray, np.ndarray]:
    """((n, 3, 3) axes along joints of a chain at rest, (n, 4) how they are turned then)."""
    rest = bones.at_rest[chain]
    ahead = np.einsum("nij,nj->ni", rest[:, :3, :3], bones.tips[chain])
    return frames(ahead, np.broadcast_to([0.0, 1.0, 0.0], ahead.shape)), np.stack([turns.turn_of(m) for m in rest])


def frames(ahead: np.ndarray, up: np.ndarray) -> np.ndarray:
    """(n, 3, 3) axes side, up, ahead of ways (n, 3); up is as near to the given ones (n, 3) as can be."""
    ahead = ahead / np.maximum(np.linalg.norm(ahead, axis=1, keepdims=True), 1e-300)
    square = lambda v: v - ahead * (v * ahead).sum(axis=1, keepdims=True)
    up = square(np.asarray(up, float))
    lost = np.linalg.norm(up, axis=1) < 1e-6
    up = np.where(lost[:, None], square(np.broadcast_to([0.0, 0.0, 1.0], up.shape)), up)
    up /= np.maximum(np.linalg.norm(up, axis=1, keepdims=True), 1e-300)
    return np.stack([np.cross(up, ahead), up, ahead], axis=2)
