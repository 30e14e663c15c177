"""How a loop meets, as a player of its file shows it."""

import numpy as np


def seam_jump(frames) -> float:
    """m: how far a loop jumps where it goes round, as a player would show it.

    frames -- (n, 3) of the first three and the last three frames, in order. A smooth motion changes its step evenly, so
    the step over the seam lies between the steps before and after it, but for what those change anyway.
    """
    a, b, c, x, y, z = frames
    over, before, after = a - z, z - y, b - a
    bend = np.linalg.norm(over - 0.5 * (before + after), axis=1)
    usual = np.maximum(*(np.linalg.norm(p - 2 * q + r, axis=1) for p, q, r in ((a, b, c), (x, y, z))))
    return float(np.maximum(bend - usual, 0.0).max(initial=0.0))
