"""What the lane of something solved shows: a column of its report, and how that is said."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np


@dataclass(frozen=True)
class ReportLane:
    """A lane of a number that is reported of each solved frame.

    column -- of the table "report"; beside -- other columns of it, for the words
    over_all -- words beside the lane, from (frames,) values, which are not a number where a frame is not solved
    at_frame -- words of one frame, from the values of all those columns
    """

    column: str
    over_all: Callable[[np.ndarray], str]
    at_frame: Callable[[Mapping[str, float]], str]
    beside: tuple[str, ...] = ()

    @property
    def columns(self) -> tuple[str, ...]:
        return (self.column, *self.beside)


@dataclass(frozen=True)
class Alarm:
    """What is wrong with a solved frame where a column of its report is above 0.

    table -- of what is drawn as lines in a pane: it has columns begin and end, (3,) m
    words -- beside the lane, from how many frames are so: "3 frames cross"
    """

    column: str
    table: str
    words: Callable[[int], str]


def at_most(form: str) -> Callable[[np.ndarray], str]:
    """Words for the largest of the values that are known: at_most("{:.3g} J")."""

    def words(values: np.ndarray) -> str:
        known = values[np.isfinite(values)]
        return f"≤ {form.format(known.max())}" if len(known) else "not known yet"

    return words


def at_rest(share: np.ndarray) -> str:
    """When all has come to rest, which is what one waits for, from the shares (0 to 1) that still move."""
    known = np.isfinite(share)
    if not known.any():
        return ""
    if known.all() and share[-1] == 0:
        moving = np.flatnonzero(share)
        return f"at rest from {moving[-1] + 2 if len(moving) else 1}"
    return f"{100 * share[known][-1]:.0f} % awake" if known.all() else "not known yet"
