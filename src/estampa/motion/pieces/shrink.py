"""Shrink: pieces become smaller about their middles."""

import numpy as np

from ...kinds.channels import number
from .piece_layer import PieceLayer


class Shrink(PieceLayer):
    """Makes each piece smaller about its own middle, down to nothing."""

    kind, title = "shrink", "Shrink pieces"
    icon = "M2.5 2.5 H13.5 V13.5 H2.5 Z M6 6 H10 V10 H6 Z"
    group = "drift"
    rank = 23

    by = number(1, "How much smaller: 1 is down to nothing, 0.1 leaves nine tenths.", title="Smaller by",
                unit="fraction", soft=(0, 1), hard=(None, 1))  # fmt: skip

    def move(self, stand, felt, v, now):
        return stand.moved(size=np.maximum(1 - felt * v.by[:, None], 0))
