"""What names what in a document, and rings: things that would need themselves to be worked out.

The nodes are owners (a subject, a skeleton, a grip, a force); a layer or a joint counts as its owner. Only what is on
and understood is followed.
"""

from collections.abc import Iterable

from ..errors import EstampaError
from ..kinds.channels import PARTS_OF_SUBJECTS
from .document import Document, Formula, Link, Thing

NO_THING = (*PARTS_OF_SUBJECTS, "ensemble")  # what may be named that is no owner


class Graph:
    """Who needs whom, worked out once for a document.

    A node is a thing with all that is its own, or an ensemble with all whose layers are its members: these are solved
    together, so that one needs what all of them need.
    """

    def __init__(self, doc: Document):
        self.doc = doc
        self.by_id: dict[str, Thing] = {}
        self._owner_of: dict[str, str] = {}
        for thing, owner in doc.everything():
            self.by_id[thing.id] = thing
            self._owner_of[thing.id] = owner.id if owner is not None else thing.id
        self._forces = [t for t in doc.things if t.on and t.declared is not None and t.declared.family == "force"]
        self._node = self._grouped(doc)
        self._owners: dict[str, list[str]] = {}
        for owner in dict.fromkeys(self._owner_of.values()):
            self._owners.setdefault(self.node(owner), []).append(owner)
        self._needs: dict[str, dict[str, str]] = {}

    def _grouped(self, doc) -> dict[str, str]:
        """Owner -> the node that it belongs to, of those whose layers play in an ensemble."""
        node: dict[str, str] = {}

        def root(name):
            while node.get(name, name) != name:
                name = node[name]
            return name

        for owner in doc.things:
            for layer in owner.stack if owner.on else ():
                together = member_of(layer)
                if together is not None and self._owner_of.get(together) == together and layer.on:
                    node[root(owner.id)] = root(together)
        return {name: root(name) for name in node}

    def node(self, thing_id: str) -> str:
        """The node that a thing belongs to."""
        owner = self._owner_of[thing_id]
        return self._node.get(owner, owner)

    def owners(self, node: str) -> list[Thing]:
        """The things of a node, in the order of the document."""
        return [self.by_id[owner] for owner in self._owners[node]]

    def needs(self, node: str) -> dict[str, str]:
        """Nodes that one needs: node -> the words for why."""
        if node not in self._needs:
            found: dict[str, str] = {}
            for owner in self.owners(node):
                self._find(owner, node, found)
            self._needs[node] = found
        return self._needs[node]

    def _find(self, owner: Thing, node: str, found: dict[str, str]) -> None:
        parts = [(owner, "")]
        if owner.declared is not None and owner.declared.moves:
            for layer in owner.stack:
                if layer.on and layer.declared is not None:
                    parts.append((layer, layer.name))
        for thing, words in parts:
            if thing.declared is None:
                continue
            channels = thing.declared.channels
            for name, value in thing.values.items():
                channel = channels.get(name) if isinstance(value, str) else None
                if channel is None or channel.type != "ref" or channel.lags or channel.to in NO_THING:
                    continue
                self._add(found, node, owner, thing, value, words or channel.label.lower())
            reads = thing.declared.reads_in(thing)
            for force in self._forces if reads else ():
                if force.declared.gives & reads and not is_own_obstacle(self.doc, thing, force):
                    self._add(found, node, owner, thing, force.id, words)

    def _add(self, found, node, owner, thing, value, words):
        target = self._owner_of.get(value) if isinstance(value, str) else None
        if target is None or self.by_id[target].declared is None:
            return
        if target == owner.id and thing is not owner:
            return  # a joint of its own: a layer reads it as it enters
        found.setdefault(self.node(target), words)

    def in_order(self) -> list[Thing]:
        """All owners, each after those that it needs."""
        found, seen = [], set()
        for start in self._owners:
            stack = [(start, iter(self.needs(start)))] if start not in seen else []
            seen.add(start)
            while stack:
                at, left = stack[-1]
                following = next((n for n in left if n not in seen), None)
                if following is not None:
                    seen.add(following)
                    stack.append((following, iter(self.needs(following))))
                    continue
                stack.pop()
                found += self.owners(at)
        return found

    def ring(self, through: Iterable[str] | None = None) -> list[str] | None:
        """Names of things that need one another in a ring, the first again at the end; None when there is none.
        through -- ids of owners, when only rings that go through one of these are looked for."""
        state: dict[str, int] = {}
        for start in self._owners if through is None else map(self.node, through):
            if start in state:
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


