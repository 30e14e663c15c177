"""The scene file NAME.estampa: a zip with `scene.json` and one `arrays/DIGEST.npy` per array.

Nothing in it is ever run: JSON is validated against the document's models, arrays are plain numbers
(pickled objects are refused), and entries with a path out of the file are refused.
A save writes a new file beside the old one and renames it, so a file is old or new, never torn.
"""

import fcntl
import hashlib
import io
import json
import os
import tempfile
import zipfile
import zlib
from pathlib import Path, PurePosixPath

import numpy as np
import platformdirs
from pydantic import ValidationError

from ..errors import EstampaError, disk_trouble
from ..hashing import array_digest
from .channels import kind_of
from .curves import Curve
from .document import FILE_VERSION, Document, Frozen, Opaque
from .scene import Arrays, Scene

MAX_JSON = 64_000_000
MAX_ARRAY = 8_000_000_000
AUTOSAVE_SUFFIX = ".autosave"


# -- writing -----------------------------------------------------------------------------------------------
def write_whole(path: Path, write) -> None:
    """Call write(temporary path) beside `path`, then put the result in place of `path` in one step."""
    path = Path(path)
    temporary = None
    try:
        handle, temporary = tempfile.mkstemp(prefix=f".{path.name}.", suffix=path.suffix, dir=path.parent)
        os.close(handle)
        write(Path(temporary))
        with open(temporary, "rb") as file:
            os.fsync(file.fileno())
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except BaseException:
        if temporary and os.path.exists(temporary):
            os.unlink(temporary)
        raise


def scene_bytes_to(scene: Scene, target, doc: Document | None = None) -> None:
    """Write the scene as a zip to a path or an open binary file."""
    doc = doc or scene.doc
    with zipfile.ZipFile(target, "w", zipfile.ZIP_STORED) as archive:
        text = json.dumps(_dump(doc), indent=1, ensure_ascii=False)
        archive.writestr("scene.json", text, compress_type=zipfile.ZIP_DEFLATED)
        for name in sorted(doc.arrays()):
            with archive.open(f"arrays/{name}.npy", "w", force_zip64=True) as out:
                np.lib.format.write_array(out, scene.arrays.get(name), allow_pickle=False)


def save_scene(scene: Scene, path: str | Path | None = None) -> Path:
    """Save, whole or not at all. Raises EstampaError; the earlier file is then untouched."""
    path = Path(path or scene.path)
    doc = scene.doc.with_(name=path.stem)
    try:
        write_whole(path, lambda temporary: scene_bytes_to(scene, temporary, doc))
    except OSError as err:
        raise disk_trouble(f"Saving {path.name}", err, "The earlier file is untouched.") from err
    scene.path = path
    scene.saved_doc = scene.doc
    discard_autosave(path)
    return path


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
        for name in ("rest", "bind"):
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
            doc = _read_document(what, archive)
            arrays = _read_arrays(what, archive, doc)
    except FileNotFoundError:
        raise EstampaError(what, "is not there.", "Check the path.", str(path)) from None
    except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError, RuntimeError) as err:
        raise EstampaError(
            what,
            "is torn or is no Estampa scene.",
            "Open its autosave or an earlier copy; this file was not changed.",
            repr(err),
        ) from err
    except OSError as err:
        raise EstampaError(what, f"cannot be read ({err.strerror}).", "Check that you may read it.", repr(err)) from err
    scene = Scene(doc, arrays, path)
    _check_shapes(what, scene)
    return scene


def _refuse_strange_entries(what, archive):
    for info in archive.infolist():
        parts = PurePosixPath(info.filename.replace("\\", "/")).parts
        if info.filename.startswith(("/", "\\")) or ".." in parts or ":" in info.filename:
            raise EstampaError(
                what,
                f"holds a path that leads out of its folder (“{info.filename}”).",
                "It was not opened. Do not trust where it came from.",
            )


