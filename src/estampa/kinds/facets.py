"""Facets: what a window knows of a kind beside its channels. All of it is optional, and none of it names a toolkit.

A facet is found as kinds are: estampa.app.facets holds those of our kinds, and a plug-in's file may define one beside
its kind. What has none gets the general one.
"""

from typing import Any, ClassVar, NamedTuple

import numpy as np

from .plugins import registry
from .registry import Kind


class Spots(NamedTuple):
    """Points that can be dragged one by one."""

    points: np.ndarray  # (k, 3) m in the world
    of: Any  # the thing whose points they are
    level: bool = False  # they are dragged over a level plane, and not over one that faces the eye


class Facts(NamedTuple):
    """What a sheet tells of a thing above its channels."""

    rows: list[tuple[str, str]]
    words: str = ""  # beneath them: what else there is to say, or what to do next


class Facet:
    """Base of the facets, and the one of what has none of its own.

    A `pane` is where a picture is drawn: `pane.place(thing)`, `pane.value(thing, channel)` at the present frame. A
    `canvas` draws in one: see estampa.app.view.canvas. `by_hand` adds things: see estampa.app.facets.by_hand.
    """

    kinds: ClassVar[tuple[str, ...]] = ()  # whose facet it is
    owners: ClassVar[tuple[str, ...]] = ()  # or that of all kinds of some owners, which have none of their own
    named: ClassVar[bool] = False  # its name stands beside it in a pane of controls
    picked: ClassVar[bool] = False  # it is selected by a click near where it stands

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        FACETS.update({kind: cls() for kind in cls.kinds})
        OF_OWNERS.update({owner: cls() for owner in cls.owners})

    # -- in a pane -------------------------------------------------------------------------------------------
    def draw(self, canvas: Any, thing: Any, chosen: bool) -> None:
        """Draw a thing that is on, while nothing plays. chosen -- its handles are shown."""

    def draw_selected(self, canvas: Any, thing: Any) -> None:
        """Draw more of it while it is selected."""

    def hint(self, thing: Any) -> str:
        """What a hand can do with it, in a line."""
        return ""

    # -- points to take hold of ------------------------------------------------------------------------------
    def spots(self, pane: Any, thing: Any) -> Spots | None:
        """The points that can be dragged while it is selected."""
        return None

    def move_spot(self, pane: Any, thing: Any, index: int, to: np.ndarray) -> None:
        """One of them was dragged to (3,) m in the world."""

    def turn_spot(self, pane: Any, thing: Any, index: int, before: Any, turn: float, factor: float) -> bool:
        """One of them is turned by rad or sized by a factor, from what it was; False where that does nothing."""
        return False

    def remove_spot(self, pane: Any, thing: Any, index: int) -> bool:
        """One of them is taken away; False where that cannot be."""
        return False

    def place(self, pane: Any, thing: Any, x: float, y: float) -> bool:
        """The Place tool clicked at a pixel while it is selected; False where nothing of it can be placed."""
        return False

    # -- in the sheet and the Add menu --------------------------------------------------------------------------
    def facts(self, session: Any, thing: Any) -> Facts | None:
        """What the sheet tells of it; None: what is reported of its solved frame, where there is such a thing."""
        return None

    def add(self, by_hand: Any) -> None:
        """A hand adds one."""
        by_hand.add(**self.first(by_hand))

    def first(self, by_hand: Any) -> dict[str, Any]:
        """What it is given then, beside its name: `values`, `spots`."""
        return {}


FACETS: dict[str, Facet] = registry({})
OF_OWNERS: dict[str, Facet] = registry({})
GENERAL = Facet()


def facet_of(declared: type[Kind] | None) -> Facet:
    """The facet of a kind."""
    if declared is None:
        return GENERAL
    return FACETS.get(declared.kind) or OF_OWNERS.get(declared.owner) or GENERAL
