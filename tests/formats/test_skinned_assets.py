"""Skinned assets in: skeletons, clips and morph targets of files made by other libraries, held against the standards'
own formulas and against usd-core's own skinning."""

import re

import numpy as np
import pygltflib as gl
import pytest
from pxr import Gf, Sdf, Usd, UsdGeom, UsdSkel, Vt
from scipy.spatial.transform import Rotation

from estampa import edits as do
from estampa.edits import clips, versions
from estampa.edits.importing import bring_in
from estampa.errors import EstampaError
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.formats.asset import read_asset
from estampa.geometry.primitives import box
from estampa.press.run import run
from estampa.scene.document import Document
from estampa.scene.file import load_scene, save_scene
from estampa.scene.scene import Scene
from estampa.scene.values import Rows
from tests.formats.test_assets import compliant
from tests.formats.test_skeletons import validated

QUADS = np.float32([[x, y, 0] for y in (0, 50, 100, 150) for x in (-10, 10)])
FACES = np.uint16([[k, k + 1, k + 3, k, k + 3, k + 2] for k in (0, 2, 4)])


def matrix(place=(0, 0, 0), turn=(0, 0, 0, 1), size=(1, 1, 1)):
    """translation @ rotation @ scale: glTF 2.0, section 3.5.3"""
    found = np.eye(4)
    found[:3, :3] = Rotation.from_quat(turn).as_matrix() * np.asarray(size)
    found[:3, 3] = place
    return found


def heron(path):
    """A neck of two joints in centimetres, under a node that is a hundredth as large, lies on its back and walks; what
    it rests in is not what it was bound in; a hat on the upper joint; a beak that opens; two clips. By pygltflib."""
    blob, views, accessors = b"", [], []

    def add(array, kind, target=None):
        nonlocal blob
        blob += b"\0" * (-len(blob) % 4)
        views.append(gl.BufferView(buffer=0, byteOffset=len(blob), byteLength=array.nbytes, target=target))
        code = {"f4": gl.FLOAT, "u2": gl.UNSIGNED_SHORT, "u1": gl.UNSIGNED_BYTE}[array.dtype.str[1:]]
        accessors.append(gl.Accessor(bufferView=len(views) - 1, componentType=code, count=len(array), type=kind))
        blob += array.tobytes()
        return len(accessors) - 1

    height = QUADS[:, 1] / 150
    joints, weights = np.zeros((8, 4), np.uint8), np.zeros((8, 4), np.float32)
    joints[:, 1], weights[:, 0], weights[:, 1] = 1, 1 - height, height
    gape = np.float32([[0, 0, 8 if k > 5 else 0] for k in range(8)])
    bind = np.stack([matrix(), matrix((0, 70, 0))])
    back = np.linalg.inv(bind).transpose(0, 2, 1).reshape(2, 16).astype(np.float32)
    attributes = gl.Attributes(POSITION=add(QUADS, gl.VEC3), JOINTS_0=add(joints, gl.VEC4),
                               WEIGHTS_0=add(weights, gl.VEC4))  # fmt: skip
    faces = add(FACES.ravel(), gl.SCALAR)
    target, back = gl.Attributes(POSITION=add(gape, gl.VEC3)), add(back, gl.MAT4)
    clock = add(np.float32([0, 0.5, 1]), gl.SCALAR)
    tracks = {
        "walk": add(np.float32([[0, 0, 0], [1, 0, 0], [3, 0, 0]]), gl.VEC3),
        "nod": add(np.float32([[0, 0, 0, 1], [0, 0, np.sin(0.3), np.cos(0.3)], [0, 0, 0, 1]]), gl.VEC4),
        "gape": add(np.float32([0, 1, 0.25]), gl.SCALAR),
        # in-tangent, value, out-tangent of each: a cubic spline
        "dip": add(np.float32([[0, 0, 0], [0, 70, 0], [0, 40, 0], [0, 0, 0], [0, 90, 0], [0, 0, 0],
                               [0, -40, 0], [0, 60, 0], [0, 0, 0]]), gl.VEC3),
    }  # fmt: skip

    def animation(name, *channels):
        made = gl.Animation(name=name)
        for node, way, track in channels:
            how = "CUBICSPLINE" if track == "dip" else "LINEAR"
            made.samplers.append(gl.AnimationSampler(input=clock, output=tracks[track], interpolation=how))
            at = gl.AnimationChannelTarget(node=node, path=way)
            made.channels.append(gl.AnimationChannel(sampler=len(made.samplers) - 1, target=at))
        return made

    lying = [-np.sqrt(0.5), 0, 0, np.sqrt(0.5)]
    document = gl.GLTF2(
        asset=gl.Asset(version="2.0"), scene=0, scenes=[gl.Scene(nodes=[0])], accessors=accessors, bufferViews=views,
        nodes=[
            gl.Node(name="Heron", children=[1, 4], rotation=lying, scale=[0.01, 0.01, 0.01]),
            gl.Node(name="Low", children=[2], translation=[0, 5, 0]),
            gl.Node(name="High", children=[3], translation=[0, 70, 0], rotation=[0, 0, np.sin(0.2), np.cos(0.2)]),
            gl.Node(name="Hat", mesh=1, translation=[0, 90, 0], scale=[2, 1, 1]),
            gl.Node(name="Neck", mesh=0, skin=0, translation=[99, 0, 0]),
        ],
        meshes=[
            gl.Mesh(name="Neck", extras={"targetNames": ["Gape"]}, primitives=[gl.Primitive(
                attributes=attributes, indices=faces, targets=[target])]),
            gl.Mesh(name="Hat", primitives=[gl.Primitive(attributes=gl.Attributes(POSITION=attributes.POSITION),
                                                         indices=faces)]),
        ],
        skins=[gl.Skin(joints=[1, 2], inverseBindMatrices=back)],
        animations=[animation("Nod", (2, "rotation", "nod"), (2, "translation", "dip"), (4, "weights", "gape")),
                    animation("Walk", (0, "translation", "walk"), (2, "rotation", "nod"))],
        buffers=[gl.Buffer(byteLength=len(blob))],
    )  # fmt: skip
    document.set_binary_blob(blob)
    document.save_binary(str(path))
    return path


