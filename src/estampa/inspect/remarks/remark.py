"""What a remark is: a plain finding about a scene."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Literal

from ...scene.document import Thing
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

    def __str__(self) -> str:
        return f"{self.wrong} {self.causes} {self.mend}"


def layers_of(scene: Scene | Snapshot) -> Iterator[tuple[Thing, Thing]]:
    """(subject, layer) of every layer of a kind that is known."""
    for subject in scene.doc.subjects:
        for layer in subject.stack:
            if layer.declared is not None:
                yield subject, layer
