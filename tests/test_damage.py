"""Files cut anywhere and bytes changed at random: a clear message or a sound result, never anything else."""

import io
import json
import zipfile

import numpy as np
import pytest
import trimesh
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from estampa import open_scene, save_scene
from estampa.errors import EstampaError
from estampa.formats.meshfile import read_mesh
from estampa.scene import commands as do
from estampa.scene import joints
from estampa.scene.channels import layers_for
from estampa.scene.file import scene_bytes_to
from estampa.scene.scene import Scene
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
            if edit == "value" and not thing.curve(channel.name):
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