def where(clip, t):
    """(points of the neck, points of the hat) at a second of a clip, by glTF 2.0, 3.7.3.3, 3.7.2.2 and appendix C."""
    half, u = (0, t / 0.5) if t < 0.5 else (1, t / 0.5 - 1)
    between = lambda rows: np.asarray(rows[half], float) * (1 - u) + np.asarray(rows[half + 1], float) * u
    turn = [0, 0, np.sin((0.3 * u, 0.3 * (1 - u))[half]), np.cos((0.3 * u, 0.3 * (1 - u))[half])]
    lying, walked, gape, place = [-np.sqrt(0.5), 0, 0, np.sqrt(0.5)], [0, 0, 0], 0.0, [0, 70, 0]
    if clip == "Walk":
        walked = between([[0, 0, 0], [1, 0, 0], [3, 0, 0]])
    else:
        gape = between([[0.0], [1.0], [0.25]])[0]
        (a, out), (b, into) = (((70, 40), (90, 0)), ((90, 0), (60, -40)))[half]
        y = (2 * u**3 - 3 * u**2 + 1) * a + 0.5 * (u**3 - 2 * u**2 + u) * out
        place = [0, y + (3 * u**2 - 2 * u**3) * b + 0.5 * (u**3 - u**2) * into, 0]
    root = matrix(walked, lying, (0.01, 0.01, 0.01))
    low = root @ matrix((0, 5, 0))
    high = low @ matrix(place, turn)
    palette = [low, high @ np.linalg.inv(matrix((0, 70, 0)))]
    points = QUADS + gape * np.array([[0, 0, 8 if k > 5 else 0] for k in range(8)])
    whole = np.c_[points, np.ones(8)]
    share = (QUADS[:, 1] / 150)[:, None]
    neck = (1 - share) * (whole @ palette[0].T) + share * (whole @ palette[1].T)
    hat = np.c_[QUADS, np.ones(8)] @ (high @ matrix((0, 90, 0), size=(2, 1, 1))).T
    return neck[:, :3], hat[:, :3]


