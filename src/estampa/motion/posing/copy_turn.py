"""Copy a turn: joints turn as something else does."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import choice, ref, switch
from ...scene.parts import joints_of
from ..pose_layer import PoseLayer, Walk

AXES = {"group": "Axes"}


class CopyTurn(PoseLayer):
    """Joints take over how another joint, or a thing that stands somewhere, is turned away from its rest."""

    kind, title = "copy_turn", "Copy a turn"
    own_grip = ""
    icon = "M5 4.5 A4 4 0 1 1 3 9 M5 2 V4.8 H7.5 M11 12.5 L13.5 12.5 L13.5 10"
    group = "guide"

    target = ref("placed", "What is copied: a joint, a grip, a subject.", title="Copies")
    x = switch(True, "Copy the turn about X.", title="X", **AXES)
    y = switch(True, "Copy the turn about Y.", title="Y", **AXES)
    z = switch(True, "Copy the turn about Z.", title="Z", **AXES)
    space = choice(
        "own",
        "Whether each joint turns about its own axes, or as the other does in space.",
        {"own": "About its own axes", "space": "As in space"},
    )

    def pose(self, pose, v, now):
        if v.target is None:
            return pose
        bones = now.bones
        walk = Walk(pose, bones)
        chosen = np.array([v.x, v.y, v.z])
        delta = self._delta(pose, v, bones, walk)
        for i in joints_of(bones, v):
            walk.settle(i)
            if now.feels[i] == 0 or (isinstance(v.target, int) and i == v.target):
                continue
            rest = bones.rest.turn[i]
            if v.space == "own":
                mine = turns.to_euler(turns.product(turns.inverse(rest), pose.turn[i])[None])[0]
                copied = np.where(chosen, turns.to_euler(delta[None])[0], mine)
                wanted = turns.product(rest, turns.from_euler(*copied))
            else:
                masked = turns.from_euler(*np.where(chosen, turns.to_euler(delta[None])[0], 0.0))
                stands = turns.product(masked, turns.turn_of(bones.at_rest[i]))
                wanted = turns.product(turns.inverse(turns.turn_of(walk.above(i))), stands)
            walk.pose.turn[i] = turns.slerp(pose.turn[i], wanted, now.feels[i])
            walk.settle(i)
        return walk.pose

    @staticmethod
    def _delta(pose, v, bones, walk):
        """How the target is turned away from its rest, about its own axes or in space."""
        if isinstance(v.target, int):
            if v.space == "own":
                return turns.product(turns.inverse(bones.rest.turn[v.target]), pose.turn[v.target])
            now_, rest = (turns.turn_of(m[v.target]) for m in (walk.at, bones.at_rest))
            return turns.product(now_, turns.inverse(rest))
        return turns.turn_of(v.target.matrices[0])
