"""Scene files in: trees, seams, materials, pictures and animation, of files made by other libraries."""

import json
import os
import struct
import zlib

import numpy as np
import pygltflib as gl
import pytest
import trimesh
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, UsdValidation, Vt

from estampa import edits as do
from estampa.app.view.textures import pixels
from estampa.edits import versions
from estampa.edits.importing import bring_in
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.formats.asset import read_asset
from estampa.geometry.material import Picture
from estampa.geometry.mesh import Mesh
from estampa.inspect.remarks.scene import remarks
from estampa.press.run import run, signature
from estampa.rehearsal.gltf import GltfActor
from estampa.rehearsal.stages import UsdActor
from estampa.scene.curves import Curve
from estampa.scene.document import Document
from estampa.scene.file import load_scene, save_scene
from estampa.scene.scene import Scene
from estampa.scene.values import Rows
from tests.formats.test_skeletons import validated


def png(colours=((255, 0, 0, 255), (0, 255, 0, 0))) -> bytes:
    """A picture of two pixels, by the standard (W3C PNG, third edition)."""
    raw = b"\0" + b"".join(bytes(c) for c in colours)
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    head = struct.pack(">IIBBBBB", len(colours), 1, 8, 6, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(raw)) + chunk(b"IEND", b"")


def compliant(path):
    """A stage in which usd-core's own validators find nothing."""
    stage = Usd.Stage.Open(str(path))
    context = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators())
    assert not [e.GetMessage() for e in context.Validate(stage)]
    return stage


def pictured(actor):
    """Pictures that a rehearsal shows, once it is known that each corner of a triangle lies somewhere in one."""
    shown = [s for s in actor.shown(actor.clips[0], 0.0) if s.material is not None]
    assert all(s.uv.shape == (len(s.triangles), 3, 2) and np.ptp(s.uv) > 0.5 for s in shown)
    return {s.material.picture.data for s in shown}


def tree(path, picture=True):
    """A stem that turns over a second and carries a leaf card twice, once mirrored; a camera on it. By pygltflib."""
    blob, views, accessors = b"", [], []

    def add(array, kind, target=None):
        nonlocal blob
        blob += b"\0" * (-len(blob) % 4)
        views.append(gl.BufferView(buffer=0, byteOffset=len(blob), byteLength=array.nbytes, target=target))
        code = {"f": gl.FLOAT, "u": gl.UNSIGNED_SHORT}[array.dtype.kind]
        told = gl.Accessor(bufferView=len(views) - 1, componentType=code, count=len(array), type=kind)
        if kind != gl.SCALAR or target is None:
            told.min, told.max = np.atleast_1d(array.min(axis=0)).tolist(), np.atleast_1d(array.max(axis=0)).tolist()
        accessors.append(told)
        blob += array.tobytes()
        return len(accessors) - 1

    box = trimesh.creation.box((0.1, 1, 0.1))
    box.apply_translation([0, 0.5, 0])
    split = box.vertices[box.faces].reshape(-1, 3).astype(np.float32)  # each corner a vertex, as at hard edges
    own = np.repeat(box.face_normals, 3, 0).astype(np.float32)
    stem = {"POSITION": add(split, gl.VEC3), "NORMAL": add(own, gl.VEC3),
            "TEXCOORD_0": add((split[:, :2] + 0.5).astype(np.float32), gl.VEC2)}  # fmt: skip
    card = np.float32([[0, 0, 0], [0.4, 0, 0], [0.4, 0.3, 0], [0, 0.3, 0]])
    leaf = {"POSITION": add(card, gl.VEC3), "TEXCOORD_0": add(np.float32([[0, 1], [1, 1], [1, 0], [0, 0]]), gl.VEC2),
            "TEXCOORD_1": add(np.float32([[0, 0], [2, 0], [2, 2], [0, 2]]), gl.VEC2),
            "COLOR_0": add(np.float32([[1, 0, 0, 1]] * 4), gl.VEC4)}  # fmt: skip
    faces = add(np.uint16([0, 1, 2, 0, 2, 3]), gl.SCALAR, gl.ELEMENT_ARRAY_BUFFER)
    clock = add(np.float32([2.0, 3.0]), gl.SCALAR)
    turns = add(np.float32([[0, 0, 0, 1], [0, 0, np.sin(0.5), np.cos(0.5)]]), gl.VEC4)
    images = []
    if picture:
        blob += b"\0" * (-len(blob) % 4)
        views.append(gl.BufferView(buffer=0, byteOffset=len(blob), byteLength=len(png())))
        blob += png()
        images = [gl.Image(name="leaf.png", mimeType="image/png", bufferView=len(views) - 1)]
    else:
        images = [gl.Image(uri="leaf.png")]
    plain = lambda c, t=None: gl.PbrMetallicRoughness(baseColorFactor=c, baseColorTexture=t)
    document = gl.GLTF2(
        asset=gl.Asset(version="2.0"), scene=0, scenes=[gl.Scene(nodes=[0])], accessors=accessors, bufferViews=views,
        nodes=[
            gl.Node(name="Plant", children=[1], translation=[1, 0, 0]),
            gl.Node(name="Stem", mesh=0, children=[2, 3, 4]),
            gl.Node(name="Leaf", mesh=1, translation=[0, 1, 0]),
            gl.Node(name="Leaf", mesh=1, translation=[0, 0.6, 0], scale=[-1, 2, 1]),
            gl.Node(name="Eye", camera=0, translation=[0, 0, 3]),
        ],
        cameras=[gl.Camera(type="perspective", perspective=gl.Perspective(yfov=0.6, znear=0.1))],
        meshes=[gl.Mesh(name="Stem", primitives=[gl.Primitive(attributes=gl.Attributes(**stem), material=0)]),
                gl.Mesh(primitives=[gl.Primitive(attributes=gl.Attributes(**leaf), indices=faces, material=1)])],
        materials=[gl.Material(name="Bark", pbrMetallicRoughness=plain([0.3, 0.2, 0.1, 1])),
                   gl.Material(name="Leaf card", doubleSided=True, alphaMode="MASK", alphaCutoff=0.4,
                               pbrMetallicRoughness=plain([1, 1, 1, 1], gl.TextureInfo(index=0)))],
        textures=[gl.Texture(source=0)], images=images,
        animations=[gl.Animation(
            samplers=[gl.AnimationSampler(input=clock, output=turns)],
            channels=[gl.AnimationChannel(sampler=0, target=gl.AnimationChannelTarget(node=1, path="rotation"))])],
        buffers=[gl.Buffer(byteLength=len(blob))],
    )  # fmt: skip
    document.set_binary_blob(blob)
    document.save_binary(str(path))
    return path


