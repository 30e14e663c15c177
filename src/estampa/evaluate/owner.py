"""What an owner is: whatever has a stack of layers, and how it is named, solved and seen.

A kind says by `owner` which of the classes of estampa.owners its things are of. A class is made once for an evaluator,
which asks it and never what kind a thing is.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from ..errors import EstampaError
from ..hashing import digest
from ..kinds.plugins import registry
from ..kinds.registry import load_kinds
from ..scene.document import Thing
from ..scene.values import PLACE, Rows
from ..solve.aid import aids_below
from .reader import Scope
from .reasons import Read, reads_of_thing

if TYPE_CHECKING:
    from ..solve.ensemble import MemberInputs
    from .evaluator import Evaluator
    from .outcome import Outcome

OWNERS: dict[str, type[Owner]] = registry({})


class Owner:
    """Base of the owners; by itself that of what has no stack and no shape."""

    word: ClassVar[str] = ""  # by which kinds name it
    always_moves: ClassVar[bool] = False  # True: its channels alone do not say what it is like at a frame
    is_posed: ClassVar[bool] = False  # True: where it stands is the pose of what it is a part of
    has_channels_of_its_own: ClassVar[bool] = True  # False: what names it reads where it is, and no channel of it
    at_one_place: ClassVar[bool] = True  # False: what it shows stands in many places, and the thing itself in none

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        OWNERS[cls.word] = cls

    def __init__(self, evaluator: Evaluator) -> None:
        self.evaluator, self.reader, self.doc = evaluator, evaluator.reader, evaluator.doc
        self._first_points: dict[str, np.ndarray] = {}  # (n, 3) m, what entered layers at the first solved frame
        self._still: dict[str, bool] = {}
        self._still_fingerprints: dict[str, bytes] = {}

    # -- the stack ---------------------------------------------------------------------------------------------
    def solvers(self, owner: Thing) -> list[Thing]:
        """What is solved of a thing that is on, in the order of its stack."""
        return []

    def above(self, owner: Thing, layer: Thing) -> list[Thing]:
        """The layers that do something above one of them."""
        layers = self.evaluator.layers(owner)
        return layers[: [l.id for l in layers].index(layer.id)]

    def aids(self, owner: Thing, layer: Thing) -> list[Thing]:
        """The layers below one with memory that tell it something, down to the next one with memory."""
        return aids_below(self.evaluator.layers(owner), layer)

    def scope(self, owner: Thing, frame: float) -> Scope:
        """For whom a solver reads, in the world."""
        return Scope.world(frame, owner)

    # -- names of results ----------------------------------------------------------------------------------------
    def fingerprint(self, owner: Thing, frame: float, layers: list[Thing] | None = None) -> bytes:
        """Digest of all that decides its shape or pose in the world after the given layers (all of them when none are
        given), whether it is solved yet or not."""
        return self.reader.stand_name(owner, frame)

    def step_fingerprint(self, owner: Thing, layer: Thing, frame: float) -> bytes:
        """Digest of all that a step of a solver of its stack reads at a frame, but forces; made once for what stands
        still."""
        known = self._still_fingerprints.get(layer.id)
        if known is not None:
            return known
        found = self.read_at_step(owner, layer, frame)
        if self.is_still(owner, layer):
            self._still_fingerprints[layer.id] = found
        return found

    def read_at_step(self, owner: Thing, layer: Thing, frame: float) -> bytes:
        """That digest, made anew: what enters the layer, its channels, and the aids below it."""
        entering, scope = self.fingerprint(owner, frame, self.above(owner, layer)), self.scope(owner, frame)
        aids = self.evaluator.runs.aids_fingerprint(owner, layer, scope)
        return digest(entering, self.reader.fingerprint(layer, scope), aids)

    def is_still(self, owner: Thing, layer: Thing) -> bool:
        """Whether that is the same at every frame."""
        found = self._still.get(layer.id)
        if found is None:
            found = self._still[layer.id] = self._stands_still(owner, layer)
        return found

    def _stands_still(self, owner: Thing, layer: Thing) -> bool:
        still = self.reader.still
        if not (still(owner) and all(map(still, owner.joints)) and still(layer)) or self.reader.on_joint(owner):
            return False
        if any(l.declared.memory or l.declared.reads_frames or not still(l) for l in self.above(owner, layer)):
            return False
        # an aid that lets go at a frame is not the same at all frames
        return not any(a.declared.follows or not still(a) for a in self.aids(owner, layer))

    def stand_fingerprint(self, thing: Thing, frame: float) -> bytes:
        """Digest of all that decides where it stands in the world, whether that is solved yet or not."""
        values, reader = self.evaluator.values, self.reader
        if not reader.on_joint(thing):
            return digest("place", values.place(thing, Rows.one(frame)))
        numbers = [values.at(thing, n, frame) for n in PLACE if n in thing.declared.channels]
        return digest("rides", numbers, reader.stand_name(values.find(thing.constant("parent")), frame))

    # -- what is read to solve ------------------------------------------------------------------------------------
    def inputs(self, owner: Thing, layer: Thing, frame: int) -> Any:
        """All that a solver of its stack reads for a frame."""
        raise NotImplementedError

    def member(self, owner: Thing, layer: Thing, frame: int) -> MemberInputs:
        """One of its layers over a frame, for the ensemble that it plays in."""
        title = layer.declared.title if layer.declared is not None else layer.name
        raise EstampaError(f"{layer.name} on {owner.name}", f"cannot play there: {title} needs a mesh or a skeleton.")

    def since_last_step(self, inputs: Any, seen: Any) -> tuple[Any, Any]:
        """(inputs of live play, moving from what the step before saw, what this one saw). seen -- None at first."""
        return inputs, None

    def rows(self, owner: Thing, layer: Thing) -> int:
        """About how many rows a solved frame of a layer has."""
        return 0

    # -- what is seen ----------------------------------------------------------------------------------------------
    def outcome(self, thing: Thing, frame: float, skinned: bool = True) -> Outcome | None:
        """What a thing looks like at a frame; None of what has no surface. skinned -- False: of grains no surface
        around them."""
        return None

    def attempt(self, thing: Thing, frame: float) -> None:
        """Work out what is seen of it, without what takes long; raises what that stops at."""
        self.outcome(thing, frame, skinned=False)

    def shown_fingerprint(self, thing: Thing, frame: float) -> Any:
        """What decides what is seen of it at a frame, for a print."""
        return self.fingerprint(thing, frame)

    def facts(self, thing: Thing) -> Any:
        """What else decides what is written of it, the same at all frames: looks, names of parts."""
        return ()

    def travel(self, owner: Thing, layer: Thing, frame: float) -> tuple[float, float] | None:
        """(mean, largest) m, how far a layer moves what enters it at a frame; None when it is not solved."""
        return None

    def posed(self, thing: Thing, frame: float) -> tuple[np.ndarray, np.ndarray, bool] | None:
        """((n, 3) m points, (k, 3, 3) axes, whether it is solved) by which a seam is judged; None of what does not move
        by itself."""
        return None

    def point_name(self, thing: Thing, point: int, points: int, turns: int) -> str:
        """Words for one of so many points that were judged, of so many turns."""
        return f"vertex {point}"

    def judged_parts(self, thing: Thing) -> list[Thing]:
        """What of it is judged by itself too, a point and a turn each, in the order of those."""
        return []

    def is_solved(self, thing: Thing) -> bool:
        """Whether something that moves it is solved frame by frame."""
        return any(l.declared.memory for l in self.evaluator.layers(thing))

    # -- what is said of it ----------------------------------------------------------------------------------------
    def reads(self, owner: Thing, frame: float) -> list[Read]:
        """What it is before its layers, value by value, with words for a person."""
        return reads_of_thing(self.evaluator, owner, Scope.world(frame))

    def reads_as_named(self, thing: Thing, frame: float) -> list[Read]:
        """What another one that names it reads of it beside its channels."""
        return []

    def read_layers(self, owner: Thing, layer: Thing) -> list[Thing]:
        """The layers that a result of one of them depends on, that one included."""
        return [*self.above(owner, layer), layer]

    def reads_of_layer(self, owner: Thing, layer: Thing, frame: float) -> list[Read]:
        """What is read of one of those layers."""
        return reads_of_thing(self.evaluator, layer, self.scope(owner, frame))


def owners_for(evaluator: Evaluator) -> dict[str, Owner]:
    """An owner of each sort for an evaluator, by its word; "" is of what has no stack."""
    load_kinds()
    return {word: owner(evaluator) for word, owner in {"": Owner, **OWNERS}.items()}
