"""What names what in a document, and rings: things that would need themselves to be worked out.

The nodes are owners (a subject, a skeleton, a grip, a force); a layer or a joint counts as its owner. Only what is on
and understood is followed.
"""

from collections.abc import Callable, Iterable, Mapping
from graphlib import CycleError, TopologicalSorter

from ..errors import EstampaError
from ..kinds.channels import PARTS_OF_SUBJECTS
from .document import Document, Formula, Link, Thing
from .index import Changes

NO_THING = (*PARTS_OF_SUBJECTS, "ensemble")  # what may be named that is no owner


class Graph:
    """Who needs whom, worked out once for a document.

    A node is a thing with all that is its own, or an ensemble with all whose layers are its members: these are solved
    together, so that one needs what all of them need.
    """

    def __init__(self, doc: Document):
        self.doc, self.index = doc, doc.index
        self._forces = list(self.index.forces.values())
        self._roots: dict[str, str] = {}
        self._owners: dict[str, list[str]] = {}
        self._together = self._grouped()
        self._needs: dict[str, dict[str, str]] = {}

    def _grouped(self) -> dict[str, str]:
        """Owner -> the node that it belongs to, of those whose layers play in an ensemble."""
        node: dict[str, str] = {}

        def root(name):
            while node.get(name, name) != name:
                name = node[name]
            return name

        for ensemble, owners in self.index.members.items():
            if owners and self.doc.find(ensemble) is not None and self.doc.owner(ensemble) is None:
                for owner in sorted(owners):
                    node[root(owner)] = root(ensemble)
        found = {name: root(name) for name in node}
        for name, together in found.items():
            self._owners.setdefault(together, []).append(name)
        for together, names in self._owners.items():
            names[:] = sorted({*names, together}, key=lambda i: self.index.places.get(i, 0))
        return found

    def node(self, thing_id: str) -> str:
        """The node that a thing belongs to."""
        thing, owner = self.index.entries[thing_id]
        top = owner.id if owner is not None else thing.id
        return self._together.get(top, top)

    def owners(self, node: str) -> list[Thing]:
        """The things of a node, in the order of the document."""
        return [self.index.entries[owner][0] for owner in self._owners.get(node, (node,))]

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
        held, held_owner = self.index.entries.get(value, (None, None))
        top = held_owner or held
        if top is None or top.declared is None:
            return
        target = top.id
        if target == owner.id and thing is not owner:
            return  # a joint of its own: a layer reads it as it enters
        found.setdefault(self.node(target), words)

    def in_order(self) -> list[Thing]:
        """All owners, each after those that it needs. The document has no ring."""
        nodes = dict.fromkeys(self.node(t.id) for t in (*self.doc.things, *self.doc.prints))
        order = TopologicalSorter({n: self.needs(n).keys() - {n} for n in nodes}).static_order()
        return [owner for node in order for owner in self.owners(node)]

    def ring(self, through: Iterable[str] | None = None) -> list[str] | None:
        """Names of things that need one another in a ring, the first again at the end; None when there is none.
        through -- ids of things at the top, when only rings that go through one of these are looked for."""
        every = (*self.doc.things, *self.doc.prints)
        left = [self.node(i) for i in through] if through is not None else [self.node(t.id) for t in every]
        found: dict[str, dict[str, str]] = {}
        while left:
            node = left.pop()
            if node not in found:
                found[node] = self.needs(node)
                left += found[node]
        return ring_of(found, lambda node: self.index.entries[node][0].name)


def ring_of(needs: Mapping[str, Iterable[str]], name: Callable[[str], str]) -> list[str] | None:
    """Names of nodes that need one another in a ring, the first again at the end; None when there is none."""
    try:
        TopologicalSorter(needs).prepare()
    except CycleError as err:  # it tells each node before the one that needs it
        return [name(node) for node in reversed(err.args[1])]
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
    tops = doc.things if through is None else [doc.find(i) for i in through]
    orders = [l for top in tops if top is not None for l in _solved_rows(top)[:1]]
    ring = Graph(doc).ring(through) or (stack_ring(doc) if orders else None)
    if ring:
        raise EstampaError(
            what,
            f"makes a ring: {' → '.join(ring)}. Each would have to be worked out before itself.",
            "Let one of them name something else, or switch it off.",
        )


def stack_ring(doc: Document) -> list[str] | None:
    """Names of what would have to be solved before itself by the order of stacks: an ensemble twice in one
    stack, or with something that is solved between two of its members."""
    needs: dict[str, set[str]] = {}  # what is solved -> what stands right above it
    for owner in doc.things:
        for above, here in _solved_rows(owner):
            needs.setdefault(here, set()).add(above)
    return ring_of(needs, lambda i: found.name if (found := doc.find(i)) is not None else i)


def _solved_rows(owner: Thing) -> list[tuple[str, str]]:
    """(what is solved, what is solved right below it) in the stack of a thing: ensembles, or layers by themselves."""
    solved = [l for l in owner.stack if owner.on and l.on and l.declared is not None and l.declared.memory]
    ids = [member_of(l) or l.id for l in solved]
    return list(zip(ids, ids[1:], strict=False))


def names_changed(changes: Changes) -> bool:
    """Whether an edit may have made another thing needed: something came, went, was switched, or names another, or a
    channel reads another one."""
    return not changes.same_things or _differ(tuple(changes.before), tuple(changes.after))


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
