"""Skeletons in the evaluator: what is remarked, seams by joint, what goes stale, what is read of what."""

import numpy as np
import pytest

from estampa import demo
from estampa import edits as do
from estampa.cli import main
from estampa.edits import joints as build
from estampa.geometry.paths import Sampled
from estampa.geometry.primitives import box, sheet, tube
from estampa.inspect import closing, loops
from estampa.inspect.lanes import LaneMemory
from estampa.inspect.remarks.scene import remarks
from estampa.scene.document import Document, Thing
from estampa.scene.file import load_scene, save_scene
from estampa.scene.scene import Scene


def bar(scene, name="Bar"):
    line = np.stack([np.zeros(21), np.linspace(0, 2, 21), np.zeros(21)], axis=1)
    return do.add_mesh(scene, tube(line, np.full(21, 0.1), 8), name)


def said(scene):
    return " ".join(r.wrong for r in remarks(scene))


def test_weights_that_jump_are_said_with_the_joints_between_which_they_do():
    scene = Scene()
    subject = bar(scene)
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 2)], "Bones", "Bone")
    layer, _ = build.bind_skin(scene, subject.id, skeleton.id)
    assert "jump" not in said(scene)
    hard = (scene.mesh(subject.mesh).points[:, 1] > 1.01).astype(float)
    build.set_weights(scene, layer.id, np.stack([1 - hard, hard], axis=1), "Hard")
    assert "jump over 8 edges, most between Bone 1 and Bone 2" in said(scene)


def test_what_is_wrong_with_skeletons_is_said():
    scene = Scene()
    subject, other = bar(scene), do.add_mesh(scene, box([-1, -1, -1], [1, 3, 1]), "Box")
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 3)], "Bones", "Bone")
    do.add_layer(scene, subject.id, "skin", "Loose skin")
    do.add_layer(scene, subject.id, "cage", "Loose cage")
    do.add_layer(scene, skeleton.id, "aim", "Aim at nothing")
    do.add_layer(scene, skeleton.id, "reach", "Reach nothing")
    path = do.add_thing(scene, "path", "Short way", spots=[(0, 0, 0), (0.5, 0, 0)])
    do.add_layer(scene, skeleton.id, "along", "On it", {"path": path.id})
    do.add_layer(scene, skeleton.id, "chain", "Tight", {"held": "both"})
    do.add_thing(scene, "collider", "Solid nothing", {"shape": "mesh"})
    do.set_value(scene, skeleton.joints[1].id, "stretch_x", 0.0)
    words = said(scene)
    for part in (
        "Loose skin is bound to no skeleton", "Loose cage is bound to no cage", "Aim at nothing names no target",
        "Reach nothing needs a last joint", "Short way is 0.50 m long, and the chain on it 2.00 m",
        "held at both ends, and pulled straight", "no gravity and no wind", "Solid nothing is the mesh of no subject",
        "Bone 2 is scaled to nothing along X",
    ):  # fmt: skip
        assert part in words, part
    build.bind_cage(scene, subject.id, other.id)
    do.add_layer(scene, other.id, "cloth")
    assert "is solved, and carries Bar as a cage" in said(scene)


def test_a_ring_of_joints_from_a_file_is_said_and_refused():
    scene = Scene()
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 1, 0], 2)], "Ring", "Link")
    a, b = skeleton.joints
    ring: Thing = skeleton.with_(joints=(a.with_(values={"parent": b.id}), b))
    scene.apply("Break", scene.doc.replace(ring))
    assert "hang on one another in a ring: Link 1 → Link 2 → Link 1" in said(scene)


def test_a_skin_is_stale_with_the_solver_of_its_skeleton_and_fresh_again_after_undo(store):
    scene = Scene(Document(start=1, end=8))
    subject = bar(scene)
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 3)], "Bones", "Bone")
    build.bind_skin(scene, subject.id, skeleton.id)
    layer = do.add_layer(scene, skeleton.id, "chain", "Swing", {"clamp": False})
    do.set_value(scene, skeleton.joints[0].id, "turn_z", 2.0)
    do.add_thing(scene, "gravity")
    evaluator = scene.evaluator(store, stand_ins=True)
    assert not evaluator.subject(scene.doc.find(subject.id), 5).is_current
    evaluator.solve_through(8)
    memory = LaneMemory()
    assert memory.state(evaluator, scene.doc.find(skeleton.id), scene.doc.find(layer.id)).done
    solved = evaluator.subject(scene.doc.find(subject.id), 5)
    assert solved.is_current
    do.set_value(scene, skeleton.joints[1].id, "mass", 3.0)
    changed = scene.evaluator(store, stand_ins=True)
    state = memory.state(changed, scene.doc.find(skeleton.id), scene.doc.find(layer.id))
    assert not state.done and "Bone 2 · own mass" in state.why
    stale = changed.subject(scene.doc.find(subject.id), 5)
    assert not stale.is_current and np.isfinite(stale.points).all()
    scene.undo()
    again = scene.evaluator(store).subject(scene.doc.find(subject.id), 5)
    assert again.is_current and (again.points == solved.points).all()


