"""Printed files played by players that share no code with the project: three.js (GLTFLoader, AnimationMixer, skinning,
morphs, instances) under Node, and usd-core's own bake of skins, at default time too."""

import json
import struct
from pathlib import Path

import numpy as np
import pytest
import trimesh
from pxr import Usd, UsdGeom, UsdSkel, UsdValidation

from estampa import demo
from estampa import edits as do
from estampa.edits import joints as build
from estampa.edits.importing import bring_in
from estampa.errors import EstampaError
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.formats.asset import read_asset
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import sheet, tube
from estampa.press import run as press
from estampa.rehearsal.gltf import GltfActor
from estampa.rehearsal.stage import opened
from estampa.scene.curves import Curve, Key
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from tests.conftest import named
from tests.formats.test_skeletons import validated as glb_findings

from . import apart, played

NEAR = 2e-5  # m, float32 of a scene of some metres


def card(long=1.0) -> Mesh:
    flat = sheet(0.2, long, 3, 9)
    return flat.with_points(np.stack([flat.points[:, 0], flat.points[:, 2], 0 * flat.points[:, 0]], axis=1))


def swaying(loop=False) -> Scene:
    """Cards along the pier that stand still at first, and then bow one after another."""
    scene = Scene(Document(start=1, end=24, loop=(1, 25)))
    subject = do.add_mesh(scene, card(), "Card")
    layer = do.add_layer(scene, subject.id, "bend", "Bow")
    keys = ((1, 0.0), (8, 0.0), (12, 1.2), (16, 0.0), (25, 0.0))
    do.set_curve(scene, layer.id, "angle", Curve(keys=tuple(Key(frame=f, value=v) for f, v in keys)), "Bow")
    do.add_thing(scene, "copies", "Cards", {"subject": subject.id, "count": 4, "step_x": 0.4, "stagger": 2.5})
    do.add_thing(scene, "shot_glb", "Shot", {"loop": loop})
    do.add_thing(scene, "shot", "Stage", {"loop": loop})
    return scene


def run(scene, name, tmp_path):
    result = press.run(scene, scene.evaluator(), named(scene, name), tmp_path)
    assert result.passed, result.words()
    return result.paths[0]


def truth(evaluator, things, frame) -> np.ndarray:
    """(n, 3) m of all that is shown, in the world."""
    return np.concatenate([outcome.of(evaluator, t, frame).points() for t in things])


def nine(frames, rate, loops) -> tuple[list[float], list[tuple[int, float]]]:
    """(s, what they show: (frame before, share of the way to the next one)) of nine times: one lies between frames, and
    one after the loop's end, or at the end of what does not loop."""
    many = len(frames)
    at = sorted({round(k * (many - 1) / 6) for k in range(7)})
    shown = [(frames[i], 0.0) for i in at]
    times = [i / rate for i in at]
    half = many // 2
    if many > 1:
        shown.append((frames[half - 1], 0.5))
        times.append((half - 0.5) / rate)
    if loops:
        shown.append((frames[2], 0.0))
        times.append((many + 2) / rate)
    # a clip that does not go round begins again at its very end
    return [t * (1 - 1e-7) for t in times], shown


def held_against(scene, item, path, things) -> float:
    """m: how far what three.js shows at nine times is from the scene at most. Between frames the scene says nothing:
    there it is as the standard says (by the rehearsal's player), and nearer to halfway than to either frame."""
    evaluator, frames = scene.evaluator(), press.frames_of(scene.doc, item)
    loops = press.is_loop(scene.doc, item)
    times, shown = nine(frames, scene.doc.frame_rate, loops)
    found, gap = played(path, times), 0.0
    if loops:
        assert found.seconds == pytest.approx(len(frames) / scene.doc.frame_rate, abs=1e-5), "it lasts a whole loop"
    for points, (frame, share) in zip(found.points, shown, strict=True):
        wanted = truth(evaluator, things, frame)
        if not share:
            gap = max(gap, apart(points, wanted))
            continue
        following = truth(evaluator, things, frame + 1)
        assert (
            apart(points, 0.5 * (wanted + following)) <= 0.5 * np.linalg.norm(following - wanted, axis=1).max() + NEAR
        )
        actor = GltfActor(path)
        seconds = times[shown.index((frame, share))]
        if item.kind == "shot_glb":  # the others show more than what is printed of them, or the same parts twice
            gap = max(gap, apart(points, actor.points(actor.clips[0], seconds)))
    return gap


