"""What an animator does with skeletons in the window: clicks, drags, keys and dialogs."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialogButtonBox, QLabel

from estampa import edits as do
from estampa.edits import joints as build
from estampa.geometry.primitives import joined, ring, tube
from estampa.scene.curves import Curve
from estampa.scene.document import Document
from estampa.scene.scene import Scene


@pytest.fixture
def arm_user(user):
    """A lantern arm that stands up, and nothing else."""
    scene = Scene(Document(start=1, end=24))
    line = np.stack([np.zeros(31), np.linspace(0, 1.5, 31), np.zeros(31)], axis=1)
    do.add_mesh(scene, tube(line, np.full(31, 0.12), 16), "Arm")
    user.session.replace(scene)
    user.wait()
    return user


def pixel(user, point):
    view = user.window.viewport
    at = view.camera.project(np.asarray(point, float)[None], view.width(), view.height())[0][0]
    return float(at[0]), float(at[1])


def accept(dialog):
    button = dialog.findChild(QDialogButtonBox).button(QDialogButtonBox.Ok)
    QTest.mouseClick(button, Qt.LeftButton)
    QApplication.processEvents()


def test_joints_are_clicked_into_the_middle_bound_painted_and_tried(arm_user):
    user, s = arm_user, arm_user.session
    view = user.window.viewport
    user.do("tool_joint")
    for height in (0.05, 0.5, 0.95, 1.4):
        user.click(view, pixel(user, [0, height, 0]))
        user.wait()
    skeleton = s.doc.skeletons[0]
    bones = s.scene.values.bones(skeleton)
    assert len(skeleton.joints) == 3 and s.selection.thing is skeleton.joints[-1]
    assert np.abs(bones.at_rest[:, [0, 2], 3]).max() < 0.03  # in the middle of the volume, not on its skin
    assert bones.at_rest[:, 1, 3] == pytest.approx([0.05, 0.5, 0.95], abs=0.05)

    user.select("Arm")
    user.do("bind_skin")
    accept(user.window.skeletons.dialog)
    user.wait(lambda: s.selection.skin is not None and not s.busy)
    assert user.window.panels.currentWidget() is user.window.joints
    layer = s.selection.skin
    before = build.weights_of(s.scene, layer)

    s.selection.select(skeleton.joints[2].id)
    user.do("tool_paint")
    user.wait()
    panel = user.window.joints
    panel.how.setCurrentIndex(panel.how.findData("set"))
    panel.how.activated.emit(panel.how.currentIndex())
    user.type_in(panel.radius, "0.2 m")
    user.type_in(panel.strength, "100 %")
    user.drag(view, pixel(user, [0, 0.3, 0.1]), pixel(user, [0, 0.36, 0.1]))
    after = build.weights_of(s.scene, s.selection.skin)
    points = s.scene.mesh(s.doc.owner(layer.id).mesh).points
    painted = after[:, 2] > before[:, 2] + 0.3
    assert painted.any() and (np.abs(points[painted, 1] - 0.33) < 0.25).all()
    eye = view.camera.eye
    assert ((points[painted] * [1, 0, 1]) @ (eye * [1, 0, 1]) > 0).all()  # on the near side alone
    assert after.sum(axis=1) == pytest.approx(1, abs=1e-6)
    user.do("undo")
    assert build.weights_of(s.scene, s.selection.skin) == pytest.approx(before)  # a stroke is one step
    # right through: both sides; and a locked joint keeps what it has
    user.click(panel.through)
    panel.joints.item(0).setCheckState(Qt.Checked)
    user.drag(view, pixel(user, [0, 0.3, 0.1]), pixel(user, [0, 0.36, 0.1]))
    both = build.weights_of(s.scene, s.selection.skin)
    assert both[:, 0] == pytest.approx(before[:, 0], abs=5e-3)  # but for what is too small to be kept
    panel.joints.item(0).setCheckState(Qt.Unchecked)
    user.drag(view, pixel(user, [0, 0.3, 0.1]), pixel(user, [0, 0.36, 0.1]))
    both = build.weights_of(s.scene, s.selection.skin)
    changed = both[:, 2] > before[:, 2] + 0.3
    assert ((points[changed] * [1, 0, 1]) @ (eye * [1, 0, 1]) < 0).any()

    # what is for layers leaves a joint alone; a copy of it hangs beside it
    for name in ("layer_up", "layer_down", "duplicate"):
        user.do(name)
    assert s.selection.thing.name == f"{skeleton.joints[2].name} 1" and len(s.doc.skeletons[0].joints) == 4
    user.do("remove")
    s.selection.select(skeleton.joints[2].id)
    user.wait()
    assert [j.id for j in s.doc.skeletons[0].joints] == [j.id for j in skeleton.joints]

    # a test pose bends the joint for a look, and nothing is changed by it
    doc, shown = s.doc, s.pictures.picture.shapes[s.doc.subjects[0].id].points.copy()
    panel.test.setValue(80)
    user.wait()
    assert np.abs(s.pictures.picture.shapes[doc.subjects[0].id].points - shown).max() > 0.2 and s.doc is doc
    panel.test.setValue(0)
    panel.test.sliderReleased.emit()
    user.wait()
    assert s.pictures.picture.shapes[doc.subjects[0].id].points == pytest.approx(shown)

    # a straight gradient of the joint's weights, by a drag
    user.do("tool_gradient")
    user.drag(view, pixel(user, [0, 0.2, 0.12]), pixel(user, [0, 1.3, 0.12]))
    laid = build.weights_of(s.scene, s.selection.skin)[:, 2]
    assert np.corrcoef(laid, points[:, 1])[0, 1] > 0.95


def test_a_skeleton_is_laid_out_by_dialogs_and_every_step_is_undone(arm_user):
    user, s = arm_user, arm_user.session
    ask = lambda: user.window.skeletons.dialog
    skeleton = lambda: s.doc.skeletons[0]
    bare = s.doc
    user.select("Arm")
    user.do("joint_chain")  # dragged out in the view, then mended in numbers
    user.drag(user.window.viewport, (400, 330), (420, 120))
    dragged = [ask().editors[f"to_{a}"].value - ask().editors[f"from_{a}"].value for a in "xyz"]
    assert dragged[1] > 0.2 and "between the two points" in ask().findChildren(QLabel)[0].text()
    user.type_in(ask().editors["joints"], "3")
    for end, place in (("from", ("0", "0", "0")), ("to", ("0", "150 cm", "0"))):
        for axis, text in zip("xyz", place, strict=True):
            user.type_in(ask().editors[f"{end}_{axis}"], text)
    accept(ask())
    assert s.view.tool == "hand"
    bones = s.scene.values.bones(skeleton())
    assert bones.at_rest[:, :3, 3] == pytest.approx(np.array([[0, 0, 0], [0, 0.5, 0], [0, 1, 0]]), abs=1e-6)
    assert user.window.panels.currentWidget() is user.window.joints

    s.selection.select(skeleton().joints[2].id)
    user.do("joint_subdivide")
    user.type_in(ask().editors["parts"], "2")
    accept(ask())
    assert s.scene.values.bones(skeleton()).at_rest[:, 1, 3] == pytest.approx([0, 0.5, 1, 1.25])
    s.selection.select(skeleton().joints[0].id)
    user.do("joint_rename")  # the joint and all that hang on it
    ask().editors["base"].setText("Left arm")
    accept(ask())
    assert [j.name for j in skeleton().joints] == [f"Left arm 0{k}" for k in (1, 2, 3, 4)]
    do.set_value(s.scene, skeleton().joints[2].id, "turn_z", 0.6)
    user.do("rest_here")  # and what is posed by hand is the rest from here on
    assert not any("turn_z" in j.values for j in skeleton().joints)
    leaned = s.scene.values.bones(skeleton()).at_rest[3, :3, 3]
    assert leaned[0] == pytest.approx(-0.25 * np.sin(0.6), abs=1e-6)
    s.selection.select(skeleton().joints[3].id)
    user.do("joint_mirror")
    accept(ask())
    assert s.selection.thing.name == "Right arm 04"
    assert s.scene.values.bones(skeleton()).at_rest[-1, :3, 3] == pytest.approx(leaned * [-1, 1, 1])

    path = do.add_thing(s.scene, "path", "Garland", spots=((0, 0, 1), (1, 0.5, 1), (2, 0, 1)))
    s.selection.select(path.id)
    user.do("joint_path")
    user.type_in(ask().editors["joints"], "8")
    accept(ask())
    second = s.doc.skeletons[1]
    steps = np.diff(s.scene.values.bones(second).at_rest[:, :3, 3], axis=0)
    assert second.name == "Garland chain" and len(second.joints) == 8
    assert np.linalg.norm(steps, axis=1) == pytest.approx(np.linalg.norm(steps[0]), rel=0.02)
    while s.doc is not bare:
        user.do("undo")


def test_commands_say_what_they_need_before_they_ask(user):
    s = user.session
    for name, needed in {
        "bind_skin": "needs a subject",
        "bake_keys": "needs a skeleton",
        "joint_mirror": "needs a joint",
        "joint_path": "needs a path",
        "clip_new": "is of a skeleton",
        "in_place": "needs a skeleton",
        "joint_beads": "needs a subject",
    }.items():
        user.do(name)
        assert needed in user.notice, name
    do.add_mesh(s.scene, ring(0.3, 0.1, 12, 8), "Buoy")
    user.wait()
    user.do("bind_cage")
    assert "another subject of few faces" in user.notice
    user.do("bind_skin")
    assert "needs a skeleton" in user.notice
    user.do("joint_chain")
    user.drag(user.window.viewport, (400, 330), (420, 120))
    user.type_in(user.window.skeletons.dialog.editors["joints"], "20000")  # no more than a field allows
    accept(user.window.skeletons.dialog)
    assert len(s.doc.skeletons) == 1 and len(s.doc.skeletons[0].joints) <= 10_000


def test_a_walk_is_taken_in_place_and_kept_as_clips(user):
    s = user.session
    scene = Scene(Document(start=1, end=13))
    skeleton = build.add_skeleton(scene, [build.straight([0, 1, 0], [0, 0, 0], 2)], "Puppet", "Puppet")
    root = skeleton.joints[0].id
    for frame, z in ((1, 0.0), (13, 1.2)):
        do.set_key(scene, root, "z", frame, z)
    for frame, angle in ((1, -0.3), (7, 0.3), (13, -0.3)):
        do.set_key(scene, skeleton.joints[1].id, "turn_x", frame, angle)
    s.replace(scene)
    user.wait()
    user.select("Puppet")
    world = lambda frame: s.work.evaluator("window").poses.world(s.doc.find(skeleton.id), frame)[0, :3, 3]
    was = world(13)
    user.do("clip_new")
    user.window.skeletons.dialog.editors["name"].setText("Walk")
    accept(user.window.skeletons.dialog)
    user.do("in_place")
    accept(user.window.skeletons.dialog)
    assert np.ptp([world(f)[2] for f in (1, 7, 13)]) < 1e-9  # it walks on the spot
    grip = next(t for t in s.doc.things if t.kind == "grip")
    assert [s.scene.values.at(grip, "z", f) for f in (1, 13)] == pytest.approx([0.0, 1.2])  # and its travel is kept
    do.set_value(s.scene, skeleton.id, "parent", grip.id)
    assert world(13) == pytest.approx(was)  # as before, when it rides on it

    user.select("Puppet")
    panel = user.window.joints
    user.window.show_panel("joints")
    panel.clips.setCurrentRow(0)
    user.type_in(panel.speed, "2")
    user.click(panel.loops, (8, panel.loops.height() / 2))
    clip = s.doc.find(skeleton.id).clips[0]
    assert clip.loops and clip.speed == 2 and "Walk" in panel.clips.item(0).text()
    user.do("clip_reverse")
    panel.clips.setCurrentRow(1)
    user.do("clip_play")
    turned = s.scene.values.at(s.doc.find(skeleton.joints[1].id), "turn_x", 7)
    assert turned == pytest.approx(0.3)  # the middle is the middle, forwards and backwards
    user.do("clip_remove")
    assert [c.name for c in s.doc.find(skeleton.id).clips] == ["Walk"]
    user.do("undo")
    assert len(s.doc.find(skeleton.id).clips) == 2


def test_a_joint_is_turned_by_its_ring_keyed_and_taken_back_to_rest(arm_user):
    user, s = arm_user, arm_user.session
    skeleton = build.add_skeleton(s.scene, [build.straight([0, 0, 0], [0, 1.5, 0], 3)], "Bones", "Bone")
    user.wait()
    view = user.window.viewport
    user.do("tool_hand")
    user.click(view, pixel(user, [0, 0.5, 0]))
    assert s.selection.thing.name == "Bone 2"  # a click on the joint itself
    user.do("auto_key")
    s.player.go_to(12)
    user.wait()
    rings = dict(view.handles().parts())
    start = rings["turn z"][8]
    end = rings["turn z"][13]
    user.drag(view, start, end)
    assert isinstance(user.thing("Bone 2").values["turn_z"], Curve)
    turned = user.value("Bone 2", "turn_z", 12)
    assert abs(turned) > 0.2
    user.wait()
    assert s.pictures.picture.joints[skeleton.id].world[2, 0, 3] == pytest.approx(-0.5 * np.sin(turned), abs=0.05)
    user.do("joint_rest")
    assert "turn_z" not in user.thing("Bone 2").values


def test_strings_of_beads_swing_are_baked_edited_and_brought_back(user, tmp_path):
    s = user.session
    bead = ring(0.03, 0.012, 8, 6)
    beads = [joined([bead.with_points(bead.points + [x, 1.5 - 0.08 * k, 0]) for k in range(6)]) for x in (0, 0.3)]
    scene = Scene(Document(start=1, end=20))
    do.add_mesh(scene, joined(beads), "Door")
    do.add_thing(scene, "gravity")
    s.replace(scene)
    user.wait()
    user.select("Door")
    user.do("joint_beads")
    accept(user.window.skeletons.dialog)
    skeleton = s.doc.skeletons[0]
    assert len(skeleton.joints) == 12 and [l.kind for l in skeleton.stack] == ["chain"]
    assert [l.kind for l in user.thing("Door").stack] == ["skin"]
    hand = do.add_thing(s.scene, "collider", "Hand", {"radius": 0.12, "y": 1.1, "z": -0.4, "x": 0.15})
    for frame, z in ((1, -0.4), (20, 0.5)):
        do.set_key(s.scene, hand.id, "z", frame, z)
    user.do("solve")
    user.wait(seconds=60)
    user.do("undo")
    user.do("undo")
    user.do("undo")  # the collider and its keys: the strings would be stale now
    for _ in range(3):
        user.do("redo")
    user.wait()
    assert s.work.lanes[skeleton.stack[0].id].state.done  # undo and redo cost no solving

    s.selection.select(skeleton.id)
    user.do("bake_keys")
    user.window.skeletons.dialog.editors["name"].setText("Push")
    accept(user.window.skeletons.dialog)
    user.wait(lambda: bool(s.doc.find(skeleton.id).live) and not s.busy, seconds=60)
    baked = s.doc.find(skeleton.id)
    assert "keys on 12 joints" in user.notice and [c.name for c in baked.clips] == ["Push"]
    assert [l.on for l in baked.stack] == [False]

    # the curve view shows the keys of several joints, and the soft range works across them
    roster = user.window.score.roster
    roster.expandAll()
    roster.scrollToItem(roster.item_for(baked.joints[2].id))
    user.select(baked.joints[1].name)
    other = roster.visualItemRect(roster.item_for(baked.joints[2].id))
    user.click(roster.viewport(), (other.left() + 30, other.center().y()), Qt.ControlModifier)
    assert {j.id for j in s.selection.joints} == {baked.joints[1].id, baked.joints[2].id}
    user.do("curves")
    graph = user.window.score.curves.graph
    tracks = {t for t, _ in graph.curves()}
    assert tracks == {baked.joints[1].id, baked.joints[2].id}
    graph.choose_all()
    turn = next(
        n for n in ("turn_x", "turn_z", "turn_y") if all((j.id, n) in graph.curves() for j in s.selection.joints)
    )
    graph.chosen = {(t, f) for t, f in graph.chosen if t[1] == turn}
    first = next(t for t in graph.curves() if t[1] == turn)
    key = graph.curves()[first].keys[len(graph.curves()[first].keys) // 2]
    at = graph.place(first, key)
    before = {t: c for t, c in graph.curves().items() if t[1] == turn}
    user.drag(graph, (at.x(), at.y()), (at.x(), at.y() + 25))
    after = graph.curves()
    assert all(after[t].keys[0].value != c.keys[0].value for t, c in before.items()) and len(before) == 2

    # clips in the panel: reversed, played, removed; and back to live
    user.do("curves")
    user.window.show_panel("joints")
    s.selection.select(skeleton.id)
    panel = user.window.joints
    user.do("clip_reverse")
    panel.clips.setCurrentRow(1)
    user.do("clip_play")
    assert [c.values is None for c in s.doc.find(skeleton.id).clips] == [False, True]
    assert "played" in panel.clips.item(1).text()
    user.do("back_to_live")
    assert [l.on for l in s.doc.find(skeleton.id).stack] == [True]
    user.wait()
    assert s.work.lanes[skeleton.stack[0].id].state.done  # and nothing was thrown away


def test_live_strands_are_pushed_by_a_hand_that_moves_while_they_play(user):
    scene = Scene(Document(start=1, end=200))
    skeleton = build.add_skeleton(scene, [build.straight([0, 1, 0], [0, 0.2, 0], 8)], "Rope", "Rope")
    do.add_layer(scene, skeleton.id, "chain", values={"radius": 0.02, "drag": 0.0})
    do.add_thing(scene, "gravity")
    ball = do.add_thing(scene, "collider", "Ball", {"radius": 0.15, "y": 0.5, "z": -0.5})
    s = user.session
    s.replace(scene)
    user.wait()
    user.do("live")
    assert s.player.live is not None
    for z in np.linspace(-0.45, 0.3, 16):  # as a hand would
        was = s.player.frame
        do.set_value(s.scene, ball.id, "z", float(z), merge="drag")
        user.wait(lambda was=was: s.player.frame > was + 1)
    looked = s.pictures.picture.joints[skeleton.id]
    assert looked.world[:, 2, 3].max() > 0.25  # it was pushed along
    user.do("live")
    user.wait(lambda: not s.busy)
    assert s.player.live is None and not s.store.size()  # nothing of it was kept


def test_the_sheet_of_stems_tells_frequency_and_period(arm_user):
    user, s = arm_user, arm_user.session
    build.add_skeleton(s.scene, [build.straight([0, 0, 0], [0, 1.5, 0], 3)], "Bones", "Bone")
    user.select("Bones")
    user.do("add_stems")
    assert s.selection.thing.kind == "stems"
    texts = [l.text() for l in user.window.sheet.findChildren(QLabel)]
    assert "Sways as a whole" in texts and sum("Hz, " in t and "frames" in t for t in texts) == 4


def test_a_rig_from_a_file_comes_in_with_its_clips(user, tmp_path, store):
    from tests.formats.test_skeletons import clips, printed, rigged_scene

    scene, subject, skeleton, _ = rigged_scene()
    clips.new_clip(scene, skeleton, "Lean", 1, 12)
    path = printed(scene, "skinned_mesh", tmp_path, store, subject=subject).paths[0]
    user.window.files.import_mesh(path)
    user.wait(lambda: getattr(user.window.files, "import_dialog", None) is not None)
    dialog = user.window.files.import_dialog
    assert "Skeleton of 4 joints, with clips: Lean" in dialog.words.text()
    dialog.accept()
    user.wait(lambda: bool(user.session.doc.skeletons) and not user.session.busy)
    assert "4 joints" in user.notice and user.session.selection.skeleton.clips[0].name == "Lean"
    (tmp_path / "torn.glb").write_bytes(path.read_bytes()[:400])
    user.window.files.import_mesh(tmp_path / "torn.glb")
    user.wait(lambda: "torn.glb" in user.notice)
