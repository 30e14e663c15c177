"""Ramps: a curve over 0 to 1, as words: “0 0, 0.4 1, 1 0.2” are its knots, straight between."""

from functools import lru_cache

import numpy as np

from ..errors import EstampaError

MOST = 64  # knots


@lru_cache(maxsize=256)
def read_ramp(words: str) -> tuple[np.ndarray, np.ndarray]:
    """((k,) ascending, (k,)) the knots; of no words the straight one. Raises EstampaError where they are none."""
    if not words.strip():
        return np.array([0.0, 1.0]), np.array([0.0, 1.0])
    try:
        knots = sorted(tuple(map(float, pair.split())) for pair in words.split(","))
        at, value = np.array(knots, float).reshape(len(knots), 2).T
        fine = len(knots) <= MOST and np.isfinite(knots).all() and (np.diff(at) >= 0).all()
    except ValueError:
        fine = False
    if not fine or at.min() < 0 or at.max() > 1:
        cause = f"cannot be read: “{words[:60]}”."
        raise EstampaError("The ramp", cause, "Write pairs within 0 to 1 with commas between, as “0 0, 0.4 1, 1 0.2”.")
    return at, value


def ramp_at(words: str, x: np.ndarray) -> np.ndarray:
    """(n,) a ramp at shares x (n,)."""
    return np.asarray(x, float) if not words.strip() else np.interp(x, *read_ramp(words))


def ramp_words(knots) -> str:
    """Knots [(x, y)] as words; none for the straight one."""
    knots = sorted((float(x), float(y)) for x, y in knots)
    return "" if knots == [(0.0, 0.0), (1.0, 1.0)] else ", ".join(f"{x:.4g} {y:.4g}" for x, y in knots)
