"""The rehearsal: printed files alone, played as a target would, held against the scene that they were printed of."""

import ast
import os
import subprocess
import sys
from pathlib import Path

import moderngl
import numpy as np
import pytest
from scipy.spatial import cKDTree

import estampa
from estampa import demo
from estampa import edits as do
from estampa.errors import EstampaError
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import sheet
from estampa.press.grains import Shapes
from estampa.press.prints import Job
from estampa.press.run import copies_of, frames_of, is_loop, printed, run, values_of
from estampa.rehearsal.actor import Actor, PlayedClip
from estampa.rehearsal.gltf import sampled
from estampa.rehearsal.stage import RehearsalStage, Trigger, opened
from estampa.scene.document import Document
from estampa.scene.scene import Scene

FOLDER = Path(estampa.__file__).parent / "rehearsal"


def test_it_imports_neither_a_scene_nor_an_evaluator():
    allowed = {"errors", "units", "lazy", "formats", "hashing", "geometry"}
    for file in FOLDER.glob("*.py"):
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.ImportFrom) and node.level == 2:
                assert (node.module or node.names[0].name).split(".")[0] in allowed, f"{file.name}: {node.module}"
            if isinstance(node, ast.ImportFrom) and node.level == 0:
                assert not node.module.startswith("estampa"), file.name


def waving(loop=False):
    scene = Scene(Document(start=1, end=24, loop=(1, 25) if loop else None))
    flag = do.add_mesh(scene, sheet(1.0, 0.6, 12, 8), "Flag")
    do.add_layer(scene, flag.id, "wave", grip={}, values={"height": 0.08, "wavelength": 0.7, "rate": 1.0})
    return scene, flag.id


def played(store, tmp_path, scene, kind, values=None):
    """(actor, the scene's points at a frame, frames)."""
    item = do.add_thing(scene, kind, "Out", values or {})
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path)
    main = next(p for p in result.paths if p.suffix in (".json", ".usdc", ".glb"))
    main = next((p for p in result.paths if p.suffix == ".json"), main)
    return opened(main), evaluator, result


@pytest.mark.parametrize(("kind", "values", "tolerance"), [
    ("vertex_texture", {"precision": "full"}, 1e-6), ("vertex_texture", {"precision": "half"}, 1e-4),
    ("vertex_cache", {}, 1e-6),
])  # fmt: skip
def test_a_print_of_a_mesh_plays_as_the_scene_moves(store, tmp_path, kind, values, tolerance):
    scene, flag = waving()
    actor, evaluator, _ = played(store, tmp_path, scene, kind, values)
    assert actor.step == pytest.approx(1 / 24) and actor.clips[0].seconds == pytest.approx(23 / 24)
    for frame in (1, 7, 24):
        wanted = evaluator.subject(scene.doc.find(flag), frame).points
        found = actor.points(actor.clips[0], (frame - 1) / 24)
        # seams may part vertices: the same places, whichever way they are parted
        assert len(found) >= len(wanted)
        gap = np.abs(found[: len(wanted)] - wanted).max()
        assert gap < tolerance, f"{1000 * gap:.4f} mm"


def test_the_graphics_card_gives_the_formula_of_the_json(store, tmp_path):
    scene, _ = waving()
    for precision in ("half", "full"):
        actor, _, _ = played(store, tmp_path / precision, scene, "vertex_texture", {"precision": precision})
        context = moderngl.create_context(standalone=True, backend="egl")
        actor.put_on(context)
        for frame in (0, 5, 23):
            # one sum of two floats: equal to a rounding of it
            assert actor.on_card(frame) == pytest.approx(actor.file.at(frame), abs=2e-7)
        context.release()


@pytest.mark.parametrize("kind", ["swarm_usd", "swarm_points", "swarm_table", "swarm_glb"])
def test_a_print_of_a_swarm_plays_every_grain_by_its_number(store, tmp_path, kind):
    from tests.press.test_swarms import school

    scene, swarm = school()
    actor, evaluator, result = played(store, tmp_path, scene, kind, {"at": 9} if kind == "swarm_glb" else {})
    item = scene.doc.prints[0]
    frame = 9
    job = Job(
        item, printed(scene.doc, item), None, frames_of(scene.doc, item), 24.0, evaluator, values_of(scene.doc, item)
    )
    wanted = item.declared().instances(job, frame, Shapes())
    shown = actor.shown(actor.clips[0], 0.0 if kind == "swarm_glb" else (frame - 1) / 24)
    shown = [s for k, s in enumerate(shown) if not any(s.points is t.points for t in shown[:k])]  # parts of one mesh
    ids = np.concatenate([s.ids for s in shown])
    place = np.concatenate([s.points if s.stand is None else s.stand[:, :3, 3] for s in shown])
    order = np.argsort(ids)
    if kind == "swarm_table":  # it has numbers of 32 bits, in the order in which grains appear
        assert ids.max() < 2**32 and len(ids) == len(wanted.ids)
    else:
        assert np.array_equal(ids[order], wanted.ids)
    assert place[order] == pytest.approx(wanted.place, abs=2e-6)
    if kind == "swarm_usd":
        size = np.concatenate([np.linalg.norm(s.stand[:, :3, 0], axis=1) for s in shown])
        assert size[order] == pytest.approx(wanted.size, rel=1e-5)