def test_a_tree_comes_in_with_all_that_it_holds(tmp_path):
    asset = read_asset(tree(tmp_path / "plant.glb"))
    assert [n.name for n in asset.nodes] == ["Plant", "Stem", "Leaf", "Leaf", "Eye"] and not asset.left
    stem, leaf = asset.nodes[1].mesh, asset.nodes[2].mesh
    assert stem.count == 8 and stem.corners["normal"].shape == (36, 3), "one point a place, the rest by corner"
    assert sorted(leaf.vertices) == ["colour", "uv1"] and leaf.uv.tolist() == [[0, 0], [1, 0], [1, 1], [0, 1]]
    card = leaf.materials[0]
    assert (card.name, card.alpha, card.two_sided) == ("Leaf card", "mask", True) and card.cutoff == pytest.approx(0.4)
    assert card.picture.name == "leaf.png" and card.picture.data == png()
    scene = Scene(Document(start=1, end=10, frame_rate=24))
    found = bring_in(scene, asset)
    assert [t.kind for t in found.things] == ["grip", "subject", "subject", "subject", "camera"]
    assert scene.doc.end == 25 and [t.name for t in found.things] == ["Plant", "Stem", "Leaf", "Leaf 1", "Eye"]
    turn = found.things[1].values["turn_z"]
    assert isinstance(turn, Curve) and len(turn.keys) < 8, "as few keys as the tolerance allows"
    # where every point is, at the beginning, half way and the end, against the standard's own formulas
    evaluator = Evaluator(scene.doc, scene, None)
    for frame, angle in ((1, 0.0), (13, 0.5), (25, 1.0)):
        c, s = np.cos(angle), np.sin(angle)
        turned = np.array([[c, -s, 0], [s, c, 0], [0, 0, 1]])
        for k, (shift, scale) in ((2, ([0, 1, 0], [1, 1, 1])), (3, ([0, 0.6, 0], [-1, 2, 1]))):
            card = np.array([[0, 0, 0], [0.4, 0, 0], [0.4, 0.3, 0], [0, 0.3, 0]])
            wanted = (card * scale + shift) @ turned.T + [1, 0, 0]
            points = evaluator.subject(scene.doc.find(found.things[k].id), frame).points
            assert np.abs(points - wanted).max() < (1e-6 if angle in (0, 1) else 6e-4)
    moved = [t.name for t in found.things if any(isinstance(v, Curve) for v in t.values.values())]
    assert moved == ["Stem"], "what rides along has no keys of its own"
    eye = scene.doc.find(found.things[4].id)
    place = evaluator.values.place(eye, Rows.one(1))
    assert place.origin[0] == pytest.approx([1, 0, 3]) and eye.values["view"] == pytest.approx(0.6)
    mirrored = scene.mesh(found.things[3].mesh if found.things[3].mesh else scene.doc.find(found.things[3].id).mesh)
    assert mirrored.normals()[0] == pytest.approx([0, 0, 1]), "a mirrored node shows its face still"
    # saved and opened, it is the same
    path = tmp_path / "plant.estampa"
    save_scene(scene, path)
    again = load_scene(path)
    assert again.mesh(again.doc.find(found.things[2].id).mesh).materials == leaf.materials


