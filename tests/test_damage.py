"""Files cut anywhere and bytes changed at random: a clear message or a sound result, never anything else."""

import io
import json
import os
import struct
import tracemalloc
import zipfile

import numpy as np
import pytest
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from estampa import edits as do
from estampa import open_scene, save_scene
from estampa.edits import joints
from estampa.errors import EstampaError
from estampa.formats.asset import read_asset
from estampa.formats.meshfile import read_mesh
from estampa.kinds.registry import layers_for
from estampa.scene.file import scene_bytes_to
from estampa.scene.scene import Scene
from estampa.scene.values import Rows
from tests import nasty
from tests.formats.test_meshfile import CUBE

some = settings(
    max_examples=60, derandomize=True, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture]
)


def mesh_files():
    solid = trimesh.creation.icosphere(1)
    exported = {
        suffix: trimesh.Trimesh(solid.vertices, solid.faces).export(file_type=suffix)
        for suffix in ("stl", "ply", "glb")
    }
    return {"obj": CUBE.encode(), **exported}


FILES = mesh_files()


def sound(mesh):
    assert np.isfinite(mesh.points).all() and len(mesh.face_counts)
    assert mesh.face_indices.min() >= 0 and mesh.face_indices.max() < mesh.count
    assert np.isfinite(mesh.normals()).all()


def read_or_refuse(path, data):
    """Reads bytes as a mesh file; returns the message of a refusal, or None."""
    path.write_bytes(data)
    try:
        sound(read_mesh(path))
    except EstampaError as err:
        assert path.name in str(err) and err.cause.strip() and "Traceback" not in str(err)
        return str(err)
    return None


@pytest.mark.parametrize("suffix", FILES)
@some
@given(share=st.floats(0, 0.999))
def test_a_mesh_file_cut_anywhere(tmp_path, suffix, share):
    data = FILES[suffix]
    message = read_or_refuse(tmp_path / f"cut.{suffix}", data[: int(len(data) * share)])
    if suffix in ("stl", "ply", "glb"):  # these say how much is to come, so no cut goes unnoticed
        assert message


@pytest.mark.parametrize("suffix", FILES)
@some
@given(changes=st.lists(st.tuples(st.floats(0, 0.999), st.integers(0, 255)), min_size=1, max_size=6))
def test_a_mesh_file_with_bytes_changed(tmp_path, suffix, changes):
    data = bytearray(FILES[suffix])
    for share, byte in changes:
        data[int(share * len(data))] = byte
    read_or_refuse(tmp_path / f"changed.{suffix}", bytes(data))


@some
@given(share=st.floats(0, 0.999), byte=st.integers(0, 255))
def test_a_scene_file_with_a_byte_changed_or_cut_off(flag, tmp_path, share, byte):
    whole = io.BytesIO()
    scene_bytes_to(flag, whole)
    data = bytearray(whole.getvalue())
    place = int(share * len(data))
    for name, damaged in (("cut", data[:place]), ("changed", data[:place] + bytes([byte]) + data[place + 1 :])):
        path = tmp_path / f"{name}.estampa"
        path.write_bytes(damaged)
        try:
            scene = open_scene(path)
        except EstampaError as err:
            assert path.name in str(err)
            continue
        assert name == "changed"
        for array in scene.doc.arrays():  # what was read is what its digest says
            assert scene.arrays.get(array) is not None
        for subject in scene.doc.subjects:
            sound(scene.mesh(subject.mesh))


plain = st.one_of(
    st.none(), st.booleans(), st.integers(-(10**9), 10**9), st.floats(allow_nan=False), st.text(max_size=5)
)
branch = lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=5), inner, max_size=3)
anything = st.recursive(plain, branch, max_leaves=6)


@some
@given(field=st.sampled_from(["frame_rate", "start", "end", "things", "prints", "name", "version"]), value=anything)
def test_a_scene_with_any_value_anywhere_opens_or_says_why(flag, tmp_path, field, value):
    good = save_scene(flag, tmp_path / "good.estampa")
    path = tmp_path / "odd.estampa"
    with zipfile.ZipFile(good) as old, zipfile.ZipFile(path, "w") as new:
        data = json.loads(old.read("scene.json"))
        data[field] = value
        new.writestr("scene.json", json.dumps(data))
        for name in old.namelist()[1:]:
            new.writestr(name, old.read(name))
    try:
        scene = open_scene(path)
    except EstampaError as err:
        assert path.name in str(err)
        return
    assert scene.doc.end >= scene.doc.start and scene.doc.frame_rate > 0