# -- three.js ------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize("loop", [False, True])
def test_copies_that_share_a_pose_at_first_are_not_in_step_later(loop, tmp_path):
    scene = swaying(loop)
    path = run(scene, "Shot", tmp_path)
    assert held_against(scene, named(scene, "Shot"), path, [named(scene, "Cards")]) < NEAR


def test_what_carries_others_bends_alone(tmp_path):
    """Weights of a node are its own mesh's, whatever hangs on it."""
    scene = swaying()
    card_ = named(scene, "Card")
    rider = do.add_mesh(scene, card(0.4), "Rider")
    layer = do.add_layer(scene, rider.id, "bend", "Lean")
    do.set_curve(scene, layer.id, "angle", Curve(keys=(Key(frame=1, value=0.0), Key(frame=24, value=0.9))), "Lean")
    do.set_value(scene, rider.id, "parent", card_.id)
    do.remove(scene, named(scene, "Cards").id)
    path = run(scene, "Shot", tmp_path)
    assert held_against(scene, named(scene, "Shot"), path, [named(scene, n) for n in ("Card", "Rider")]) < NEAR


def test_a_loop_that_is_played_round_and_round_never_jumps(tmp_path):
    """Two rounds at a quarter of a frame: no step is longer than the longest between two frames of the scene."""
    scene = swaying(loop=True)
    path = run(scene, "Shot", tmp_path)
    evaluator, copies = scene.evaluator(), [named(scene, "Cards")]
    rows = [truth(evaluator, copies, f) for f in range(1, 26)]
    longest = max(np.linalg.norm(b - a, axis=1).max() for a, b in zip(rows[:-1], rows[1:], strict=True))
    found = played(path, np.arange(0, 192) / 96).points
    steps = np.linalg.norm(np.diff(found, axis=0), axis=2).max(axis=1)
    assert steps.max() <= 0.3 * longest, "a quarter of a frame's motion, and rounding of arcs to chords"


def figure(tmp_path, morph=True):
    """A post with two joints that turn, a skin, and a named morph above it."""
    scene = Scene(Document(start=1, end=24, loop=(1, 25)))
    subject = do.add_mesh(scene, tube([[0, 0, 0], [0, 0.5, 0], [0, 1, 0]], [0.1, 0.1, 0.05], 8), "Post")
    if morph:
        do.add_target(scene, subject.id, subject_points(scene, subject) * [1.5, 1.0, 1.5], "Stout")
        target = scene.doc.find(subject.id).targets[0]
        layer = do.add_layer(scene, subject.id, "morph", "Stout", {"target": target.id})
        do.set_curve(scene, layer.id, "weight", Curve(keys=(Key(frame=1, value=0.0), Key(frame=12, value=0.8),
                                                            Key(frame=25, value=0.0))), "Breath")  # fmt: skip
    skeleton = build.add_skeleton(scene, [np.array([[0, 0, 0], [0, 0.5, 0], [0, 1, 0]], float)], "Stem")
    build.bind_skin(scene, subject.id, skeleton.id, "nearest")
    if morph:
        do.move_layer(scene, layer.id, 0)  # before the skin
    joint = scene.doc.find(skeleton.id).joints[1]
    do.set_curve(scene, joint.id, "turn_z", Curve(keys=(Key(frame=1, value=0.0), Key(frame=10, value=0.9),
                                                        Key(frame=25, value=0.0))), "Nod")  # fmt: skip
    return scene


def subject_points(scene, subject):
    return scene.mesh(subject.mesh).points


def test_a_named_morph_below_a_skin_keeps_its_name_and_goes_with_it(tmp_path):
    scene = figure(tmp_path)
    for kind, name in (("shot_glb", "Shot"), ("skinned_mesh", "Skinned")):
        do.add_thing(scene, kind, name, {"loop": True})
        path = run(scene, name, tmp_path)
        assert held_against(scene, named(scene, name), path, [named(scene, "Post")]) < NEAR
        assert played(path, [0.0]).morphs == [["Stout"]]


