"""Skeletons and their joints, as kinds of things."""

import numpy as np

from ..kinds.channels import choice, number, ref
from ..kinds.registry import Kind
from .things import Placed

_METRES = {"unit": "m", "soft": (-1, 1), "group": "Away from rest"}
_TURN = {"unit": "rad", "soft": (-np.pi, np.pi), "group": "Turn from rest"}
_STRETCH = {"unit": "factor", "soft": (0.2, 2), "group": "Stretch"}
_OWN = {"unit": "factor", "soft": (0, 3), "hard": (0, None)}


_ANY, _HINGE = (("bends", ("any",)),), (("bends", ("hinge",)),)

LOOKS = {"needle": "A joint", "ring": "A ring", "square": "A square", "arc": "An arc", "arrow": "An arrow",
         "hidden": "Nothing"}  # fmt: skip
INKS = {"amber": "Amber", "plum": "Plum", "sea": "Sea green", "paper": "Paper"}


# words of a part; left and right are told by the joint's name
PARTS = {
    "none": "None", "hips": "Hips", "spine": "Middle of the spine", "chest": "Chest", "neck": "Neck", "head": "Head",
    "upper_arm": "Upper arm",
    "lower_arm": "Lower arm", "hand": "Hand", "thigh": "Thigh", "shin": "Shin", "foot": "Foot", "limb": "Another limb",
}  # fmt: skip


class Skeleton(Placed):
    """Joints that carry meshes. It stands somewhere, and has a stack of its own that moves its joints."""

    kind, title = "skeleton", "Skeleton"
    roster_rank = 1
    owner, moves, node = "skeleton", "joints", "skeleton"
    added_by_hand = False
    icon = "M8 2.2 a1.5 1.5 0 1 0 .01 0 M8 5.2 V8.5 L4 12 M8 8.5 L12 12 M4 11.2 a1.4 1.4 0 1 0 .01 0 M12 11.2 a1.4 1.4 0 1 0 .01 0"  # noqa: E501


class Joint(Kind):
    """One joint of a skeleton. Its channels say how it is moved away from its rest, within the joint it hangs on.

    Its rest and its length are part of the skeleton; taking a joint back to rest clears these channels.
    """

    kind, family, title = "joint", "joint", "Joint"
    owner, can_be_off = "joint", False
    icon = "M4 10 a2 2 0 1 0 .01 0 M5.3 10.4 L12.5 3 L6 12 Z"

    x = number(0, "Moved along X of the joint it hangs on.", **_METRES)
    y = number(0, "Moved along Y.", **_METRES)
    z = number(0, "Moved along Z.", **_METRES)
    turn_x = number(0, "Turn about its own X, applied first to last as X, Y, Z on turned axes.", title="X", **_TURN)
    turn_y = number(0, "Turn about its own Y, which runs along it.", title="Y", **_TURN)
    turn_z = number(0, "Turn about its own Z.", title="Z", **_TURN)
    stretch_x = number(1, "Size along its own X; negative mirrors.", title="X", **_STRETCH)
    stretch_y = number(1, "Size along its own Y.", title="Y", **_STRETCH)
    stretch_z = number(1, "Size along its own Z.", title="Z", **_STRETCH)
    stiffness = number(1, "Times the stiffness that a layer gives it.", title="Own stiffness", **_OWN)
    mass = number(1, "Times the mass that a layer gives it.", title="Own mass", **_OWN)
    area = number(1, "Times the area that a layer exposes to the wind.", title="Own area", **_OWN)
    influence = number(
        1, "How much of a layer it feels.", title="Own influence", unit="fraction", soft=(0, 1), hard=(0, 1)
    )
    part = choice("none", "Which part of a body it is, for a ragdoll.", PARTS, title="Part of a body", fixed=True,
                  group="Limb")  # fmt: skip
    bends = choice("any", "How it bends as a ragdoll.",
                   {"any": "Any way, within a cone", "hinge": "One way, as a knee"}, fixed=True,
                   group="Limb")  # fmt: skip
    cone = number(0.9, "How far it may turn away from its rest on what it hangs on, as a ragdoll.", unit="rad",
                  soft=(0, np.pi), hard=(0, np.pi), fixed=True, group="Limb", when=_ANY)  # fmt: skip
    twist = number(0.6, "How far it may twist about itself, as a ragdoll.", unit="rad", soft=(0, np.pi),
                   hard=(0, np.pi), fixed=True, group="Limb", when=_ANY)  # fmt: skip
    bend_about = number(0, "Where the axis of its hinge points: turned about the joint from its own X.", unit="rad",
                        title="Hinge turned", soft=(-np.pi, np.pi), fixed=True, group="Limb", when=_HINGE)  # fmt: skip
    bend_far = number(2.4, "How far it bends from its rest about its hinge, counter-clockwise seen from its tip.",
                      unit="rad", soft=(0, 2.8), hard=(-np.pi, np.pi), fixed=True, group="Limb",
                      when=_HINGE)  # fmt: skip
    bend_back = number(0.05, "How far it bends the other way.", unit="rad", soft=(0, 1), hard=(-np.pi, np.pi),
                       fixed=True, group="Limb", when=_HINGE)  # fmt: skip
    look = choice("needle", "How it is drawn, for whoever poses: a shape to take hold of, or not at all.", LOOKS,
                  title="Shown as", drawn=True, fixed=True, group="Look")  # fmt: skip
    look_size = number(0.15, "How large its shape is.", title="Size", drawn=True, fixed=True, unit="m", soft=(0.02, 1),
                       hard=(1e-3, None), group="Look")  # fmt: skip
    look_up = number(0, "How far along the joint its shape stands.", title="Along", drawn=True, fixed=True, unit="m",
                     soft=(-1, 1), group="Look")  # fmt: skip
    look_ink = choice("amber", "Its ink.", INKS, title="Ink", drawn=True, fixed=True, group="Look")
    parent = ref("joint", "The joint that it hangs on.", title="Hangs on")


PLACES, TURNS, STRETCHES = ("x", "y", "z"), ("turn_x", "turn_y", "turn_z"), ("stretch_x", "stretch_y", "stretch_z")
POSED = (*PLACES, *TURNS, *STRETCHES)
PHYSICAL = ("stiffness", "mass", "area")  # times what a layer that is solved gives
OWN = (*PHYSICAL, "influence")
LIMB = ("part", "cone", "twist", "bends", "bend_about", "bend_far", "bend_back")  # read by a ragdoll alone
