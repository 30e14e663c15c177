"""A run: an ensemble being advanced, and what is shown of it at a frame."""

from dataclasses import dataclass

from ..kinds.lanes import Alarm
from ..scene.document import Thing
from ..solve.frame import Frame


@dataclass(frozen=True)
class Run:
    """An ensemble and its members, in the order of their numbers."""

    id: str
    thing: Thing  # whose channels are read: the ensemble, or the layer that is one by itself
    members: tuple[tuple[Thing, Thing], ...]  # (owner, layer)

    @property
    def is_solo(self) -> bool:
        """Whether it is a layer of its one owner."""
        return self.thing is self.members[0][1]

    @property
    def alarm(self) -> Alarm | None:
        """What marks a frame of it as wrong, where its kind declares that."""
        return self.thing.declared.alarm if self.thing.declared is not None else None

    @property
    def name(self) -> str:
        owner, layer = self.members[0]
        return f"{layer.name} on {owner.name}" if self.is_solo else self.thing.name


@dataclass(frozen=True)
class Shown:
    """What is shown of a run at a frame: its own frame, a stale one, or an earlier one."""

    frame: Frame
    at: float  # the frame that it is of
    key: bytes
    is_current: bool


@dataclass(frozen=True)
class Playing:
    """A run that plays on without the store: its frame, and the one before."""

    at: int
    now: Frame
    before: Frame