def test_a_skinned_glb_comes_in_with_its_skeleton_clips_and_targets(tmp_path):
    asset = read_asset(heron(tmp_path / "heron.glb"))
    assert [c.name for c in asset.clips] == ["Nod", "Walk"] and [n.joint for n in asset.nodes] == [0, 1, 1, 0, 0]
    assert asset.words(4) == "8 vertices, 6 faces, skin on 2 joints, 1 morph target"
    scene = Scene(Document(frame_rate=24))
    found = bring_in(scene, asset)
    by_name = {t.name: t for t in found.things}
    skeleton, neck, hat = by_name["Low skeleton"], by_name["Neck"], by_name["Hat"]
    assert [j.name for j in skeleton.joints] == ["Low", "High"] and [c.name for c in skeleton.clips] == ["Nod", "Walk"]
    assert hat.values["parent"] == skeleton.joints[1].id, "what hangs on a joint rides on it"
    assert [l.kind for l in neck.stack] == ["morph", "skin"] and neck.targets[0].name == "Gape"
    sizes = [j.rest.stretch for j in skeleton.joints]
    assert sizes == pytest.approx(np.ones((2, 3))), "in metres, and not scaled"
    assert skeleton.joints[1].rest.place == pytest.approx((0, 0.7, 0))
    save_scene(scene, tmp_path / "heron.estampa")
    scene = load_scene(tmp_path / "heron.estampa")
    for clip in ("Nod", "Walk"):
        clips.use_clip(scene, skeleton.id, next(c.id for c in skeleton.clips if c.name == clip))
        if clip == "Walk":  # the subject's clip of its target is another one's
            assert [c.name for c in neck.clips] == ["Nod"]
        evaluator = Evaluator(scene.doc, scene, None)
        for frame in (1, 7, 13, 20, 25):
            wanted, worn = where(clip, (frame - 1) / 24)
            if clip == "Nod":
                points = evaluator.subject(scene.doc.find(neck.id), frame).points
                assert np.abs(points - wanted).max() < 6e-4, (clip, frame)
            points = evaluator.subject(scene.doc.find(hat.id), frame).points
            assert np.abs(points - worn).max() < 8e-4, (clip, frame)


def test_weights_that_fit_nothing_are_told(tmp_path):
    document = gl.GLTF2.load(str(heron(tmp_path / "heron.glb")))
    document.skins[0].joints = [1]
    document.save_binary(str(tmp_path / "bad.glb"))
    with pytest.raises(EstampaError, match="weights of a joint that its skin does not have"):
        read_asset(tmp_path / "bad.glb")
    document.skins[0].joints, document.nodes[0].children = [1, 2], [4]
    document.save_binary(str(tmp_path / "bad.glb"))
    with pytest.raises(EstampaError, match="joints that are not in the scene"):
        read_asset(tmp_path / "bad.glb")


