"""What is checked of a file before a reader sees it: that it is a plain file, that there is memory for it, and that
what its header promises fits the bytes that are there."""

import base64
import json
import math
import os
import stat
import struct
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from urllib.parse import unquote

from ..errors import Cancelled, EstampaError
from ..scene.limits import LARGEST_DESCRIPTION, MOST_VALUES
from ..units import format_bytes

TIMES = 12  # how much more memory reading takes than the file has bytes: measured on OBJ, the greediest
MOST_BESIDE = 16_000_000  # bytes of a material file
COMPONENTS = {5120: 1, 5121: 1, 5122: 2, 5123: 2, 5125: 4, 5126: 4}  # bytes of each: glTF 2.0, 3.6.2.2
WIDTHS = {"SCALAR": 1, "VEC2": 2, "VEC3": 3, "VEC4": 4, "MAT2": 4, "MAT3": 9, "MAT4": 16}


def plain(path: Path) -> Path:
    """The path of a file, once it is known to be a plain one for which there is memory. Raises EstampaError."""
    what = path.name
    with _refused(path):
        found = os.stat(path)
    if not stat.S_ISREG(found.st_mode):
        raise EstampaError(what, "is no plain file.", "Choose a file on a disk.", str(path))
    if found.st_size * TIMES > available():
        words = f"has {format_bytes(found.st_size)}, and reading it would take more memory than there is."
        raise EstampaError(what, words, "Export a lighter one.")
    return path


@contextmanager
def _refused(path: Path) -> Iterator[None]:
    """What the system says of a file, in words."""
    try:
        yield
    except FileNotFoundError:
        raise EstampaError(path.name, "is not there.", "Check the path.", str(path)) from None
    except OSError as err:
        words = f"cannot be read ({err.strerror})."
        raise EstampaError(path.name, words, "Check that you may read it.", repr(err)) from err


@contextmanager
def in_words(what: str, cure: str = "Print or export it again.") -> Iterator[None]:
    """Whatever a reader stumbles over is told as a fault of the file that it reads."""
    try:
        yield
    except (EstampaError, Cancelled):
        raise
    except Exception as err:
        raise EstampaError(what, "is damaged, or is no file of its sort.", cure, repr(err)) from err


def read_text(path: Path) -> str:
    """The text of a plain file, in UTF-8. Raises EstampaError."""
    return read_bytes(path).decode("utf-8-sig", "replace")


def read_json(path: Path) -> dict:
    """The object that a JSON file holds, all of whose numbers are numbers. Raises EstampaError."""
    data = read_bytes(path)
    if len(data) > LARGEST_DESCRIPTION or data.count(b",") > MOST_VALUES:
        raise EstampaError(path.name, "is larger than any description that is read.", "Choose another file.")
    with in_words(path.name):
        meta = json.loads(data, parse_constant=_no_number)
    if not isinstance(meta, dict):
        raise EstampaError(path.name, "does not say what it is of.", "Print it again.")
    return meta


def _no_number(word: str):
    raise ValueError(f"{word} is not a number")


def positive(what: str, name: str, value) -> float:
    """A number above 0. Raises EstampaError."""
    number = float(value) if isinstance(value, (int, float)) else math.nan
    if not 1e-6 <= number <= 1e9:
        raise EstampaError(what, f"has a {name} of {value!r}, which cannot be.", "Print or export it again.")
    return number


def whole(what: str, name: str, value, most: int) -> int:
    """A whole number from 0 on. Raises EstampaError."""
    if not isinstance(value, int) or not 0 <= value <= most:
        raise EstampaError(what, f"has {name} of {value!r}, which cannot be.", "Print or export it again.")
    return value


def inside(path: Path, name: str) -> Path:
    """The plain file of that name beside `path` or in a folder below, wherever links lead. Raises EstampaError."""
    found, home = path.parent / name, path.parent.resolve()
    if not found.resolve().is_relative_to(home):
        words = f"names a file outside its own folder (“{name}”), which is not read."
        raise EstampaError(path.name, words, "Keep its files together.")
    if not found.is_file():
        raise EstampaError(path.name, f"names {name}, which is not there.", "Keep its files together.")
    return plain(found)


def read_bytes(path: Path) -> bytes:
    """The content of a plain file. Raises EstampaError that names it."""
    what = path.name
    with _refused(plain(path)):
        data = path.read_bytes()
    if not data.strip():
        raise EstampaError(what, "is empty.", "Export it again.")
    return data


def available() -> int:
    """Bytes of memory that are free to be used."""
    try:
        for line in Path("/proc/meminfo").read_text().splitlines():
            if line.startswith("MemAvailable:"):
                return int(line.split()[1]) * 1024
    except OSError:
        pass
    return 4_000_000_000


def beside(folder: Path, name: str) -> Path | None:
    """A plain file of that name in a folder itself, and of a size that is read; else None."""
    path = folder / name
    if Path(name).name != name or not path.is_file() or path.stat().st_size > MOST_BESIDE:
        return None
    return path if path.resolve().is_relative_to(folder.resolve()) else None