def test_only_what_is_ticked_comes_in_in_its_unit(tmp_path):
    asset = read_asset(tree(tmp_path / "plant.glb"))
    scene = Scene(Document())
    found = bring_in(scene, asset, take={2}, unit=0.01, up="z")
    assert [(t.name, t.kind) for t in found.things] == [("Plant", "grip"), ("Stem", "grip"), ("Leaf", "subject")]
    points = Evaluator(scene.doc, scene, None).subject(scene.doc.find(found.things[2].id), 1).points
    assert points[2] == pytest.approx([0.014, 0, -0.013]), "centimetres, and +Z was up"


def test_pictures_that_are_missing_are_told_and_nothing_is_read_from_outside(tmp_path):
    scene = Scene(Document())
    found = bring_in(scene, read_asset(tree(tmp_path / "plant.glb", picture=False)))
    assert any("missing: leaf.png" in w for w in found.words)
    (tmp_path / "leaf.png").write_bytes(png())
    assert read_asset(tmp_path / "plant.glb").nodes[2].mesh.materials[0].picture.data == png()
    document = gl.GLTF2.load(str(tmp_path / "plant.glb"))
    document.images[0].uri = "../secret.png"
    document.save_binary(str(tmp_path / "bad.glb"))
    with pytest.raises(EstampaError, match="outside its own folder"):
        read_asset(tmp_path / "bad.glb")
    document.images[0].uri, document.nodes[2].children = "leaf.png", [1]
    document.save_binary(str(tmp_path / "bad.glb"))
    with pytest.raises(EstampaError, match="two parents|ring"):
        read_asset(tmp_path / "bad.glb")
    document.nodes[2].children = []
    blob = bytearray(document.binary_blob())
    view = document.bufferViews[document.accessors[document.meshes[1].primitives[0].indices].bufferView]
    blob[view.byteOffset : view.byteOffset + 2] = b"\x63\x00"
    document.set_binary_blob(bytes(blob))
    document.save_binary(str(tmp_path / "bad.glb"))
    with pytest.raises(EstampaError, match="names vertex 99, of 4"):
        read_asset(tmp_path / "bad.glb")


def stage_of(path, up="z", unit=0.01):
    """A stage in centimetres with +Z up: a house of two meshes, one with points over time, by usd-core."""
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.z if up == "z" else UsdGeom.Tokens.y)
    UsdGeom.SetStageMetersPerUnit(stage, unit)
    stage.SetStartTimeCode(1)
    stage.SetEndTimeCode(13)
    stage.SetTimeCodesPerSecond(24)
    root = UsdGeom.Xform.Define(stage, "/Stall")
    stage.SetDefaultPrim(root.GetPrim())
    turning = root.AddRotateZOp()
    turning.Set(0.0, 1)
    turning.Set(90.0, 13)
    sheet = UsdGeom.Mesh.Define(stage, "/Stall/Awning")
    sheet.AddTranslateOp().Set(Gf.Vec3d(0, 0, 200))
    quad = np.float32([[0, 0, 0], [100, 0, 0], [100, 100, 0], [0, 100, 0], [200, 0, 0], [200, 100, 0]])
    for frame, lift in ((1, 0), (7, 30), (13, 10)):
        sheet.CreatePointsAttr().Set(Vt.Vec3fArray.FromNumpy(quad + np.float32([0, 0, lift])), frame)
    sheet.CreateFaceVertexCountsAttr([4, 4])
    sheet.CreateFaceVertexIndicesAttr([0, 1, 2, 3, 1, 4, 5, 2])
    st = UsdGeom.PrimvarsAPI(sheet).CreatePrimvar("st", Sdf.ValueTypeNames.TexCoord2fArray, UsdGeom.Tokens.faceVarying)
    st.Set(Vt.Vec2fArray.FromNumpy(np.float32([[0, 0], [1, 0], [1, 1], [0, 1]] * 2)))
    for k, colour in enumerate(((0.8, 0.1, 0.1), (0.9, 0.9, 0.8))):
        material = UsdShade.Material.Define(stage, f"/Stall/Looks/Cloth_{k}")
        shader = UsdShade.Shader.Define(stage, f"/Stall/Looks/Cloth_{k}/Surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        if k:
            picture = UsdShade.Shader.Define(stage, f"/Stall/Looks/Cloth_{k}/Picture")
            picture.CreateIdAttr("UsdUVTexture")
            picture.CreateInput("file", Sdf.ValueTypeNames.Asset).Set(Sdf.AssetPath("./stripes.png"))
            out = picture.CreateOutput("rgb", Sdf.ValueTypeNames.Float3)
            shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).ConnectToSource(out)
        else:
            shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*colour))
        surface = shader.CreateOutput("surface", Sdf.ValueTypeNames.Token)
        material.CreateSurfaceOutput().ConnectToSource(surface)
        subset = UsdGeom.Subset.CreateGeomSubset(sheet, f"Part_{k}", UsdGeom.Tokens.face, Vt.IntArray([k]))
        UsdShade.MaterialBindingAPI.Apply(subset.GetPrim()).Bind(material)
    (path.parent / "stripes.png").write_bytes(png())
    stage.GetRootLayer().Save()
    return path


