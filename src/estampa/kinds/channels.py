"""Channels: what a kind declares of each of its values."""

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

PARTS_OF_SUBJECTS = ("map", "target", "target_map", "target_weights")  # what references may name that is no thing


_NAMED: dict[str, Callable[[Any], bool]] = {  # what is named by more than its kind: the test of a declared kind
    "root": lambda declared: getattr(declared, "node", "") in ("mesh", "plain"),  # a subject, or what carries some
    "placed": lambda declared: "parent" in declared.channels,
    "swarm": lambda declared: declared.moves == "grains",
    "ensemble": lambda declared: declared.family == "ensemble",
}


@dataclass(frozen=True)
class Channel:
    """What one channel is: type, unit, range, default and a line of help."""

    type: str  # number, whole, switch, choice, ref, text
    default: Any
    help: str
    title: str = ""
    unit: str = ""
    soft: tuple[float, float] = (0.0, 1.0)  # where the slider runs; typing may pass it
    hard: tuple[float | None, float | None] = (None, None)  # never passed
    choices: tuple[tuple[str, str], ...] = ()  # (stored word, shown words)
    to: str = ""  # ref: "map", or the kind of thing that may be named
    accumulates: bool = False  # its integral over time is what the motion reads; of a thing: where it has been
    fixed: bool = False  # never animates, as what decides the topology of a mesh
    file: str = ""  # of a text that names a file: which files, as dialogs have it: "Pictures (*.png)"
    empty: str = "none"  # what is told in the field of a text without words
    ramp: bool = False  # a text that says a ramp (see ramps.py)
    check: Callable | None = None  # of a text: raises EstampaError where it cannot be read
    drawn: bool = False  # only how it is drawn: no motion reads it
    suits: tuple[str, float] | None = None  # its first value: a share of the "largest" side or the "height" of a mesh
    along_path: bool = False  # how far, or how fast, it goes along the path that it names
    cycles: bool = False  # a rate; in a loop it must go round a whole number of times
    group: str = ""  # channels that share a row in the sheet
    when: tuple = ()  # (channel, words) pairs: it matters only while each of those channels has one of these words
    takes_chosen: bool = False  # of a map: a hand that adds the layer gives it the map that is chosen
    lags: bool = False  # what it names is read as it was a frame ago, so that both may need one another
    name: str = ""  # set by the class that declares it

    def applies(self, constant) -> bool:
        """Whether it can matter now. constant(name) -> the present word or switch of another channel of the kind."""
        return all(constant(name) in words for name, words in self.when)

    def may_name(self, declared) -> bool:
        """Whether a channel that names something may name a thing of this kind (a class); of None, which this version
        does not understand, not."""
        if declared is None:
            return False
        return _NAMED[self.to](declared) if self.to in _NAMED else declared.kind == self.to

    def clamp(self, value):
        low, high = self.hard
        value = max(value, low) if low is not None else value
        return min(value, high) if high is not None else value

    @property
    def animates(self) -> bool:
        return self.type in ("number", "whole", "switch") and not self.fixed

    @property
    def label(self) -> str:
        return self.title or self.name.replace("_", " ").capitalize()


def number(default: float, help: str, **more) -> Channel:
    return Channel("number", float(default), help, **more)


def whole(default: int, help: str, **more) -> Channel:
    return Channel("whole", int(default), help, **more)


def switch(default: bool, help: str, **more) -> Channel:
    return Channel("switch", bool(default), help, **more)


def choice(default: str, help: str, choices: dict[str, str], **more) -> Channel:
    return Channel("choice", default, help, choices=tuple(choices.items()), **more)


def ref(to: str, help: str, **more) -> Channel:
    return Channel("ref", None, help, to=to, **more)


def text(default: str, help: str, **more) -> Channel:
    return Channel("text", default, help, **more)