def test_what_a_material_is_like_goes_through_a_shot(tmp_path):
    scene = swaying()
    mesh = scene.mesh(named(scene, "Card").mesh)
    looks = [("Paper", (0.5, 0.4, 0.2), None, "opaque", 0.5, 1.0, True, "uv", "", 0.35, 0.25, (0.1, 0.0, 0.0))]
    own = Mesh(mesh.points + [0, 0, 2.0], mesh.face_counts, mesh.face_indices, None, looks,
               np.zeros(len(mesh.face_counts)))  # fmt: skip
    do.add_mesh(scene, own, "Sign")
    told = played(run(scene, "Shot", tmp_path), [0.0])
    sign = told.materials[told.names.index("Sign")]
    assert (sign["name"], sign["roughness"], sign["metalness"]) == ("Paper", 0.35, 0.25)
    stage = Usd.Stage.Open(str(run(scene, "Stage", tmp_path)))
    shader = next(p for p in stage.Traverse() if p.GetName() == "Surface")
    assert shader.GetAttribute("inputs:roughness").Get() == pytest.approx(0.35)


# -- OpenUSD -------------------------------------------------------------------------------------------------------
def validated(path):
    stage = Usd.Stage.Open(str(path))
    context = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators())
    assert not [e.GetMessage() for e in context.Validate(stage)]
    return stage


def points_of(stage, time) -> np.ndarray:
    cache, found = UsdGeom.XformCache(time), []
    for prim in stage.Traverse():
        if prim.IsA(UsdGeom.Mesh):
            points = UsdGeom.Mesh(prim).GetPointsAttr().Get(time)
            assert points, f"{prim.GetPath()} has points at {time}"
            world = np.array(cache.GetLocalToWorldTransform(prim))
            found.append(np.array(points, float) @ world[:3, :3] + world[3, :3])
    return np.concatenate(found)


@pytest.mark.parametrize("kind", ["shot", "skinned_usd"])
@pytest.mark.parametrize("above", ["plain", "morph", "wave"])
def test_a_skin_is_baked_by_usdskel_as_the_scene_has_it(kind, above, tmp_path):
    scene = figure(tmp_path, above == "morph")
    if above == "wave":
        if kind == "skinned_usd":
            pytest.skip("it carries the skin and morphs alone, and says so")
        own = named(scene, "Post")
        layer = do.add_layer(scene, own.id, "bend", "Lean")
        do.move_layer(scene, layer.id, 0)
        do.set_curve(scene, layer.id, "angle", Curve(keys=(Key(frame=1, value=0.0), Key(frame=24, value=0.4))), "Lean")
    do.add_thing(scene, kind, "Stage")
    path = run(scene, "Stage", tmp_path)
    stage = validated(path)
    evaluator, actor = Evaluator(scene.doc, scene, None), opened(path)
    frames = (1, 2, 7, 12, 13, 18, 22, 23, 24)
    for frame in frames:  # before the bake, which changes the layer that both have
        seen = actor.points(actor.clips[0], (frame - 1) / 24)
        assert apart(seen, truth(evaluator, [named(scene, "Post")], frame)) < NEAR, "it is rehearsed so, too"
    assert UsdSkel.BakeSkinning(Usd.PrimRange(stage.GetPseudoRoot()))
    for frame in frames:
        assert apart(points_of(stage, frame), truth(evaluator, [named(scene, "Post")], frame)) < NEAR, frame


def test_every_stage_shows_something_at_default_time_and_is_valid(tmp_path):
    scene = swaying(loop=True)
    first = truth(scene.evaluator(), [named(scene, "Cards")], 1)
    stage = validated(run(scene, "Stage", tmp_path))
    assert (stage.GetStartTimeCode(), stage.GetEndTimeCode()) == (1, 25), "a loop ends with its first pose"
    swarm = next(UsdGeom.PointInstancer(p) for p in stage.Traverse() if p.IsA(UsdGeom.PointInstancer))
    for time in (Usd.TimeCode.Default(), Usd.TimeCode(25)):
        shapes = [np.array(UsdGeom.Mesh(stage.GetPrimAtPath(p)).GetPointsAttr().Get(time), float)
                  for p in swarm.GetPrototypesRel().GetTargets()]  # fmt: skip
        into = np.array(swarm.ComputeInstanceTransformsAtTime(time, time))
        which = swarm.GetProtoIndicesAttr().Get(time)
        points = np.concatenate([shapes[w] @ m[:3, :3] + m[3, :3] for w, m in zip(which, into, strict=True)])
        assert apart(points, first) < NEAR