@pytest.mark.parametrize("suffix", [".usda", ".usdc"])
def test_a_stage_comes_in_with_seams_subsets_and_pictures(tmp_path, suffix):
    path = stage_of(tmp_path / f"stall{suffix}")
    asset = read_asset(path)
    assert (asset.unit, asset.up, asset.rate) == (0.01, "z", 24) and asset.span == (1 / 24, 13 / 24)
    awning = asset.nodes[1]
    assert awning.points_at == "/Stall/Awning" and awning.mesh.corners["uv"].shape == (8, 2)
    assert [m.name for m in awning.mesh.materials] == ["Cloth_0", "Cloth_1"]
    assert awning.mesh.materials[1].picture.data == png() and awning.mesh.face_materials.tolist() == [0, 1]
    scene = Scene(Document(frame_rate=24))
    found = bring_in(scene, asset)
    evaluator, stage = Evaluator(scene.doc, scene, None), Usd.Stage.Open(str(path))
    mesh, into = UsdGeom.Mesh(stage.GetPrimAtPath("/Stall/Awning")), np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]])
    for frame in (1, 4, 7, 13):  # between samples too
        world = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(mesh.GetPrim()))
        here = np.c_[np.array(mesh.GetPointsAttr().Get(frame), float), np.ones(6)] @ world
        wanted = 0.01 * here[:, :3] @ into.T
        points = evaluator.subject(scene.doc.find(found.things[1].id), frame).points
        assert np.abs(points - wanted).max() < 6e-4, frame


def test_objects_and_pictures_of_an_obj_come_in(tmp_path):
    (tmp_path / "a.mtl").write_text("newmtl red\nKd 1 0 0\nnewmtl leaf\nmap_Kd leaf.png\nmap_d leaf.png\n")
    (tmp_path / "leaf.png").write_bytes(png())
    (tmp_path / "a.obj").write_text(
        "mtllib a.mtl\nv 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nvt 0 0\nvt 1 0\nvt 0 1\nvn 0 0 1\nvn 0 0.6 0.8\no Pot\n"
        "usemtl red\nf 1/1/1 2/2/1 3/3/2\no Leaf\nusemtl leaf\nf 1/1/2 3/2/2 4/3/-1\n"
    )
    pot, leaf = read_asset(tmp_path / "a.obj").nodes
    assert (pot.name, leaf.name) == ("Pot", "Leaf") and pot.mesh.count == leaf.mesh.count == 3
    assert pot.mesh.of_corners("normal") == pytest.approx(np.array([[0, 0, 1], [0, 0, 1], [0, 0.6, 0.8]]))
    assert leaf.mesh.of_corners("normal") == pytest.approx(np.array([[0, 0.6, 0.8]] * 3)), "as they were authored"
    of = leaf.mesh.materials[leaf.mesh.face_materials[0]]
    assert of.picture.data == png() and of.alpha == "mask" and pot.mesh.materials[0].colour == (1, 0, 0)