def eel(path):
    """A body in centimetres with +Z up, of three joints of which the mesh names two in another order, a blend shape of
    some points, and a second animation. By usd-core."""
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z)
    UsdGeom.SetStageMetersPerUnit(stage, 0.01)
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(13)
    stage.SetTimeCodesPerSecond(24)
    root = UsdSkel.Root.Define(stage, "/Eel")
    root.AddTranslateOp().Set(Gf.Vec3d(10, 20, 0))
    skeleton = UsdSkel.Skeleton.Define(stage, "/Eel/Bones")
    skeleton.AddRotateZOp().Set(30.0)
    names = ["Tail", "Tail/Middle", "Tail/Middle/Head"]
    step = Gf.Matrix4d().SetTranslate(Gf.Vec3d(0, 50, 0))
    skeleton.CreateJointsAttr(names)
    skeleton.CreateRestTransformsAttr(Vt.Matrix4dArray([Gf.Matrix4d(1), step, step]))
    world = [Gf.Matrix4d().SetTranslate(Gf.Vec3d(0, 50 * k, 0)) for k in range(3)]
    skeleton.CreateBindTransformsAttr(Vt.Matrix4dArray(world))
    mesh = UsdGeom.Mesh.Define(stage, "/Eel/Skin")
    mesh.AddTranslateOp().Set(Gf.Vec3d(500, 0, 0))  # which a skin leaves aside
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(QUADS))
    mesh.CreateFaceVertexCountsAttr([3] * 6)
    mesh.CreateFaceVertexIndicesAttr(Vt.IntArray.FromNumpy(FACES.reshape(-1).astype(np.int32)))
    binding = UsdSkel.BindingAPI.Apply(mesh.GetPrim())
    binding.CreateSkeletonRel().SetTargets([skeleton.GetPath()])
    binding.CreateJointsAttr([names[2], names[0]])
    height = (QUADS[:, 1] / 150).astype(np.float32)
    binding.CreateJointIndicesPrimvar(False, 2).Set(Vt.IntArray([0, 1] * 8))
    binding.CreateJointWeightsPrimvar(False, 2).Set(Vt.FloatArray.FromNumpy(np.stack([height, 1 - height], 1).ravel()))
    binding.CreateGeomBindTransformAttr(Gf.Matrix4d().SetTranslate(Gf.Vec3d(0, 0, 3)))
    shape = UsdSkel.BlendShape.Define(stage, "/Eel/Skin/Bulge")
    shape.CreateOffsetsAttr(Vt.Vec3fArray([(0, 0, 9), (0, 0, 9)]))
    shape.CreatePointIndicesAttr([2, 3])
    binding.CreateBlendShapesAttr(["Bulge"])
    binding.CreateBlendShapeTargetsRel().SetTargets([shape.GetPath()])
    for name, turn in (("Swim", 40.0), ("Coil", -70.0)):
        made = UsdSkel.Animation.Define(stage, f"/Eel/Bones/{name}")
        made.CreateJointsAttr(names[1:])  # the first stays at rest
        made.CreateBlendShapesAttr(["Bulge"])
        for frame, share in ((1, 0.0), (7, 1.0), (13, 0.4)):
            own = Gf.Rotation(Gf.Vec3d(0, 0, 1), turn * share).GetQuat()
            q = Gf.Quatf(own.GetReal(), *own.GetImaginary())
            made.CreateTranslationsAttr().Set(Vt.Vec3fArray([(0, 50, 0), (0, 50, 0)]), frame)
            made.CreateRotationsAttr().Set(Vt.QuatfArray([q, q]), frame)
            made.CreateScalesAttr().Set(Vt.Vec3hArray([(1, 1, 1)] * 2), frame)
            made.CreateBlendShapeWeightsAttr().Set(Vt.FloatArray([share]), frame)
    UsdSkel.BindingAPI.Apply(skeleton.GetPrim())
    stage.GetRootLayer().Save()
    return path


def swimming(folder):
    """(file, stage, what binds its animation) of an eel that swims."""
    path = eel(folder / "eel.usda")
    stage = Usd.Stage.Open(str(path))
    binding = UsdSkel.BindingAPI(stage.GetPrimAtPath("/Eel/Bones"))
    binding.CreateAnimationSourceRel().SetTargets([Sdf.Path("/Eel/Bones/Swim")])
    stage.GetRootLayer().Save()
    return path, stage, binding


