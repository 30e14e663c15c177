"""Skeletons in and out: GLB (the standard's validator, an independent reader), UsdSkel, BVH, CSV, and bad files."""

import json
import subprocess
from pathlib import Path

import numpy as np
import pygltflib as gl
import pytest
from scipy.spatial.transform import Rotation

from estampa import edits as do
from estampa.edits import clips
from estampa.edits import joints as build
from estampa.edits.importing import bring_in
from estampa.errors import EstampaError
from estampa.formats import bvh, skinned
from estampa.formats.asset import read_asset
from estampa.geometry.primitives import tube
from estampa.press.run import run
from estampa.scene.document import Document
from estampa.scene.scene import Scene

HERE = Path(__file__).parents[2]


def rigged_scene(joints=4, most=4, end=12):
    """A lantern pole that is turned and stretched by keys, standing away from the origin."""
    scene = Scene(Document(name="pole", start=1, end=end))
    line = np.stack([np.zeros(25), np.linspace(0, 2, 25), np.zeros(25)], axis=1)
    subject = do.add_mesh(scene, tube(line, np.full(25, 0.1), 10), "Pole")
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], joints)], "Bones", "Bone")
    do.set_values(scene, skeleton.id, {"x": 0.5, "turn_y": 0.4})
    do.set_values(scene, subject.id, {"x": 0.5, "turn_y": 0.4})
    layer, _ = build.bind_skin(scene, subject.id, skeleton.id, "nearest", most)
    for k, joint in enumerate(scene.doc.find(skeleton.id).joints[1:]):
        do.set_key(scene, joint.id, "turn_z", 1, 0.0)
        do.set_key(scene, joint.id, "turn_z", end, 0.5 + 0.1 * k)
        do.set_key(scene, joint.id, "turn_x", 1, -0.2)
        do.set_key(scene, joint.id, "turn_x", end, 0.3)
    do.set_key(scene, skeleton.joints[0].id, "x", 1, 0.0)
    do.set_key(scene, skeleton.joints[0].id, "x", end, 0.7)
    return scene, subject.id, skeleton.id, layer.id


def printed(scene, kind, out, store, **values):
    item = do.add_thing(scene, kind, values=values)
    return run(scene, scene.evaluator(store), scene.doc.find(item.id), out)


def validated(path):
    """What the standard's own validator says of a file."""
    script = (
        "const v=require('gltf-validator'),fs=require('fs');"
        "v.validateBytes(new Uint8Array(fs.readFileSync(process.argv[1])))"
        ".then(r=>console.log(JSON.stringify(r.issues)))"
    )
    told = subprocess.run(["node", "-e", script, str(path)], capture_output=True, text=True, cwd=HERE, check=True)
    return json.loads(told.stdout)


def test_a_printed_skin_is_clean_and_moves_as_the_scene(tmp_path, store):
    scene, subject, skeleton, _ = rigged_scene()
    clips.new_clip(scene, skeleton, "Lean", 1, 12)
    clips.reverse_clip(scene, skeleton, scene.doc.find(skeleton).clips[0].id)
    result = printed(scene, "skinned_mesh", tmp_path, store, subject=subject, ends=True)
    assert result.passed and result.gap < 1e-5
    issues = validated(result.paths[0])
    assert issues["numErrors"] == 0 and issues["numWarnings"] == 0, issues["messages"]

    # sampled at the frames by pygltflib and NumPy: the poses of the joints, and the reversed clip backwards
    reader, evaluator = skinned.SkinnedReader(result.paths[0]), scene.evaluator(store)
    names = [a.name for a in reader.document.animations]
    assert names == ["Lean", "Lean backwards"]
    for frame in range(1, 13):
        wanted = evaluator.poses.world(scene.doc.find(skeleton), frame)
        assert np.abs(reader.joints((frame - 1) / 24, 0) - wanted).max() < 1e-4
        assert np.abs(reader.joints((12 - frame) / 24, 1) - wanted).max() < 1e-4
    ends = [n.name for n in reader.document.nodes if n.name.endswith("_end")]
    assert ends == ["Bone 4_end"]


