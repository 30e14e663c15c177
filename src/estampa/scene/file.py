"""The scene file NAME.estampa: a zip with `scene.json` and one `arrays/DIGEST.npy` per array.

Nothing in it is ever run: JSON is validated against the document's models, arrays are plain numbers
(pickled objects are refused), and entries with a path out of the file are refused.
A save writes a new file beside the old one and renames it, so a file is old or new, never torn.
"""

import io
import json
import lzma
import math
import os
import zipfile
import zlib
from collections.abc import Iterator
from itertools import count
from pathlib import Path, PurePosixPath

import numpy as np
from pydantic import ValidationError

from ..disk import mode_of, sweep, write_whole
from ..errors import EstampaError, disk_trouble
from ..hashing import digest, is_digest
from ..kinds import renamed
from ..kinds.registry import kind_of
from . import gate
from .curves import Curve
from .document import FILE_VERSION, Document, Frozen, Opaque
from .ids import know_ids
from .limits import LARGEST_DESCRIPTION, MOST_VALUES
from .scene import Arrays, Scene

ORIGIN = "origin.txt"  # in an autosave: the mark of the scene file that the work began from


# -- writing -----------------------------------------------------------------------------------------------
def scene_bytes_to(scene: Scene, target, doc: Document | None = None, origin: str | None = None) -> None:
    """Write the scene as a zip to a path or an open binary file. origin -- of an autosave: the mark of the file that it
    was made from."""
    doc = doc or scene.doc
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as archive:
        text = json.dumps(_dump(doc), indent=1, ensure_ascii=False)
        archive.writestr("scene.json", text, compress_type=zipfile.ZIP_DEFLATED)
        if origin is not None:
            archive.writestr(ORIGIN, origin)
        for name in sorted(doc.arrays()):
            with archive.open(f"arrays/{name}.npy", "w", force_zip64=True) as out:
                np.lib.format.write_array(out, scene.arrays.get(name), allow_pickle=False)


class ChangedOnDisk(EstampaError):
    """The file is not what was opened: someone else saved it since."""


class WouldNotOpen(EstampaError):
    """What was to be saved could not be opened again, so that it was kept beside."""


def save_scene(scene: Scene, path: str | Path | None = None, over: bool = False) -> Path:
    """Save, whole or not at all. Raises EstampaError; the earlier file is then untouched.

    A scene is not saved over its own file when that was changed by somebody else since it was opened (ChangedOnDisk),
    unless `over` says so.
    """
    path, doc = Path(path or scene.path), scene.doc
    refuse_changed(scene, path, over)
    saved(scene, path, doc, write_scene(scene, path, doc))
    return path


def refuse_changed(scene: Scene, path: Path, over: bool = False) -> None:
    """Raises ChangedOnDisk when saving would lose what somebody else saved since the scene was opened."""
    own = scene.path is not None and is_same(path, scene.path) and path.exists()
    if own and not over and scene.mark is not None and mark_of(path) != scene.mark:
        raise ChangedOnDisk(
            path.name,
            "was changed on disk since it was opened here.",
            "Save under another name, or save over it if its changes are not wanted.",
        )


def write_scene(scene: Scene, path: Path, doc: Document) -> str | None:
    """Write a document of a scene; may run beside the window. Returns what tells the file's content, see mark_of.

    What was written goes through the gate before it takes the place of what was there. Raises WouldNotOpen when it
    would be refused: it is kept beside then, and the earlier file is untouched.
    """
    doc = doc.with_(name=path.stem)

    def write(part):
        scene_bytes_to(scene, part, doc)
        _refuse_what_would_not_open(part, scene.arrays)

    try:
        sweep(path.parent)
        try:
            write_whole(path, write)
        except WouldNotOpen as err:
            beside = _free_beside(path)
            write_whole(beside, lambda part: scene_bytes_to(scene, part, doc), mode_of(path))
            cure = f"{path.name} is untouched, and this work is kept as {beside.name}. Undo what made it so, and save."
            raise WouldNotOpen(path.name, f"would not open again: the scene {err.cause}", cure, err.detail) from err
    except OSError as err:
        raise disk_trouble(f"Saving {path.name}", err, "The earlier file is untouched.") from err
    return mark_of(path)