def check_ply(what: str, data: bytes) -> None:
    """Raises EstampaError when a PLY promises more rows than it has bytes for."""
    head, _, body = data[:200_000].partition(b"end_header")
    rest = len(data) - len(head)
    for line in head.splitlines():
        words = line.split()
        if words[:1] == [b"element"] and len(words) == 3 and words[2].isdigit() and int(words[2]) > rest:
            raise EstampaError(
                what,
                f"says it has {int(words[2]):,} rows of “{words[1].decode(errors='replace')}”, in {rest:,} bytes.",
                "It is cut short or damaged; export it again.",
            )


def check_gltf(path: Path, data: bytes, needs_pictures: bool = True) -> dict:
    """The JSON of a GLB or glTF file, once it is known that its accessors fit its buffers and its files lie in its own
    folder. needs_pictures -- whether those must be there. Raises EstampaError."""
    what = path.name
    damaged = lambda words: EstampaError(what, words, "It is cut short or damaged; export it again.")
    try:
        meta, blob = chunks(data)
        if not isinstance(meta, dict):
            raise ValueError("no object")
        buffers = [_buffer(path, b, blob) for b in meta.get("buffers", [])]
        for image in meta.get("images", []):
            file_of(path, image.get("uri"), needs_pictures)
        views = meta.get("bufferViews", [])
        for view in views:
            if not 0 <= view["buffer"] < len(buffers):
                raise damaged("names a buffer that it does not have.")
            if view.get("byteOffset", 0) < 0 or view["byteLength"] < 0:
                raise damaged("has a view of a buffer that begins before it.")
            if view.get("byteOffset", 0) + view["byteLength"] > buffers[view["buffer"]]:
                raise damaged("has a view that reaches past the end of its buffer.")
        for accessor in meta.get("accessors", []):
            size = COMPONENTS[accessor["componentType"]] * WIDTHS[accessor["type"]]
            count, view = accessor["count"], accessor.get("bufferView")
            if not isinstance(count, int) or count < 0:
                raise damaged("has an accessor without a count.")
            room = views[view]["byteLength"] - accessor.get("byteOffset", 0) if view is not None else len(data)
            step = (views[view].get("byteStride") or size) if view is not None else size
            if count and (accessor.get("byteOffset", 0) < 0 or (count - 1) * max(step, 1) + size > room):
                raise damaged(f"says it has {count:,} values where there are bytes for {max(room, 0) // size:,}.")
        for node in meta.get("nodes", []):
            numbers = [x for n in ("translation", "rotation", "scale", "matrix") for x in node.get(n) or ()]
            if not all(isinstance(x, (int, float)) and math.isfinite(x) and abs(x) < 1e12 for x in numbers):
                raise damaged("has a node that stands where there are no numbers.")
    except EstampaError:
        raise
    except (ValueError, KeyError, TypeError, IndexError, AttributeError, RecursionError, struct.error) as err:
        raise EstampaError(
            what, "is no glTF file that can be read; it is cut short or damaged.", "Export it again as GLB.", repr(err)
        ) from err
    return meta


def chunks(data: bytes) -> tuple[dict, bytes | memoryview | None]:
    """(the JSON, the binary chunk of a GLB, not copied): glTF 2.0, section 4."""
    if data[:4] != b"glTF":
        return json.loads(data), None
    length, kind = struct.unpack_from("<II", data, 12)
    if kind != 0x4E4F534A or 20 + length > len(data):
        raise ValueError("no JSON chunk")
    meta, at = json.loads(data[20 : 20 + length]), 20 + length
    if at + 8 > len(data):
        return meta, b""
    size, _ = struct.unpack_from("<II", data, at)
    if at + 8 + size > len(data):
        raise ValueError("the binary chunk is cut short")
    return meta, memoryview(data)[at + 8 : at + 8 + size]


def _buffer(path: Path, buffer: dict, blob: bytes | None) -> int:
    """How many bytes a buffer has, no more than are there."""
    uri, length = buffer.get("uri"), buffer["byteLength"]
    if uri is None:
        there = len(blob or b"")
    elif uri.startswith("data:"):
        there = len(base64.b64decode(uri.partition(",")[2]))
    else:
        there = file_of(path, uri).stat().st_size
    if not 0 <= length <= there:
        raise EstampaError(
            path.name, f"says it has a buffer of {length:,} bytes, where there are {there:,}.", "Export it again."
        )
    return length


def file_of(path: Path, uri: str | None, must_be: bool = True) -> Path | None:
    """The file that a URI names, in the folder of `path` or below it; None where it is not there and need not be."""
    if uri is None or uri.startswith("data:"):
        return None
    name = unquote(uri)
    inside = Path(os.path.normpath(path.parent / name))
    within = inside.is_relative_to(os.path.normpath(path.parent)) and inside.resolve().is_relative_to(
        path.parent.resolve()
    )
    if "://" in uri or Path(name).is_absolute() or not within:
        raise EstampaError(
            path.name,
            f"names a file outside its own folder (“{name}”), which is not read.",
            "Put its files beside it, or export it as one GLB.",
        )
    if not inside.is_file() and not must_be:
        return None
    if not inside.is_file():
        raise EstampaError(
            path.name, f"names “{name}”, which is not there beside it.", "Put it there, or export it as one GLB."
        )
    return inside
