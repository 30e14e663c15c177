"""What a remark is, and how what looks for remarks is registered.

`@check()` looks at a scene as a whole, `@check("cloth", "chain")` at each thing or layer of those kinds that is on, and
`@check(worked_out=True)` at what an evaluator works out. Files in this folder and plug-ins are found by themselves.
"""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, Literal

from ...kinds.plugins import registry
from ...scene.document import Document, Thing
from ...scene.scene import Scene, Snapshot


@dataclass(frozen=True)
class Remark:
    """What is wrong, what it causes, and how to mend it."""

    severity: Literal["error", "warning", "note"]
    thing: str  # id of the culprit, "" for the scene
    wrong: str
    causes: str
    mend: str
    fix: tuple[str, Callable] | None = None  # words on a button, and what it does to the scene
    frame: int | None = None  # the first frame at which it shows

    def __str__(self) -> str:
        return f"{self.wrong} {self.causes} {self.mend}"


@dataclass(frozen=True)
class Check:
    """What looks for remarks."""

    look: Callable[..., Iterable[Remark]]
    kinds: tuple[str, ...] = ()  # whose things it looks at, one by one; none: at the scene
    worked_out: bool = False  # it asks an evaluator

    def run(self, asked: Any, by_kind: dict[str, list[tuple[Thing, Thing | None]]]) -> Iterator[Remark]:
        """Remarks on a scene, or on what an evaluator works out of it. by_kind -- see `things_by_kind`."""
        if not self.kinds:
            yield from self.look(asked)
        for kind in self.kinds:
            for thing, owner in by_kind.get(kind, ()):
                yield from self.look(asked, thing, owner)


CHECKS: dict[tuple[str, str], Check] = registry(
    {}
)  # by module and name, so that a file that is read again takes its own place


def check(*kinds: str, worked_out: bool = False) -> Callable[[Callable], Callable]:
    """Registers a function that looks for remarks: look(scene), of kinds look(scene, thing, owner) for each that is on,
    whose owner is None unless it is a layer or a joint. worked_out -- it gets an evaluator in place of the scene."""

    def registered(look: Callable) -> Callable:
        CHECKS[look.__module__, look.__qualname__] = Check(look, kinds, worked_out)
        return look

    return registered


def things_by_kind(doc: Document) -> dict[str, list[tuple[Thing, Thing | None]]]:
    """(thing, its owner) of all that is on, and whose owner is, by kind."""
    found: dict[str, list[tuple[Thing, Thing | None]]] = {}
    for thing, owner in doc.everything():
        if thing.on and thing.declared is not None and (owner is None or owner.on):
            found.setdefault(thing.kind, []).append((thing, owner))
    return found


def layers_of(scene: Scene | Snapshot) -> Iterator[tuple[Thing, Thing]]:
    """(subject, layer) of every layer of a kind that is known."""
    for subject in scene.doc.subjects:
        for layer in subject.stack:
            if layer.declared is not None:
                yield subject, layer
