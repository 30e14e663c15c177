"""Piles that come to rest. The engine lets what touches sleep only when each of it has been slow for a while, and wakes
it with each touch that begins or ends: in a pile of hundreds one always stirs."""

import numpy as np

# Of the speed at which a body falls through its own size: the root mean square of all that moves, and the fastest,
# below which they all but stand still; s of that, after which all sleep
MEAN, MOST, AFTER = 0.02, 0.12, 0.25
GRAVITY = 9.81  # m/s2


def rest_together(engine, model, calm: float, free, speed, spin, asleep) -> float:
    """Let all that moves sleep when it has all but stood still; speed, spin (b, 3) and asleep (b,) u1 are changed.

    calm -- s, for how long it would have; free (b,) bool. Returns that, or 0. All at once: what sleeps beside what is
    awake lets that sink in. One alone, which may roll slowly for long, is left to the engine.
    """
    rows = np.flatnonzero(free & (asleep == 0))
    if len(rows) < 3:
        return 0.0
    across = model.across[rows]
    pace = np.maximum(np.linalg.norm(speed[rows], axis=1), 0.5 * across * np.linalg.norm(spin[rows], axis=1))
    pace /= np.sqrt(2 * GRAVITY * across)
    if np.sqrt(np.mean(pace**2)) > MEAN or pace.max() > MOST:
        return 0.0
    if calm > AFTER:
        still = rows[engine.let_rest(rows)]
        speed[still] = spin[still] = 0.0
        asleep[still] = 1
    return calm
