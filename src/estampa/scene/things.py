"""The kinds that are no layer, force or print: what stands somewhere in the scene."""

import numpy as np

from ..geometry.place import Place
from ..kinds.channels import choice, number, ref, switch, text, whole
from ..kinds.registry import Kind
from .document import Thing

_METRES = {"unit": "m", "soft": (-5, 5), "group": "Position"}
_TURN = {"unit": "rad", "soft": (-np.pi, np.pi), "group": "Turn"}


class Placed(Kind):
    """Base of what stands somewhere: position, turn and size, within what it rides on."""

    family = "thing"

    x = number(0, "Position along X.", **_METRES)
    y = number(0, "Position along Y, upwards.", **_METRES)
    z = number(0, "Position along Z.", **_METRES)
    turn_x = number(0, "Turn about X, applied first to last as X, Y, Z on turned axes.", title="X", **_TURN)
    turn_y = number(0, "Turn about Y.", title="Y", **_TURN)
    turn_z = number(0, "Turn about Z.", title="Z", **_TURN)
    size = number(1, "Size, against its own.", unit="factor", soft=(0.05, 5), hard=(1e-6, None))
    parent = ref("placed", "What it rides on: it moves, turns and grows with it.", title="Rides on")

    @staticmethod
    def frame(values) -> tuple[np.ndarray, np.ndarray, float]:
        """(origin (3,), axes (3, 3) with a column per axis, size) from resolved channel values."""
        return Place.of(values).at(0)


class Subject(Placed):
    """A mesh that is moved by its stack of layers, and stands at a place."""

    kind, title = "subject", "Subject"
    roster_rank = 0
    owner, moves, shape_of, node = "mesh", "points", "", "mesh"
    added_by_hand = False
    icon = "M8 2.5 L13 5.2 V10.8 L8 13.5 L3 10.8 V5.2 Z M3 5.2 L8 8 L13 5.2 M8 8 V13.5"

    smooth = number(
        np.radians(44),
        "Edges bent more than this look hard; 180 degrees makes everything smooth, 0 shows each face.",
        title="Smooth up to",
        unit="rad",
        soft=(0, np.pi),
        hard=(0, np.pi),
        drawn=True,
    )
    catches = switch(
        False,
        "Nothing of it is seen but the shadows that fall on it, and it hides what is behind it: it stands for what is "
        "in a photograph.",
        title="Only its shadows",
        drawn=True,
        fixed=True,
    )


class Grip(Placed):
    """A transform-only thing to take hold of: a deformer's axis, a noise's origin, a control.

    Its long axis is +Y before it is turned; a direction read from it is +Z. One unit of what reads it is its size.
    """

    kind, title = "grip", "Grip"
    roster_rank = 5
    can_be_off = False
    may_ride_with_copies, node = True, "plain"
    icon = "M8 3 V13 M3 8 H13 M8 6 a2 2 0 1 0 .01 0"
    group = "guide"
    shortcut = "Alt+4"
    rank = 9

    copies = choice(
        "rides",
        "What it is to the copies of a subject: each has its own, its own that keeps the heading, or this one.",
        {"rides": "Rides along with each", "heading": "Rides along, keeps its heading", "world": "One for all of them"},
        title="For copies",
    )


class Path(Placed):
    """A curve in space through points, that things follow or stand along."""

    kind, title = "path", "Path"
    roster_rank = 7
    can_be_off = False
    icon = "M3 13 C3 6 13 10 13 3 M3 11.8 a1.2 1.2 0 1 0 .01 0 M13 1.8 a1.2 1.2 0 1 0 .01 0"
    group = "guide"

    closed = switch(False, "Goes back to its first point.")
    rounded = switch(True, "A smooth curve through the points, or straight lines between them.", title="Smooth")


class CameraThing(Placed):
    """A point of view that can ride on anything; a pane looks through it. It looks along its -Z axis, as glTF's."""

    kind, title = "camera", "Camera"
    node = "camera"
    roster_rank = 8
    can_be_off = False
    icon = "M2.5 5 H10 V11 H2.5 Z M10 7.5 L13.5 5.5 V10.5 L10 8.5"
    group = "guide"

    by = choice("angle", "What says how much it sees.", {"angle": "Angle of view", "lens": "Lens and film back"},
                title="Sees by")  # fmt: skip
    view = number(
        np.radians(40),
        "Angle of view from bottom to top.",
        title="Angle of view",
        unit="rad",
        soft=(0.1, 2),
        hard=(0.02, 3),
        when=(("by", ("angle",)),),
    )
    lens = number(0.035, "Focal length.", unit="lens", soft=(0.012, 0.2), hard=(0.001, 5), when=(("by", ("lens",)),))
    film_back = number(
        0.024,
        "Height of the film or sensor behind the lens.",
        title="Film back, height",
        unit="lens",
        soft=(0.004, 0.07),
        hard=(0.0005, 1),
    )


def angle_of_view(values, camera: Thing, frame: float) -> float:
    """Angle of view of a camera from bottom to top, rad. values -- reads channels: see Values.at"""
    if camera.constant("by") == "angle":
        return float(values.at(camera, "view", frame))
    lens, back = (float(values.at(camera, name, frame)) for name in ("lens", "film_back"))
    return 2 * float(np.arctan2(back / 2, lens))


class Backdrop(Kind):
    """A picture, or a numbered sequence of pictures, behind a pane, to match motion to."""

    kind, family, title = "backdrop", "thing", "Backdrop"
    icon = "M2.5 3 H13.5 V12 H2.5 Z M2.5 10.5 L6 7 L8.5 9.5 L10.5 7.5 L13.5 10.5 M10.5 5 a.8 .8 0 1 0 .01 0"
    group = "guide"

    file = text(
        "",
        "Picture (PNG or JPEG). Of a numbered sequence, any one of its pictures.",
        title="Picture",
        file="Pictures (*.png *.jpg *.jpeg)",
    )
    sequence = switch(False, "Step through the numbered pictures beside it, one a frame.")
    first = whole(1, "Frame at which the sequence begins.", title="Begins at", unit="frames", soft=(1, 500))
    opacity = number(1, "How much of it is seen before the plain ground.", unit="fraction", soft=(0, 1), hard=(0, 1))
