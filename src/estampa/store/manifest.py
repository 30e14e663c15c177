"""What is remembered of a run beside its frames: their keys, and what was read for some of them, by words.

It outlives the window, so that a scene that is opened again still shows stale frames as stale and says what made them
so.
The frames themselves belong to no run: another scene, or an undo, may want the very same ones.
"""

import json
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from .. import disk

VERSION = 1
SAMPLES = 8  # frames of which it is told what was read


@dataclass(frozen=True)
class Manifest:
    """keys -- of the frames from `first` on; read -- {frame: [(path, label, digest), …]} for some of them."""

    first: int
    keys: tuple[bytes, ...]
    read: dict[int, list[tuple[str, str, bytes]]]

    def key(self, frame: int) -> bytes | None:
        place = frame - self.first
        return self.keys[place] if 0 <= place < len(self.keys) else None

    def nearest(self, frame: int) -> int | None:
        """The frame at or after this one of which it is told what was read; else the last of them."""
        return min((f for f in self.read if f >= frame), default=max(self.read, default=None))


def sampled(first: int, last: int) -> list[int]:
    """The frames of which it is told what was read."""
    count = min(SAMPLES, last - first + 1)
    return sorted({first + round(i * (last - first) / max(count - 1, 1)) for i in range(count)})


def write(path: Path, manifest: Manifest) -> None:
    """Keep it; where the disk refuses, only words are lost."""
    data = {
        "version": VERSION,
        "first": manifest.first,
        "keys": [key.hex() for key in manifest.keys],
        "read": {str(f): [[p, l, d.hex()] for p, l, d in found] for f, found in manifest.read.items()},
    }
    with suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        disk.write_whole(path, lambda part: part.write_text(json.dumps(data, separators=(",", ":"))))


def read(path: Path) -> Manifest | None:
    """None where there is none, or a damaged one."""
    try:
        data = json.loads(path.read_text())
        if data["version"] != VERSION:
            return None
        reads = {int(f): [(p, l, bytes.fromhex(d)) for p, l, d in found] for f, found in data["read"].items()}
        return Manifest(int(data["first"]), tuple(bytes.fromhex(k) for k in data["keys"]), reads)
    except (OSError, ValueError, KeyError, TypeError, AttributeError, RecursionError):
        return None


def clear(folder: Path) -> None:
    """Forget all runs of a store."""
    for path in folder.glob("*.json"):
        with suppress(OSError):
            path.unlink()