def test_a_played_cache_is_watched_retimed_and_told_where_it_does_not_fit(tmp_path):
    path = stage_of(tmp_path / "stall.usdc", up="y", unit=1.0)
    scene = Scene(Document(frame_rate=24, start=1, end=60))
    found = bring_in(scene, read_asset(path))
    made, layer = found.things[1].id, found.things[1].stack[0].id
    lift = lambda frame: Evaluator(scene.doc, scene, None).subject(scene.doc.find(made), frame).points[0, 2] - 200
    assert [round(lift(f), 4) for f in (1, 7, 13, 40)] == [0, 30, 10, 10], "held"
    do.set_values(scene, layer, {"speed": 2.0, "outside": "mirror"})
    assert [round(lift(f), 4) for f in (4, 7, 10, 13)] == [30, 10, 30, 0], "twice as fast, back and forth"
    do.set_values(scene, layer, {"speed": 1.0, "outside": "cycle"})
    assert round(lift(19), 4) == 30
    # a subject that copies show each at its own time plays each copy's own moment
    do.set_value(scene, layer, "outside", "hold")
    # an edit of the file makes what reads it another
    evaluator = Evaluator(scene.doc, scene, None)
    before = evaluator.shape_name(scene.doc.find(made), 7)
    stage = Usd.Stage.Open(str(path))
    points = UsdGeom.Mesh(stage.GetPrimAtPath("/Stall/Awning")).GetPointsAttr()
    points.Set(Vt.Vec3fArray.FromNumpy(np.array(points.Get(7)) + np.float32([0, 0, 5])), 7)
    stage.GetRootLayer().Save()
    assert Evaluator(scene.doc, scene, None).shape_name(scene.doc.find(made), 7) != before
    assert round(lift(7), 4) == 35
    path.rename(tmp_path / "gone.usdc")
    assert any("is not there" in r.wrong for r in remarks(scene))
    with pytest.raises(EstampaError, match="is not there"):
        lift(7)
    (tmp_path / "gone.usdc").rename(path)
    assert round(lift(7), 4) == 35, "nothing was lost"
    do.set_value(scene, layer, "prim", "/Nowhere")
    with pytest.raises(EstampaError, match="no mesh “/Nowhere”.*It has: /Stall/Awning"):
        lift(7)


def test_a_thin_layer_shows_the_source_with_its_looks_and_our_motion(tmp_path, store):
    source = stage_of(tmp_path / "stall.usda")
    scene = Scene(Document(frame_rate=24, start=1, end=13))
    found = bring_in(scene, read_asset(source))
    awning = found.things[1].id
    do.add_layer(scene, awning, "noise", values={"height": 0.2})
    item = do.add_thing(scene, "thin_layer", "Motion")
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path / "out")
    assert result.passed and "1 subject of stall.usda" in result.words(), result.words()
    stage = Usd.Stage.Open(str(result.paths[0]))
    mesh = UsdGeom.Mesh(stage.GetPrimAtPath("/Stall/Awning"))
    own = {a.name for a in stage.GetRootLayer().GetPrimAtPath("/Stall/Awning").attributes}
    assert own == {"points", "extent"}, "nothing but the motion is in it"
    assert len(UsdGeom.Subset.GetGeomSubsets(mesh)) == 2 and UsdGeom.PrimvarsAPI(mesh).HasPrimvar("st")
    into = np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]])
    for frame in (1, 8, 13):
        world = np.array(UsdGeom.XformCache(frame).GetLocalToWorldTransform(mesh.GetPrim()))
        here = 0.01 * (np.c_[np.array(mesh.GetPointsAttr().Get(frame), float), np.ones(6)] @ world)[:, :3] @ into.T
        assert np.abs(here - evaluator.subject(scene.doc.find(awning), frame).points).max() < 1e-5
    context = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators())
    assert not [e.GetMessage() for e in context.Validate(stage) if "stall.usda" not in e.GetMessage()
                and "Cloth" not in e.GetMessage() and "Looks" not in e.GetMessage()]  # fmt: skip


@pytest.mark.parametrize("kind", ["pose_strip", "vertex_cache", "vertex_texture"])
def test_prints_keep_pictures_sets_and_colours(tmp_path, store, kind):
    """An asset goes in, sways, and comes out: read by other libraries, and by our own reader again."""
    scene = Scene(Document(frame_rate=24, start=1, end=4))
    found = bring_in(scene, read_asset(tree(tmp_path / "plant.glb")))
    leaf = found.things[2]
    do.add_layer(scene, leaf.id, "noise", values={"height": 0.05})
    more = {"poses": 2} if kind == "pose_strip" else {}
    item = do.add_thing(scene, kind, "Out", {"subject": leaf.id, "last": 4} | more)
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path / "out")
    assert result.passed, result.words()
    main = next(p for p in result.paths if p.suffix in (".glb", ".usdc"))
    again = next(n.mesh for n in read_asset(main).nodes if n.mesh is not None)
    first = scene.mesh(scene.doc.find(leaf.id).mesh)
    assert again.materials[0].picture.data == png() and again.materials[0].alpha == "mask"
    assert again.materials[0].cutoff == pytest.approx(0.4) and again.count == first.count
    for name in ("uv", "uv1", "colour"):
        assert again.of_corners(name) == pytest.approx(first.of_corners(name), abs=1e-6), name
    if main.suffix == ".glb":
        document = gl.GLTF2.load(str(main))
        view = document.bufferViews[document.images[0].bufferView]
        assert document.binary_blob()[view.byteOffset : view.byteOffset + view.byteLength] == png()
        assert trimesh.load(main, force="mesh").faces.shape == (2 * (2 if more else 1), 3)
    else:
        compliant(main)


