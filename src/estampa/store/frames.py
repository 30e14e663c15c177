"""The frame store: one file a solved frame, named by its key.

It can be deleted at any time without losing work. A frame is written beside its place and renamed, so a reader sees
it whole or not at all when the program is killed. It is not forced to the disk at once, which would cost more than the
solve; after a power cut a frame of the wrong length counts as not solved.
"""

import os
import struct
import tempfile
import threading
from pathlib import Path

import numpy as np
import platformdirs

from ..errors import disk_trouble
from ..solve.solver import State

MAGIC = b"ESTFRAM1"
HEADER = struct.Struct("<8sQ")  # magic, vertices; then points and velocity, float32 (n, 3) each
DEFAULT_LIMIT = 20_000_000_000


class FrameStore:
    """Solved frames under a folder, kept within `limit` bytes by letting go of the ones least lately used."""

    _default: "FrameStore | None" = None

    def __init__(self, root: str | Path, limit: int = DEFAULT_LIMIT):
        self.root, self.limit = Path(root), limit
        self._known: set[bytes] = set()
        self._lock = threading.Lock()
        self._size: int | None = None

    @classmethod
    def default(cls) -> "FrameStore":
        """The user's store; its folder and size may be set by ESTAMPA_STORE and ESTAMPA_STORE_LIMIT (bytes)."""
        root = os.environ.get("ESTAMPA_STORE") or Path(platformdirs.user_cache_dir("estampa")) / "frames"
        if cls._default is None or cls._default.root != Path(root):
            cls._default = cls(root, int(os.environ.get("ESTAMPA_STORE_LIMIT", DEFAULT_LIMIT)))
        return cls._default

    def _path(self, key: bytes) -> Path:
        name = key.hex()
        return self.root / name[:2] / f"{name[2:]}.frame"

    def has(self, key: bytes) -> bool:
        if key in self._known:
            return True
        path = self._path(key)
        try:
            with open(path, "rb") as file:
                magic, count = HEADER.unpack(file.read(HEADER.size))
            whole = magic == MAGIC and path.stat().st_size == HEADER.size + 24 * count
        except (OSError, struct.error):
            return False
        if whole:
            self._known.add(key)
        return whole

    def write(self, key: bytes, state: State) -> None:
        """Keep a frame, whole or not at all. Raises EstampaError when the disk refuses."""
        path = self._path(key)
        temporary = None
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            handle, temporary = tempfile.mkstemp(prefix=".", dir=path.parent)
            with os.fdopen(handle, "wb") as file:
                file.write(HEADER.pack(MAGIC, len(state.points)))
                file.write(np.ascontiguousarray(state.points, np.float32))
                file.write(np.ascontiguousarray(state.velocity, np.float32))
            os.replace(temporary, path)
        except OSError as err:
            if temporary and os.path.exists(temporary):
                os.unlink(temporary)
            raise disk_trouble(f"The frame store ({self.root})", err, "The frames solved so far are kept.") from err
        with self._lock:
            self._known.add(key)
            if self._size is not None:
                self._size += HEADER.size + 24 * len(state.points)
        if self.size() > self.limit:
            self.trim()

    def points(self, key: bytes) -> np.ndarray | None:
        """(n, 3) float32 points of a frame, or None when it is not here."""
        return self._read(key, with_velocity=False)

    def state(self, key: bytes) -> State | None:
        both = self._read(key, with_velocity=True)
        return None if both is None else State(both[0], both[1])

    def _read(self, key: bytes, with_velocity: bool):
        try:
            with open(self._path(key), "rb", buffering=0) as file:
                magic, count = HEADER.unpack(file.read(HEADER.size))
                shape = (2, count, 3) if with_velocity else (count, 3)
                array = np.empty(shape, np.float32)
                view = memoryview(array).cast("B")
                if magic == MAGIC and file.readinto(view) == array.nbytes:
                    return array
        except (OSError, struct.error):
            pass
        self._known.discard(key)
        return None

    def size(self) -> int:
        """Bytes that the store takes."""
        if self._size is None:
            self._size = sum(f.stat().st_size for f in self.root.glob("*/*.frame")) if self.root.exists() else 0
        return self._size

    def clear(self) -> int:
        """Let go of every frame; returns how many there were."""
        files = list(self.root.glob("*/*.frame"))
        for file in files:
            file.unlink(missing_ok=True)
        with self._lock:
            self._known.clear()
            self._size = 0
        return len(files)

    def trim(self) -> None:
        """Let go of the frames least lately read until the store is a tenth below its limit."""
        files = sorted(
            (max(s.st_atime, s.st_mtime), s.st_size, f) for f in self.root.glob("*/*.frame") for s in [f.stat()]
        )
        size = sum(f[1] for f in files)
        for _, bytes_, path in files:
            if size <= 0.9 * self.limit:
                break
            path.unlink(missing_ok=True)
            size -= bytes_
        with self._lock:
            self._known.clear()
            self._size = size