@some
@given(data=st.data())
def test_any_run_of_edits_is_undone_to_where_it_began(flag, data):
    flag = Scene(flag.doc, flag.arrays)
    joints.add_skeleton(flag, [np.array([[0.0, 0, 0], [0, 1, 0], [0, 2, 0]])])
    first = flag.doc
    for _ in range(data.draw(st.integers(1, 8))):
        things = [(t, o) for t, o in flag.doc.everything()]
        if not things:
            break
        thing, owner = data.draw(st.sampled_from(things))
        channels = [c for c in thing.declared.channels.values() if c.type == "number"]
        edit = data.draw(st.sampled_from(["value", "key", "remove", "duplicate", "switch", "rename", "move", "layer"]))
        if edit in ("value", "key") and channels:
            channel = data.draw(st.sampled_from(channels))
            number = data.draw(st.floats(-1e6, 1e6))
            if not channel.animates or (edit == "value" and not thing.curve(channel.name)):
                do.set_value(flag, thing.id, channel.name, number)
            else:
                do.set_key(flag, thing.id, channel.name, data.draw(st.integers(-5, 20)), number)
        elif edit == "remove":
            (joints.remove_joint if thing.kind == "joint" else do.remove)(flag, thing.id)
        elif edit == "duplicate":
            do.duplicate(flag, thing.id)
        elif edit == "switch":
            do.set_on(flag, thing.id, not thing.on)
        elif edit == "rename":
            do.rename(flag, thing.id, data.draw(st.text(min_size=1, max_size=8)))
        elif edit == "move" and owner is not None and thing in owner.stack:
            do.move_layer(flag, thing.id, data.draw(st.integers(-2, 5)))
        elif edit == "layer" and thing.kind in ("subject", "skeleton"):
            do.add_layer(flag, thing.id, data.draw(st.sampled_from([k.kind for k in layers_for(thing.kind)])))
        ids = [t.id for t, _ in flag.doc.everything()]
        assert len(ids) == len(set(ids)), "two things of one id"
        names = [t.name for t in (*flag.doc.things, *flag.doc.prints)]
        assert len(names) == len(set(names)), "two things of one name"
        whole = io.BytesIO()
        scene_bytes_to(flag, whole)  # whatever was made can be saved
    while flag.doc is not first and flag.undo():
        pass
    assert flag.doc is first


SAMPLE = sorted({1002, 1044, 1609, 1780, 1995, 2473, 2937, 3696, 4251, *range(0, 282, 2)})  # the first once did harm


@pytest.mark.parametrize("part", range(10))
def test_a_sample_of_damaged_files_is_refused_in_words_or_sound(tmp_path, part):
    assert len(SAMPLE) == 150
    for seed in SAMPLE[part::10]:
        if seed % 3 == 2 and seed < 1000:
            ending, data = nasty.damaged_mesh(seed)
            path = tmp_path / f"{seed}.{ending}"
            path.write_bytes(data)
            nasty.judge_mesh(path)
        else:
            path = tmp_path / f"{seed}.estampa"
            path.write_bytes(nasty.damaged_scene(seed))
            nasty.judge_scene(path)


def test_a_whole_file_is_opened_as_it_is(tmp_path):
    path = tmp_path / "whole.estampa"
    path.write_bytes(nasty.whole_scene())
    assert nasty.judge_scene(path) == "opened"


def flood_ply(path):
    path.write_bytes(
        b"ply\nformat ascii 1.0\nelement vertex 3\nproperty float x\nproperty float y\nproperty float z\n"
        b"element face 1000000000\nproperty list uchar int vertex_indices\nend_header\n0 0 0\n1 0 0\n0 1 0\n3 0 1 2\n"
    )
    return "1,000,000,000 rows"


def flood_glb(path, accessor=None, **more):
    told = {"asset": {"version": "2.0"}, "scene": 0, "scenes": [{"nodes": [0]}], "nodes": [{"mesh": 0}]}
    told["meshes"] = [{"primitives": [{"attributes": {"POSITION": 0}}]}]
    told["accessors"] = [accessor or {"componentType": 5126, "count": 300_000_000, "type": "VEC3"}]
    text = json.dumps(told | more).encode()
    text += b" " * (-len(text) % 4)
    head = b"glTF" + struct.pack("<II", 2, 20 + len(text)) + struct.pack("<II", len(text), 0x4E4F534A)
    path.write_bytes(head + text)
    return "300,000,000 values"


