"""A solved frame as bytes: a header, a checksum a column, then the columns one after another.

magic, key (so that a frame under another one's name is found out), layout size, columns, total size (so that a torn
file is known by its length), checksum of the layout
layout: JSON that all frames of a run share: tables, their columns, types, shapes and whose rows they are
one 64-bit XXH3 checksum for each column, and one for the snapshot
the columns, each as it lies in memory, then the snapshot
"""

import json
import math
import os
import struct
from collections.abc import Mapping
from functools import lru_cache
from typing import NamedTuple

import numpy as np
import xxhash

from ..kinds import renamed
from ..solve.frame import Frame, Table

MAGIC, BEFORE = b"ESTFRAM5", b"ESTFRAM4"  # the one before had other names of columns
HEAD = struct.Struct("<8s32sIIQQ")


class StoredColumn(NamedTuple):
    """One column as it lies in a file."""

    table: str
    name: str  # "" for the ids of a table
    dtype: str
    shape: tuple[int, ...]
    nbytes: int


def encode(key: bytes, frame: Frame) -> list[bytes | memoryview]:
    """The pieces of the file of a frame, named by its key."""
    layout, arrays = [], []
    for table_name, table in frame.tables.items():
        ids = {} if table.ids is None else {"": np.ascontiguousarray(table.ids, np.int64)}
        columns = {**ids, **table.columns}
        described = [[name, a.dtype.str, list(a.shape)] for name, a in columns.items()]
        layout.append([table_name, described, {m: list(span) for m, span in table.spans.items()}])
        arrays += [_bytes(np.ascontiguousarray(a)) for a in columns.values()]
    arrays.append(frame.blob)
    text = json.dumps([layout, len(frame.blob)], separators=(",", ":")).encode()
    sums = struct.pack(f"<{len(arrays)}Q", *map(_sum, arrays))
    total = HEAD.size + len(text) + len(sums) + sum(len(a) for a in arrays)
    return [HEAD.pack(MAGIC, key, len(text), len(arrays), total, _sum(text)), text, sums, *arrays]


def is_whole(file, key: bytes) -> bool:
    """Whether an open file is of that key and has the length that its head says."""
    magic, found, _, _, total, _ = HEAD.unpack(file.read(HEAD.size))
    return magic in (MAGIC, BEFORE) and found == _padded(key) and os.fstat(file.fileno()).st_size == total


def decode(file, key: bytes, wanted: tuple[str, ...] | None = None) -> Frame | None:
    """The frame of an open file, with the columns of those names only (all of them when none are given); None when it
    is damaged or of another key. Sizes are held against the bytes that are there before memory is taken for them."""
    magic, found, size, count, total, layout_sum = HEAD.unpack(file.read(HEAD.size))
    if (
        magic not in (MAGIC, BEFORE)
        or found != _padded(key)
        or os.fstat(file.fileno()).st_size != total
        or size + 8 * count > total
    ):
        return None
    text = file.read(size)
    if _sum(text) != layout_sum:
        return None
    parts, spans, blob = _layout(text, magic == BEFORE)
    at = HEAD.size + size + 8 * count
    if len(parts) + 1 != count or at + sum(p.nbytes for p in parts) + blob != total:
        return None
    sums = struct.unpack(f"<{count}Q", file.read(8 * count))
    columns: dict[str, dict[str, np.ndarray]] = {name: {} for name in spans}
    ids: dict[str, np.ndarray] = {}
    here = at
    for part, wanted_sum in zip(parts, sums, strict=False):
        if not part.name or wanted is None or part.name in wanted:
            if at != here:
                file.seek(at)
            array = np.empty(part.shape, part.dtype)
            if array.size and file.readinto(_bytes(array)) != array.nbytes:
                return None
            if _sum(_bytes(array)) != wanted_sum:
                return None
            here = at + part.nbytes
            (columns[part.table] if part.name else ids).__setitem__(part.name or part.table, array)
        at += part.nbytes
    snapshot = b""
    if blob and wanted is None:
        file.seek(at)
        snapshot = file.read(blob)
        if _sum(snapshot) != sums[-1]:
            return None
    return Frame({n: Table(columns[n], ids.get(n), spans[n]) for n in spans}, snapshot)


@lru_cache(256)
def _layout(
    text: bytes, old: bool
) -> tuple[tuple[StoredColumn, ...], Mapping[str, Mapping[str, tuple[int, int]]], int]:
    """(columns in order, table -> whose rows, size of the snapshot); the frames of a run share one."""
    tables, blob = json.loads(text)
    parts, spans = [], {}
    now = lambda column: str(renamed.COLUMNS.get(column, column) if old else column)
    for name, columns, whose in tables:
        spans[name] = {m: tuple(span) for m, span in whose.items()}
        parts += [StoredColumn(name, now(c), d, tuple(s), math.prod(s) * np.dtype(d).itemsize) for c, d, s in columns]
    return tuple(parts), spans, int(blob)


def _bytes(array: np.ndarray) -> bytes | memoryview:
    """The bytes of an array, as they lie in memory."""
    return array.data.cast("B") if array.size else b""


def _padded(key: bytes) -> bytes:
    return key.ljust(32, b"\0")


def _sum(data) -> int:
    return xxhash.xxh3_64_intdigest(data)
