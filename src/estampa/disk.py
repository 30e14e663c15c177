"""Files that appear whole or not at all, in one step, and what a program that was killed left half-way.

What is written stands beside its place under a name that nobody takes for the thing itself, `.estampa-part-…`, with the
number of the process that writes it. When that process is no more, `sweep` takes the leftover away.
"""

import os
import secrets
import stat
import tempfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import platformdirs

PART = ".estampa-part-"
_UMASK = os.umask(0)  # it can only be read by setting it, which is no thing to do while other threads make files
os.umask(_UMASK)


def state_folder() -> Path:
    """The user's folder for autosaves and locks; one for temporary files where that cannot be written to."""
    wanted = Path(os.environ.get("ESTAMPA_STATE") or platformdirs.user_state_dir("estampa"))
    with suppress(OSError):
        wanted.mkdir(mode=0o700, parents=True, exist_ok=True)
        if stat.S_IMODE(wanted.stat().st_mode) & 0o077 and wanted.stat().st_uid == os.getuid():
            wanted.chmod(0o700)  # autosaves are nobody else's to read
        if os.access(wanted, os.W_OK):
            return wanted
    spare = Path(tempfile.gettempdir()) / f"estampa-{os.getuid()}"
    with suppress(OSError):
        spare.mkdir(mode=0o700, exist_ok=True)
    return spare


def part_name(suffix: str = "") -> str:
    """A name for something half written by this process."""
    return f"{PART}{process_name()}-{secrets.token_hex(4)}{suffix}"


def process_name() -> str:
    """This process, by number and by when it began, since numbers are used again."""
    return f"{os.getpid()}.{_began(os.getpid())}"


def _began(pid: int | str) -> str:
    try:
        text = Path(f"/proc/{pid}/stat").read_text()
    except OSError:
        return "0"
    return text.rpartition(")")[2].split()[19]  # starttime, field 22: proc(5)


def is_alive(process: str) -> bool:
    """Whether a process of that name still runs."""
    pid, _, began = process.partition(".")
    return pid.isdigit() and Path(f"/proc/{pid}").exists() and _began(pid) == began


def sweep(folder: Path) -> int:
    """Take away what dead processes left half written in a folder. Returns how many files there were."""
    gone = 0
    with suppress(OSError):
        for path in list(Path(folder).glob(f"{PART}*")):
            process = path.name.removeprefix(PART).split("-")[0]
            if not is_alive(process):
                with suppress(OSError):
                    path.unlink()
                    gone += 1
    return gone


def write_whole(path: Path, write: Callable[[Path], object], mode: int | None = None) -> None:
    """Call write(temporary path), then put the result in place of `path` in one step.

    mode -- who may read and write it; without one it keeps what it had, or gets what new files get.
    """
    write_together({Path(path): write}, mode)


def write_together(files: dict[Path, Callable[[Path], object]], mode: int | None = None) -> None:
    """Write several files that appear together or not at all: all are written in full before the first takes its place,
    and when one cannot, those before it are put back as they were. A link stays a link, and a file keeps its mode.
    """
    parts: list[tuple[Path, Path]] = []  # (what is written, its place)
    done: list[tuple[Path, Path | None]] = []  # (place, where the earlier file is kept)
    try:
        for path, write in files.items():
            place = Path(os.path.realpath(path))
            part = place.with_name(part_name(place.suffix))
            parts.append((part, place))
            os.close(os.open(part, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600))
            write(part)
            with open(part, "rb") as file:
                os.fsync(file.fileno())
            os.chmod(part, mode_of(place) if mode is None else mode)
        for part, place in parts:
            kept = _set_aside(place) if len(parts) > 1 else None
            done.append((place, kept))
            os.replace(part, place)
    except BaseException:
        for place, kept in reversed(done):
            with suppress(OSError):
                if kept is not None:
                    os.replace(kept, place)
                    kept.unlink(missing_ok=True)  # two names of one file are left as they are by a rename
                elif len(parts) > 1:
                    place.unlink()
        for part, _ in parts:
            part.unlink(missing_ok=True)
        raise
    for _, kept in done:
        if kept is not None:
            kept.unlink(missing_ok=True)


def mode_of(place: Path) -> int:
    """Who may read and write a file, or would a new one."""
    try:
        return stat.S_IMODE(place.stat().st_mode)
    except OSError:
        return 0o666 & ~_UMASK


def _set_aside(place: Path) -> Path | None:
    """Another name for a file that is about to be replaced, so that it can come back."""
    if not place.exists():
        return None
    kept = place.with_name(part_name(".before"))
    try:
        os.link(place, kept)
    except OSError:  # a disk without links
        import shutil

        shutil.copy2(place, kept)
    return kept