@pytest.mark.parametrize("clip", ["Swim", "Coil"])
def test_a_skinned_stage_moves_as_usd_core_itself_skins_it(tmp_path, clip):
    path, stage, binding = swimming(tmp_path)
    scene = Scene(Document(frame_rate=24))
    asset = read_asset(path)
    assert [c.name for c in asset.clips] == ["Swim", "Coil"] and not asset.left
    found = bring_in(scene, asset)
    skeleton = next(t for t in found.things if t.kind == "skeleton")
    subject = next(t for t in found.things if t.kind == "subject")
    assert [c.name for c in skeleton.clips] == [c.name for c in subject.clips] == ["Swim", "Coil"]
    for owner in (skeleton, subject):
        clips.use_clip(scene, owner.id, next(c.id for c in owner.clips if c.name == clip))
    # usd-core bakes its own skinning into points
    binding.GetAnimationSourceRel().SetTargets([Sdf.Path(f"/Eel/Bones/{clip}")])
    assert UsdSkel.BakeSkinning(UsdSkel.Root(stage.GetPrimAtPath("/Eel")), Gf.Interval(1, 13))
    mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/Eel/Skin"))
    evaluator = Evaluator(scene.doc, scene, None)
    for frame in (1, 4, 7, 13):
        world = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(mesh.GetPrim()))
        wanted = (np.c_[np.array(mesh.GetPointsAttr().Get(frame), float), np.ones(8)] @ world)[:, [0, 2, 1]] * 0.01
        points = evaluator.subject(scene.doc.find(subject.id), frame).points
        assert np.abs(points - wanted * [1, 1, -1]).max() < 6e-4, frame


def test_keys_that_a_file_has_itself_are_kept(tmp_path):
    """A spline of glTF (appendix C) is a Bezier curve here; a walk by three keys has three."""
    path = heron(tmp_path / "heron.glb")
    document = gl.GLTF2.load(str(path))
    document.animations.reverse()  # Walk is played now, and the hat goes along a spline of its own
    spline = document.animations[1].samplers[1].output
    walk = document.animations[0]
    walk.samplers.append(gl.AnimationSampler(input=walk.samplers[0].input, output=spline, interpolation="CUBICSPLINE"))
    walk.channels.append(gl.AnimationChannel(
        sampler=2, target=gl.AnimationChannelTarget(node=3, path="translation")))  # fmt: skip
    document.skins, document.nodes[4].skin = [], None
    document.save_binary(str(path))
    scene = Scene(Document(frame_rate=24))
    found = {t.name: t for t in bring_in(scene, read_asset(path)).things}
    assert [(k.frame, round(k.value, 6)) for k in found["Heron"].values["x"].keys] == [(1, 0), (13, 1), (25, 3)]
    lift = found["Hat"].values["y"]
    assert [k.frame for k in lift.keys] == [1, 13, 25] and lift.keys[1].right[1] == pytest.approx(0.0)
    evaluator = Evaluator(scene.doc, scene, None)
    for frame in (1, 4, 13, 19, 25):
        t, (c, s) = (frame - 1) / 24, (np.cos, np.sin)
        half, u = (0, t / 0.5) if t < 0.5 else (1, t / 0.5 - 1)
        (a, out), (b, into) = (((70, 40), (90, 0)), ((90, 0), (60, -40)))[half]
        y = (2 * u**3 - 3 * u**2 + 1) * a + 0.5 * (u**3 - 2 * u**2 + u) * out
        y += (3 * u**2 - 2 * u**3) * b + 0.5 * (u**3 - u**2) * into
        angle, walked = (0.6 * u, 0.6 * (1 - u))[half], (u, 1 + 2 * u)[half]
        flat = np.array([walked - 0.01 * s(angle) * y, 0.75 + 0.01 * c(angle) * y])  # along X and the node's own Y
        place = evaluator.values.place(scene.doc.find(found["Hat"].id), Rows.one(frame)).origin[0]
        assert place == pytest.approx([flat[0], 0, -flat[1]], abs=6e-4), frame


