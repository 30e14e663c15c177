"""Prints, read back with the standards' own libraries and checked by the standard's own validator."""

import json
import shutil
import subprocess
from pathlib import Path

import numpy as np
import OpenEXR
import pygltflib
import pytest
from pxr import Usd, UsdGeom
from scipy.spatial import cKDTree

from estampa import bake
from estampa import edits as do
from estampa.errors import Cancelled, EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.formats.vertex_texture import layout
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import box, sheet
from estampa.press import run as press
from estampa.press.vertex_cache import VertexCache
from estampa.press.vertex_texture import VertexTexture
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore
from tests.conftest import named

ROOT = Path(__file__).parents[2]


@pytest.fixture(params=["with uv", "without uv"])
def printed(flag, request):
    if request.param == "without uv":
        subject = named(flag, "Flag")
        flag.apply("no uv", flag.doc.replace(subject.with_(mesh=subject.mesh.with_(uv=None))))
    do.add_thing(flag, "vertex_cache", "Cache")
    do.add_thing(flag, "vertex_texture", "Half")
    do.add_thing(flag, "vertex_texture", "Full", {"precision": "full"})
    return flag


def test_all_prints_match_the_scene_when_other_readers_read_them(printed, tmp_path):
    results = bake(printed, tmp_path)
    mesh = printed.mesh(named(printed, "Flag").mesh)
    truth = {f: printed.evaluate(f)["Flag"] for f in (1, 7, 12)}
    assert all(r.passed for r in results)

    stage = Usd.Stage.Open(str(tmp_path / "Cache.usdc"))
    prim = next(UsdGeom.Mesh(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh))
    assert np.array_equal(prim.GetFaceVertexCountsAttr().Get(), mesh.face_counts)  # quads stay quads
    assert np.array_equal(prim.GetFaceVertexIndicesAttr().Get(), mesh.face_indices)
    assert (UsdGeom.GetStageMetersPerUnit(stage), UsdGeom.GetStageUpAxis(stage), stage.GetTimeCodesPerSecond()) == (
        1,
        "Y",
        24,
    )
    assert prim.GetPointsAttr().GetTimeSamples() == list(range(1, 13))
    for frame, points in truth.items():
        assert (
            np.abs(np.array(prim.GetPointsAttr().Get(frame)) - points).max() <= 2.0**-24 * np.abs(points).max() * 1.01
        )

    for name, bits in (("Half", 11), ("Full", 24)):
        told = json.loads((tmp_path / f"{name}.json").read_text())
        document = pygltflib.GLTF2.load(str(tmp_path / told["mesh"]))
        accessor = document.accessors[document.meshes[0].primitives[0].attributes.POSITION]
        start = document.bufferViews[accessor.bufferView].byteOffset
        rest = np.frombuffer(document.binary_blob(), np.float32, 3 * accessor.count, start).reshape(-1, 3)
        with OpenEXR.File(str(tmp_path / told["offset_texture"])) as file:
            pixels = file.channels()["RGB"].pixels
        assert pixels.dtype == (np.float16 if name == "Half" else np.float32)
        assert pixels.shape == (told["height"], told["width"], 3) and told["frames"] == 12
        vertex = np.arange(accessor.count)
        for frame, points in truth.items():  # by the formula in the JSON
            row = (frame - told["first_frame"]) * told["rows_per_frame"] + vertex // told["width"]
            played = rest + pixels[row, vertex % told["width"]].astype(float)
            gap = np.linalg.norm(played - points, axis=1).max()
            assert gap <= told["error_bound"]
            assert told["error_bound"] <= 2.0**-bits * told["largest_offset"] + 1e-6
        with OpenEXR.File(str(tmp_path / told["normal_texture"])) as file:
            normals = file.channels()["RGB"].pixels[:, : accessor.count].astype(float)
        assert np.abs(normals[6] - mesh.normals(truth[7])).max() < 2e-3


def test_every_glb_is_clean_in_the_standards_validator(printed, tmp_path):
    """gltf-validator, published by the Khronos Group with the glTF standard."""
    if not (ROOT / "node_modules" / "gltf-validator").exists() or not shutil.which("node"):
        pytest.fail("the glTF validator is not installed; run the README's test command, which installs it")
    bake(printed, tmp_path)
    script = (
        "const v = require('gltf-validator'), fs = require('fs');"
        "Promise.all(process.argv.slice(1).map(f => v.validateBytes(new Uint8Array(fs.readFileSync(f)))))"
        ".then(r => console.log(JSON.stringify(r.map(x => x.issues))))"
    )
    files = sorted(map(str, tmp_path.glob("*.glb")))
    ran = subprocess.run(["node", "-e", script, *files], cwd=ROOT, capture_output=True, text=True, check=True)
    reports = json.loads(ran.stdout)
    assert len(reports) == 2
    for report in reports:
        assert report["numErrors"] == report["numWarnings"] == 0, report["messages"]


