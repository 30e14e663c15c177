"""Step: the same shift, turn and size for all pieces, in turn."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import number, ref
from .piece_layer import PieceLayer, sized

_SHIFT = {"unit": "m", "soft": (-2, 2), "group": "Shifted"}
_TURN = {"unit": "rad", "soft": (-np.pi, np.pi), "group": "Turned"}


class Step(PieceLayer):
    """Shifts, turns and sizes all pieces alike, each about its own middle; with an order, one after another."""

    kind, title = "step", "Step"
    icon = "M2 13 H5.5 V10 H9 V7 H12.5 V4 H14"
    group = "drift"
    rank = 21

    x = number(0, "Along X.", title="X", **_SHIFT)
    y = number(0.2, "Along Y.", title="Y", suits=("largest", 0.2), **_SHIFT)
    z = number(0, "Along Z.", title="Z", **_SHIFT)
    turn_x = number(0, "About X.", title="X", **_TURN)
    turn_y = number(0, "About Y.", title="Y", **_TURN)
    turn_z = number(0, "About Z.", title="Z", **_TURN)
    size = number(1, "The same along all axes.", unit="factor", soft=(0, 2), hard=(0, None))
    grip = ref("grip", "A grip whose axes are meant; none: the subject's own.", title="Axes of")

    def move(self, stand, felt, v, now):
        far = np.stack([v.x, v.y, v.z], axis=1)
        spin = turns.turn_vectors(turns.from_euler(v.turn_x, v.turn_y, v.turn_z))
        if v.grip is not None:
            place = v.grip.spread(len(far))
            far = np.einsum("kij,kj->ki", place.axes, far)
            spin = np.einsum("kij,kj->ki", place.axes, spin)
        felt_ = felt[..., None]
        return stand.moved(felt_ * far[:, None], felt_ * spin[:, None], sized(felt, v.size[:, None]))