def _refuse_what_would_not_open(path: Path, arrays: Arrays) -> None:
    """Raises WouldNotOpen when the gate refuses a file whose arrays are at hand."""
    try:
        with zipfile.ZipFile(path) as archive:
            gate.check("The scene", Scene(_read_document("The scene", archive), arrays))
    except EstampaError as err:
        raise WouldNotOpen(err.what, err.cause, err.cure, err.detail) from err


def _free_beside(path: Path) -> Path:
    """A name beside a scene file that nothing has yet."""
    names = (path.with_name(f"{path.stem}.not-opening{k or ''}{path.suffix}") for k in count())
    return next(p for p in names if not p.exists())


def saved(scene: Scene, path: Path, doc: Document, mark: str | None) -> None:
    """Note that a document of a scene was saved."""
    scene.path, scene.mark, scene.saved_doc = path, mark, doc


def is_same(a: str | Path, b: str | Path) -> bool:
    """Whether two ways lead to one file."""
    return os.path.realpath(a) == os.path.realpath(b)


def mark_of(path: str | Path) -> str | None:
    """What tells whether a scene file's content is still the same: the checksums of its entries."""
    try:
        with zipfile.ZipFile(path) as archive:
            return _mark(archive)
    except (OSError, zipfile.BadZipFile, ValueError, NotImplementedError):
        return None


def _mark(archive: zipfile.ZipFile) -> str:
    return digest(*sorted((i.filename, i.CRC, i.file_size) for i in archive.infolist())).hex()


def origin_of(path: Path) -> str:
    """The mark of the scene file that an autosave began from; "", which is that of none, where it is not told."""
    try:
        with zipfile.ZipFile(path) as archive:
            return archive.read(ORIGIN)[:100].decode("ascii", "replace")
    except (OSError, KeyError, zipfile.BadZipFile, ValueError, NotImplementedError):
        return ""


def _dump(doc: Document) -> dict:
    def dump_thing(thing):
        if thing.unknown is not None:
            return thing.unknown
        data = {"id": thing.id, "kind": thing.kind, "name": thing.name, "on": thing.on}
        data["values"] = {n: _dump_value(v) for n, v in thing.values.items()}
        if thing.mesh:
            data["mesh"] = thing.mesh.model_dump()
        for name in ("maps", "targets"):
            if getattr(thing, name):
                data[name] = [m.model_dump() for m in getattr(thing, name)]
        for name in ("spots", "locked"):
            if getattr(thing, name):
                data[name] = getattr(thing, name)
        for name in ("rest", "bind", "adopted"):
            if getattr(thing, name):
                data[name] = getattr(thing, name).model_dump(exclude_defaults=True)
        if thing.clips:
            data["clips"] = [_dump_clip(c) for c in thing.clips]
        if thing.live:
            data["live"], data["before"] = thing.live, [_dump_kept(k) for k in thing.before]
        for name in ("stack", "joints"):
            if getattr(thing, name):
                data[name] = [dump_thing(part) for part in getattr(thing, name)]
        return data

    data = doc.model_dump(exclude={"things", "prints"})
    data["version"] = FILE_VERSION
    return data | {"things": [dump_thing(t) for t in doc.things], "prints": [dump_thing(t) for t in doc.prints]}


def _dump_value(value):
    if isinstance(value, Opaque):
        return value.raw
    return value.model_dump(exclude_defaults=True) if isinstance(value, (Frozen, Curve)) else value


def _dump_kept(kept) -> dict:
    return {"thing": kept.thing, "channel": kept.channel, "value": _dump_value(kept.value)}


def _dump_clip(clip) -> dict:
    data = clip.model_dump(exclude={"values"})
    return data if clip.values is None else data | {"values": [_dump_kept(k) for k in clip.values]}