# -- the demos -----------------------------------------------------------------------------------------------------
SAMPLE = ["pinwheels", "reeds"]  # the others are a marked run


def shown_by(doc, item):
    """What a print shows of a scene."""
    if item.kind == "shot_glb":
        found = [t for t in item.declared().others(doc, press.printed(doc, item), press.values_of(doc, item)) if t.on]
        return [t for t in found if t.declared.node in ("mesh", "instances")]
    return [press.printed(doc, item)]


def demo_prints(name, tmp_path):
    """Every GLB that moves, of a demo's own prints and of a shot, over its first frames."""
    scene = demo.build(name)
    if not any(p.kind == "shot_glb" for p in scene.doc.prints):
        do.add_thing(scene, "shot_glb", "As a shot")
    evaluator = scene.evaluator()
    for item in scene.doc.prints:
        if item.kind not in ("shot_glb", "skinned_mesh", "piece_nodes", "piece_skin"):
            continue
        if not press.is_loop(scene.doc, item):
            do.set_values(scene, item.id, {"last": scene.doc.start + 11})
        item = scene.doc.find(item.id)
        if press.estimate(scene, scene.doc, item).trouble:
            continue
        evaluator = scene.evaluator()
        result = press.run(scene, evaluator, item, tmp_path / name)
        assert result.gap <= result.tolerance, result.words()
        yield scene, item, result.paths[0]


@pytest.mark.parametrize(
    "name", [pytest.param(n, marks=() if n in SAMPLE else pytest.mark.sweep) for n in demo.names()]
)
def test_every_print_of_a_demo_is_played_by_three_js_as_the_scene_has_it(name, tmp_path):
    for scene, item, path in demo_prints(name, tmp_path):
        tolerance = max(item.constant("tolerance"), NEAR)
        assert held_against(scene, item, path, shown_by(scene.doc, item)) < tolerance, item.name


# -- the package for the million ----------------------------------------------------------------------------------
@pytest.mark.parametrize("form", ["csv", "parquet", "exr"])
def test_a_table_is_read_by_its_json_alone_with_the_texture_that_it_names(form, tmp_path):
    """A reader of its own, which imports nothing of the project, finds where every vertex of every grain is."""
    from tests.press.test_swarms import school

    from . import read_package

    scene, swarm = school(rate_varies=0.4)
    do.add_thing(scene, "vertex_texture", "Cycle", {"last": 3, "precision": "full"})
    do.add_thing(scene, "swarm_table", "Out", {"form": form})
    run(scene, "Cycle", tmp_path)
    run(scene, "Out", tmp_path)
    about, frames = read_package.main(tmp_path / "Out.json")
    cycle, evaluator = read_package.read_cycle(about, tmp_path, 0), scene.evaluator()
    assert about["meshes"][0]["texture"] == "Cycle.json" and cycle.shape[0] == 3
    evaluator.solve_through(12)
    for k, frame in enumerate(about["frames"]):
        rows = frames[k]
        assert rows["id"].max(initial=0) < 2**24, "whole even when read as a single float"
        seconds = (frame - scene.doc.start) / about["frame_rate"]
        wanted = np.floor(rows["rate"] * seconds * about["frame_rate"] + rows["phase"]) % 3
        assert np.array_equal(wanted, rows["cycle_frame"]), "its own formula says which frame of the cycle it is"
        found = read_package.placed(rows, cycle[rows["cycle_frame"].astype(int)])
        assert apart(found.reshape(-1, 3), truth(evaluator, [scene.doc.find(swarm)], frame)) < 1e-4
    assert (about["unit"], about["up"], about["handedness"]) == ("metre", "+Y", "right-handed")


# -- motion over a source GLB -------------------------------------------------------------------------------------
def chunks(path):
    """(the JSON, the binary chunk) of a GLB: glTF 2.0, section 4.4."""
    data = path.read_bytes()
    long = int.from_bytes(data[12:16], "little")
    size = int.from_bytes(data[20 + long : 24 + long], "little")
    return json.loads(data[20 : 20 + long]), data[28 + long : 28 + long + size]