@pytest.mark.parametrize("kind", ["shot", "shot_glb"])
def test_a_shot_keeps_skeletons_skins_and_what_is_above_them(tmp_path, store, kind):
    """In, swaying above the skin, and out: read back by usd-core's skinning or by the standard's formulas; then in
    again, where it moves as it did."""
    scene = Scene(Document(frame_rate=24, start=1, end=25))
    found = {t.name: t for t in bring_in(scene, read_asset(heron(tmp_path / "heron.glb"))).things}
    neck = found["Neck"]
    layer = do.add_layer(scene, neck.id, "noise", values={"height": 0.02})
    do.move_layer(scene, layer.id, 0)
    item = do.add_thing(scene, kind, "Shot")
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path / "out")
    assert result.passed and result.gap < 2e-6 and "1 of them skinned" in result.words(), result.words()
    again = read_asset(result.paths[0])
    skinned = [n for n in again.nodes if n.skin is not None]
    assert len(skinned) == 1 and sum(n.joint for n in again.nodes) == 2
    if kind == "shot_glb":
        told = validated(result.paths[0])
        assert told["numErrors"] == told["numWarnings"] == 0, told["messages"]
    else:
        compliant(result.paths[0])
    other = Scene(Document(frame_rate=24, start=1, end=25))
    came = bring_in(other, again).things
    made = next(t for t in came if t.kind == "subject" and any(l.kind == "skin" for l in t.stack))
    for frame in (1, 9, 25):
        wanted = Evaluator(scene.doc, scene, store).subject(scene.doc.find(neck.id), frame).points
        points = Evaluator(other.doc, other, store).subject(other.doc.find(made.id), frame).points
        assert np.abs(np.sort(points, axis=0) - np.sort(wanted, axis=0)).max() < 1e-3, frame
    do.set_value(scene, item.id, "skins", False)
    flat = run(scene, Evaluator(scene.doc, scene, store), scene.doc.find(item.id), tmp_path / "flat")
    assert flat.passed and not any(n.skin for n in read_asset(flat.paths[0]).nodes)


def test_copies_go_out_as_instances_and_each_subject_as_a_file(tmp_path, store):
    scene = Scene(Document(frame_rate=24, start=1, end=5))
    bring_in(scene, read_asset(heron(tmp_path / "heron.glb")))
    buoy = do.add_mesh(scene, box([-0.1] * 3, [0.1] * 3), "Buoy")
    copies = do.add_thing(scene, "copies", "Still", {"subject": buoy.id, "count": 40})
    item = do.add_thing(scene, "shot_glb", "Shot", {"instances": True})
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path / "out")
    assert result.passed and "1 of 1 sets of copies as instances" in result.words(), result.words()
    document = gl.GLTF2.load(str(result.paths[0]))
    node = next(n for n in document.nodes if n.name == "Still")
    places = node.extensions["EXT_mesh_gpu_instancing"]["attributes"]["TRANSLATION"]
    assert document.accessors[places].count == 40 and len(document.nodes) < 10
    told = validated(result.paths[0])
    assert told["numErrors"] == 0, told["messages"]
    assert sum(n.mesh is not None for n in read_asset(result.paths[0]).nodes) == 42  # 40, the neck and the hat
    do.set_value(scene, item.id, "files", "each")
    for kind in ("shot_glb", "shot"):
        item = do.add_thing(scene, kind, f"Each {kind}", {"files": "each"})
        result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path / kind)
        assert result.passed and "in 3 files" in result.words(), result.words()
        assert sorted(p.stem for p in result.paths) == [f"Each_{kind}_{n}" for n in ("Hat", "Neck", "Still")]
        still = [n for n in read_asset(next(p for p in result.paths if "Still" in p.stem)).nodes if n.mesh is not None]
        places = outcome.of(Evaluator(scene.doc, scene, store), scene.doc.find(copies.id), 1).parts[0].places
        assert len(still) == 40, "each instance, of a point instancer too"
        assert np.array([n.local[:3, 3] for n in still]) == pytest.approx(places.origin, abs=1e-6)
        neck = read_asset(next(p for p in result.paths if "Neck" in p.stem))
        assert sum(n.mesh is not None for n in neck.nodes) == 1 and sum(n.joint for n in neck.nodes) == 2