def is_own_obstacle(doc: Document, ensemble: Thing, force: Thing) -> bool:
    """Whether a force is the solid mesh of one of the things that an ensemble (or a layer that is one by itself) moves:
    others meet it, they do not."""
    named = force.declared.channels.get("subject")
    if named is None or not named.applies(force.constant):
        return False
    subject = doc.find(force.constant("subject"))
    own = (ensemble.id, member_of(ensemble) if ensemble.declared.family == "layer" else None)
    return subject is not None and any((member_of(layer) or layer.id) in own for layer in subject.stack)


def member_of(layer: Thing) -> str | None:
    """The id of the ensemble that a layer plays in; None of one that is no member."""
    if layer.declared is None or not getattr(layer.declared, "ensemble", ""):
        return None
    value = layer.values.get("together")
    return value if isinstance(value, str) else None


def refuse_ring(doc: Document, what: str, through: Iterable[str] | None = None) -> None:
    """Raises EstampaError when things of a document would need themselves. what -- the edit, or the file; through --
    the ids of what an edit changed, since a ring that it closes goes through one of them."""
    ring = Graph(doc).ring(through) or stack_ring(doc)
    if ring:
        raise EstampaError(
            what,
            f"makes a ring: {' → '.join(ring)}. Each would have to be worked out before itself.",
            "Let one of them name something else, or switch it off.",
        )


def stack_ring(doc: Document) -> list[str] | None:
    """Names of what would have to be solved before itself by the order of stacks: an ensemble twice in one
    stack, or with something that is solved between two of its members."""
    below: dict[str, set[str]] = {}  # what is solved -> what stands right below it, which needs it
    names: dict[str, str] = {t.id: t.name for t, _ in doc.everything()}
    for owner in doc.things:
        last = None
        for layer in owner.stack if owner.on else ():
            if not layer.on or layer.declared is None or not getattr(layer.declared, "memory", False):
                continue
            here = member_of(layer) or layer.id
            if last is not None:
                below.setdefault(last, set()).add(here)
            last = here
    state: dict[str, int] = {}

    def walk(at, trail):
        state[at] = 1
        for following in below.get(at, ()):
            if state.get(following) == 1:
                return [names.get(i, i) for i in (*trail[trail.index(following) :], following)]
            if following not in state:
                found = walk(following, [*trail, following])
                if found:
                    return found
        state[at] = 2
        return None

    for start in list(below):
        if start not in state:
            found = walk(start, [start])
            if found:
                return found
    return None


def names_changed(before: Document, after: Document) -> bool:
    """Whether an edit may have made another thing needed: something came, went, was switched, or names another, or a
    channel reads another one."""
    return _differ(before.things, after.things)


def _differ(before: tuple[Thing, ...], after: tuple[Thing, ...]) -> bool:
    """The same of things in a row, with all that is theirs; what is the same object is not looked into."""
    if before is after:
        return False
    if len(before) != len(after):
        return True
    for a, b in zip(before, after, strict=True):
        if a is not b and (_names(a) != _names(b) or _differ(a.stack, b.stack) or _differ(a.joints, b.joints)):
            return True
    return False


def _names(thing: Thing) -> tuple:
    naming = lambda v: v if isinstance(v, str) else v.inputs if isinstance(v, Formula) else v.reads
    named = {n: naming(v) for n, v in thing.values.items() if isinstance(v, (str, Link, Formula))}
    return thing.id, thing.kind, thing.on, named
