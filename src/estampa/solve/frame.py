"""What a solver carries from frame to frame, and what the store keeps: named tables of rows with declared columns."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Any

import numpy as np


class _All:
    """Every name of a column."""

    def __contains__(self, name: str) -> bool:
        return True


ALL_BUT_BLOB = _All()  # what is read of a frame to look at it


@dataclass(frozen=True)
class Column:
    """One value that every row of a table has."""

    name: str
    shape: tuple[int, ...] = ()
    unit: str = ""
    help: str = ""
    dtype: str = "f4"
    keep: str = "state"  # or "shown": worked out for looking, and not read by a step

    def array(self, values) -> np.ndarray:
        """(n, *shape) of the declared type, in one piece."""
        return np.ascontiguousarray(values, self.dtype).reshape(-1, *self.shape)


@dataclass(frozen=True, eq=False)
class Table:
    """Rows of one sort: points, joints, bodies.

    ids -- (n,) int64, ascending, and never used twice in a run; None numbers the rows from 0
    columns -- name -> (n, ...) array; spans -- member id -> its (first, last + 1) rows, where there are several
    """

    columns: Mapping[str, np.ndarray]
    ids: np.ndarray | None = None
    spans: Mapping[str, tuple[int, int]] = field(default_factory=lambda: MappingProxyType({}))

    def __len__(self) -> int:
        return len(next(iter(self.columns.values()))) if self.columns else 0

    def __getitem__(self, name: str) -> np.ndarray:
        return self.columns[name]

    def own(self, member: str) -> Mapping[str, np.ndarray]:
        """The rows of one member, which are all where it is solved alone."""
        return self.of(member) if self.spans else self.columns

    def of(self, member: str) -> Mapping[str, np.ndarray]:
        """The rows of one member."""
        first, last = self.spans.get(member, (0, 0))
        return {name: column[first:last] for name, column in self.columns.items()}


@dataclass(frozen=True, eq=False)
class Frame:
    """One frame of a run. A step always begins from these rounded values, so that going on from the store and going on
    from memory give the same bits. `blob` is an engine's own snapshot, on some frames; `going` the engine itself while
    it stands at this frame, which is never kept."""

    tables: Mapping[str, Table]
    blob: bytes = b""
    going: Any = None

    def __getitem__(self, name: str) -> Table:
        return self.tables[name]

    @classmethod
    def of(cls, declared: Mapping[str, tuple[Column, ...]], table: str, **columns) -> "Frame":
        """Of one table, its columns given by name, made of the declared types."""
        made = {c.name: c.array(columns[c.name]) for c in declared[table]}
        return cls({table: Table(made)})

    @property
    def nbytes(self) -> int:
        return sum(c.nbytes for t in self.tables.values() for c in t.columns.values()) + len(self.blob)

    def trouble(self, declared) -> str:
        """The words for what a solver may not give: other columns than it declares, or a value that is no number."""
        for name, table in self.tables.items():
            for c in declared.tables.get(name, ()):
                held = table.columns.get(c.name)
                if held is None or held.shape != (len(table), *c.shape) or held.dtype != np.dtype(c.dtype):
                    return f"{name} whose {c.name} are not as they are declared"
            for column, values in table.columns.items():
                if values.dtype.kind == "f" and not np.isfinite(values).all():
                    return f"{name} whose {column} are not numbers"
        return ""
