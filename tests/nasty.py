"""Damaged and hostile files, made by seed, and what may come of them: a clear refusal or a sound result.

A fixed sample is part of the ordinary tests; `bench/damage.py` runs two thousand.
"""

import copy
import io
import json
import math
import random
import struct
import tempfile
import zipfile
from functools import cache
from pathlib import Path

import numpy as np
import trimesh

from estampa import edits as do
from estampa.edits import clips, joints
from estampa.errors import EstampaError
from estampa.formats.asset import read_asset
from estampa.formats.meshfile import read_mesh
from estampa.geometry.primitives import sheet, tube
from estampa.hashing import array_digest
from estampa.inspect.closing import offers
from estampa.inspect.remarks.scene import remarks
from estampa.kinds.registry import kinds_in, load_kinds
from estampa.press.run import estimate
from estampa.scene.document import Document
from estampa.scene.file import load_scene, scene_bytes_to
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore


@cache
def whole_scene() -> bytes:
    """A scene file with something of nearly everything."""
    scene = Scene(Document(name="everything", start=1, end=6, loop=(1, 6)))
    flag = do.add_mesh(scene, sheet(1.0, 0.6, 6, 5), "Flag")
    held = do.add_map(scene, flag.id, (scene.arrays.get(flag.mesh.points)[:, 0] == 0).astype(np.float32), "Hoist")
    grip = do.add_thing(scene, "grip", "Hand", {"x": 0.5})
    zone = do.add_thing(scene, "zone", "Near", {"reach": 2.0})
    path = do.add_thing(scene, "path", "Way", spots=((0, 0, 0), (1, 0, 0), (1, 0, 1)))
    target = do.add_target(scene, flag.id, scene.arrays.get(flag.mesh.points) + 0.1, "Lifted")
    for kind, values in (
        ("bend", {"grip": grip.id, "zone": zone.id}), ("morph", {"target": target.id, "weight": 0.5}),
        ("noise", {"map": held.id}), ("follow", {"path": path.id}), ("cloth", {"pins": held.id, "substeps": 4}),
        ("refine", {}),
    ):  # fmt: skip
        do.add_layer(scene, flag.id, kind, values=values)
    line = np.stack([np.zeros(6), np.linspace(0, 1, 6), np.zeros(6)], axis=1)
    tail, cage = (do.add_mesh(scene, tube(line, np.full(6, r), 5), n) for r, n in ((0.1, "Tail"), (0.3, "Cage")))
    skeleton = joints.add_skeleton(scene, [joints.straight([0, 0, 0], [0, 1, 0], 4)])
    joints.bind_skin(scene, tail.id, skeleton.id)
    joints.bind_cage(scene, tail.id, cage.id)
    for kind in ("stems", "chain", "aim"):
        do.add_layer(scene, skeleton.id, kind, values={"target": grip.id} if kind == "aim" else {})
    clips.new_clip(scene, skeleton.id, "Sway", 1, 6, True)
    for kind in ("gravity", "wind", "ground", "collider", "camera"):
        do.add_thing(scene, kind)
    do.add_thing(scene, "copies", values={"subject": flag.id, "count": 3, "stagger": 1.0})
    do.set_key(scene, grip.id, "x", 1, 0.5)
    do.set_key(scene, grip.id, "x", 5, 0.8)
    do.link(scene, grip.id, "y", zone.id, "level")
    do.set_formula(scene, grip.id, "z", "0.1 * sin(t) + a", {"a": (zone.id, "soft")})
    for kind in kinds_in("print"):
        do.add_thing(scene, kind.kind)
    data = io.BytesIO()
    scene_bytes_to(scene, data)
    return data.getvalue()


ODD = (
    None, True, -1, 0, 1, 2**31, 2**63, 10**309, -1e300, 1e300, 1e-300, 0.5, "", "x", "\u0000", [], [[]], {},
    {"keys": []}, {"keys": [{"frame": 1, "value": 1e300}]}, "a" * 5000, [1, 2, 3], ["grip"], 1e9, -1e9,
    {"reads": {"thing": "x", "channel": "y"}}, {"formula": "t / 0", "inputs": {}}, {"formula": "9**9**9"},
)  # fmt: skip