@pytest.mark.slow
def test_eight_influences_many_joints_and_morphs_stay_clean(tmp_path, store):
    scene, subject, skeleton, layer = rigged_scene(joints=300, most=8, end=4)
    points = scene.mesh(scene.doc.find(subject).mesh).points
    target = do.add_target(scene, subject, points * [1.3, 1, 1.3], "Bulge")
    morph = do.add_layer(scene, subject, "morph", values={"target": target.id})
    do.move_layer(scene, morph.id, 0)
    do.set_key(scene, morph.id, "weight", 1, 0.0)
    do.set_key(scene, morph.id, "weight", 4, 1.0)
    result = printed(scene, "skinned_mesh", tmp_path, store, subject=subject)
    assert result.passed and result.gap < 2e-5
    issues = validated(result.paths[0])
    assert issues["numErrors"] == 0 and issues["numWarnings"] == 0, issues["messages"][:3]
    document = gl.GLTF2.load(str(result.paths[0]))
    attributes = document.meshes[0].primitives[0].attributes
    assert attributes.JOINTS_1 is not None
    assert document.accessors[attributes.JOINTS_0].componentType == gl.UNSIGNED_SHORT


def test_a_looping_clip_ends_where_it_began(tmp_path, store):
    scene, subject, skeleton, _ = rigged_scene()
    clips.new_clip(scene, skeleton, "Round", 1, 13, loops=True)  # frame 13 is the first again
    result = printed(scene, "skinned_mesh", tmp_path, store, subject=subject)
    reader = skinned.SkinnedReader(result.paths[0])
    times = reader.array(reader.document.animations[0].samplers[0].input)
    assert times[-1, 0] == pytest.approx(12 / 24)
    assert np.abs(reader.joints(12 / 24) - reader.joints(0)).max() < 1e-5


def test_the_file_says_what_it_cannot_carry(tmp_path, store):
    scene, subject, _, _ = rigged_scene()
    do.add_layer(scene, subject, "noise", values={"height": 0.05})
    result = printed(scene, "skinned_mesh", tmp_path, store, subject=subject)
    assert not result.passed and "DIFFERS" in result.words()


def test_usd_skinning_is_ours(tmp_path, store):
    """Linear blending against UsdSkel's own (usd-core), to 1e-5 m."""
    scene, subject, skeleton, _ = rigged_scene(most=8)
    result = printed(scene, "skinned_usd", tmp_path, store, subject=subject, ends=True)
    assert result.passed and result.gap < 1e-5
    reader = skel_reader(result.paths[0])
    at = scene.evaluator(store).poses.at(scene.doc.find(skeleton), 7).at
    assert np.abs(reader.joints(7)[: len(at)] - at).max() < 1e-5


def skel_reader(path):
    from estampa.formats import usd_skel

    return usd_skel.SkelReader(path)


def test_bvh_and_csv_are_read_back(tmp_path, store):
    scene, _, skeleton, _ = rigged_scene()
    build.extend(scene, None, skeleton, build.straight([1, 0, 0], [1, 1, 0], 2), "Other")
    for kind in ("joint_bvh", "joint_csv"):
        result = printed(scene, kind, tmp_path, store, skeleton=skeleton)
        assert result.passed and result.gap < 2e-5, kind
    reader = bvh.BvhReader(next(tmp_path.glob("*.bvh")), 100.0)
    assert reader.frame_rate == pytest.approx(24) and reader.parents[0] == -1 and len(reader.ends) == 2
    rows = next(tmp_path.glob("*.csv")).read_text().splitlines()
    assert len(rows) == 1 + 12 * 6 and rows[0].startswith("frame,seconds,joint")


def test_bvh_turns_are_those_of_scipy(tmp_path):
    """One joint turned about all axes: Z, X, Y on turned axes, in degrees (common practice, no source)."""
    turn = Rotation.from_euler("ZXY", [30, -20, 50], degrees=True).as_matrix()
    world = np.tile(np.eye(4), (1, 2, 1, 1))
    world[0, 0, :3, :3], world[0, 1, :3, :3] = turn, turn
    world[0, 1, :3, 3] = turn @ [0, 1, 0]
    rest = np.tile(np.eye(4), (2, 1, 1))
    rest[1, :3, 3] = [0, 1, 0]
    bvh.write(tmp_path / "a.bvh", ["Hip", "Knee left"], [-1, 0], rest, np.array([[0, 1, 0], [0, 0.5, 0]]), world, 30.0)
    text = (tmp_path / "a.bvh").read_text()
    assert [float(x) for x in text.splitlines()[-1].split()[3:6]] == pytest.approx([30, -20, 50], abs=1e-4)
    assert np.abs(bvh.BvhReader(tmp_path / "a.bvh").world() - world).max() < 1e-5