def test_a_new_version_keeps_the_layers_and_carries_what_was_painted(tmp_path, store):
    path = tree(tmp_path / "plant.glb")
    scene = Scene(Document(frame_rate=24, start=1, end=4))
    found = bring_in(scene, read_asset(path))
    stem = found.things[1].id
    points = scene.mesh(scene.doc.find(stem).mesh).points
    painted = do.add_map(scene, stem, points[:, 1], "Height").id
    do.add_layer(scene, stem, "noise", values={"map": painted})
    # the same topology, taller
    document = gl.GLTF2.load(str(path))
    blob = bytearray(document.binary_blob())
    view = document.bufferViews[document.accessors[document.meshes[0].primitives[0].attributes.POSITION].bufferView]
    rows = np.frombuffer(bytes(blob[view.byteOffset : view.byteOffset + view.byteLength]), np.float32).reshape(-1, 3)
    blob[view.byteOffset : view.byteOffset + view.byteLength] = (rows * np.float32([1, 1.2, 1])).tobytes()
    document.set_binary_blob(bytes(blob))
    document.save_binary(str(path))
    changes = versions.compare(scene, path)
    told = {c.name: c for c in changes}
    assert told["Stem"].same and told["Stem"].moved == pytest.approx(0.2) and told["Leaf"].moved == 0
    assert "same topology" in told["Stem"].words() and scene.mesh(scene.doc.find(stem).mesh).size[1] == pytest.approx(1)
    versions.take(scene, changes)
    now = scene.doc.find(stem)
    assert scene.mesh(now.mesh).size[1] == pytest.approx(1.2) and len(now.stack) == 1 and now.maps[0].id == painted
    scene.undo()
    assert scene.mesh(scene.doc.find(stem).mesh).size[1] == pytest.approx(1)
    # another topology: what was painted is carried over by place
    finer = trimesh.creation.box((0.1, 1, 0.1))
    finer.apply_translation([0, 0.5, 0])
    finer = finer.subdivide().subdivide()
    asset = read_asset(path)
    asset.nodes[1].mesh = Mesh.from_triangles(finer.vertices, finer.faces)
    changes = versions.compare(scene, path, asset)
    told = next(c for c in changes if c.name == "Stem")
    assert not told.same and told.far < 1e-6 and "1 map carried over" in told.words()
    versions.take(scene, changes)
    now = scene.doc.find(stem)
    heights = scene.arrays.get(now.maps[0].weights)
    assert heights == pytest.approx(scene.mesh(now.mesh).points[:, 1], abs=1e-6)
    evaluator = Evaluator(scene.doc, scene, store)
    assert np.isfinite(evaluator.subject(now, 2).points).all()
    with pytest.raises(EstampaError, match="not where any subject came from"):
        versions.compare(scene, tmp_path / "other.glb")


def test_a_shot_keeps_the_tree_the_camera_and_copies_as_instances(tmp_path, store):
    scene = Scene(Document(frame_rate=24, start=1, end=25))
    found = bring_in(scene, read_asset(tree(tmp_path / "plant.glb")))
    stem, leaf = found.things[1].id, found.things[2].id
    do.add_layer(scene, leaf, "noise", values={"height": 0.05})
    scatter = do.add_thing(scene, "copies", values={"subject": leaf, "count": 12})
    item = do.add_thing(scene, "shot", "Shot", {"last": 25})
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path / "out")
    assert result.passed and result.gap < 1e-5, result.words()
    stage = compliant(result.paths[0])
    assert pictured(UsdActor(result.paths[0])) == {png()}
    paths = {str(p.GetPath()) for p in stage.Traverse()}
    assert {"/Shot/Plant/Stem/Shape", "/Shot/Plant/Stem/Leaf_1/Shape", "/Shot/Plant/Stem/Eye"} <= paths
    stood = UsdGeom.Mesh(stage.GetPrimAtPath("/Shot/Plant/Stem/Shape"))
    assert not stood.GetPointsAttr().GetTimeSamples(), "what stays the same is the default alone"
    camera = UsdGeom.Camera(stage.GetPrimAtPath("/Shot/Plant/Stem/Eye")).GetCamera(1)
    assert np.radians(camera.GetFieldOfView(camera.FOVVertical)) == pytest.approx(0.6, rel=1e-4)
    instancer = UsdGeom.PointInstancer(next(p for p in stage.Traverse() if p.IsA(UsdGeom.PointInstancer)))
    assert len(instancer.GetPositionsAttr().Get(1)) == 12 and scatter.kind == "copies"
    # what comes out comes in again: the same points, in the same tree
    again = Scene(Document(frame_rate=24, start=1, end=25))
    back = bring_in(again, read_asset(result.paths[0]))
    other = Evaluator(again.doc, again, None)
    second = next(t for t in back.things if t.kind == "subject" and again.doc.find(t.constant("parent")).name == "Stem")
    for frame in (1, 12, 25):
        wanted = evaluator.subject(scene.doc.find(stem), frame).points
        points = other.subject(again.doc.find(second.id), frame).points
        assert np.abs(points - wanted).max() < 1e-3