def _spots(node, found=None):
    """Every (holder, key) in a tree of JSON."""
    found = [] if found is None else found
    items = node.items() if isinstance(node, dict) else enumerate(node) if isinstance(node, list) else ()
    for key, value in items:
        found.append((node, key))
        _spots(value, found)
    return found


def mutated_document(data: dict, chance: random.Random) -> None:
    """Change a document, often in ways that a single wrong value would not."""
    things = data["things"] + data["prints"] + [l for t in data["things"] for l in t.get("stack", [])]
    things += [j for t in data["things"] for j in t.get("joints", [])]
    ids = [t["id"] for t in things]
    how = chance.choices(range(8), (3, 1, 6, 12, 1, 2, 4, 2))[0]
    for _ in range(chance.choice((1, 1, 1, 2, 4))):
        if how == 0:
            holder, key = chance.choice(_spots(data))
            holder[key] = copy.deepcopy(chance.choice(ODD))
        elif how == 1:  # a known kind in any place
            chance.choice(things)["kind"] = chance.choice(sorted(load_kinds()))
        elif how == 2:  # a reference to any thing
            thing = chance.choice(things)
            kind = load_kinds().get(thing["kind"])
            names = [c.name for c in kind.channels.values() if c.type == "ref"] if kind else []
            if names:
                thing.setdefault("values", {})[chance.choice(names)] = chance.choice(ids)
        elif how == 3:  # any channel, any odd value
            thing = chance.choice(things)
            kind = load_kinds().get(thing["kind"])
            if kind and kind.channels:
                thing.setdefault("values", {})[chance.choice(list(kind.channels))] = copy.deepcopy(chance.choice(ODD))
        elif how == 4:  # two of everything, or none of something
            where = chance.choice(["things", "prints"])
            item = chance.choice(data[where])
            data[where].append(copy.deepcopy(item)) if chance.random() < 0.5 else data[where].remove(item)
            things = data["things"] or things
        elif how == 5:
            thing = chance.choice(things)
            fields = ("rest", "bind", "clips", "live", "spots", "maps", "targets", "mesh", "joints", "stack")
            field = chance.choice(fields)
            thing[field] = copy.deepcopy(chance.choice([chance.choice(things).get(field), *ODD]))
        elif how == 6:  # channels that read one another
            thing, other = chance.choice(things), chance.choice(things)
            thing.setdefault("values", {})[chance.choice(["x", "strength", "angle", "weight", "size"])] = {
                "reads": {"thing": other["id"], "channel": chance.choice(["x", "y", "strength", "nothing"])}
            }
        else:
            data[chance.choice(["frame_rate", "start", "end", "loop", "name", "version"])] = copy.deepcopy(
                chance.choice([*ODD, [1, 2], [5, 1], [-(10**9), 10**9]])
            )