# -- reading -----------------------------------------------------------------------------------------------
def load_scene(path: str | Path) -> Scene:
    """Open a scene file. Raises EstampaError that names the file and its trouble."""
    path = Path(path)
    what = path.name
    try:
        with zipfile.ZipFile(path) as archive:
            _refuse_strange_entries(what, archive)
            mark = _mark(archive)
            doc = _read_document(what, archive)
            arrays = _read_arrays(what, archive, doc)
    except FileNotFoundError:
        raise EstampaError(what, "is not there.", "Check the path.", str(path)) from None
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError, lzma.LZMAError) as err:
        raise EstampaError(
            what,
            "is torn or is no Estampa scene.",
            "Open its autosave or an earlier copy; this file was not changed.",
            repr(err),
        ) from err
    except OSError as err:
        raise EstampaError(what, f"cannot be read ({err.strerror}).", "Check that you may read it.", repr(err)) from err
    scene = Scene(doc, arrays, path)
    know_ids(_ids(doc))
    gate.check(what, scene)
    scene.mark = mark
    return scene


def _ids(doc: Document) -> Iterator[str]:
    """Of all things and what they have: layers, joints, clips, maps, shapes."""
    left: list = [*doc.things, *doc.prints]
    while left:
        part = left.pop()
        yield part.id
        for name in ("stack", "joints", "clips", "maps", "targets"):
            left += getattr(part, name, ())


def _refuse_strange_entries(what, archive):
    for info in archive.infolist():
        parts = PurePosixPath(info.filename.replace("\\", "/")).parts
        if info.filename.startswith(("/", "\\")) or ".." in parts or ":" in info.filename:
            raise EstampaError(
                what,
                f"holds a path that leads out of its folder (“{info.filename}”).",
                "It was not opened. Do not trust where it came from.",
            )
        allowed = (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED) if info.filename == "scene.json" else (zipfile.ZIP_STORED,)
        if info.compress_type not in allowed or info.flag_bits & 1:
            raise EstampaError(
                what,
                f"holds an entry that is packed in a way no scene is (“{info.filename}”).",
                "It was not saved by Estampa, and was not opened.",
            )


def _read_document(what, archive) -> Document:
    if "scene.json" not in archive.namelist():
        raise EstampaError(what, "has no scene in it.", "It may be a zip of something else.")
    if archive.getinfo("scene.json").file_size > LARGEST_DESCRIPTION:
        words = f"has a scene description of more than {LARGEST_DESCRIPTION // 1_000_000} MB."
        raise EstampaError(what, words, "It was not opened.")
    try:
        text = archive.read("scene.json")
        if text.count(b",") + text.count(b"[") + text.count(b"{") > MOST_VALUES:
            words = f"has a scene description of more than {MOST_VALUES:,} values."
            raise EstampaError(what, words, "It was not opened.")
        data = json.loads(text, parse_constant=_no_constant, parse_int=_whole)
    except (ValueError, RecursionError) as err:
        raise EstampaError(
            what, "has a scene description that cannot be read.", "Open an earlier copy.", repr(err)
        ) from err
    if not isinstance(data, dict) or not isinstance(data.get("version"), int):
        raise EstampaError(what, "has a scene description of the wrong form.", "Open an earlier copy.")
    if data["version"] > FILE_VERSION:
        raise EstampaError(
            what,
            f"was saved by a newer Estampa (file version {data['version']}, this one reads up to {FILE_VERSION}).",
            "Update Estampa, or save it there for this version.",
        )
    try:
        if data["version"] < 2:
            _from_version_1(data)
        if data["version"] < 3:
            _from_version_2(data)
        if data["version"] < 5:
            _from_version_4(data)
        for where in ("things", "prints"):
            data[where] = [_understood(t) for t in data.get(where, [])]
        return Document.model_validate(data)
    except (ValueError, TypeError, AttributeError, KeyError) as err:  # a ValidationError is a ValueError
        place, reason = "", str(err)
        if isinstance(err, ValidationError):
            first = err.errors()[0]
            place, reason = " → ".join(str(p) for p in first["loc"]), first["msg"]
        raise EstampaError(
            what,
            f"holds a value of the wrong type{f' at {place}' if place else ''}: {reason}.",
            "It was not opened; open an earlier copy.",
            str(err),
        ) from err


def _from_version_1(data) -> None:
    """Noise's strength in metres became its height; strength is now a share that every layer has."""
    for thing in data.get("things", []):
        for layer in thing.get("stack", []):
            if layer.get("kind") == "noise" and "strength" in layer.get("values", {}):
                layer["values"]["height"] = layer["values"].pop("strength")


