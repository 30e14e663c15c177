"""What names what in a document, and rings: things that would need themselves to be worked out.

The nodes are owners (a subject, a skeleton, a grip, a force); a layer or a joint counts as its owner. Only what is on
and understood is followed.
"""

from ..errors import EstampaError
from .channels import layers_feel
from .document import Document, Thing

MOST_DEEP = 500  # things riding on one another, or channels reading one another


class Graph:
    """Who needs whom, worked out once for a document."""

    def __init__(self, doc: Document):
        self.doc = doc
        self.by_id: dict[str, Thing] = {}
        self.owner_of: dict[str, str] = {}
        for thing, owner in doc.everything():
            self.by_id[thing.id] = thing
            self.owner_of[thing.id] = owner.id if owner is not None else thing.id
        self._forces = [t for t in doc.things if t.on and t.declared is not None and t.declared.family == "force"]
        self._needs: dict[str, dict[str, str]] = {}

    def needs(self, owner_id: str) -> dict[str, str]:
        """Owners that one needs: id -> the words for why."""
        if owner_id not in self._needs:
            self._needs[owner_id] = self._found(self.by_id[owner_id])
        return self._needs[owner_id]

    def _found(self, owner: Thing) -> dict[str, str]:
        found: dict[str, str] = {}
        parts = [(owner, "")]
        if owner.kind in ("subject", "skeleton"):
            for layer in owner.stack:
                if layer.on and layer.declared is not None:
                    parts.append((layer, layer.name))
        for thing, words in parts:
            if thing.declared is None:
                continue
            for name, channel in thing.declared.channels.items():
                if channel.type != "ref" or channel.to in ("map", "target", "target_map"):
                    continue
                self._add(found, owner, thing, thing.values.get(name), words or channel.label.lower())
            if owner.stack and thing is not owner:
                for force in self._forces:
                    if force.kind in layers_feel(thing.declared):
                        self._add(found, owner, thing, force.id, words)
        return found

    def _add(self, found, owner, thing, value, words):
        target = self.owner_of.get(value) if isinstance(value, str) else None
        if target is None or self.by_id[target].declared is None:
            return
        if target == owner.id and thing is not owner:
            return  # a joint of its own: a layer reads it as it enters
        found.setdefault(target, words)

    def ring(self) -> list[str] | None:
        """Names of owners that need one another in a ring, the first again at the end; None when there is none."""
        state: dict[str, int] = {}
        for start in self.by_id:
            if start in state or self.owner_of[start] != start:
                continue
            trail, stack = [start], [iter(self.needs(start))]
            state[start] = 1
            while stack:
                following = next(stack[-1], None)
                if following is None:
                    state[trail.pop()] = 2
                    stack.pop()
                elif state.get(following) == 1:
                    ring = [*trail[trail.index(following) :], following]
                    return [self.by_id[i].name for i in ring]
                elif following not in state:
                    state[following] = 1
                    trail.append(following)
                    stack.append(iter(self.needs(following)))
        return None


def refuse_ring(doc: Document, what: str) -> None:
    """Raises EstampaError when things of a document would need themselves. what -- the edit, or the file."""
    ring = Graph(doc).ring()
    if ring:
        raise EstampaError(
            what,
            f"makes a ring: {' → '.join(ring)}. Each would have to be worked out before itself.",
            "Let one of them name something else, or switch it off.",
        )


def names_changed(before: Document, after: Document) -> bool:
    """Whether an edit may have made another thing needed: something came, went, was switched, or names another."""
    if [t.id for t in before.things] != [t.id for t in after.things]:
        return True
    return any(a is not b and _names(a) != _names(b) for a, b in zip(before.things, after.things, strict=True))


def _names(thing: Thing):
    own = lambda t: (t.id, t.kind, t.on, {n: v for n, v in t.values.items() if isinstance(v, str)})
    return own(thing), [own(l) for l in thing.stack], [j.id for j in thing.joints]