def test_a_new_version_of_a_skinned_asset_keeps_its_binds_and_takes_its_targets(tmp_path):
    path = heron(tmp_path / "heron.glb")
    scene = Scene(Document(frame_rate=24))
    neck = next(t for t in bring_in(scene, read_asset(path)).things if t.name == "Neck")
    document = gl.GLTF2.load(str(path))
    blob, numbers = bytearray(document.binary_blob()), document.meshes[0].primitives[0]
    for number, more in ((numbers.attributes.POSITION, (0, 0, 5)), (numbers.targets[0]["POSITION"], (0, 4, 0))):
        view = document.bufferViews[document.accessors[number].bufferView]
        rows = np.frombuffer(blob, np.float32, 24, view.byteOffset).reshape(8, 3) + np.float32(more)
        blob[view.byteOffset : view.byteOffset + 96] = rows.tobytes()
    document.set_binary_blob(bytes(blob))
    document.save_binary(str(path))
    changes = versions.compare(scene, path)
    assert all(c.same for c in changes) and max(c.moved for c in changes) == pytest.approx(0.05, abs=1e-6)
    versions.take(scene, changes)
    after = scene.doc.find(neck.id)
    assert [l.bind for l in after.stack] == [l.bind for l in neck.stack] and after.clips == neck.clips
    added = scene.arrays.get(after.targets[0].points) - scene.mesh(after.mesh).points
    before = scene.arrays.get(neck.targets[0].points) - scene.mesh(neck.mesh).points
    assert np.linalg.norm(added - before, axis=1) == pytest.approx(np.full(8, 0.04), abs=1e-6)


@pytest.mark.parametrize("seed", range(10))
def test_damaged_stages_are_told_and_nothing_that_is_no_number_comes_in(tmp_path, seed):
    rng = np.random.default_rng(seed)
    text = eel(tmp_path / "eel.usda").read_text()
    for _ in range(4):
        numbers = list(re.finditer(r"-?\d+\.?\d*", text))
        at = numbers[int(rng.integers(len(numbers)))]
        text = text[: at.start()] + str(rng.choice(["-1", "0", "1e30", "nan", "inf", "99999"])) + text[at.end() :]
    (tmp_path / "hurt.usda").write_text(text)
    scene = Scene(Document(frame_rate=24, end=4))
    try:
        bring_in(scene, read_asset(tmp_path / "hurt.usda"))
    except EstampaError as err:
        assert "hurt.usda" in str(err) and not scene.doc.things
        return
    save_scene(scene, tmp_path / "eel.estampa")
    scene = load_scene(tmp_path / "eel.estampa")
    evaluator = Evaluator(scene.doc, scene, None)
    for subject in scene.doc.subjects:
        assert np.isfinite(evaluator.subject(subject, 2).points).all()


def test_a_thin_layer_over_a_skinned_stage_is_not_skinned_again(tmp_path, store):
    path, stage, _ = swimming(tmp_path)
    scene = Scene(Document(frame_rate=24, end=13))
    subject = next(t for t in bring_in(scene, read_asset(path)).things if t.kind == "subject")
    do.add_layer(scene, subject.id, "noise", values={"height": 0.02})
    item = do.add_thing(scene, "thin_layer", "Thin")
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    assert result.passed, result.words()
    opened = Usd.Stage.Open(Usd.Stage.Open(str(result.paths[0])).Flatten())
    UsdSkel.BakeSkinning(UsdSkel.Root(opened.GetPrimAtPath("/Eel")), Gf.Interval(1, 13))  # as a program would play it
    mesh = UsdGeom.Mesh(opened.GetPrimAtPath("/Eel/Skin"))
    evaluator = Evaluator(scene.doc, scene, store)
    for frame in (1, 6, 13):
        world = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(mesh.GetPrim()))
        found = (np.c_[np.array(mesh.GetPointsAttr().Get(frame), float), np.ones(8)] @ world)[:, [0, 2, 1]] * 0.01
        points = evaluator.subject(scene.doc.find(subject.id), frame).points
        assert np.abs(found * [1, 1, -1] - points).max() < 1e-5, frame
