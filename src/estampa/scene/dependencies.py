"""What a thing's look depends on in a document: the things themselves, so that what was worked out of them can be kept
for as long as they are the very same."""

from operator import is_
from typing import Any

from .document import Document, Thing
from .index import ensembles_of, names_of


class Dependencies:
    """What things of one document depend on."""

    def __init__(self, doc: Document) -> None:
        self.doc, self._index = doc, doc.index
        self._time = (doc.start, doc.end, doc.frame_rate, doc.run_up, doc.loop)
        self._forces = list(self._index.forces.values())
        self._needs: dict[str, set[str] | None] = {}

    def of(self, thing: Thing) -> tuple[Any, ...] | None:
        """All that decides what a thing looks like at any frame; None of what is read from elsewhere besides: solved
        frames, files. Two are the same where `same` says so."""
        found, left = {thing.id: thing}, [thing]
        while left:
            needs = self._needs_of(left.pop())
            if needs is None:
                return None
            for name in needs:
                if name not in found:
                    held, owner = self._index.entries.get(name, (None, None))
                    top = owner or held
                    if top is not None and top.id not in found:
                        found[top.id] = top
                        left.append(top)
        return (self._time, *found.values())

    def _needs_of(self, top: Thing) -> set[str] | None:
        """Ids of things that one at the top names or reads, with its parts; None where it reads more than things."""
        if top.id in self._needs:
            return self._needs[top.id]
        found: set[str] | None = set()
        for part in (top, *top.joints, *top.stack):
            declared = part.declared
            if declared is None:
                continue
            files = any(c.file and part.values.get(n) for n, c in declared.channels.items() if n in part.values)
            if files or (part.on and getattr(declared, "memory", False)):
                found = None
                break
            assert found is not None
            found.update(names_of(part))
        if found is not None and ensembles_of(top):
            found = None
        self._needs[top.id] = found
        return found


def same(a: tuple[Any, ...] | None, b: tuple[Any, ...] | None) -> bool:
    """Whether two are the same: neither is None, and all things in them are the same objects."""
    return a is not None and b is not None and len(a) == len(b) and a[0] == b[0] and all(map(is_, a[1:], b[1:]))
