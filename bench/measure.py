"""How figures are taken: in turn with their reference, many times, and compared as ratios of medians."""

import statistics
import time
from dataclasses import dataclass


@dataclass
class Row:
    """One figure beside its reference, both measured in this run."""

    what: str
    figure: str
    reference: str
    ratio: float
    wanted: str = ""
    good: bool | None = None


def seconds(run) -> float:
    begun = time.perf_counter()
    run()
    return time.perf_counter() - begun


def in_turn(*runs, times: int = 15) -> list[float]:
    """Median seconds of each run, taken A B A B ... after one round that does not count."""
    taken = [[] for _ in runs]
    for round_ in range(times + 1):
        for run, kept in zip(runs, taken, strict=True):
            spent = seconds(run)
            if round_:
                kept.append(spent)
    return [statistics.median(kept) for kept in taken]


def ms(value: float) -> str:
    return f"{1000 * value:.3g} ms"
