"""Turn noise: joints wander by gradient noise."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import number, switch, whole
from ...scene.parts import joints_of
from ..gradient_noise import fractal, permutation
from ..pose_layer import PoseLayer

AXES = {"unit": "fraction", "soft": (0, 1), "group": "About"}


class TurnNoise(PoseLayer):
    """Each joint turns to and fro by noise of its own: how fast, and how far."""

    kind, title = "turn_noise", "Turn noise"
    icon = "M8 13.5 V8 M8 8 L4.5 3.5 M8 8 L11.5 3.5 M3 6.5 A6 6 0 0 1 5.5 2.3 M10.5 2.3 A6 6 0 0 1 13 6.5"
    group = "drift"

    angle = number(np.radians(8), "How far it turns at its strongest.", unit="rad", soft=(0, np.pi / 2))
    rate = number(0.6, "How fast the noise goes by.", unit="Hz", soft=(0.05, 4), accumulates=True)
    x = number(1, "Share of the turn about its own X.", title="X", **AXES)
    y = number(0.3, "Share about Y, which runs along it.", title="Y", **AXES)
    z = number(1, "Share about Z.", title="Z", **AXES)
    tip = number(1, "How far the last joint turns, against the first.", title="At the tip", unit="factor", soft=(0, 3))
    later = number(
        0, "How much later each next joint down the chain does the same; 0 gives each its own noise.",
        title="Runs down by", unit="frames", soft=(0, 12), hard=(0, None),
    )  # fmt: skip
    loops = switch(False, "Comes back to where it began over the loop range, without a blend.", title="Closes the loop")
    seed = whole(1, "Another seed, other turns.", soft=(0, 100), hard=(0, None))

    def pose(self, pose, v, now):
        bones = now.bones
        chain = joints_of(bones, v)
        if not len(chain) or not v.angle:
            return pose
        depth, share = bones.tapered(chain, v.tip)
        lag = depth * v.later / now.rate
        lane = np.zeros(len(chain)) if v.later > 0 else chain.astype(float)
        p, angles = permutation(v.seed), np.empty((len(chain), 3))
        for j, own in enumerate((v.x, v.y, v.z)):
            if v.loop:
                turn, seconds = v.loop
                round_ = 2 * np.pi * (turn - lag / seconds)
                radius = max(abs(v.rate) * seconds, 1.0) / (2 * np.pi)
                at = np.stack([radius * np.cos(round_), radius * np.sin(round_), 0.61 + 3.7 * lane + 41.3 * j], axis=1)
            else:
                at = np.stack(
                    [v.travel["rate"] - v.rate * lag, 0.37 + 3.7 * lane, np.full(len(chain), 0.61 + 41.3 * j)], axis=1
                )
            angles[:, j] = own * fractal(at, p, 2)
        result = pose.copy()
        vectors = angles * (v.angle * share * now.feels[chain])[:, None]
        result.turn[chain] = turns.product(pose.turn[chain], turns.from_vectors(vectors))
        return result
