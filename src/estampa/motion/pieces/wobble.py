"""Wobble: pieces shift and turn in a noise of their own."""

import numpy as np

from ...hashing import rand
from ...kinds.channels import number, switch, whole
from .piece_layer import PieceLayer

WAVES = (0.62, 1.0, 1.61)  # of the rate: three waves that never meet again, and do not sound like one
SHARES = (0.6, 0.5, 0.35)


class Wobble(PieceLayer):
    """Shifts and turns each piece in a smooth noise of its own, so that no two move in step."""

    kind, title = "wobble", "Wobble"
    icon = "M2 8 C4 3.5 5.5 3.5 7 8 S10.5 12.5 14 8 M5 13.5 H11"
    group = "drift"
    rank = 22

    far = number(0.02, "How far they shift at the most, about.", title="Shift", unit="m", soft=(0, 0.5),
                 hard=(0, None), suits=("largest", 0.02))  # fmt: skip
    turn = number(0.1, "How far they turn at the most, about.", unit="rad", soft=(0, np.pi), hard=(0, None))
    rate = number(0.5, "How often they go to and fro in a second.", unit="Hz", soft=(0, 5), hard=(0, None),
                  accumulates=True)  # fmt: skip
    loops = switch(False, "The noise comes back to where it began over the loop range.", title="Closes the loop")
    seed = whole(1, "Another throw of the dice.", soft=(1, 99), hard=(0, None))

    def move(self, stand, felt, v, now):
        if v.loop:
            gone, seconds = v.loop
            whole_ = [np.maximum(np.round(v.rate * seconds * w), 1) * gone for w in WAVES]
        else:
            whole_ = [v.travel["rate"] * w for w in WAVES]
        count, signal = stand.pieces.count, np.zeros((len(felt), stand.pieces.count, 6))
        for j, (cycles, share) in enumerate(zip(whole_, SHARES, strict=True)):
            for c in range(6):
                phase = rand(int(v.seed), np.arange(count), f"wobble {j} {c}")
                signal[:, :, c] += share * np.sin(2 * np.pi * (cycles[:, None] + phase))
        far = felt[..., None] * v.far[:, None, None] * signal[:, :, :3]
        spin = felt[..., None] * v.turn[:, None, None] * signal[:, :, 3:]
        return stand.moved(far, spin)
