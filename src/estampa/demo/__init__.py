"""Demo scenes, set in the Lantern Pier, a made-up seaside night market. Each module here with a `build` is one."""

import importlib
import pkgutil
from pathlib import Path

from ..errors import EstampaError
from ..scene.ids import ids_of
from ..scene.scene import Scene

DATA = Path(__file__).parent / "data"


def names() -> list[str]:
    return [m.name for m in pkgutil.iter_modules(__path__)]


def about(name: str) -> str:
    """What a demo shows, in a sentence."""
    words = importlib.import_module(f"{__name__}.{name}").__doc__ or ""
    return " ".join(words.split("\n\n")[0].split())


def build(name: str) -> Scene:
    """The demo scene of that name. Raises EstampaError when there is none."""
    if name not in names():
        raise EstampaError(f"Demo “{name}”", "does not exist.", f"There is: {', '.join(names())}.")
    with ids_of(name):
        return importlib.import_module(f"{__name__}.{name}").build()