def outside_gltf(path):
    flood_glb(path)
    data = path.read_bytes()[20:]
    told = json.loads(data) | {"buffers": [{"uri": "../secret.bin", "byteLength": 4}], "accessors": []}
    path.write_text(json.dumps(told))
    return "outside its own folder"


def absolute_gltf(path):
    outside_gltf(path)
    path.write_text(path.read_text().replace("../secret.bin", "/etc/hostname"))
    return "outside its own folder"


def a_pipe(path):
    os.mkfifo(path)
    return "no plain file"


@pytest.mark.parametrize("make", [flood_ply, flood_glb, outside_gltf, absolute_gltf, a_pipe])
def test_small_files_that_promise_much_or_reach_far_are_refused_at_once(tmp_path, make):
    ending = {"flood_ply": "ply", "flood_glb": "glb", "a_pipe": "glb"}.get(make.__name__, "gltf")
    path = tmp_path / f"small.{ending}"
    words = make(path)
    for read in [read_mesh] + ([read_asset] if ending != "ply" else []):
        with pytest.raises(EstampaError, match=words):
            read(path)


def test_a_material_file_that_is_a_pipe_is_left_out(tmp_path):
    os.mkfifo(tmp_path / "cube.mtl")
    (tmp_path / "cube.obj").write_text("mtllib cube.mtl\n" + CUBE)
    assert read_mesh(tmp_path / "cube.obj").count == 8


def test_a_scene_of_many_empty_values_takes_little_memory(flag, tmp_path):
    good = save_scene(flag, tmp_path / "good.estampa")
    path = tmp_path / "bomb.estampa"
    with zipfile.ZipFile(good) as old, zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as new:
        text = json.loads(old.read("scene.json"))
        new.writestr("scene.json", json.dumps(text)[:-1] + ', "more": [' + "[]," * 10_000_000 + "[]]}")
    assert path.stat().st_size < 200_000
    tracemalloc.start()
    with pytest.raises(EstampaError, match="more than .* values"):
        open_scene(path)
    assert tracemalloc.get_traced_memory()[1] < 200_000_000
    tracemalloc.stop()


def test_what_is_read_twice_by_each_of_many_is_worked_out_once(flag):
    """25 things, each of which reads the one before twice: 2^25 readings if each were worked out anew."""
    before = do.add_thing(flag, "grip", values={"x": 1.0}).id
    for _ in range(25):
        grip = do.add_thing(flag, "grip").id
        do.set_formula(flag, grip, "x", "a + b", {"a": (before, "x"), "b": (before, "x")})
        before = grip
    assert flag.values.at(flag.doc.find(grip), "x", 3) == 2.0**25
    zones = [do.add_thing(flag, "zone").id]
    for _ in range(25):
        zones.append(do.add_thing(flag, "zone", values={"parent": zones[-1], "other": zones[-1]}).id)
    bend = next(t for t, _ in flag.doc.everything() if t.name == "Lean")
    do.set_value(flag, bend.id, "zone", zones[-1])
    cloth = next(t for t, _ in flag.doc.everything() if t.name == "Cloth")
    evaluator = flag.evaluator()
    assert evaluator.key(flag.doc.owner(cloth.id), cloth, 5)


def test_long_rows_of_things_and_rings_are_refused_when_they_are_made(flag, tmp_path):
    first = before = do.add_thing(flag, "grip").id
    doc = flag.doc
    for _ in range(400):
        before = do.add_thing(flag, "grip", values={"parent": before, "x": 0.01}).id
    assert flag.values.place(flag.doc.find(before), Rows.one(1)).origin[0, 0] == pytest.approx(4.0)
    path = save_scene(flag, tmp_path / "long.estampa")
    assert open_scene(path).values.place(flag.doc.find(before), Rows.one(1)).origin[0, 0] == pytest.approx(4.0)
    with pytest.raises(EstampaError, match="ring"):
        do.set_value(flag, first, "parent", before)
    flag.apply("back", doc)
    one, two = (do.add_mesh(flag, nasty.sheet(1, 1, 3, 3), n) for n in ("One", "Two"))
    do.add_layer(flag, one.id, "cage", values={"cage": two.id})
    before = flag.doc
    with pytest.raises(EstampaError, match="One → Two → One|Two → One → Two"):
        do.add_layer(flag, two.id, "cage", values={"cage": one.id})
    assert flag.doc is before