def mutated_array(chance: random.Random, array: np.ndarray) -> np.ndarray:
    """An array of another shape, type or content."""
    return chance.choice(
        (
            lambda: array[:0], lambda: array[: max(len(array) // 2, 1)], lambda: np.concatenate([array, array]),
            lambda: array.astype(np.float32), lambda: array.astype(np.int64), lambda: array * 0 - 1,
            lambda: np.where(np.arange(array.size).reshape(array.shape) == 1, np.nan, array.astype(float)),
            lambda: array.astype("datetime64[s]") if array.dtype.kind in "iu" else array.astype(np.float16),
            lambda: np.repeat(array.reshape(len(array), -1), 5, axis=1), lambda: array.astype(float) * 1e305,
            lambda: np.full(array.shape, 2**31 - 1, np.int32), lambda: array.ravel(),
        )
    )()  # fmt: skip


def damaged_scene(seed: int) -> bytes:
    """A scene file with something wrong in it, by seed."""
    chance = random.Random(seed)
    data = whole_scene()
    way = chance.choices(range(5), (1, 2, 4, 2, 16))[0]
    if way == 0:
        return data[: chance.randrange(len(data))]
    if way == 1:
        broken = bytearray(data)
        for _ in range(chance.choice((1, 3, 20))):
            broken[chance.randrange(len(broken))] = chance.randrange(256)
        return bytes(broken)
    with zipfile.ZipFile(io.BytesIO(data)) as old:
        entries = {n: old.read(n) for n in old.namelist()}
    told = json.loads(entries["scene.json"])
    packed = zipfile.ZIP_STORED
    if way == 2:
        name = chance.choice([n for n in entries if n.endswith(".npy")])
        array = np.load(io.BytesIO(entries[name]))
        with np.errstate(all="ignore"):
            changed = mutated_array(chance, array)
        digest = array_digest(changed) if changed.dtype.kind in "fiu" else name[7:-4]
        text = json.dumps(told).replace(name[7:-4], digest)
        out = io.BytesIO()
        np.save(out, changed, allow_pickle=False)
        entries.pop(name)
        entries[f"arrays/{digest}.npy"] = out.getvalue()
        entries["scene.json"] = text.encode()
    elif way == 3:  # headers that promise much, and entries packed in ways that scenes are not
        name = chance.choice([n for n in entries if n.endswith(".npy")])
        shape = chance.choice([(10**9, 3), (2**40,), (10**6, 10**6), (0, 3), (3, 10**9)])
        out = io.BytesIO()
        np.lib.format.write_array_header_1_0(out, {"descr": "<f8", "fortran_order": False, "shape": shape})
        entries[name] = out.getvalue() + bytes(64)
        packed = chance.choice((zipfile.ZIP_STORED, zipfile.ZIP_LZMA, zipfile.ZIP_BZIP2, zipfile.ZIP_DEFLATED))
    else:
        mutated_document(told, chance)
        entries["scene.json"] = json.dumps(told, allow_nan=False, default=str).encode()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", packed) as new:
        for name, content in entries.items():
            new.writestr(name, content)
    return out.getvalue()


@cache
def _mesh_files() -> dict[str, bytes]:
    solid = trimesh.creation.icosphere(1)
    plain = trimesh.Trimesh(solid.vertices, solid.faces)
    found = {s: plain.export(file_type=s) for s in ("stl", "ply", "glb", "obj")}
    return {s: d.encode() if isinstance(d, str) else d for s, d in found.items()}


def damaged_mesh(seed: int) -> tuple[str, bytes]:
    """(ending, a mesh file with something wrong in it), by seed."""
    chance = random.Random(seed)
    ending = chance.choice(sorted(_mesh_files()))
    data = bytearray(_mesh_files()[ending])
    way = chance.randrange(4)
    if way == 0:
        return ending, bytes(data[: chance.randrange(len(data))])
    if way == 1 and ending == "glb":
        length = struct.unpack_from("<I", data, 12)[0]
        told = json.loads(data[20 : 20 + length])
        for _ in range(chance.choice((1, 2, 5))):
            holder, key = chance.choice(_spots(told))
            holder[key] = copy.deepcopy(chance.choice(ODD))
        text = json.dumps(told, default=str).encode()
        text += b" " * (-len(text) % 4)
        rest = bytes(data[20 + length :])
        head = b"glTF" + struct.pack("<II", 2, 20 + len(text) + len(rest)) + struct.pack("<II", len(text), 0x4E4F534A)
        return ending, head + text + rest
    if way == 2:  # numbers in the head or in the text
        text = bytes(data[:400])
        digits = [i for i, c in enumerate(text) if 48 <= c <= 57]
        if digits:
            i = chance.choice(digits)
            return ending, bytes(data[:i]) + str(chance.choice((0, 10**9, 10**19, 7))).encode() + bytes(data[i + 1 :])
    for _ in range(chance.choice((1, 4, 30))):
        data[chance.randrange(len(data))] = chance.randrange(256)
    return ending, bytes(data)


# -- what may come of them -----------------------------------------------------------------------------------
def clear(err: EstampaError) -> None:
    assert err.what.strip() and err.cause.strip() and "Traceback" not in str(err) and len(str(err)) < 2000


def judge_scene(path: Path) -> str:
    """Open a scene and do with it what a person would. Raises what is no clear refusal; returns what became of it."""
    try:
        scene = load_scene(path)
    except EstampaError as err:
        assert path.name in str(err)
        clear(err)
        return "refused"
    remarks(scene)
    with tempfile.TemporaryDirectory() as folder:
        evaluator = scene.evaluator(FrameStore(folder))
        refused = False
        copies = [c for c in scene.doc.things if c.kind == "copies" and c.on]
        for frame in (scene.doc.start, min(scene.doc.start + 2, scene.doc.end)):
            for step in (
                lambda f=frame: evaluator.solve_through(f),
                *(lambda s=s, f=frame: _sound(evaluator.subject(s, f).points) for s in scene.doc.subjects if s.on),
                *(lambda c=c, f=frame: _copies(evaluator, c, f) for c in copies),
                *(lambda s=s, f=frame: _sound(evaluator.poses.world(s, f)) for s in scene.doc.skeletons),
            ):
                try:
                    step()
                except EstampaError as err:
                    clear(err)
                    refused = True
        for item in scene.doc.prints:
            if item.declared is not None:
                told = estimate(scene, scene.doc, item)
                assert told.bytes >= 0 and told.text
        try:
            offers(scene.doc)
        except EstampaError as err:
            clear(err)
    scene_bytes_to(scene, io.BytesIO())
    return "opened, with trouble told" if refused else "opened"


def _sound(points) -> None:
    assert np.isfinite(points).all(), "something that is no number was given out"


def _copies(evaluator, copies, frame):
    found = evaluator.copies(copies, frame)
    if found is not None:
        _sound(found.points())


def judge_mesh(path: Path) -> str:
    """Read a mesh file, plainly and as a rig; see judge_scene."""
    tree = lambda path: next(n for n in read_asset(path).nodes if n.mesh is not None)
    readers = [read_mesh] + ([tree] if path.suffix == ".glb" else [])
    result = "refused"
    for reader in readers:
        try:
            found = reader(path)
        except EstampaError as err:
            assert path.name in str(err)
            clear(err)
            continue
        mesh = getattr(found, "mesh", found)
        _sound(mesh.points)
        assert mesh.face_indices.min() >= 0 and mesh.face_indices.max() < mesh.count
        _sound(mesh.normals())
        assert math.isfinite(float(mesh.size.max()))
        result = "opened"
    return result


@cache
def _printed() -> Path:
    from . import nasty_prints

    return nasty_prints.printed(Path(tempfile.mkdtemp()))


def judged(seed: int, folder: Path) -> str:
    """Make the damaged thing of a seed, and judge it: a scene, a mesh file, files of a print, a frame of the store."""
    from . import nasty_prints
    from .store import test_untrue

    sort = seed % 6
    if sort < 2:
        path = folder / f"{seed}.estampa"
        path.write_bytes(damaged_scene(seed))
        return judge_scene(path)
    if sort == 2:
        ending, data = damaged_mesh(seed)
        path = folder / f"{seed}.{ending}"
        path.write_bytes(data)
        return judge_mesh(path)
    place = folder / str(seed)
    place.mkdir()
    if sort < 5:
        return f"print {nasty_prints.torn(_printed(), place, seed)}"
    makes, ways = test_untrue.MAKES, test_untrue.WAYS
    test_untrue.damaged(makes[seed // 6 % len(makes)], ways[seed // 6 % len(ways)], seed, place)
    return "frame solved again"
