"""The frame store: one file a solved frame, named by its key (see codec.py for what is in it).

It can be deleted at any time without losing work, also while a scene is open. A frame is written beside its place and
renamed, so a reader sees it whole or not at all when the program is killed. It is not forced to the disk at once, which
would cost more than the solve. A frame carries its key and checksums, and one that is damaged, by a power cut or a
failing disk, counts as not solved.

What an open scene needs is pinned, and stays whatever the limit says; a shot that does not fit is refused before it is
solved.
"""

import os
import re
import shutil
import struct
import threading
import time
import weakref
from contextlib import suppress
from pathlib import Path

import platformdirs

from .. import disk
from ..errors import EstampaError, disk_trouble
from ..solve.frame import Frame
from ..units import format_bytes
from . import codec, manifest
from .manifest import Manifest

MOMENT = 0.05  # s for which what a folder told is believed
HEADERS = 256  # bytes that a frame takes besides its columns, about
DEFAULT_LIMIT = 20_000_000_000


class FrameStore:
    """Solved frames under a folder, kept within `limit` bytes by letting go of the ones least lately used."""

    _default: "FrameStore | None" = None

    def __init__(self, root: str | Path, limit: int = DEFAULT_LIMIT):
        self.root, self.limit = Path(root), limit
        self._known: dict[bytes, tuple] = {}  # key -> (what tells the file, what told its folder) as it was found whole
        self._folders: dict[str, tuple[int, float]] = {}  # by name: what tells it, and when it was asked
        self._pins: weakref.WeakKeyDictionary[object, set[bytes]] = weakref.WeakKeyDictionary()  # by the open scene
        self._lock = threading.Lock()
        self._size: int | None = None
        self._trim_above = limit  # higher for a while when what is pinned takes more

    @classmethod
    def default(cls) -> "FrameStore":
        """The user's store; ESTAMPA_STORE and ESTAMPA_STORE_LIMIT ("20 GB", or bytes) say where it is and how large."""
        root = os.environ.get("ESTAMPA_STORE") or Path(platformdirs.user_cache_dir("estampa")) / "frames"
        if cls._default is None or cls._default.root != Path(root):
            cls._default = cls(root, limit_of(os.environ.get("ESTAMPA_STORE_LIMIT", "")))
            cls._default.sweep()
        return cls._default

    def _path(self, key: bytes) -> Path:
        return Path(self._file(key))

    def _file(self, key: bytes) -> str:
        name = key.hex()
        return f"{self.root}/{name[:2]}/{name[2:]}.frame"  # no Path, which takes longer than to ask the disk

    def has(self, key: bytes) -> bool:
        """Whether a frame is here. The disk is asked, since anybody may take it away or change it: its folder first,
        which tells of what came and went, then its file. One that changed since it was looked at is read wholly, and
        one that is new has the right key and length."""
        path, known, folder = self._file(key), self._known.get(key), self._folder(key)
        if known is not None and folder is not None and known[1] == folder:
            return True
        try:
            mark = _mark(os.stat(path))
            if known is not None and known[0] == mark:
                self._known[key] = (mark, folder)
                return True
            if known is not None:
                return self.frame(key) is not None
            with open(path, "rb", buffering=0) as file:
                whole = codec.is_whole(file, key)
        except (OSError, struct.error):
            self._known.pop(key, None)
            return False
        if whole:
            self._known[key] = (mark, folder)
        return whole

    def _folder(self, key: bytes) -> int | None:
        """What tells whether files came or went in the folder of a frame; asked once a moment."""
        name, now = key.hex()[:2], time.monotonic()
        known = self._folders.get(name)
        if known is not None and now - known[1] < MOMENT:
            return known[0]
        try:
            mark = os.stat(f"{self.root}/{name}").st_mtime_ns
        except OSError:
            return None
        self._folders[name] = (mark, now)
        return mark

    def write(self, key: bytes, frame: Frame) -> None:
        """Keep a frame, whole or not at all. Raises EstampaError when the disk refuses."""
        path = self._path(key)
        temporary, size = None, 0
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            temporary = path.with_name(disk.part_name())
            with open(temporary, "xb") as file:
                for piece in codec.encode(key, frame):
                    size += file.write(piece)
                file.flush()
                mark = _mark(os.fstat(file.fileno()))
            os.replace(temporary, path)
        except OSError as err:
            if temporary and os.path.exists(temporary):
                os.unlink(temporary)
            raise disk_trouble(f"The frame store ({self.root})", err, "The frames solved so far are kept.") from err
        with self._lock:
            self._known[key] = (mark, None)
            if self._size is not None:
                self._size += size
        if self.size() > self._trim_above:
            self.trim()

    def frame(self, key: bytes, wanted: tuple[str, ...] | None = None) -> Frame | None:
        """A frame, or None when it is not here whole. wanted -- names of the columns to read; None: all of them."""
        path = self._file(key)
        try:
            with open(path, "rb", buffering=0) as file:
                found = codec.decode(file, key, wanted)
                mark = _mark(os.fstat(file.fileno()))
            if found is not None:
                self._known[key] = (mark, None)
                return found
            self._drop(path)  # damaged: it is solved again
        except (ValueError, TypeError, KeyError, struct.error, MemoryError):
            self._drop(path)
        except OSError:
            pass
        self._known.pop(key, None)
        return None

    @staticmethod
    def _drop(path: str) -> None:
        with suppress(OSError):
            os.unlink(path)

    # -- runs ------------------------------------------------------------------------------------------------
    def _manifest(self, run: str) -> Path:
        return self.root / "runs" / f"{run}.json"

    def remember(self, run: str, found: Manifest) -> None:
        """Keep what a run's frames are called and what was read for them."""
        manifest.write(self._manifest(run), found)

    def remembered(self, run: str) -> Manifest | None:
        return manifest.read(self._manifest(run))

    # -- room ------------------------------------------------------------------------------------------------
    def pin(self, scene: object, keys) -> None:
        """Keep frames for as long as a scene is open, in place of those that were kept for it before."""
        with self._lock:
            self._pins[scene] = set(keys)

    def refuse_too_much(self, frames: int, needed: float) -> None:
        """Raises EstampaError when a shot of so many frames, of so many bytes in all, cannot be kept."""
        needed += HEADERS * frames
        wants = f"needs {format_bytes(needed)} for its {frames:,} solved frames"
        if needed > self.limit:
            raise EstampaError(
                "This scene",
                f"{wants}, and the store may take {format_bytes(self.limit)}.",
                f"Set ESTAMPA_STORE_LIMIT to {format_bytes(1.2 * needed)} or more, or take a shorter range.",
                str(self.root),
            )
        with suppress(OSError):
            self.root.mkdir(parents=True, exist_ok=True)
            free = shutil.disk_usage(self.root).free
            if needed > free + self.size():
                raise EstampaError(
                    "This scene",
                    f"{wants}, and the disk of the store has {format_bytes(free)} left.",
                    "Free some space, or set ESTAMPA_STORE to a folder on another disk.",
                    str(self.root),
                )

    def sweep(self) -> None:
        """Take away what killed programs left half written."""
        with suppress(OSError):
            for folder in list(self.root.iterdir()):
                disk.sweep(folder)

    def size(self) -> int:
        """Bytes that the store takes."""
        if self._size is None:
            self._size = 0
            for file in self.root.glob("*/*.frame"):
                with suppress(OSError):  # another program may let go of it meanwhile
                    self._size += file.stat().st_size
        return self._size

    def clear(self) -> int:
        """Let go of every frame; returns how many there were."""
        files = list(self.root.glob("*/*.frame"))
        for file in files:
            file.unlink(missing_ok=True)
        manifest.clear(self.root / "runs")
        with self._lock:
            self._known.clear()
            self._size = 0
        return len(files)

    def trim(self) -> None:
        """Let go of the frames least lately read until the store is a tenth below its limit; what is pinned stays."""
        with self._lock:
            pinned = {self._path(key) for keys in self._pins.values() for key in keys}
        files = []
        for path in self.root.glob("*/*.frame"):
            with suppress(OSError):  # another program may let go of it at the same time
                found = path.stat()
                files.append((max(found.st_atime, found.st_mtime), found.st_size, path))
        size = sum(f[1] for f in files)
        for _, bytes_, path in sorted(files):
            if size <= 0.9 * self.limit:
                break
            if path not in pinned:
                path.unlink(missing_ok=True)
                size -= bytes_
        with self._lock:
            self._known.clear()
            self._size = size
            self._trim_above = max(self.limit, int(1.05 * size))


def _mark(found: os.stat_result) -> tuple:
    """What is another one once a file was changed."""
    return found.st_ino, found.st_size, found.st_mtime_ns


def limit_of(text: str) -> int:
    """Bytes from "20 GB", "500MB" or a bare number of bytes; the default from nothing. Raises EstampaError."""
    if not text.strip():
        return DEFAULT_LIMIT
    match = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*(B|kB|MB|GB|TB)?\s*", text, re.IGNORECASE)
    if not match:
        raise EstampaError(
            "ESTAMPA_STORE_LIMIT", f"is “{text}”, which is no size.", "Give bytes, or a size such as “20 GB”."
        )
    power = ("b", "kb", "mb", "gb", "tb").index((match[2] or "B").lower())
    return int(float(match[1]) * 1000**power)