def test_sizes_are_told_before_and_come_true(flag, tmp_path):
    # 91,000 vertices over 301 frames as float32 points are 329 MB: common practice, no source
    told = VertexCache().estimate(91_000, 0, 301, {"normals": False})
    assert told.bytes == pytest.approx(329e6, rel=0.01) and "301 frames" in told.text
    do.set_range(flag, end=60)
    item = do.add_thing(flag, "vertex_cache", "Cache")
    estimated = press.estimate(flag, flag.doc, item).bytes
    assert bake(flag, tmp_path)[0].bytes == pytest.approx(estimated, rel=0.15)


def test_large_textures_wrap_into_rows_or_say_why_not():
    assert layout(5_000, 120) == (5_000, 1, 120)
    width, rows, height = layout(91_000, 301)
    assert width <= 8192 and width * rows >= 91_000 and height == rows * 301 <= 8192
    with pytest.raises(EstampaError, match=r"side may have 8,192.*at most \d+ frames"):
        layout(400_000, 301)
    told = VertexTexture().estimate(400_000, 0, 301, {"precision": "half", "normals": True})
    assert "shorter range" in told.trouble
    assert "12 rows a frame" in VertexTexture().estimate(91_000, 0, 301, {"precision": "half", "normals": True}).text


def test_a_refused_or_stopped_print_leaves_the_earlier_files_whole(flag, tmp_path, monkeypatch):
    item = do.add_thing(flag, "vertex_cache", "Cache", {"last": 4})
    bake(flag, tmp_path)
    before = (tmp_path / "Cache.usdc").read_bytes()
    do.set_value(flag, named(flag, "Wind").id, "speed", 11.0)
    evaluator = flag.evaluator(FrameStore(tmp_path / "store"))
    for stop_at in (0.3, 0.7):
        shares = [0.0]
        with pytest.raises(Cancelled):
            press.run(
                flag,
                evaluator,
                item,
                tmp_path,
                lambda share, _, s=shares: s.append(share),
                lambda s=shares, at=stop_at: s[-1] > at,
            )
        assert (tmp_path / "Cache.usdc").read_bytes() == before
    (tmp_path / "file").write_text("")
    with pytest.raises(EstampaError, match="Earlier files are untouched"):
        bake(flag, tmp_path / "file" / "deeper")
    from estampa.formats import usd

    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(usd, "write_cache", full)
    with pytest.raises(EstampaError, match="disk is full.*untouched"):
        bake(flag, tmp_path)
    assert (tmp_path / "Cache.usdc").read_bytes() == before
    assert sorted(p.name for p in tmp_path.iterdir()) == ["Cache.usdc", "file", "store"]


def test_a_wrong_file_is_noticed_when_it_is_read_back(flag, tmp_path, monkeypatch):
    do.add_thing(flag, "vertex_cache", "Cache")
    from estampa.formats import usd

    real = usd.write_cache

    def crooked(path, name, mesh, frames, rate, points_at, *more):
        real(path, name, mesh, frames, rate, lambda f: points_at(f) + [0, 0.01 * (f == 5), 0], *more)

    monkeypatch.setattr(usd, "write_cache", crooked)
    result = bake(flag, tmp_path)[0]
    assert not result.passed and result.gap_frame == 5 and result.gap == pytest.approx(0.01, rel=1e-3)
    assert "DIFFERS" in result.words()


def test_a_print_with_nothing_to_print_says_so(tmp_path):
    from estampa.scene.scene import Scene

    scene = Scene()
    with pytest.raises(EstampaError, match="nothing to print"):
        bake(scene, tmp_path)
    do.add_thing(scene, "vertex_cache", "Cache", {"file": "../../evil"})
    with pytest.raises(EstampaError, match="no subject"):
        bake(scene, tmp_path)
    assert press.file_target(scene.doc, scene.doc.prints[0], tmp_path).parent == tmp_path


