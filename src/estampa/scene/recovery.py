"""What keeps unsaved work safe beside the scene file: autosaves of each window, and the lock on an open scene."""

import fcntl
import hashlib
import itertools
import json
import os
from contextlib import suppress
from pathlib import Path

from .. import disk
from ..disk import state_folder
from ..errors import Cancelled
from .document import Document
from .file import load_scene, origin_of, scene_bytes_to
from .scene import Scene

SUFFIX, RECENT, MOST_RECENT = ".autosave", "recent.json", 12
_windows = itertools.count(1)


def _key(path: Path | None) -> str:
    """One name for a scene, whatever way leads to it."""
    if path is None:
        return "untitled"
    real = Path(os.path.realpath(path))
    return f"{real.stem}-{hashlib.blake2b(str(real).encode(), digest_size=8).hexdigest()}"


class Autosave:
    """The unsaved work of one window. Another window, or a later run, has files of its own."""

    def __init__(self):
        self.owner = f"{disk.process_name()}.{next(_windows)}"
        self.ended = False  # once the window is gone nothing is kept for it any more

    def file(self, path: Path | None) -> Path:
        return state_folder() / f"{_key(path)}@{self.owner}{SUFFIX}"

    def write(self, scene: Scene, doc: Document | None = None) -> Path:
        """Keep the unsaved work, whole or not at all; who may read the scene's file may read it. Raises OSError."""
        target, origin = self.file(scene.path), scene.mark or ""
        mode = disk.mode_of(scene.path) if scene.path is not None and scene.path.exists() else 0o600

        def write(part):
            scene_bytes_to(scene, part, doc, origin)
            if self.ended:
                raise Cancelled

        disk.write_whole(target, write, mode)
        return target

    def discard(self) -> None:
        """Let go of it, since it was saved or given up."""
        with suppress(OSError):
            for file in state_folder().glob(f"*@{self.owner}{SUFFIX}"):
                file.unlink(missing_ok=True)


def recoverable(path: Path | None) -> list[Path]:
    """Autosaves of a scene (None: of one without a name) whose window is no more, the newest first.

    Each is unsaved work: a window that saves, or gives its work up, takes its own away.
    """
    found = [f for f in state_folder().glob(f"{_key(path)}@*{SUFFIX}") if not disk.is_alive(_process(f))]
    return sorted(found, key=lambda f: f.stat().st_mtime, reverse=True)


def recovered(autosave: Path, path: Path | None) -> Scene:
    """The unsaved work that an autosave of the scene at `path` holds. It goes on from the file that it began from: when
    somebody saved that one since, saving over it is refused as for any scene that changed on disk. Raises
    EstampaError."""
    scene = load_scene(autosave)
    scene.path, scene.saved_doc = path, None
    scene.mark = origin_of(autosave) if path is not None else None
    return scene


def _process(file: Path) -> str:
    return file.name.rpartition("@")[2].removesuffix(SUFFIX).rpartition(".")[0]


def recent() -> list[Path]:
    """Scenes opened or saved last, the newest first; those that are gone too."""
    try:
        found = json.loads((state_folder() / RECENT).read_text())
        return [Path(p) for p in found if isinstance(p, str)][:MOST_RECENT]
    except (OSError, ValueError, TypeError):
        return []


def note_recent(path: Path) -> None:
    """Remember that a scene was opened or saved; where that cannot be kept, it is not."""
    path = Path(os.path.abspath(path))
    found = [path, *(p for p in recent() if p != path)][:MOST_RECENT]
    with suppress(OSError):
        disk.write_whole(state_folder() / RECENT, lambda part: part.write_text(json.dumps([str(p) for p in found])))


def sweep() -> None:
    """Take away what killed programs left half written, and locks that nobody holds."""
    folder = state_folder()
    disk.sweep(folder)
    with suppress(OSError):
        for file in list(folder.glob("*.lock")):
            with open(file, "a+") as held, suppress(OSError):
                fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
                file.unlink(missing_ok=True)


class SceneLock:
    """Held by the window or the command that has a scene open to save it; it dies with the program.

    Where no lock can be kept (a state folder that cannot be written to), it counts as held: nobody else can keep one.
    """

    def __init__(self, path: Path):
        self._file, self.held = None, True
        file = state_folder() / f"{_key(path)}.lock"
        while True:
            try:
                self._file = open(file, "a+")
            except OSError:
                return
            try:
                fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                self.held = False
                return
            # another program may have swept the file away between opening and locking it
            with suppress(OSError):
                if os.fstat(self._file.fileno()).st_ino == os.stat(file).st_ino:
                    return
            self._file.close()

    def release(self) -> None:
        if self._file is not None:
            self._file.close()
        self.held = False

    def __enter__(self):
        return self

    def __exit__(self, *trouble):
        self.release()
