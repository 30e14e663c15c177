"""Kinds and where they are found.

A kind (a layer, a force, an ensemble, a print, a thing) is a class whose attributes declare its channels. The sheet,
the scene file, the lanes, the command line and the channel reference are all drawn from them.
"""

import importlib
import pkgutil
from threading import RLock
from typing import Any, ClassVar

from . import plugins
from .channels import Channel
from .fields import refuse_unknown
from .lanes import Alarm, ReportLane


class Kind:
    """Base of every declared kind. Subclasses with a `kind` word are registered on definition."""

    kind: ClassVar[str] = ""
    family: ClassVar[str] = ""  # thing, layer, force, ensemble, print
    title: ClassVar[str] = ""
    version: ClassVar[int] = 1  # raise when the same channels give other results
    channels: ClassVar[dict[str, Channel]] = {}
    presets: ClassVar[dict[str, dict[str, Any]]] = {}  # shown words -> channel values
    group: ClassVar[str] = ""  # what one adds it for: a key of GROUPS
    icon: ClassVar[str] = ""  # an SVG path on a grid of 16 x 16, drawn with one weight of line
    shortcut: ClassVar[str] = ""  # of the command that adds it, where a hand needs one; two modifiers at the most
    rank: ClassVar[int] = 50  # of what can be added, the most used stand first
    gives: ClassVar[frozenset[str]] = frozenset()  # of a force: the fields that it adds to (fields.py)
    reads: ClassVar[frozenset[str]] = frozenset()  # of what is solved: the fields that it reads; others stale nothing
    passing: ClassVar[tuple[str, ...]] = ()  # tables of a solver that only some frames have rows of
    come_and_go: ClassVar[tuple[str, ...]] = ()  # tables of a solver whose rows are born and die
    owner: ClassVar[str] = ""  # of what has a stack: which of estampa.owners looks after it
    moves: ClassVar[str] = ""  # of a layer, what it moves; of what has a stack, what its layers move: a key of MOVED
    shape_of: ClassVar[str | None] = None  # whose mesh it shows: "" its own, or the channel that names another one's
    only_while_on: ClassVar[bool] = False  # True: what names it reads nothing of it while it is off
    may_ride_with_copies: ClassVar[bool] = False  # True: where it stands may be different for each copy of a subject
    lane: ClassVar[ReportLane | None] = None  # of what is solved: what its lane shows of its report
    alarm: ClassVar[Alarm | None] = None  # of what is solved: what marks a frame as wrong
    added_by_hand: ClassVar[bool] = True  # False: it comes with a mesh, or is built joint by joint
    node: ClassVar[str] = ""  # of a thing, what it is in a file of a scene: plain, mesh, skeleton, camera, instances
    roster_rank: ClassVar[int] = 12  # of things, what is looked at stands first and what is felt last
    can_be_off: ClassVar[bool] = True  # False: it only stands there
    own_grip: ClassVar[str | None] = None  # the channel for which a grip is made when a hand adds it; None: see below
    own_joint: ClassVar[str] = "first"  # of a layer on joints, the channel that takes the joint that is selected
    own_first: ClassVar[bool] = False  # channels of the class stand before those of its base

    def __init_subclass__(cls, **more):
        super().__init_subclass__(**more)
        own = {}
        for name, value in list(vars(cls).items()):
            if isinstance(value, Channel):
                own[name] = Channel(**{**vars(value), "name": name})
                setattr(cls, name, own[name])
        inherited = {}
        for parent in cls.__mro__[:0:-1]:
            inherited |= vars(parent).get("channels", {})
        base = {name: channel for name, channel in inherited.items() if name not in own}
        cls.channels = {**own, **base} if cls.own_first else {**base, **own}
        refuse_unknown(cls.kind, cls.gives | cls.reads)
        if cls.kind:
            known = _KINDS.get(cls.kind)
            if known is not None and (known.__module__, known.__qualname__) != (cls.__module__, cls.__qualname__):
                raise ValueError(f"“{cls.kind}” is the word of {known.title} already")
            _KINDS[cls.kind] = cls

    @classmethod
    def first_values(cls, mesh) -> dict[str, float]:
        """Values of channels that suit a mesh of that size, for a layer that is new on it."""
        sides = {"largest": max(float(mesh.size.max()), 1e-3), "height": max(float(mesh.size[1]), 1e-3)}
        return {n: c.suits[1] * sides[c.suits[0]] for n, c in cls.channels.items() if c.suits is not None}

    @classmethod
    def grip_by_hand(cls) -> str:
        """The channel for which a grip of its own is made when a hand adds it; "" where none is."""
        if cls.own_grip is not None:
            return cls.own_grip
        wanted = ("target",) if cls.moves == "joints" else ("grip", "around")
        return next((n for n in wanted if n in cls.channels), "")

    @classmethod
    def joint_by_hand(cls) -> str:
        """The channel that takes the joint that is selected when a hand adds it; "" where none does."""
        return cls.own_joint if cls.own_joint in cls.channels else ""

    @classmethod
    def asks(cls, values: dict[str, Any]) -> str:
        """What a hand is asked before it sets values, where that takes long or much; "" where it need not be."""
        return ""

    @classmethod
    def reads_in(cls, thing) -> frozenset[str]:
        """The fields that a thing of this kind reads, as it is set."""
        return cls.reads

    @classmethod
    def summary(cls) -> str:
        return " ".join((cls.__doc__ or "").split("\n\n")[0].split())