def _read_document(what, archive) -> Document:
    if "scene.json" not in archive.namelist():
        raise EstampaError(what, "has no scene in it.", "It may be a zip of something else.")
    if archive.getinfo("scene.json").file_size > MAX_JSON:
        raise EstampaError(what, "has a scene description of more than 64 MB.", "It was not opened.")
    try:
        data = json.loads(archive.read("scene.json"), parse_constant=_no_constant)
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
        if archive.getinfo(entry).file_size > MAX_ARRAY:
            raise EstampaError(what, "holds an array that is too large to open.", "", entry)
        try:
            array = np.lib.format.read_array(io.BytesIO(archive.read(entry)), allow_pickle=False)
        except (ValueError, EOFError, SyntaxError, TypeError) as err:
            raise EstampaError(
                what,
                "holds an array that is damaged or is not plain numbers.",
                "It was not opened; open an earlier copy.",
                f"{entry}: {err!r}",
            ) from err
        if array_digest(array) != name:
            raise EstampaError(what, "holds an array that was altered or damaged.", "Open an earlier copy.", entry)
        arrays.put(array)
    return arrays


def _check_shapes(what, scene: Scene):
    for subject in scene.doc.subjects:
        try:
            mesh = scene.mesh(subject.mesh)
            mesh.check(subject.name)
            weights = [scene.arrays.get(m.weights) for m in subject.maps]
            ok = all(w.shape == (mesh.count,) and np.isfinite(w).all() for w in weights)
            ok &= all(np.isfinite(scene.arrays.get(t.points)).all() for t in subject.targets)
        except (AttributeError, ValueError, TypeError) as err:
            raise EstampaError(
                what, f"holds a damaged mesh in “{subject.name}”.", "Open an earlier copy.", repr(err)
            ) from err
        if not ok:
            raise EstampaError(
                what,
                f"holds a weight map or morph target that does not fit the mesh of “{subject.name}”.",
                "Open an earlier copy.",
            )


# -- autosave and the lock -------------------------------------------------------------------------------
def _state_file(path: Path | None, suffix: str) -> Path:
    folder = Path(os.environ.get("ESTAMPA_STATE", platformdirs.user_state_dir("estampa")))
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError:  # a home that cannot be written to
        folder = Path(tempfile.gettempdir()) / f"estampa-{os.getuid()}"
        folder.mkdir(exist_ok=True)
    key = hashlib.blake2b(str(Path(path).resolve() if path else "untitled").encode(), digest_size=8).hexdigest()
    return folder / f"{Path(path).stem if path else 'untitled'}-{key}{suffix}"


def autosave_file(path: Path | None) -> Path:
    """Where the unsaved work on a scene is kept; on one without a name, by the process that works on it."""
    return _state_file(path, AUTOSAVE_SUFFIX if path else f"-{os.getpid()}{AUTOSAVE_SUFFIX}")


def _orphan() -> Path | None:
    """The newest autosave of a scene without a name whose program is no more."""
    folder = autosave_file(None).parent
    found = sorted(folder.glob(f"untitled-*{AUTOSAVE_SUFFIX}"), key=lambda f: f.stat().st_mtime, reverse=True)
    dead = (f for f in found if not Path(f"/proc/{f.name.removesuffix(AUTOSAVE_SUFFIX).rsplit('-', 1)[-1]}").exists())
    return next(dead, None)


def autosave(scene: Scene, doc: Document | None = None) -> Path:
    """Write the unsaved work beside the user's other state, whole or not at all."""
    target = autosave_file(scene.path)
    write_whole(target, lambda temporary: scene_bytes_to(scene, temporary, doc))
    return target


def recoverable(path: Path | None) -> Path | None:
    """An autosave newer than the file it belongs to, if there is one; without a path, one of a scene without a name."""
    if path is None:
        return _orphan()
    target = autosave_file(path)
    if not target.exists():
        return None
    if Path(path).exists() and target.stat().st_mtime <= Path(path).stat().st_mtime:
        return None
    return target


def discard_autosave(path: Path | None) -> None:
    autosave_file(path).unlink(missing_ok=True)


class SceneLock:
    """Held by the window that has a scene open. The system lets go of it when the program dies."""

    def __init__(self, path: Path):
        self._file = open(_state_file(path, ".lock"), "a+")
        try:
            fcntl.flock(self._file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            self.held = True
        except OSError:
            self.held = False

    def release(self) -> None:
        self._file.close()
        self.held = False
