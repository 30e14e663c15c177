"""Files of kinds from outside: those in the folders that ESTAMPA_KINDS names.

A plug-in is a program: it may do whatever the person who runs Estampa may do. So the window asks before it reads a
folder that it has not seen as it is now (`ask`, by the digest of its files); scripts and the command line take the
variable for the answer. Trouble within a plug-in is told with its name and stops nothing else (`blamed`).
"""

import importlib.util
import json
import os
import sys
import traceback
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from .. import disk
from ..errors import Cancelled, EstampaError
from ..hashing import digest

VARIABLE, SEEN, MODULES = "ESTAMPA_KINDS", "kinds-seen.json", "estampa_kinds"
BROKEN: dict[str, str] = {}  # file or folder that was not read -> why
_REGISTRIES: list[dict] = []
_may_read: Callable[[Path], bool] = lambda folder: True


def registry(found: dict) -> dict:
    """Declares a table in which classes or functions enter themselves as they are defined: kinds, facets, panels,
    checks. What a broken plug-in entered is taken out again."""
    _REGISTRIES.append(found)
    return found


def folders() -> list[Path]:
    """The folders that ESTAMPA_KINDS names."""
    return [Path(os.path.abspath(f)) for f in os.environ.get(VARIABLE, "").split(os.pathsep) if f]


def files(folder: Path) -> list[Path]:
    """The plug-ins of a folder, in the order in which they are read."""
    return sorted(folder.glob("*.py"))


def ask(may_read: Callable[[Path], bool]) -> None:
    """Let `may_read` decide about folders that were not seen as they are now; before kinds are first asked for."""
    global _may_read
    _may_read = lambda folder: _seen().get(str(folder)) == _digest(folder) or _answered(folder, may_read)


def _answered(folder: Path, may_read) -> bool:
    if not may_read(folder):
        return False
    with suppress(OSError):  # where it cannot be remembered it is asked again
        seen = json.dumps(_seen() | {str(folder): _digest(folder)}, indent=1)
        disk.write_whole(disk.state_folder() / SEEN, lambda part: part.write_text(seen), 0o600)
    return True


def _seen() -> dict[str, str]:
    try:
        found = json.loads((disk.state_folder() / SEEN).read_text())
        return found if isinstance(found, dict) else {}
    except (OSError, ValueError):
        return {}


def _digest(folder: Path) -> str:
    """Of all that a plug-in may take from its folder: every Python file in it and below."""
    found = [(str(f.relative_to(folder)), f.read_bytes()) for f in sorted(folder.rglob("*.py")) if f.is_file()]
    return digest(*found).hex()


def load() -> None:
    """Read all plug-ins. One that is broken is remarked upon, and leaves the registries as they were before it."""
    for folder in folders():
        if not folder.is_dir():
            BROKEN[str(folder)] = "there is no such folder"
        elif files(folder) and not _may_read(folder):
            BROKEN[str(folder)] = "it was not agreed to"
        else:
            for path in files(folder):
                _load(path)


def _load(path: Path) -> None:
    before = [dict(registry) for registry in _REGISTRIES]
    try:
        spec = importlib.util.spec_from_file_location(f"{MODULES}.{path.stem}", path)
        assert spec is not None and spec.loader is not None
        module = importlib.util.module_from_spec(spec)
        sys.modules[spec.name] = module
        spec.loader.exec_module(module)
    except (Exception, SystemExit) as err:  # whatever a file may do wrong
        for registry, kept in zip(_REGISTRIES, before, strict=True):
            registry.clear()
            registry.update(kept)
        BROKEN[str(path)] = f"{type(err).__name__}: {err}"


def file_of(kind: type | Callable) -> str:
    """The name of the plug-in that a kind, or a function, comes from; "" of one of ours."""
    module = kind.__module__
    return f"{module.removeprefix(f'{MODULES}.')}.py" if module.startswith(f"{MODULES}.") else ""


def cure_for(kind: type | Callable) -> str:
    """What to do where a kind gives nonsense."""
    name = file_of(kind)
    return f"It comes from the plug-in {name}: switch it off, and tell who made it." if name else "Switch it off."


@contextmanager
def blamed(kind: type | Callable, where: str) -> Iterator[None]:
    """Whatever goes wrong within a kind from a plug-in is told as trouble of `where`, with the plug-in's name."""
    try:
        yield
    except (EstampaError, Cancelled):
        raise
    except (Exception, SystemExit) as err:
        if not file_of(kind):
            raise
        words = f"went wrong inside ({type(err).__name__}: {err})."
        raise EstampaError(where, words, cure_for(kind), traceback.format_exc()) from err