def test_what_came_in_as_many_is_joined_and_split_again(tmp_path):
    scene = Scene(Document())
    found = bring_in(scene, read_asset(tree(tmp_path / "plant.glb")))
    stem = found.things[1].id
    before = np.concatenate([Evaluator(scene.doc, scene, None).subject(s, 1).points for s in scene.doc.subjects])
    do.join(scene, stem)
    assert len(scene.doc.subjects) == 1 and scene.doc.find(found.things[4].id).constant("parent") == stem
    whole = scene.mesh(scene.doc.find(stem).mesh)
    assert np.abs(Evaluator(scene.doc, scene, None).subject(scene.doc.find(stem), 1).points - before).max() < 1e-6
    assert [m.name for m in whole.materials] == ["Bark", "Leaf card"] and whole.materials[1].picture.data == png()
    parts = do.split(scene, stem, "material")
    assert [p.name for p in parts] == ["Stem Bark", "Stem Leaf card"]
    assert [scene.mesh(p.mesh).count for p in parts] == [8, 8]
    scene.undo()
    again = do.split(scene, stem, "group")
    assert [scene.mesh(p.mesh).count for p in again] == [8, 4, 4], "as they were before they were joined"
    scene.undo()
    parts = do.split(scene, stem, "material")
    with pytest.raises(EstampaError, match="carries no other subject"):
        do.join(scene, parts[0].id)


def test_a_pose_strip_of_a_hierarchy_keeps_its_parts_under_each_pose(tmp_path, store):
    scene = Scene(Document(frame_rate=24, start=1, end=25))
    found = bring_in(scene, read_asset(tree(tmp_path / "plant.glb")))
    item = do.add_thing(scene, "pose_strip", "Poses", {"subject": found.things[1].id, "rides": True, "poses": 3})
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path / "out")
    assert result.passed, result.words()
    asset = read_asset(result.paths[0])
    roots = [n.name for n in asset.nodes if n.parent < 0]
    assert roots == ["Stem_001", "Stem_002", "Stem_003"], "in the order of the cycle"
    told = validated(result.paths[0])
    assert told["numErrors"] == told["numWarnings"] == 0, told["messages"]
    assert [asset.nodes[i].name for i in asset.children(0)] == ["Stem_001_Stem", "Stem_001_Leaf", "Stem_001_Leaf 1"]
    document = gl.GLTF2.load(str(result.paths[0]))
    assert len(document.materials) == 2 and len(document.images) == 1, "each material and picture once"


def test_a_print_of_several_is_old_when_any_of_them_changes(tmp_path):
    scene = Scene(Document(frame_rate=24, start=1, end=4))
    found = bring_in(scene, read_asset(tree(tmp_path / "plant.glb")))
    values = {"subject": found.things[1].id, "last": 4}
    kinds = (("shot", {}), ("pose_strip", {"rides": True}))
    items = [do.add_thing(scene, kind, kind, values | more) for kind, more in kinds]
    told = lambda: [signature(Evaluator(scene.doc, scene, None), i) for i in items]
    before = told()
    do.add_layer(scene, found.things[3].id, "noise")
    assert all(a != b for a, b in zip(told(), before, strict=True))


def test_stages_with_instances_mirrors_and_what_is_not_there(tmp_path):
    path = tmp_path / "crates.usda"
    path.write_text("""#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
)
def Xform "Kind" (instanceable = false)
{
    def Mesh "Side"
    {
        int[] faceVertexCounts = [4, 3]
        int[] faceVertexIndices = [0, 1, 2, 3, 1, 4, 2]
        point3f[] points = [(0,0,0), (1,0,0), (1,1,0), (0,1,0), (2,0,0)]
        uniform token orientation = "leftHanded"
        int[] holeIndices = [1]
        color3f[] primvars:displayColor = [(1,0,0), (0,1,0)] (interpolation = "uniform")
        texCoord2f[] primvars:st = [(0,0), (1,0), (1,1), (0,1), (2,0)] (interpolation = "vertex")
    }
}
def Xform "One" (
    references = </Kind>
    instanceable = true
)
{
    double3 xformOp:translate = (5, 0, 0)
    uniform token[] xformOpOrder = ["xformOp:translate"]
}
def Xform "Two" (
    references = </Kind>
    instanceable = true
)
{
    double3 xformOp:scale = (-1, 1, 1)
    uniform token[] xformOpOrder = ["xformOp:scale"]
}
def Xform "Gone" (payload = @./gone.usda@)
{
}
def Scope "Lights"
{
    def SphereLight "Lamp"
    {
    }
}
""")
    asset = read_asset(path)
    assert [n.name for n in asset.nodes] == ["Kind", "Side", "One", "Side", "Two", "Side"]
    assert any("gone.usda" in w for w in asset.left) and "1 light" in asset.left
    mesh = asset.nodes[1].mesh
    assert mesh.face_counts.tolist() == [4] and mesh.corners["colour"].shape == (4, 3)
    assert mesh.normals()[0] == pytest.approx([0, 0, -1]), "a left-handed face looks the other way"
    scene = Scene(Document())
    found = bring_in(scene, asset)
    evaluator, stage = Evaluator(scene.doc, scene, None), Usd.Stage.Open(str(path))
    sides = [t for t in found.things if t.kind == "subject"]
    for thing, prim in zip(sides, ("/Kind/Side", "/One/Side", "/Two/Side"), strict=True):
        world = np.array(UsdGeom.XformCache().GetLocalToWorldTransform(stage.GetPrimAtPath(prim)))
        own = np.c_[np.array(UsdGeom.Mesh(stage.GetPrimAtPath(prim)).GetPointsAttr().Get(), float), np.ones(5)] @ world
        assert evaluator.subject(scene.doc.find(thing.id), 1).points == pytest.approx(own[:, :3], abs=1e-6)