def test_what_was_printed_is_read_in_again(tmp_path, store):
    scene, subject, skeleton, _ = rigged_scene()
    clips.new_clip(scene, skeleton, "Lean", 1, 12)
    clips.reverse_clip(scene, skeleton, scene.doc.find(skeleton).clips[0].id)
    path = printed(scene, "skinned_mesh", tmp_path, store, subject=subject).paths[0]
    other = Scene(Document(start=1, end=12))
    bring_in(other, read_asset(path))
    mesh, bones = other.doc.subjects[0], other.doc.skeletons[0]
    assert [c.name for c in bones.clips] == ["Lean", "Lean backwards"] and len(bones.joints) == 4
    other.undo()
    assert other.doc.things == ()  # one step
    other.redo()
    ours, theirs = scene.evaluator(store), other.evaluator(store)
    for frame in (1, 6, 12):
        a, b = (
            ours.subject(scene.doc.find(subject), frame).points,
            theirs.subject(other.doc.find(mesh.id), frame).points,
        )
        gap = np.linalg.norm(a[:, None] - b[None], axis=2).min(axis=1)  # welded, so in another order
        assert gap.max() < 2e-3
    clips.use_clip(other, bones.id, bones.clips[1].id)
    b = other.evaluator(store).subject(other.doc.find(mesh.id), 1).points
    a = ours.subject(scene.doc.find(subject), 12).points
    assert np.linalg.norm(a[:, None] - b[None], axis=2).min(axis=1).max() < 2e-3


def test_morph_only_animation_comes_in_as_keys(tmp_path, store):
    """A file with targets and weights over time, and no skin."""
    points = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], np.float32)
    binary = skinned.glb.Binary()
    target = {"POSITION": binary.attribute("POSITION", np.array([[0, 0, 1]] * 3, np.float32))}
    attributes = gl.Attributes(POSITION=binary.attribute("POSITION", points))
    primitive = gl.Primitive(attributes=attributes, indices=binary.indices([[0, 1, 2]]), targets=[target])
    times = binary.numbers(np.array([0.0, 0.5], np.float32), bounds=True)
    sampler = gl.AnimationSampler(input=times, output=binary.numbers(np.array([0.0, 1.0], np.float32)))
    channel = gl.AnimationChannel(sampler=0, target=gl.AnimationChannelTarget(node=0, path="weights"))
    binary.save(
        tmp_path / "flag.glb", scenes=[gl.Scene(nodes=[0])], nodes=[gl.Node(mesh=0, name="Flag")],
        meshes=[gl.Mesh(primitives=[primitive], weights=[0.0])],
        animations=[gl.Animation(name="Wave", samplers=[sampler], channels=[channel])],
    )  # fmt: skip
    scene = Scene(Document(start=1, end=24))
    subject = bring_in(scene, read_asset(tmp_path / "flag.glb")).things[0]
    assert not scene.doc.skeletons and [c.name for c in subject.clips] == ["Wave"]
    moved = scene.evaluator(store).subject(scene.doc.find(subject.id), 7).points  # a quarter of a second on
    assert moved[:, 2] == pytest.approx(0.5, abs=1e-6)


@pytest.mark.parametrize("hurt", range(24))
def test_damaged_files_are_told_and_never_hang(tmp_path, store, hurt):
    scene, subject, _, _ = rigged_scene(end=3)
    data = bytearray(printed(scene, "skinned_mesh", tmp_path, store, subject=subject).paths[0].read_bytes())
    rng = np.random.default_rng(hurt)
    if hurt % 3 == 0:
        data = data[: int(rng.integers(1, len(data)))]
    else:
        for at in rng.integers(0, len(data), 12):
            data[at] = int(rng.integers(0, 256))
    (tmp_path / "hurt.glb").write_bytes(bytes(data))
    try:
        read = read_asset(tmp_path / "hurt.glb")
    except EstampaError as err:
        assert "hurt.glb" in str(err) or "The file" in str(err)
    else:
        bring_in(Scene(Document(start=1, end=3)), read)
    with pytest.raises(EstampaError):
        bvh.BvhReader(tmp_path / "hurt.glb")
