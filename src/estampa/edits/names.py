"""Names that are free, and things by their ids."""

from ..errors import EstampaError
from ..kinds.registry import kind_of
from ..scene.document import Document, Thing
from ..scene.scene import Scene


def unique_name(doc: Document, wanted: str) -> str:
    return doc.index.free_name(wanted)


def free_name(taken: set[str], wanted: str) -> str:
    """The name itself, or with the first number from 2 on that is free."""
    name, i = wanted, 2
    while name in taken:
        name, i = f"{wanted} {i}", i + 1
    return name


class Names:
    """Gives names that nothing in a document has yet."""

    def __init__(self, doc: Document):
        self._taken, self._next = dict.fromkeys(doc.index.names), {}

    def numbered(self, base: str) -> str:
        """The base with the next free number."""
        i = self._next.get(base, 1)
        while f"{base} {i}" in self._taken:
            i += 1
        self._next[base] = i + 1
        self._taken[f"{base} {i}"] = None
        return f"{base} {i}"

    def plain(self, name: str) -> str:
        """The name itself, or with a number when it is taken."""
        if name in self._taken:
            return self.numbered(name)
        self._taken[name] = None
        return name


def thing_named(scene: Scene, thing_id: str) -> Thing:
    thing = scene.doc.find(thing_id)
    if thing is None:
        raise EstampaError("The edit", "names a thing that is not in the scene.", "Select another one.", thing_id)
    return thing


def declared_kind(kind: str):
    declared = kind_of(kind)
    if declared is None:
        raise EstampaError(f"“{kind}”", "is no kind of thing that this version knows.", "")
    return declared