def put_together(path, meta, blob):
    """Write a GLB of its JSON and its binary chunk."""
    meta["buffers"][0]["byteLength"] = len(blob)
    text = json.dumps(meta).encode()
    text += b" " * (-len(text) % 4)
    blob += b"\0" * (-len(blob) % 4)
    head = b"glTF" + struct.pack("<II", 2, 12 + 8 + len(text) + 8 + len(blob))
    path.write_bytes(
        head + struct.pack("<I", len(text)) + b"JSON" + text + struct.pack("<I", len(blob)) + b"BIN\0" + blob
    )
    return path


def kiosk(path):
    """A GLB of another hand, by trimesh: a post that carries two lanterns of one mesh, one larger and mirrored, with
    what we know nothing of: extensions of a material, extras, a camera, an animation."""
    post, lamp = trimesh.creation.box((0.1, 2.0, 0.1)), trimesh.creation.icosphere(2, 0.2)
    scene = trimesh.Scene()
    scene.add_geometry(post, node_name="Post", geom_name="Post")
    at = lambda x, *s: trimesh.transformations.translation_matrix([x, 0.8, 0]) @ np.diag([*s, 1.0])
    scene.add_geometry(lamp, node_name="Left", geom_name="Lamp", parent_node_name="Post", transform=at(-0.4, 1, 1, 1))
    scene.add_geometry(
        lamp, node_name="Right", geom_name="Lamp", parent_node_name="Post", transform=at(0.4, -2, 1, 1.5)
    )
    path.write_bytes(scene.export(file_type="glb"))
    meta, blob = chunks(path)
    meta["materials"] = [{"name": "Paper", "extensions": {"KHR_materials_sheen": {"sheenRoughnessFactor": 0.25}},
                          "extras": {"batch": [1, 2, 3.5]}}]  # fmt: skip
    meta["extensionsUsed"] = ["KHR_materials_sheen"]
    meta["extras"] = {"by": "another hand"}
    for mesh in meta["meshes"]:
        mesh["primitives"][0]["material"] = 0
    return put_together(path, meta, blob)


@pytest.mark.parametrize("source", ["kiosk", "hand", "hand_skin"])
def test_motion_goes_over_a_glb_of_another_hand_and_all_else_stays(source, tmp_path):
    samples = Path(__file__).parents[1] / "formats" / "samples"
    path = kiosk(tmp_path / "kiosk.glb") if source == "kiosk" else samples / f"{source}.glb"
    scene = Scene(Document(start=1, end=12, loop=(1, 13)))
    bring_in(scene, read_asset(path))
    for subject in list(scene.doc.subjects):
        layer = do.add_layer(scene, subject.id, "offset", values={"y": 0.0})
        tall = float(scene.mesh(subject.mesh).size.max())
        do.set_formula(scene, layer.id, "y", f"{0.2 * tall} * sin(2 * pi * (frame - 1) / 12)")
        if source == "kiosk":
            do.set_formula(scene, subject.id, "turn_y", "0.3 * sin(2 * pi * (frame - 1) / 12)")
    do.add_thing(scene, "source_glb", "Back", {"loop": True})
    back = run(scene, "Back", tmp_path)
    found, had = glb_findings(back), glb_findings(path)
    assert all(found[n] <= had[n] for n in ("numErrors", "numWarnings")), found["messages"]
    gap = held_against(scene, named(scene, "Back"), back, scene.doc.subjects)
    assert gap < NEAR * max(1.0, float(np.abs(truth(scene.evaluator(), scene.doc.subjects, 1)).max()))
    (before, old), (after, new) = chunks(path), chunks(back)
    assert new[: len(old)] == old, "what was there is there, byte for byte"
    for word in set(before) - {"accessors", "bufferViews", "buffers", "animations", "meshes", "nodes"}:
        assert after[word] == before[word], word
    assert after["animations"][1:] == before.get("animations", [])
    for word in ("accessors", "bufferViews"):
        assert after[word][: len(before[word])] == before[word]
    ours = {"translation", "rotation", "scale", "matrix", "mesh", "skin", "weights"}
    for one, two in zip(before["nodes"], after["nodes"], strict=False):
        many = len(one.get("children", []))
        one, two = ({**n, "children": n.get("children", [])[:many]} for n in (one, two))
        assert {k: v for k, v in one.items() if k not in ours} == {k: v for k, v in two.items() if k not in ours}


