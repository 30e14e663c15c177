"""What stands where in a document, kept along with it and mended by what an edit changed.

An edit makes a new document; its index is made from the one before it, in maps that share what did not change
(`immutables`, hash array mapped tries), so that an edit of one thing among ten thousand costs about as much as of one
among ten. Both stay usable, on any thread.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from itertools import chain
from operator import is_
from typing import TYPE_CHECKING, Any, NamedTuple

from immutables import Map

if TYPE_CHECKING:
    from .document import Document, Thing

NEAR = 64  # places about the one where a thing stood, at which it is looked for first


class Changes(NamedTuple):
    """Things at the top (in `things` or `prints`) that are gone or other objects, as they were and as they are."""

    before: list[Thing]
    after: list[Thing]

    @property
    def same_things(self) -> bool:
        """Whether all that changed was there before and still is."""
        return [t.id for t in self.before] == [t.id for t in self.after]


class Index(NamedTuple):
    """entries -- id -> (thing, what it is a part of, or None); places -- id -> about where it stands at the top;
    names -- how many have a name; free -- base -> from which number on that base is free; forces -- those that are on,
    by id; members -- ensemble -> owners of its members; named -- id -> how many things name it or read it."""

    entries: Map[str, tuple[Thing, Thing | None]]
    places: Map[str, int]
    names: Map[str, int]
    free: Map[str, int]
    forces: Map[str, Thing]
    members: Map[str, frozenset[str]]
    named: Map[str, int]

    @classmethod
    def of(cls, doc: Document) -> Index:
        """The index of a document by itself. Of two things of one id the first stands in it."""
        empty: Map[Any, Any] = Map()
        return cls(*[empty] * len(cls._fields)).mended(Changes([], [*doc.things, *doc.prints]), doc)

    def mended(self, changes: Changes, doc: Document) -> Index:
        """That of the document after those changes."""
        entries, places, names, free, forces, members, named = (m.mutate() for m in self)
        stay = {t.id for t in changes.after}
        counts, reads = Counter[str](), Counter[str]()
        for top in changes.before:
            forces.pop(top.id, None)
            if top.id not in stay:
                places.pop(top.id, None)
            for thing in (top, *top.joints, *top.stack):
                if entries.get(thing.id, (None,))[0] is thing:
                    del entries[thing.id]
                counts[thing.name] -= 1
                reads.subtract(names_of(thing))
            for ensemble in ensembles_of(top):
                members[ensemble] = members.get(ensemble, frozenset()) - {top.id}
        for top in changes.after:
            if top.declared is not None and top.declared.family == "force" and top.on:
                forces[top.id] = top
            for thing, owner in chain(((top, None),), ((p, top) for p in (*top.joints, *top.stack))):
                if thing.id not in entries:
                    entries[thing.id] = (thing, owner)
                counts[thing.name] += 1
                reads.update(names_of(thing))
            for ensemble in ensembles_of(top):
                members[ensemble] = members.get(ensemble, frozenset()) | {top.id}
        for name, by in counts.items():
            _count(names, name, by)
            _mend_free(free, name, by)
        for name, by in reads.items():
            _count(named, name, by)
        _set_places(places, [t for t in changes.after if t.id not in places], doc)
        return Index(*(m.finish() for m in (entries, places, names, free, forces, members, named)))

    def place(self, rows: tuple[Thing, ...], thing: Thing) -> int:
        """Where a thing stands in a row of things; -1 where it does not."""
        hint = self.places.get(thing.id, -1)
        for k in range(max(hint - NEAR, 0), min(hint + NEAR, len(rows))):
            if rows[k] is thing:
                return k
        return next((k for k, t in enumerate(rows) if t is thing), -1)

    def free_name(self, wanted: str) -> str:
        """The name itself, or with the first number from 2 on that is free."""
        if wanted not in self.names:
            return wanted
        i = self.free.get(wanted, 2)
        while f"{wanted} {i}" in self.names:
            i += 1
        return f"{wanted} {i}"


def changed(before: Document, after: Document) -> Changes:
    """What is at the top of one document and not, as the same object, of the other: as the edits in between told, or
    else by looking at all of it."""
    steps, at = [], after
    while at is not before:
        at, step = at.made_by
        if step is None:
            return _by_looking(before, after)
        steps.append(step)
    was: dict[str, Thing] = {}
    now: dict[str, Thing] = {}
    for step in reversed(steps):
        for thing in step.before:
            if now.pop(thing.id, None) is None:
                was[thing.id] = thing
        now |= {t.id: t for t in step.after}
    same = {i for i, t in now.items() if was.get(i) is t}
    return Changes([t for i, t in was.items() if i not in same], [t for i, t in now.items() if i not in same])


def _by_looking(before: Document, after: Document) -> Changes:
    gone, come = [], []
    for old, new in ((before.things, after.things), (before.prints, after.prints)):
        if old is new:
            continue
        first = _same(old, new)
        last = min(_same(old[::-1], new[::-1]), min(len(old), len(new)) - first)
        old, new = old[first : len(old) - last], new[first : len(new) - last]
        kept = {id(t) for t in old} & {id(t) for t in new}
        gone += [t for t in old if id(t) not in kept]
        come += [t for t in new if id(t) not in kept]
    return Changes(gone, come)


def _same(old: tuple[Thing, ...], new: tuple[Thing, ...]) -> int:
    """How many at the beginning of two rows are the same objects."""
    alike = list(map(is_, old, new))
    return alike.index(False) if False in alike else len(alike)


def names_of(thing: Thing) -> Iterator[str]:
    """Ids of things that one names in its channels, or reads channels of."""
    channels = thing.declared.channels if thing.declared is not None else {}
    for name, value in thing.values.items():
        if isinstance(value, str) and name in channels and channels[name].to:
            yield value
    for _, source in thing.sources():
        yield source.thing


def ensembles_of(owner: Thing) -> set[str]:
    """Ids of the ensembles that layers of a thing play in, as it is on and they are."""
    from .graph import member_of

    found = {member_of(l) for l in owner.stack if l.on} if owner.on else set()
    return {i for i in found if i is not None}


def _count(counts: Any, name: str, by: int) -> None:
    many = counts.get(name, 0) + by
    if many > 0:
        counts[name] = many
    elif name in counts:
        del counts[name]


def _mend_free(free: Any, name: str, by: int) -> None:
    """Of names with numbers: from which one on there may be a free one, after a name came (by > 0) or went."""
    base, _, number = name.rpartition(" ")
    if not base or not number.isdigit():
        return
    first = free.get(base, 2)
    if by > 0 and int(number) == first:
        free[base] = first + 1
    elif by < 0 and int(number) < first:
        free[base] = int(number)


def _set_places(places: Any, fresh: list[Thing], doc: Document) -> None:
    """Where things stand that were not there before; few of them are looked for from the foot, where what is new is."""
    if len(fresh) < 4:
        for thing in fresh:
            for rows in (doc.things, doc.prints):
                at = next((k for k in range(len(rows) - 1, -1, -1) if rows[k] is thing), None)
                if at is not None:
                    places[thing.id] = at
        return
    own = {id(t) for t in fresh}
    for rows in (doc.things, doc.prints):
        for k, thing in enumerate(rows):
            if id(thing) in own:
                places[thing.id] = k
