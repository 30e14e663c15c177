"""The kinds that are no layer, force or print: a subject and a grip."""

import numpy as np
from scipy.spatial.transform import Rotation

from .channels import Kind, number


class Subject(Kind):
    """A mesh that is moved by its stack of layers."""

    kind, family, title = "subject", "thing", "Subject"


class Grip(Kind):
    """A transform-only thing to take hold of: a deformer's axis, a noise's origin, a wind's direction.

    Its long axis is +Y before it is turned; a direction read from it is +Z.
    """

    kind, family, title = "grip", "thing", "Grip"

    x = number(0, "Position along X.", unit="m", soft=(-5, 5), group="Position")
    y = number(0, "Position along Y, upwards.", unit="m", soft=(-5, 5), group="Position")
    z = number(0, "Position along Z.", unit="m", soft=(-5, 5), group="Position")
    turn_x = number(
        0,
        "Turn about X, applied first to last as X, Y, Z on turned axes.",
        title="X",
        unit="rad",
        soft=(-np.pi, np.pi),
        group="Turn",
    )
    turn_y = number(0, "Turn about Y.", title="Y", unit="rad", soft=(-np.pi, np.pi), group="Turn")
    turn_z = number(0, "Turn about Z.", title="Z", unit="rad", soft=(-np.pi, np.pi), group="Turn")
    size = number(
        1,
        "Size: one unit of what reads the grip. A noise at size 2 is twice as coarse.",
        unit="factor",
        soft=(0.05, 5),
        hard=(1e-6, None),
    )

    @staticmethod
    def frame(values) -> tuple[np.ndarray, np.ndarray, float]:
        """(origin (3,), axes (3, 3) with a column per axis, size) from resolved channel values."""
        turn = Rotation.from_euler("XYZ", [values["turn_x"], values["turn_y"], values["turn_z"]])
        return np.array([values["x"], values["y"], values["z"]]), turn.as_matrix(), values["size"]