MOVED = {
    "points": "the points of a subject",
    "joints": "the joints of a skeleton",
    "grains": "grains of a swarm or a liquid",
}

GROUPS = {
    "bend": "Bend and shape",
    "bring": "Bring in motion",
    "drift": "Drift and ripple",
    "swing": "Swing and lag",
    "fall": "Fall and blow",
    "guide": "Guide and aim",
    "carry": "Carry and refine",
    "swarm": "Guide a swarm",
    "fill": "Fill the scene",
    "deliver": "Deliver",
}

_KINDS: dict[str, type[Kind]] = plugins.registry({})
_FOLDERS = (
    "scene.things",
    "scene.copies",
    "scene.skeleton",
    "motion",
    "motion.pieces",
    "motion.posing",
    "fields",
    "solve.cloth",
    "solve.cloth.aids",
    "solve.rods",
    "solve.stems",
    "solve.bodies",
    "solve.pieces",
    "solve.swarm",
    "solve.swarm.sources",
    "solve.swarm.guides",
    "solve.liquid",
    "owners",
    "press",
)


_loading = RLock()


def load_kinds() -> dict[str, type[Kind]]:
    """Every known kind by its word. A new file in one of the folders is found by itself, and so are those in the
    folders of ESTAMPA_KINDS (see plugins.py)."""
    global _loaded
    if not _loaded:
        with _loading:  # another thread waits, and never sees half of them
            if not _loaded and not _under_way:
                _under_way.append(True)
                try:
                    for folder in _FOLDERS:
                        package = importlib.import_module(f"estampa.{folder}")
                        for module in pkgutil.iter_modules(getattr(package, "__path__", [])):
                            importlib.import_module(f"{package.__name__}.{module.name}")
                    plugins.load()
                    _loaded = True
                finally:
                    _under_way.clear()
    return _KINDS


_loaded = False
_under_way: list[bool] = []  # not empty while they are being read, by whom modules may ask for what is there already


def kind_of(word: str) -> type[Kind] | None:
    """The declared kind, or None for a word this version does not understand."""
    return _KINDS.get(word) if _loaded else load_kinds().get(word)


def layers_for(owner: str) -> list[type[Kind]]:
    """The layers that can stand in the stack of a kind of thing: none, where it has no stack."""
    declared = kind_of(owner)
    return [k for k in kinds_in("layer") if k.moves == declared.moves] if declared is not None else []


def kinds_in(family: str) -> list[type[Kind]]:
    return [kind for kind in load_kinds().values() if kind.family == family]
