"""How a loop meets, as a player of its file shows it."""

import numpy as np

SEEN = 12  # frames at each end by which a seam is judged
LEAST = 3


def seam_jump(frames) -> float:
    """m: how far a loop jumps where it goes round, as a player would show it.

    frames -- (n, 3) of the first ones and of as many last ones, three at least of each, in order. A smooth motion
    changes its step evenly, so the step over the seam lies between the steps before and after it, but for what those
    beside it change anyway.
    """
    half = len(frames) // 2
    first, last = frames[:half], frames[half:]
    over, before, after = first[0] - last[-1], last[-1] - last[-2], first[1] - first[0]
    bend = np.linalg.norm(over - 0.5 * (before + after), axis=1)
    triples = [part[k : k + 3] for part in (first, last) for k in range(half - 2)]
    usual = np.maximum.reduce([np.linalg.norm(p - 2 * q + r, axis=1) for p, q, r in triples])
    return float(np.maximum(bend - usual, 0.0).max(initial=0.0))
