"""What a thing's look depends on in a document, as one name: the same name, the very same things.

Each thing of a document has a serial number, and an edit makes another one. The name of what a thing depends on is a
digest of its number and of the names of what it reads, worked out once for each.
"""

from ..hashing import digest
from .document import Document, Thing
from .index import ensembles_of, names_of

Name = tuple[object, ...]


class Dependencies:
    """What things of one document depend on."""

    def __init__(self, doc: Document) -> None:
        self._index = doc.index
        self._time = (doc.start, doc.end, doc.frame_rate, doc.run_up, doc.loop, doc.fade)
        self._names: dict[str, bytes | None] = {}
        self._open: set[str] = set()

    def of(self, thing: Thing) -> Name | None:
        """The name of all that decides what a thing at the top looks like at any frame; None of what is read from
        elsewhere besides: solved frames, files."""
        name = self._name(thing)
        return None if name is None else (*self._time, name)

    def _name(self, top: Thing) -> bytes | None:
        if top.id in self._open:  # it reads itself as it was a frame ago
            return None
        if top.id not in self._names:
            self._open.add(top.id)
            self._names[top.id] = self._worked_out(top)
            self._open.discard(top.id)
        return self._names[top.id]

    def _worked_out(self, top: Thing) -> bytes | None:
        needs: set[str] = set()
        for part in (top, *top.joints, *top.stack):
            declared = part.declared
            if declared is None:
                continue
            if part.on and getattr(declared, "memory", False):
                return None
            if any(n in part.values and part.values[n] for n, c in declared.channels.items() if c.file):
                return None
            needs.update(names_of(part))
        if ensembles_of(top):
            return None
        read: dict[str, bytes | None] = {}
        for name in needs:
            held, owner = self._index.entries.get(name, (None, None))
            other = owner or held
            if other is not None and other.id != top.id:
                read[other.id] = self._name(other)
        if any(name is None for name in read.values()):
            return None
        return digest(top.serial, sorted(read.items()))
