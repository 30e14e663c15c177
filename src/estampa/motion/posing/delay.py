"""Amplify and delay: what enters, larger or smaller, and later down the chain."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import number
from ...scene.parts import joints_of
from ..pose_layer import PoseLayer


class Delay(PoseLayer):
    """Plays what enters larger or smaller, and later from joint to joint: for baked keys that should lag more."""

    kind, title = "delay", "Amplify and delay"
    icon = "M2 12.5 C5 12.5 5 4 7 4 S9 12.5 12 12.5 M6 12.5 C9 12.5 9 7 11 7 S12.5 12.5 14.5 12.5"
    group = "swing"
    reads_frames = True

    amplitude = number(1, "How far each joint goes from its rest, against what enters.", unit="factor", soft=(0, 2))
    tip_amplitude = number(1, "The same for the last joint, against the first.", unit="factor", soft=(0, 2))
    shift = number(0, "How much later all of it plays.", title="Later by", unit="frames", soft=(-12, 12))
    each = number(
        0, "How much later each next joint down the chain plays.", title="And each next by", unit="frames", soft=(0, 8)
    )

    @staticmethod
    def frames_read(v, bones, frame):
        return [frame - v.shift - v.each * d for d in range(int(bones.depth.max(initial=0)) + 1)]

    def pose(self, pose, v, now):
        bones = now.bones
        chain = joints_of(bones, v)
        if not len(chain):
            return pose
        depth, size = bones.tapered(chain, v.tip_amplitude)
        frames = now.frame - v.shift - v.each * depth
        result, poses = pose.copy(), {f: now.entering(f) for f in np.unique(frames)}
        for i, frame, times in zip(chain, frames, v.amplitude * size, strict=True):
            then, rest, felt = poses[frame], bones.rest, now.feels[i]
            away = turns.product(turns.inverse(rest.turn[i]), then.turn[i])
            wanted = turns.product(rest.turn[i], turns.from_vectors(turns.turn_vectors(away) * times))
            result.turn[i] = turns.slerp(pose.turn[i], wanted, felt)
            place = rest.place[i] + (then.place[i] - rest.place[i]) * times
            result.place[i] = pose.place[i] + (place - pose.place[i]) * felt
        return result