def test_a_source_that_changed_or_is_gone_is_told(tmp_path):
    path = kiosk(tmp_path / "kiosk.glb")
    scene = Scene(Document(start=1, end=4))
    bring_in(scene, read_asset(path))
    do.add_layer(scene, scene.doc.subjects[0].id, "offset", values={"y": 0.1})
    item = do.add_thing(scene, "source_glb", "Back")
    do.set_values(scene, item.id, {"file": "kiosk"})
    with pytest.raises(EstampaError, match="would write over its source"):
        press.run(scene, scene.evaluator(), scene.doc.find(item.id), tmp_path)
    do.set_values(scene, item.id, {"file": ""})
    twin = do.duplicate(scene, scene.doc.subjects[0].id)
    with pytest.raises(EstampaError, match="two subjects of one node"):
        press.run(scene, scene.evaluator(), scene.doc.find(item.id), tmp_path)
    do.remove(scene, twin.id)
    own = trimesh.Scene(trimesh.creation.box((1, 1, 1)))
    path.write_bytes(own.export(file_type="glb"))
    with pytest.raises(EstampaError, match=r"kiosk.glb: has no mesh “/.*Post” any more"):
        press.run(scene, scene.evaluator(), scene.doc.find(item.id), tmp_path)
    path.unlink()
    assert "is not there" in press.estimate(scene, scene.doc, scene.doc.find(item.id)).trouble


@pytest.mark.parametrize("leans", [False, True])
def test_a_size_keyed_by_axes_comes_in_as_three_js_plays_it(leans, tmp_path):
    """Squash and stretch of a post that carries lanterns; where it leans within what grows, it is sheared, and told."""
    path = kiosk(tmp_path / "kiosk.glb")
    meta, blob = chunks(path)
    times, sizes = np.float32([0, 0.25, 0.5]), np.float32([[1, 1, 1], [1.4, 0.6, 1.4], [1, 1, 1]])
    own = blob + b"\0" * (-len(blob) % 4) + times.tobytes() + sizes.tobytes()
    start = len(own) - times.nbytes - sizes.nbytes
    meta["bufferViews"] += [{"buffer": 0, "byteOffset": start, "byteLength": times.nbytes},
                            {"buffer": 0, "byteOffset": start + times.nbytes, "byteLength": sizes.nbytes}]  # fmt: skip
    view, first = len(meta["bufferViews"]) - 2, len(meta["accessors"])
    meta["accessors"] += [
        {"bufferView": view, "componentType": 5126, "count": 3, "type": "SCALAR", "min": [0.0], "max": [0.5]},
        {"bufferView": view + 1, "componentType": 5126, "count": 3, "type": "VEC3"},
    ]
    number = lambda name: next(k for k, n in enumerate(meta["nodes"]) if n.get("name") == name)
    meta["animations"] = [{"samplers": [{"input": first, "output": first + 1}], "channels": [
        {"sampler": 0, "target": {"node": number("Post"), "path": "scale"}}]}]  # fmt: skip
    if leans:
        node = meta["nodes"][number("Left")]
        node.pop("matrix", None)
        node |= {"translation": [-0.4, 0.8, 0.0], "rotation": [0.0, 0.0, float(np.sin(0.4)), float(np.cos(0.4))]}
    put_together(path, meta, own)
    scene = Scene(Document(start=1, end=13))
    found = bring_in(scene, read_asset(path))
    told = [w for w in found.words if "sheared" in w]
    assert len(told) == leans and all("Left" in w for w in told)
    shown = played(path, [k / 24 * (1 - 1e-7) for k in range(0, 13, 2)])
    ends = np.cumsum(shown.counts)
    for k, points in zip(range(0, 13, 2), shown.points, strict=True):
        now = scene.evaluate(1 + k)
        for name, part in zip(shown.names, np.split(points, ends[:-1]), strict=True):
            if not (leans and name == "Left"):
                assert apart(part, now[name]) < 1e-4, (name, k)
