"""Panels beside the picture: a class each, found as kinds are. Making its widget is all that knows a toolkit."""

from typing import Any, ClassVar

from .plugins import registry


class Panel:
    """Base of the panels. A plug-in's file may define one: it imports its toolkit within `make`, so that the file can
    be read where there is no screen."""

    word: ClassVar[str] = ""  # of its command, panel_WORD
    title: ClassVar[str] = ""
    rank: ClassVar[int] = 50  # where its tab stands
    shortcut: ClassVar[str] = ""

    def __init_subclass__(cls, **more: Any) -> None:
        super().__init_subclass__(**more)
        known = _PANELS.get(cls.word)
        if known is not None and known.__module__ != cls.__module__:
            raise ValueError(f"“{cls.word}” is the word of the panel {known.title} already")
        _PANELS[cls.word] = cls

    def make(self, window: Any) -> Any:
        """Its widget, for a window, whose `session` has the scene."""
        raise NotImplementedError


_PANELS: dict[str, type[Panel]] = registry({})


def panels() -> list[Panel]:
    """One of each, in the order of their tabs."""
    return [made() for made in sorted(_PANELS.values(), key=lambda p: (p.rank, p.title))]