def test_a_texture_of_several_rows_a_frame_plays_back(tmp_path):
    from estampa.geometry.primitives import sheet
    from estampa.scene.scene import Scene

    scene = Scene()
    subject = do.add_mesh(scene, sheet(3, 3, 100, 100), "Sail")
    do.add_layer(scene, subject.id, "noise", values={"height": 0.2})
    do.set_range(scene, start=5, end=9)
    do.add_thing(scene, "vertex_texture", "Rows")
    result = bake(scene, tmp_path)[0]
    told = json.loads((tmp_path / "Rows.json").read_text())
    assert (told["width"], told["rows_per_frame"], told["height"], told["first_frame"]) == (5000, 2, 10, 5)
    assert result.passed and result.gap <= told["error_bound"]


def test_offsets_too_far_for_half_floats_are_refused(flag, tmp_path):
    subject = named(flag, "Flag")
    do.add_layer(flag, subject.id, "noise", values={"height": 1e7})
    do.add_thing(flag, "vertex_texture", "Far")
    with pytest.raises(EstampaError, match="too far for a half float"):
        bake(flag, tmp_path)
    assert not list(tmp_path.iterdir())


MATERIAL_PRINTS = ("vertex_cache", "vertex_texture", "pose_strip", "piece_usd", "piece_nodes", "piece_texture")


@pytest.mark.parametrize("kind", MATERIAL_PRINTS)
def test_materials_are_in_every_print_that_can_hold_them(store, tmp_path, kind):
    """Read back by usd-core and pygltflib: each face has the colour of its material."""
    import pygltflib as gl
    from pxr import Usd, UsdGeom, UsdShade

    from tests.motion.test_cut import quilt

    scene = Scene(Document(start=1, end=6))
    subject = do.add_mesh(scene, quilt(), "Quilt")
    do.add_layer(scene, subject.id, "cut")
    do.add_layer(scene, subject.id, "body", values={"each": "pieces", "mass": 0.1})
    do.add_thing(scene, "gravity")
    item = do.add_thing(scene, kind, values={"subject": subject.id} | ({"poses": 3} if kind == "pose_strip" else {}))
    assert "materials" in item.declared.carries
    result = press.run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    assert result.passed
    path = next(p for p in result.paths if p.suffix in (".usdc", ".glb"))
    wanted = {name: np.round(colour, 3).tolist() for name, colour, *_ in quilt().materials}
    if path.suffix == ".glb":
        found = gl.GLTF2.load(str(path)).materials
        told = {m.name: np.round(m.pbrMetallicRoughness.baseColorFactor[:3], 3).tolist() for m in found}
    else:
        stage, told, faces = Usd.Stage.Open(str(path)), {}, 0
        for prim in stage.Traverse():
            if not prim.IsA(UsdGeom.Mesh):
                continue
            subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()
            for bound in subsets or [prim]:
                material = UsdShade.MaterialBindingAPI(bound).ComputeBoundMaterial()[0]
                colour = material.ComputeSurfaceSource()[0].GetInput("diffuseColor").Get()
                told[material.GetPrim().GetDisplayName()] = [round(float(c), 3) for c in colour]
                every = len(UsdGeom.Mesh(prim).GetFaceVertexCountsAttr().Get())
                faces += len(bound.GetIndicesAttr().Get()) if subsets else every
        assert faces in (16, 32), "every face has one"
    assert told == wanted


def test_a_cache_that_a_light_mesh_plays_is_printed_again_and_again_in_one_session(flag, tmp_path):
    heavy = named(flag, "Flag")
    light = do.add_mesh(flag, flag.mesh(heavy.mesh), "Light")
    cache = do.add_thing(flag, "vertex_cache", "Heavy", {"subject": heavy.id})
    again = do.add_thing(flag, "vertex_cache", "Again", {"subject": light.id})
    path = press.run(flag, flag.evaluator(), cache, tmp_path).paths[0]
    layer = do.add_layer(flag, light.id, "played", "Cache", {"file": str(path)})
    grip = do.add_thing(flag, "grip", "Up")
    for amount in (0.2, 0.7, 0.2):
        bent = do.add_layer(flag, heavy.id, "bend", values={"angle": amount, "grip": grip.id})
        flag.evaluate(5)  # what is played is open
        for item in (cache, again):
            result = press.run(flag, flag.evaluator(), flag.doc.find(item.id), tmp_path)
            assert result.passed, result.words()
        assert np.allclose(flag.evaluate(5)["Light"], flag.evaluate(5)["Flag"], atol=1e-6)
        do.remove(flag, bent.id)
    do.set_values(flag, again.id, {"file": path.stem})
    with pytest.raises(EstampaError, match="would write over Heavy.usdc, which Light plays"):
        press.run(flag, flag.evaluator(), flag.doc.find(again.id), tmp_path)
    do.set_on(flag, layer.id, False)


