"""The one door to OpenUSD stages.

A stage is put together from files that name one another, and a few lines of text can ask for more prims than any
memory holds, or never end. So it is first put together in a process that can be ended, which counts its prims, how
deep they stand and which files it takes; only what keeps within the bounds is opened here.
"""

import os
from pathlib import Path
from threading import RLock

from ..errors import EstampaError
from ..worker_processes import Gone, Guard
from . import bounds

LOCK = RLock()  # the library's own layers are shared by all threads
MOST_PRIMS, MOST_DEEP = 400_000, 500
SECONDS, PER_SECOND = 15.0, 20_000_000  # for any stage, and a second more for so many bytes
MEMORY = 1_500_000_000  # bytes that putting it together may take
_guard = Guard(MEMORY)
_known: dict[str, tuple] = {}  # stages that were found sound -> their files as they were then


def stage(path: Path, laid_over: bool = False):
    """A pxr stage as its files are now; all of them lie in its own folder or below. laid_over -- whether it may lie
    over stages elsewhere, as a thin layer does, whose folders count too then. Raises EstampaError."""
    from pxr import Tf, Usd

    path = bounds.plain(Path(path))
    if not path.stat().st_size:
        raise EstampaError(path.name, "is empty.", "Export it again.")
    files = _known.get(str(path))
    if files is None or _marks(files[0]) != files[1]:
        _check(path, laid_over)
    try:
        with LOCK:
            found = Usd.Stage.Open(str(path))
            for layer in found.GetUsedLayers():  # the library keeps a layer for as long as any stage has it
                if not layer.anonymous:
                    layer.Reload()
    except (Tf.ErrorException, RuntimeError) as err:
        raise _damaged(path, str(err)) from err
    if found is None:
        raise _damaged(path, "")
    return found


def _check(path: Path, laid_over: bool) -> None:
    seconds = SECONDS + path.stat().st_size / PER_SECOND
    try:
        answer = _guard.ask(look, str(path.resolve()), seconds)
    except TimeoutError:
        words = f"was not put together within {seconds:.0f} s: what it refers to multiplies, or is no plain file."
        raise EstampaError(path.name, words, "Flatten it where it was made, or take parts of it.") from None
    except Gone as err:
        words = "took more memory than it may, or ended the process that looked at it."
        raise EstampaError(path.name, words, "Flatten it where it was made, or take parts of it.", err.detail) from None
    if isinstance(answer, str):
        raise _damaged(path, answer)
    prims, deep, files, under = answer
    if prims > MOST_PRIMS:
        raise EstampaError(path.name, f"has more than {MOST_PRIMS:,} prims.", "Take parts of it, or join them.")
    if deep > MOST_DEEP:
        words = f"has prims that stand {deep:,} deep in one another; {MOST_DEEP:,} are the most."
        raise EstampaError(path.name, words, "Flatten it where it was made.")
    homes = [path.parent.resolve(), *(Path(u).resolve().parent for u in under if laid_over)]
    for file in files:
        if not any(Path(file).resolve().is_relative_to(home) for home in homes):
            words = f"reads a layer outside its own folder (“{file}”), which is refused."
            raise EstampaError(path.name, words, "Put its layers beside it, or flatten it to one file.")
    _known[str(path)] = (files, _marks(files))


def _marks(files) -> tuple:
    """What tells whether files are as they were."""
    found = []
    for file in files:
        try:
            s = os.stat(file)
            found.append((s.st_ino, s.st_size, s.st_mtime_ns))
        except OSError:
            found.append(None)
    return tuple(found)


def look(_, path: str) -> tuple[int, int, list[str], list[str]] | str:
    """(prims, how deep they stand, files, files that it lies over) of a stage, or the words for why there is none. Runs
    in a process of its own."""
    from pxr import Tf, Usd

    try:
        found = Usd.Stage.Open(path)
    except (Tf.ErrorException, RuntimeError) as err:
        return str(err)
    if found is None:
        return "no stage"
    prims = deep = 0
    for prim in Usd.PrimRange.Stage(found, Usd.TraverseInstanceProxies()):
        prims, deep = prims + 1, max(deep, prim.GetPath().pathElementCount)
        if prims > MOST_PRIMS:
            break
    layers, root = [l for l in found.GetUsedLayers() if not l.anonymous and l.realPath], found.GetRootLayer()
    files = sorted({os.path.normpath(l.realPath.split("[")[0]) for l in layers})
    return prims, deep, files, [root.ComputeAbsolutePath(p) for p in root.subLayerPaths]


def _damaged(path: Path, detail: str) -> EstampaError:
    cause = "is no OpenUSD file that can be read; it is cut short or damaged."
    return EstampaError(path.name, cause, "Export it again.", detail)
