"""What is worked out of things and kept: one table for a scene, bounded, and emptied of what is gone.

Values are for as long as their key is the same: whatever they were made of. What is one at a time (the plan of a layer)
has one place, and a new key takes it; what is many at once (surfaces of several frames) has its key in `what`.
"""

import sys
from collections.abc import Callable, Hashable, Iterable
from contextlib import suppress
from threading import RLock
from typing import Any, TypeVar

import numpy as np
from cachetools import LRUCache

MOST = 2_000_000_000  # bytes of all that is kept

T = TypeVar("T")


class Memo:
    """Safe to use from any thread. Two that ask for the same at once may both make it; the later one is kept."""

    def __init__(self, most: int = MOST) -> None:
        self._lock = RLock()
        size = lambda kept: size_of(kept[1])
        self._kept: LRUCache[tuple[str, Hashable], tuple[Any, Any]] = LRUCache(most, getsizeof=size)

    def get(self, owner: str, what: Hashable, key: Any, make: Callable[[], T]) -> T:
        """The value of a thing (its id; "" of none), made anew where its key is another one than it was.

        key -- compared by `same_key`: arrays and meshes by identity, all else by value
        """
        with self._lock:
            found = self._kept.get((owner, what))
        if found is not None and same_key(found[0], key):
            return found[1]
        made = make()
        self.put(owner, what, key, made)
        return made

    def peek(self, owner: str, what: Hashable) -> tuple[Any, Any] | None:
        """(key, value) as they were kept last; None where there is none."""
        with self._lock:
            return self._kept.get((owner, what))

    def put(self, owner: str, what: Hashable, key: Any, value: Any) -> None:
        """Keep a value; one that is larger than all that may be kept is not."""
        with self._lock:
            self._kept.pop((owner, what), None)
            with suppress(ValueError):  # it is too large
                self._kept[owner, what] = (key, value)

    def drop(self, owners: Iterable[str]) -> None:
        """Forget what was kept of things that are gone."""
        gone = set(owners)
        if gone:
            with self._lock:
                for place in [p for p in self._kept if p[0] in gone]:
                    del self._kept[place]

    @property
    def nbytes(self) -> int:
        return int(self._kept.currsize)

    def __len__(self) -> int:
        return len(self._kept)


def same_key(a: Any, b: Any) -> bool:
    """Whether two keys are of the same: plain values by value, everything else by identity."""
    if a is b:
        return True
    if isinstance(a, tuple) and isinstance(b, tuple):
        return len(a) == len(b) and all(map(same_key, a, b))
    plain = (str, bytes, int, float, bool, type(None))
    return isinstance(a, plain) and isinstance(b, plain) and a == b


def size_of(value: Any) -> int:
    """About how many bytes a value takes: those of the arrays in it, and in what it is made of. What stands within
    tables of values is not looked into further, since meshes and the like are shared by many."""
    if isinstance(value, np.ndarray):
        return value.nbytes
    if isinstance(value, dict):
        return 64 + sum(map(size_of, value.values()))
    if isinstance(value, (tuple, list)):
        return 64 + sum(map(size_of, value))
    own = vars(value).values() if hasattr(value, "__dict__") else ()
    return sys.getsizeof(value, 64) + sum(v.nbytes for v in own if isinstance(v, np.ndarray))