def test_too_much_is_refused_in_words_and_huge_pictures_are_reduced_for_the_view(tmp_path):
    many = {"asset": {"version": "2.0"}, "nodes": [{"name": "n"}] * 200_001, "scenes": [{"nodes": [0]}], "scene": 0}
    (tmp_path / "many.gltf").write_text(json.dumps(many))
    with pytest.raises(EstampaError, match="200,001 nodes"):
        read_asset(tmp_path / "many.gltf")
    many["extensionsRequired"], many["nodes"] = ["KHR_draco_mesh_compression"], [{"name": "n"}]
    (tmp_path / "packed.gltf").write_text(json.dumps(many))
    with pytest.raises(EstampaError, match="KHR_draco_mesh_compression.*without compression"):
        read_asset(tmp_path / "packed.gltf")
    (tmp_path / "cut.usdc").write_bytes(b"PXR-USDC" + b"\0" * 90)
    with pytest.raises(EstampaError, match="cut.usdc"):
        read_asset(tmp_path / "cut.usdc")
    raw = zlib.compress(b"".join(b"\0" + b"\x40\x80\xc0\xff" * 30_000 for _ in range(8)))
    chunk = lambda kind, data: struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))
    head = struct.pack(">IIBBBBB", 30_000, 8, 8, 6, 0, 0, 0)
    wide = b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", raw) + chunk(b"IEND", b"")
    shown = pixels(Picture("wide.png", wide))
    assert shown.shape == (1, 2048, 4) and shown[0, 0].tolist() == [0x40, 0x80, 0xC0, 0xFF]
    assert pixels(Picture("no.png", b"nothing")) is None


def test_a_shot_goes_out_as_glb_too_and_comes_in_again(tmp_path, store):
    scene = Scene(Document(frame_rate=24, start=1, end=13))
    found = bring_in(scene, read_asset(tree(tmp_path / "plant.glb")))
    leaf = found.things[3].id
    do.add_layer(scene, leaf, "noise", values={"height": 0.05})
    do.add_thing(scene, "copies", values={"subject": found.things[2].id, "count": 5})
    item = do.add_thing(scene, "shot_glb", "Shot", {"last": 13})
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path / "out")
    assert result.passed and result.gap < 1e-4, result.words()
    again = read_asset(result.paths[0])
    assert pictured(GltfActor(result.paths[0])) == {png()}, "the rehearsal shows it with its pictures"
    names = [n.name for n in again.nodes]
    assert names[:3] == ["Plant", "Stem", "Leaf 1"] and "Eye" in names and sum("Copies" in n for n in names) == 6
    document = gl.GLTF2.load(str(result.paths[0]))
    assert len(document.images) == 1 and len(document.meshes) == 3, "copies share one mesh"
    moving = {document.nodes[c.target.node].name for c in document.animations[0].channels}
    assert {"Stem", "Leaf 1"} <= moving and not moving & {"Plant", "Eye"}, "what stands still has no keys"
    told = validated(result.paths[0])
    assert told["numErrors"] == told["numWarnings"] == 0, told["messages"]


def test_a_stage_that_another_program_saved_anew_is_read_anew(tmp_path):
    """Whatever of its older self is still open."""
    path = stage_of(tmp_path / "stall.usda")
    held = read_asset(path)
    text = path.read_text()
    assert "(200, 0, 0)" in text
    path.write_text(text.replace("(200, 0, 0)", "(300, 0, 0)"))
    os.utime(path, ns=(path.stat().st_atime_ns, path.stat().st_mtime_ns + 2_000_000_000))
    assert held.nodes[1].mesh.size[0] == 200 and read_asset(path).nodes[1].mesh.size[0] == 300
