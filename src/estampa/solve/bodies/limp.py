"""Limp: the layer by which a skeleton is a ragdoll."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import choice, number, ref, whole
from ...motion.layer import Resolved
from ..ensemble import Member
from .body import placed, steady

ANIMATED = ("spring", "ratio", "lifted", "carried", "handed")  # read at every frame; the rest is what the limbs are
INSTANT = 1e-4  # s, less than any frame
NOTHING = 1e-4  # times its size, of a figure that is away: none at all would turn no way
# what a limb is as a body, where the layer has no channel for it
AS_BODY = {
    "moved": "solve", "each": "pieces", "shape": "hull", "mass": 0.0, "ballast": None, "heavier": 1.0, "drag": 0.0,
    "bonded": "none", "strength": 0.0, "shear": 0.0, "crush": 0.0, "lumps": 0, "tougher": 1.0,
    "speed_x": 0.0, "speed_y": 0.0, "speed_z": 0.0, "spin_x": 0.0, "spin_y": 0.0, "spin_z": 0.0,
}  # fmt: skip


class Limp(Member):
    """The skeleton is a ragdoll: its limbs fall, are struck, and come to rest, tied to one another at their joints.

    Its limbs are the joints that are named as parts of a body, or all that are not short; as thick as the skin that
    they carry. With Spring above 0 the joints go back to the pose that enters, so that it can go limp from a walk, or
    be pulled up again.
    """

    kind, title = "limp", "Limp (ragdoll)"
    version = 4  # knees and elbows are hinges, limbs have the shape and mass of the skin they own
    icon = "M5 3.2 a1.6 1.6 0 1 0 .01 0 M5.5 6.2 L8.5 9 L6.5 13 M8.5 9 L12.5 10 L13.5 13.5 M6.5 7 L10.5 5.5 L13 7"
    moves = "joints"
    group = "fall"
    rank = 4
    ensemble = "bodies"
    shown = ("position", "turn", "centre", "held", "joint", "stood", "hinge")

    weight = steady(70, "Mass of all of it, shared among its limbs by their volume.", title="Mass in all", unit="kg",
                    soft=(1, 150), hard=(1e-4, None))  # fmt: skip
    spring = number(0, "How fast joints spring back to the pose that enters; 0 is limp.", unit="Hz", soft=(0, 8),
                    hard=(0, 60))  # fmt: skip
    ratio = number(1, "Damping of that: below 1 it swings past, 1 just not.", title="Damping ratio", unit="factor",
                   soft=(0.1, 2), hard=(0, None))  # fmt: skip
    lifted = number(0, "How fast the uppermost limb is pulled to where it enters; 0 lets it fall.", title="Pulled up",
                    unit="Hz", soft=(0, 8), hard=(0, 60))  # fmt: skip
    carried = number(
        1, "How much of its weight is taken from it while it is pulled up and springs back: 1 arrives at the pose, "
        "less hangs lower; at 0 each joint's spring bears what hangs on it.", title="Carried", unit="fraction",
        soft=(0, 1), hard=(0, 1),
    )  # fmt: skip
    handed = number(
        0, "How much of it is handed back to the layers above: 0 shows the ragdoll, 1 the pose that enters.",
        title="Handed back", unit="fraction", soft=(0, 1), hard=(0, 1),
    )  # fmt: skip
    begins = choice(
        "first", "When it goes limp; until then it follows the layers above.",
        {"first": "At the first frame", "frame": "At a frame", "zone": "As a zone reaches it"},
    )  # fmt: skip
    at = whole(1, "The frame at which it goes limp.", title="Goes limp at", unit="frames", soft=(1, 200), fixed=True,
               when=(("begins", ("frame",)),))  # fmt: skip
    reached = ref("zone", "The zone that lets go of what it reaches with half its weight.", title="Let go by",
                  when=(("begins", ("zone",)),))  # fmt: skip
    away = steady(
        0, "How long after it went limp it is away: taken out of the solve, and drawn together to nothing; 0 stays.",
        title="Away after", unit="s", soft=(0, 10), hard=(0, None),
    )  # fmt: skip
    friction = steady(0.6, "Rubbing: 0 is ice. Its ensemble says what counts of two.", unit="factor", soft=(0, 1.5),
                      hard=(0, None))  # fmt: skip
    bounce = steady(
        0.0, "How much of its speed it keeps when it hits a body that moves.", unit="fraction", soft=(0, 1), hard=(0, 1)
    )
    damping = steady(0.05, "Share of its speed that it loses each second to the air.", unit="1/s", soft=(0, 2),
                     hard=(0, None))  # fmt: skip
    turn_damping = steady(0.5, "Share of their spin that its limbs lose each second.", unit="1/s", soft=(0, 5),
                          hard=(0, None))  # fmt: skip

    joint_damping = steady(
        5.0, "Share of the rate at which its joints turn that they lose each second; half of it is dry, so that it "
        "comes to rest. 0 swings freely.", title="Damping of joints", unit="1/s", soft=(0, 10), hard=(0, None),
    )  # fmt: skip

    def as_body(self, v: Resolved, volume: float) -> Resolved:
        """The channels of a body that its limbs are; volume -- m3 of all of them at first, in the world."""
        made = Resolved(AS_BODY | dict(v))
        made["density"] = float(v.weight) / max(volume, 1e-12)
        made.travel, made.id = {}, v.id
        return made

    def pose(self, frame, bones, pose, at, world, v):
        """The entering pose with its limbs turned as the solve has them; joints keep their lengths."""
        limbs = frame.tables.get("limbs")
        if limbs is None or v.id not in limbs.spans:
            return pose
        own, rows = limbs.of(v.id), frame["bodies"].of(v.id)
        joint, held = own["joint"].astype(np.int64), rows["held"].astype(bool)
        if not len(joint) or joint.max() >= len(bones):
            return pose
        stands = placed(rows)
        solved = turns.product(turns.turns_of(stands.axes), own["stood"].astype(float))
        where = stands.apply((own["hinge"].astype(float) - rows["centre"].astype(float))[:, None])[:, 0]
        back = world.inverse()
        inward = turns.turns_of(back.axes)[0]
        found = {int(j): k for k, j in enumerate(joint) if not held[k]}
        result, turned = pose.copy(), turns.split(at[:, :3, :3])[0]
        gone = v.away > 0 and own["limp"].min() >= v.away - INSTANT
        for j in bones.order:
            parent = int(bones.parents[j])
            above = turned[parent] if parent >= 0 else np.array([0.0, 0, 0, 1])
            k = found.get(int(j))
            if k is None:
                turned[j] = turns.product(above[None], result.turn[j][None])[0]
                continue
            turned[j] = turns.product(inward[None], solved[k][None])[0]
            result.turn[j] = turns.product(turns.inverse(above[None]), turned[j][None])[0]
            if gone and parent < 0:
                result.stretch[j] *= NOTHING
            if parent < 0:
                result.place[j] = back.apply(where[k][None, None])[0, 0]
        if v.handed <= 0:
            return result
        share = min(float(v.handed), 1.0)
        mixed = [a + share * (b - a) for a, b in ((result.place, pose.place), (result.stretch, pose.stretch))]
        turned = turns.slerp(result.turn, pose.turn, np.full(len(bones), share))
        return result._replace(place=mixed[0], turn=turned, stretch=mixed[1])
