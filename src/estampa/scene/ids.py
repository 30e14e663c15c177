"""Ids of things: numbers in the order in which they are made."""

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from itertools import count
from threading import Lock

from ..hashing import digest, number_of, numbered_id

_numbered: ContextVar = ContextVar("numbered", default=None)


class _Count:
    """Numbers of things in the order in which they are made, across all scenes of this process. They follow on those of
    a scene that is opened, so that the same script makes the same ids each time it runs, and what hangs on ids and
    their order is the same."""

    def __init__(self):
        self._next, self._lock = 1, Lock()

    def take(self) -> int:
        with self._lock:
            self._next += 1
            return self._next - 1

    def follow(self, number: int) -> None:
        with self._lock:
            self._next = max(self._next, number + 1)


_count = _Count()


def new_id() -> str:
    """An id that nothing else has in any scene that this process opened."""
    numbers = _numbered.get()
    return numbered_id(_count.take()) if numbers is None else digest(*next(numbers)).hex()[:12]


def know_ids(ids: Iterable[str]) -> None:
    """Have new ids follow on those of a document that came from a file."""
    for own in ids:
        _count.follow(number_of(own) or 0)


@contextmanager
def ids_of(name: str) -> Iterator[None]:
    """Within it new ids follow from a name and their order, so that a demo is the same scene whenever it is built."""
    token = _numbered.set((name, i) for i in count())
    try:
        yield
    finally:
        _numbered.reset(token)