def test_solvers_are_solved_in_the_order_in_which_they_read_one_another(store):
    """A flag hangs on a joint of a mast that sways; a rope aims at the flag's middle: mast, flag, rope."""
    scene = Scene(Document(start=1, end=6))
    rope = build.add_skeleton(scene, [build.straight([2, 0, 0], [2, 1, 0], 2)], "Rope", "Rope")
    flag = do.add_mesh(scene, sheet(0.4, 0.4, 5, 5), "Flag")
    mast = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 3)], "Mast", "Mast")
    do.add_layer(scene, mast.id, "stems")
    held = do.add_map(scene, flag.id, scene.mesh(flag.mesh).points[:, 0] < 0.01, "Hoist")
    do.add_layer(scene, flag.id, "cloth", values={"pins": held.id})
    do.set_values(scene, flag.id, {"parent": mast.joints[2].id})
    do.add_layer(scene, rope.id, "aim", values={"target": flag.id, "target_map": held.id})
    do.add_layer(scene, rope.id, "chain")
    do.add_thing(scene, "wind")
    evaluator = scene.evaluator(store)
    assert [o.name for o, _ in evaluator.solvers()] == ["Mast", "Flag", "Rope"]
    evaluator.solve_through(6)
    assert evaluator.poses.at(scene.doc.find(rope.id), 6).is_current


@pytest.mark.slow
def test_the_seam_is_told_by_joint_and_closed_by_wave_lengths():
    scene = Scene(Document(start=1, end=48, loop=(1, 49)))
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 1.0, 0], 4)], "Eel", "Eel")
    wave = [(x, 0.0, 0.2 * np.sin(2 * np.pi * x / 1.5)) for x in np.linspace(0, 9, 121)]
    path = do.add_thing(scene, "path", spots=wave)
    layer = do.add_layer(scene, skeleton.id, "along", values={"path": path.id})
    do.set_key(scene, layer.id, "slide", 1, 2.0, "linear")
    do.set_key(scene, layer.id, "slide", 49, 4.9, "linear")
    # the wave length along the path, from the length of one wave (SciPy's arc length by fine steps)
    x = np.linspace(0, 1.5, 20_001)
    exact = np.hypot(np.diff(x), np.diff(0.2 * np.sin(2 * np.pi * x / 1.5))).sum()
    line = Sampled(scene.doc.find(path.id).spots)
    assert closing.wave_length(line) == pytest.approx(exact, rel=0.01)
    assert closing.wave_length(Sampled([(0, 0, 0), (1, 0, 0), (3, 0.4, 0), (4, 2, 0)])) is None
    evaluator = scene.evaluator()
    grip = do.add_thing(scene, "grip", "Ahead")
    names = [s.name for s in loops.seams(evaluator)]
    assert names[0] == "Eel" and {"Eel 1", "Eel 4"} <= set(names)
    offer = next(o for o in closing.offers(scene.doc) if o.channel == "slide")
    assert "2 wave length(s)" in offer.words
    closing.close(scene, [offer])
    # seen from what goes along with it, the pose comes again
    for frame, x in ((1, 0.0), (49, 3.0)):
        do.set_key(scene, grip.id, "x", frame, x, "linear")
    seam = loops.seams(scene.evaluator(), scene.doc.find(grip.id))[0]
    assert seam.pose < 1e-4, "the wave length is found between the samples"


@pytest.mark.parametrize("name", ["lanterns", "jelly"])
def test_demos_are_baked_clean_and_their_loops_closed(name, store):
    scene = demo.build(name)
    assert not [r for r in remarks(scene) if r.severity != "note"]
    baked = [t for t in scene.doc.skeletons if t.live]
    assert baked and all(t.clips and not any(l.on for l in t.stack) for t in baked)
    if name == "jelly":
        found = loops.seams(scene.evaluator(store))
        assert len(found) >= 4 and all(s.closed for s in found)
        root = next(t for t in scene.doc.skeletons if t.name == "Kite").joints[0]
        z = root.curve("z")
        assert abs(z.at(193) - z.at(97)) < 1e-6  # in place: it surges, and travels nowhere
        assert next(t for t in scene.doc.things if t.name == "Kite travel").curve("z").after == "accumulate"


def test_the_command_line_bakes_to_keys_and_back(tmp_path, store, capsys, monkeypatch):
    monkeypatch.setenv("ESTAMPA_STORE", str(tmp_path / "frames"))
    scene = Scene(Document(start=1, end=10))
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0.5, 0, 0], 3)], "Cord", "Cord")
    do.add_layer(scene, skeleton.id, "chain")
    do.add_thing(scene, "gravity")
    path = tmp_path / "cord.estampa"
    save_scene(scene, path)
    assert main(["keys", str(path), "--tips", "1", "--clip", "Drop"]) == 0
    assert "keys on 3 joints over 10 frames" in capsys.readouterr().out
    baked = load_scene(path).doc.skeletons[0]
    assert baked.clips[0].name == "Drop" and baked.live
    assert main(["keys", str(path), "--live"]) == 0
    assert not load_scene(path).doc.skeletons[0].live
    assert main(["keys", str(path), "--skeleton", "Rope"]) == 2
    assert "Skeleton “Rope”: is not in the scene. There is: Cord" in capsys.readouterr().err