@pytest.fixture
def stall():
    """A grip that turns, with a counter that stands on it and a flag that hangs on the counter and bows."""
    scene = Scene(Document(start=1, end=8))
    root = do.add_thing(scene, "grip", "Stall")
    do.set_formula(scene, root.id, "turn_y", "0.1 * frame")
    counter = do.add_mesh(scene, box([0, 0, 0], [1, 1, 0.5]), "Counter")
    flag = do.add_mesh(scene, sheet(0.4, 0.3, 4, 4), "Pennant")
    do.set_values(scene, counter.id, {"parent": root.id})
    do.set_values(scene, flag.id, {"parent": counter.id, "y": 1.0})
    bend = do.add_layer(scene, flag.id, "offset")
    do.set_formula(scene, bend.id, "y", "0.02 * frame")
    do.add_mesh(scene, box([5, 0, 0], [6, 1, 1]), "Elsewhere")
    return scene


@pytest.mark.parametrize("kind", ["vertex_cache", "vertex_texture", "pose_strip"])
def test_a_print_of_what_carries_subjects_holds_all_that_ride_on_it(stall, kind, tmp_path):
    item = do.add_thing(stall, kind, "Out", {"subject": named(stall, "Stall").id})
    evaluator = stall.evaluator()
    before = press.signature(evaluator, item)
    result = press.run(stall, evaluator, item, tmp_path)
    assert result.passed, result.words()
    reader = item.declared().reader(result.target)
    for frame in list(reader.frames)[::3]:
        shown = stall.evaluate(frame)
        wanted = np.concatenate([shown["Counter"], shown["Pennant"]])
        near = 2e-3 if kind == "vertex_texture" else 1e-5
        assert cKDTree(wanted).query(np.asarray(reader.points(frame)))[0].max() < near
        assert cKDTree(np.asarray(reader.points(frame))).query(wanted)[0].max() < near
    told = press.estimate(stall, stall.doc, item)
    assert not told.trouble and 0.3 < told.bytes / result.bytes < 3
    do.set_value(stall, named(stall, "Pennant").id, "y", 1.1)
    assert press.signature(stall.evaluator(), stall.doc.find(item.id)) != before


def test_a_print_that_names_what_carries_nothing_or_is_gone_says_so(stall):
    bare = do.add_thing(stall, "grip", "Bare")
    item = do.add_thing(stall, "vertex_cache", "Out", {"subject": bare.id})
    trouble = lambda: press.estimate(stall, stall.doc, stall.doc.find(item.id)).trouble
    assert trouble() == "It names Bare, on which no subject rides. Choose another one."
    pieces = do.add_thing(stall, "thin_layer", "Thin", {"subject": named(stall, "Stall").id})
    assert "Stall carries subjects" in press.estimate(stall, stall.doc, pieces).trouble
    stall.apply("lost", stall.doc.replace(stall.doc.find(item.id).with_(values={"subject": "nobody"})))
    assert trouble() == "It names a subject that is gone. Choose another one."


def test_a_strip_of_what_carries_subjects_holds_each_once(stall, tmp_path):
    values = {"subject": named(stall, "Stall").id, "rides": True, "poses": 2}
    item = do.add_thing(stall, "pose_strip", "Out", values)
    result = press.run(stall, stall.evaluator(), item, tmp_path)
    reader, shown = item.declared().reader(result.target), stall.evaluate(1)
    corners = {tuple(p) for p in np.round(reader.points(1), 5).tolist()}
    assert len(corners) == len(shown["Counter"]) + len(shown["Pennant"])
    parted = named(stall, "Counter").mesh, named(stall, "Pennant").mesh
    assert len(reader.points(1)) == sum(stall.mesh(m).parted()[0].count for m in parted)


def test_the_size_of_a_cache_of_nothing_is_told(stall):
    nothing = do.add_mesh(stall, Mesh(np.zeros((0, 3)), [], []), "Nothing")
    item = do.add_thing(stall, "vertex_cache", "Out", {"subject": nothing.id})
    assert press.estimate(stall, stall.doc, item).bytes < 5000