def _from_version_2(data) -> None:
    """The last frame of a clip that loops is now the one that equals its first, as everywhere; copies that come by
    chance have a seed of their own for it."""
    for thing in data.get("things", []):
        for clip in thing.get("clips", []):
            if clip.get("loops"):
                clip["last"] += 1
        values = thing.get("values", {})
        if thing.get("kind") == "copies" and values.get("order") == "seed":
            values["timing_seed"] = values.get("seed", 1)


def _from_version_4(data) -> None:
    """Columns and channels have the names that physics gives them, in start states and in what reads a channel, too."""
    kinds = {t.get("id"): t.get("kind") for t in data.get("things", [])}
    for source in _sources(data):
        channels = renamed.CHANNELS.get(kinds.get(source.get("thing")), {})
        source["channel"] = channels.get(source.get("channel"), source.get("channel"))
    for thing in data.get("things", []):
        for part in (thing, *thing.get("stack", []), *thing.get("joints", [])):
            channels = renamed.CHANNELS.get(part.get("kind"), {})
            part["values"] = {channels.get(n, n): v for n, v in part.get("values", {}).items()}
            for table in ((part.get("adopted") or {}).get("tables") or {}).values():
                table["columns"] = {renamed.COLUMNS.get(n, n): v for n, v in table.get("columns", {}).items()}


def _sources(data):
    """Yields all that names a channel of a thing: {"thing": id, "channel": name}."""
    left = [data]
    while left:
        at = left.pop()
        if isinstance(at, dict):
            if "thing" in at and "channel" in at:
                yield at
            left += at.values()
        elif isinstance(at, list):
            left += at


def _whole(word: str) -> int:
    if len(word) > 19:
        raise ValueError(f"a whole number of {len(word)} digits")
    return int(word)


def _no_constant(word):
    raise ValueError(f"{word} is not a number")


def _understood(raw):
    """A raw thing ready to be validated; one of an unknown kind is wrapped so that saving does not lose it."""
    raw = dict(raw)
    if kind_of(raw["kind"]) is None:
        kept = {"id": raw["id"], "kind": raw["kind"], "name": str(raw.get("name", raw["kind"])), "on": False}
        return kept | {"unknown": raw}
    for name in ("stack", "joints"):
        raw[name] = [_understood(part) for part in raw.get(name, [])]
    return raw


def _read_arrays(what, archive, doc: Document) -> Arrays:
    arrays = Arrays()
    present = set(archive.namelist())
    for name in sorted(doc.arrays()):
        entry = f"arrays/{name}.npy"
        if entry not in present:
            raise EstampaError(what, "names an array that is not in it.", "Open an earlier copy.", entry)
        array = _read_array(what, archive, entry)
        if not is_digest(name, array):
            raise EstampaError(what, "holds an array that was altered or damaged.", "Open an earlier copy.", entry)
        arrays.keep(name, array)
    return arrays


def _read_array(what, archive, entry: str) -> np.ndarray:
    """An array of plain numbers, read from the bytes that are there: its header may not promise more."""
    try:
        data = archive.read(entry)
        file = io.BytesIO(data)
        version = np.lib.format.read_magic(file)
        if version != (1, 0):
            raise ValueError("an array format that scenes do not use")
        shape, fortran, dtype = np.lib.format.read_array_header_1_0(file, max_header_size=10_000)
        left = len(data) - file.tell()
        if dtype.kind not in "fiu" or dtype.hasobject or math.prod(shape) * dtype.itemsize != left:
            raise ValueError(f"{dtype} {shape} in {left:,} bytes")
        if len(shape) > 3 or fortran and len(shape) > 1:
            raise ValueError("an array of a shape that scenes do not have")
        return np.frombuffer(data, dtype, offset=file.tell()).reshape(shape)
    except (ValueError, EOFError, SyntaxError, TypeError, OverflowError, MemoryError) as err:
        raise EstampaError(
            what,
            "holds an array that is damaged or is not plain numbers.",
            "It was not opened; open an earlier copy.",
            f"{entry}: {err!r}",
        ) from err
