"""The end of a loop, faded into what came before its start: what is still open after any run-up is closed so."""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ..geometry import pose as turns
from ..scene.document import Document
from ..solve.aid import eased
from ..solve.frame import Column, Frame, Table


@dataclass(frozen=True)
class Fade:
    """A frame of the loop's end, and how much of what came a round before it is in it."""

    earlier: int
    share: float  # 0 to 1


def fade_at(doc: Document, frame: float) -> Fade | None:
    """What is faded at a frame: over the last frames of the loop a share that begins and ends evenly, beyond its end
    the round before alone. None elsewhere, and where nothing was solved a round before."""
    if not doc.loop or not doc.fade:
        return None
    first, last = doc.loop
    over = max(min(doc.fade, last - first - 1), 1)  # a loop may have been made shorter since
    at = int(np.floor(frame))
    since, earlier = at - (last - over), at - (last - first)
    if since <= 0 or earlier < doc.solved_from:
        return None
    return Fade(earlier, eased(over, since))


def between(declared: Any, one: Frame, other: Frame, share: float) -> Frame | None:
    """A frame that lies so far from one to another, by what its columns are; None where they have other rows.
    declared -- the kind of solver or ensemble that they are of"""
    tables = {}
    for name, table in one.tables.items():
        theirs = other.tables.get(name)
        kept = {c.name: c for c in declared.tables.get(name, ()) if c.keep == "state"}
        if not any(c in kept for c in table.columns) or name in declared.passing:
            tables[name] = table
            continue
        if theirs is None or len(theirs) != len(table) or not _same(table.ids, theirs.ids):
            return None
        mixed = {
            n: _mixed(kept[n], column, theirs.columns[n], share) if n in kept and n in theirs.columns else column
            for n, column in table.columns.items()
        }
        tables[name] = Table(mixed, table.ids, table.spans)
    return Frame(tables, b"")


def _same(ids, theirs) -> bool:
    return (ids is None and theirs is None) or (ids is not None and theirs is not None and np.array_equal(ids, theirs))


def _mixed(column: Column, one: np.ndarray, other: np.ndarray, share: float) -> np.ndarray:
    a, b = one.astype(float), other.astype(float)
    if not np.issubdtype(one.dtype, np.floating):
        return one if share < 0.5 else other
    if column.name == "turn" and column.shape == (4,):
        return column.array(turns.slerp(a, b, share))
    if column.name == "turn":
        return column.array(turns.turn_vectors(turns.slerp(turns.from_vectors(a), turns.from_vectors(b), share)))
    return column.array(a + share * (b - a))