def test_a_skinned_print_with_clips_plays_as_its_skeleton_moves(store, tmp_path):
    from estampa.rehearsal.gltf import GltfActor

    scene = demo.build("lanterns")
    item = next(p for p in scene.doc.prints if p.kind == "skinned_mesh")
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path)
    actor = opened(result.paths[0])
    assert isinstance(actor, GltfActor) and actor.clips and actor.clips[0].seconds > 1
    # the print's own reader, which holds it against the scene, is another program
    reader = item.declared().reader(result.target)
    for frame in reader.frames[:: max(len(reader.frames) // 4, 1)]:
        seconds = (frame - reader.frames[0]) / scene.doc.frame_rate
        found = actor.points(actor.clips[0], seconds)
        wanted = np.asarray(reader.points(frame))
        # parts that share vertices are shown one by one: the same places, each way
        for a, b in ((found, wanted), (wanted, found)):
            assert cKDTree(a).query(b)[0].max() < 1e-4


def test_the_seam_of_a_loop_is_told_as_it_is_played(store, tmp_path):
    scene, _ = waving(loop=True)
    do.set_value(scene, scene.doc.things[0].stack[0].id, "rate", 1.0)  # once round in the loop of a second
    whole, *_ = played(store, tmp_path / "whole", scene, "vertex_cache", {"loop": True})
    stage = RehearsalStage()
    stage.add(whole)
    assert stage.seam(stage.parts[0]) < 1e-3 and "goes round" in stage.words()[0]
    do.set_value(scene, scene.doc.things[0].stack[0].id, "rate", 1.3)
    jumps, *_ = played(store, tmp_path / "jumps", scene, "vertex_cache", {"loop": True})
    stage = RehearsalStage()
    stage.add(jumps)
    assert stage.seam(stage.parts[0]) > 0.01 and "JUMPS" in stage.words()[0]


def test_speeds_offsets_fades_and_keys():
    class Slide(Actor):
        """A point at x = seconds."""

        def points(self, clip, seconds):
            return np.array([[seconds, 5.0 * self.clips.index(clip), 0.0]])

        def shown(self, clip, seconds):
            return []

    stage = RehearsalStage()
    actor = Slide("slide", [PlayedClip("Out", 0.0, 1.0), PlayedClip("Aside", 0.0, 2.0)], 0.1)
    for offset in (0.0, 0.4):
        stage.add(actor, offset)
    x = lambda now, part=0: stage.parts[part].points(now)[0]
    assert x(0.5)[0] == 0.5 and x(0.5, 1)[0] == pytest.approx(0.9), "each copy has its own time"
    assert x(1.2)[0] == pytest.approx(0.1), "a step longer: its last pose is not the first"
    part = stage.parts[0].play(actor.clips[1], 1.0, fade=0.5, loop=False)
    assert part.points(1.0)[0, 1] == 0.0 and part.points(1.25)[0, 1] == pytest.approx(2.5)
    assert part.points(1.6)[0] == pytest.approx([0.6, 5.0, 0.0]) and part.points(9.0)[0, 0] == 2.0
    backwards = stage.parts[0].play(actor.clips[0], 2.0, speed=-1.0, loop=False)
    assert backwards.points(2.0)[0, 0] == 1.0 and backwards.points(2.6)[0, 0] == pytest.approx(0.4)
    stage.triggers["r"] = Trigger(0, "Out", fade=0.0)
    stage.press("r", 5.0)  # rolls up
    assert x(5.7)[0] == pytest.approx(0.7) and x(9.0)[0] == 1.0
    stage.press("r", 5.7)  # and down again, from where it is
    assert x(5.9)[0] == pytest.approx(0.5) and x(9.0)[0] == 0.0


def test_tracks_are_sampled_as_the_standard_says():
    # the standard's formulas (glTF 2.0, appendix C), with SciPy's interpolants
    from scipy.interpolate import CubicHermiteSpline
    from scipy.spatial.transform import Rotation, Slerp

    times = np.array([0.0, 1.0, 3.0])
    at = np.linspace(-0.5, 3.5, 30)
    place = np.array([[0.0, 0, 0], [1, 2, 0], [4, 0, 1]])
    linear = np.array([sampled(times, place, "LINEAR", "translation", t) for t in at])
    assert linear == pytest.approx(np.stack([np.interp(at, times, place[:, j]) for j in range(3)], axis=1))
    assert [sampled(times, place, "STEP", "translation", t)[0] for t in (0.99, 1.0, 2.9)] == [0, 1, 1]
    slopes = np.array([[0.5, 0, 1], [0, 1, 0], [1.0, 1, 1]])
    spline = np.stack([slopes, place, slopes], axis=1).reshape(9, 3)
    inside = at[(at >= 0) & (at <= 3)]
    found = np.array([sampled(times, spline, "CUBICSPLINE", "translation", t) for t in inside])
    assert found == pytest.approx(CubicHermiteSpline(times, place, slopes)(inside), abs=1e-9)
    turns = Rotation.from_euler("xyz", [[0, 0, 0], [1.0, 0.4, 0], [0, 2.0, 1.0]])
    found = np.array([sampled(times, turns.as_quat(), "LINEAR", "rotation", t) for t in inside])
    apart = (Rotation.from_quat(found).inv() * Slerp(times, turns)(inside)).magnitude()
    assert apart.max() < 1e-7


def test_what_cannot_be_played_is_told_and_a_picture_needs_no_window(store, tmp_path):
    for name, content, words in (
        ("no.glb", None, "is not there"), ("odd.txt", "x", "no file that the stage plays"),
        ("odd.json", "{}", "does not say what it is of"), ("bad.glb", "not one", "can be read|holds no mesh"),
    ):  # fmt: skip
        if content is not None:
            (tmp_path / name).write_text(content)
        with pytest.raises(EstampaError, match=words):
            opened(tmp_path / name)
    scene, _ = waving()
    _, _, result = played(store, tmp_path, scene, "vertex_cache")
    out = tmp_path / "seen.png"
    words = [sys.executable, "-m", "estampa", "rehearse", str(result.paths[0]), "--picture", str(out), "--at", "0.5"]
    done = subprocess.run(words, capture_output=True, text=True, env=os.environ | {"QT_QPA_PLATFORM": "offscreen"})
    assert done.returncode == 0 and "on the card; 1 draws" in done.stdout, done.stderr
    assert out.stat().st_size > 2000


UNPLAYED = ("joint_csv", "joint_bvh", "skin_wrap")  # of skeletons alone nothing is seen; what is slow has its own test


@pytest.mark.sweep
@pytest.mark.parametrize("name", demo.names())
def test_every_print_of_every_demo_plays_within_its_tolerance(store, tmp_path, name):
    """The files alone, against the scene that they were printed of, over the first frames."""
    scene = demo.build(name)
    for item in scene.doc.prints:
        if item.kind in UNPLAYED:
            continue
        if not is_loop(scene.doc, item):
            do.set_value(scene, item.id, "last", scene.doc.start + 8)
        item = scene.doc.find(item.id)
        evaluator = Evaluator(scene.doc, scene, store)
        result = run(scene, evaluator, item, tmp_path / item.id)
        assert result.gap < item.constant("tolerance"), f"{name} · {item.name}: {result.words()}"
        main = next((p for p in result.paths if p.suffix == ".json"), result.paths[0])
        actor, frames = opened(main), item.declared().frames(frames_of(scene.doc, item), values_of(scene.doc, item))
        v, subject = values_of(scene.doc, item), printed(scene.doc, item)
        job = Job(item, subject, None, frames, scene.doc.frame_rate, evaluator, v, copies_of(scene.doc, item))
        if item.kind == "pose_strip":
            continue  # poses side by side in one moment; its own reader holds them
        for k in (0, len(frames) // 2, len(frames) - 1):
            found = actor.points(actor.clips[0], k * actor.step)
            if item.kind.startswith("swarm"):
                shown = actor.shown(actor.clips[0], k * actor.step)
                found = np.concatenate([s.stand[:, :3, 3] for s in shown])
                wanted = item.declared().instances(job, frames[k], Shapes()).place
            else:
                wanted = job.points(frames[k])
            # vertices may be parted at seams and come in another order: the same places, each way
            for a, b in ((found, wanted), (wanted, found)):
                gap = float(cKDTree(a).query(b)[0].max())
                assert gap < v["tolerance"], f"{name} · {item.name}, frame {frames[k]}: {1000 * gap:.3f} mm"


def test_a_table_plays_the_meshes_of_its_textures_in_the_colours_of_its_rows(store, tmp_path):
    """Every vertex of every grain, at its own frame of the cycle, against the scene."""
    from tests.press.test_swarms import school

    scene, swarm = school(rate_varies=0.4)
    do.add_thing(scene, "vertex_texture", "Cycle", {"last": 3, "precision": "full"})
    do.add_thing(scene, "swarm_table", "Out")
    evaluator = Evaluator(scene.doc, scene, store)
    for item in scene.doc.prints:
        result = run(scene, evaluator, item, tmp_path)
    actor = opened(tmp_path / "Out.json")
    for frame in (3, 9, 12):
        shown = actor.shown(actor.clips[0], (frame - 1) / 24)
        found = np.concatenate([s.in_world() for s in shown])
        wanted = outcome.of(evaluator, scene.doc.find(swarm), frame).points()
        assert max(cKDTree(wanted).query(found)[0].max(), cKDTree(found).query(wanted)[0].max()) < 1e-4
        assert {tuple(np.round(s.colour, 3)) for s in shown} == {(0.527, 0.051, 0.014), (0.014, 0.352, 0.051)}
    assert not actor.left and actor.memory() < 50_000 < result.bytes
    (tmp_path / "Cycle.json").unlink()
    stage = RehearsalStage()
    stage.add(opened(tmp_path / "Out.json"))
    assert "not shown: the mesh Member, which no texture beside it holds" in stage.words()[0]


def test_solids_points_and_what_is_not_shown_of_a_stage(tmp_path):
    """UsdGeom's schema: sizes, radii and axes of its solids, in metres of the stage."""
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.CreateNew(str(tmp_path / "solids.usda"))
    UsdGeom.SetStageMetersPerUnit(stage, 0.1)
    UsdGeom.Cube.Define(stage, "/Cube").CreateSizeAttr(4.0)
    UsdGeom.Sphere.Define(stage, "/Ball").CreateRadiusAttr(5.0)
    for kind in ("Cylinder", "Cone", "Capsule"):
        made = getattr(UsdGeom, kind).Define(stage, f"/{kind}")
        made.CreateRadiusAttr(1.0), made.CreateHeightAttr(6.0), made.CreateAxisAttr("X")
    grains = UsdGeom.Points.Define(stage, "/Grains")
    grains.CreatePointsAttr([(0, 0, 0), (10, 0, 0)]), grains.CreateWidthsAttr([1.0, 2.0])
    grains.CreateDisplayColorAttr([(1, 0, 0), (0, 0, 1)])
    UsdGeom.PrimvarsAPI(grains).GetPrimvar("displayColor").SetInterpolation("vertex")
    UsdGeom.BasisCurves.Define(stage, "/Wires")
    swarm = UsdGeom.PointInstancer.Define(stage, "/Swarm")  # without colours of their own
    own = UsdGeom.Mesh.Define(stage, "/Swarm/Leaf")
    own.CreatePointsAttr([(0, 0, 0), (1, 0, 0), (0, 1, 0)]), own.CreateFaceVertexCountsAttr([3])
    own.CreateFaceVertexIndicesAttr([0, 1, 2]), own.CreateDisplayColorAttr([(0, 1, 0)])
    leafless = UsdGeom.Cube.Define(stage, "/Swarm/Leafless")
    leafless.CreateSizeAttr(3.0), leafless.CreateDisplayColorAttr([(0, 0, 0.5)])
    swarm.CreatePrototypesRel().SetTargets(["/Swarm/Leaf"]), swarm.CreateProtoIndicesAttr([0, 0])
    swarm.CreatePositionsAttr([(0, 20, 0), (10, 20, 0)])
    stage.GetRootLayer().Save()
    actor = opened(tmp_path / "solids.usda")
    ball, *rest = sorted(actor.shown(actor.clips[0], 0.0), key=lambda s: -np.ptp(s.in_world(), axis=0).min())
    assert np.ptp(ball.points, axis=0) == pytest.approx([1.0] * 3, rel=1e-2)
    sizes = sorted(tuple(np.round(np.ptp(s.in_world(), axis=0), 2)) for s in rest)
    long = [s for s in sizes if s[1:] == (0.2, 0.2)]
    assert sorted(x for x, *_ in long) == [0.6, 0.6, 0.8], "along X; a capsule has its caps besides"
    assert any(s.colour == (0.0, 0.0, 0.5) for s in rest), "only what lies below a prototype is hidden with it"
    leaves = [s for s in rest if s.stand is not None and s.colour == (0.0, 1.0, 0.0)]
    assert len(leaves) == 1 and leaves[0].stand[:, :3, 3] == pytest.approx(np.array([[0, 2, 0], [1, 2, 0]]))
    marks = [s for s in rest if s.stand is not None and s is not leaves[0]]
    assert {s.colour for s in marks} == {(1.0, 0.0, 0.0), (0.0, 0.0, 1.0)}
    assert actor.left == ["Wires, of the sort BasisCurves"]
