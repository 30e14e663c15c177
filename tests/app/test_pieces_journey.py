"""Pieces by hand: a jar is broken, moved, let go; a cut that is edited stops; a figure goes limp."""

import numpy as np
import pytest
import trimesh

from estampa import edits as do
from estampa.geometry.mesh import Mesh
from estampa.geometry.pieces import Pieces
from tests.solve.test_limp import puppet


def globe(user, detail=3):
    ball = trimesh.creation.icosphere(detail, 0.4)
    return do.add_mesh(user.session.scene, Mesh.from_triangles(ball.vertices + [0, 1, 0], ball.faces), "Globe")


def drawn(user, name):
    return user.session.pictures.picture.shapes[user.thing(name).id]


def test_a_globe_is_broken_parted_in_turn_and_whole_again(user):
    s = user.session
    globe(user)
    user.wait()
    user.select("Globe")
    whole = drawn(user, "Globe").points.copy()
    user.do("add_break")
    user.wait()
    broken = s.selection.thing
    assert broken.kind == "break"
    assert np.array_equal(drawn(user, "Globe").points, whole), "while nothing moves it is drawn as it was"
    user.do("pieces")
    user.wait()
    inks = drawn(user, "Globe").inks
    assert len(np.unique(inks, axis=0)) > 30, "each piece has an ink of its own, for looking"
    user.do("pieces")
    user.wait()
    user.do("add_part")
    user.wait()
    part = s.selection.thing
    shown = drawn(user, "Globe")
    assert Pieces.each(shown.mesh).count > 30 and np.abs(shown.points - [0, 1, 0]).max() > 0.6
    s.set(part.id, {"order": "y", "strength": 0.0})
    user.wait()
    assert np.array_equal(drawn(user, "Globe").points, whole)
    # another throw of the dice cuts anew; undo brings the first back from what is kept
    s.set(broken.id, {"seed": 9})
    s.set(part.id, {"strength": 1.0})
    user.wait()
    other = drawn(user, "Globe").points
    user.do("undo")
    user.do("undo")
    s.set(part.id, {"strength": 1.0})
    user.wait()
    assert drawn(user, "Globe").points.shape != other.shape or not np.array_equal(drawn(user, "Globe").points, other)


def test_a_cut_that_is_edited_meanwhile_stops_and_the_last_one_is_shown(user):
    s = user.session
    globe(user, 5)
    user.select("Globe")
    user.do("add_break")
    broken = s.selection.thing
    for count in (400, 300, 50):
        s.set(broken.id, {"count": count, "smallest": 0.0})
    user.do("add_shrink")
    s.set(s.selection.thing.id, {"by": 0.2})
    user.wait()
    assert Pieces.each(drawn(user, "Globe").mesh).count == 50
    assert "wrong" not in user.notice


def test_a_bowl_cannot_be_broken_and_the_words_say_what_to_do(user):
    s = user.session
    ball = trimesh.creation.icosphere(2, 0.4)
    do.add_mesh(s.scene, Mesh.from_triangles(ball.vertices, ball.faces[:-20]), "Bowl")
    user.select("Bowl")
    user.do("add_break")
    user.wait()
    assert "Thicken" in user.notice
    user.do("undo")
    user.wait()
    assert not user.thing("Bowl").stack


def test_a_figure_is_made_limp_and_falls(user):
    s = user.session
    scene, skeleton, _ = puppet(24, up=0.5)
    scene.undo()
    s.replace(scene)
    do.set_values(s.scene, skeleton, {})
    for thing in list(s.doc.find(skeleton).stack):
        do.remove(s.scene, thing.id)
    user.select("Puppet")
    user.do("make_limp")
    dialog = user.window.skeletons.dialog
    box = lambda part, side: dialog.boxes[part, side]
    assert box("upper_arm", "left").currentText() == "upper arm left", "proposed by its name and its place"
    assert not dialog.report.text().startswith("Missing") and dialog.weight.value == 70
    box("shin", "right").setCurrentIndex(0)
    assert "Missing: one shin" in dialog.report.text()
    dialog.proposals.click()
    dialog.accept()
    assert "11 parts of its body are told" in user.notice
    layer = s.selection.thing
    assert layer.kind == "limp"
    user.do("solve")
    lane = lambda: s.work.lanes.get(layer.id)
    solved = lambda: lane() is not None and lane().state is not None and lane().state.done
    user.wait(solved, 240)  # with kernels that are compiled first
    s.player.go_to(24)
    user.wait()
    now = s.pictures.picture.joints[skeleton].world[0, 1, 3]
    assert now < 1.2, "it was let go at 1.45 m"
    # the cone of an arm is taken by its rim, and opened
    s.player.go_to(1)
    user.wait()
    arm = next(j for j in s.doc.find(skeleton).joints if j.name == "upper arm left")
    s.selection.select(arm.id)
    user.wait()
    pane = user.window.active_pane
    limits = pane.limits()[0]
    pixel = lambda cone: pane.camera.project(limits.rim(cone, 0.9)[None], pane.width(), pane.height())[0][0]
    before, wanted = arm.constant("cone"), 0.7
    user.drag(pane, pixel(before), pixel(wanted))
    user.wait()
    assert s.doc.find(arm.id).constant("cone") == pytest.approx(wanted, abs=0.05)
    user.do("undo")
    assert s.doc.find(arm.id).constant("cone") == before
    user.do("undo")
    assert not s.doc.find(skeleton).stack


def test_cut_points_are_seen_and_taken_in_hand(user):
    s = user.session
    globe(user)
    user.wait()
    user.select("Globe")
    user.do("add_break")
    s.set(s.selection.thing.id, {"count": 12})
    user.wait()
    layer, pane = s.selection.thing, user.window.active_pane
    have = pane.cut_points(layer)
    assert len(have) == 12 and np.linalg.norm(have - [0, 1, 0], axis=1).max() < 0.4
    user.do("tool_place")
    user.click(pane)
    user.wait()
    path = s.doc.find(s.doc.find(layer.id).constant("path"))
    assert len(path.spots) == 13 and np.allclose([p[:3] for p in path.spots[:12]], have)
    assert len(pane.cut_points(layer)) == 13
    user.do("tool_hand")
    user.wait()
    start = pane.camera.project(pane.spots()[0][3:4], pane.width(), pane.height())[0][0]
    user.drag(pane, start, start + [30, 0])
    user.wait()
    moved = np.array([p[:3] for p in s.doc.find(path.id).spots])
    assert (np.linalg.norm(moved[:12] - have, axis=1) > 0.01).sum() == 1
    user.do("undo")
    user.do("undo")
    assert s.doc.find(layer.id).constant("gather") == "even" and s.doc.find(path.id) is None


def test_a_figure_is_kept_as_an_asset_and_put_beside_itself(user, tmp_path, monkeypatch):
    monkeypatch.setenv("ESTAMPA_ASSETS", str(tmp_path))
    s = user.session
    user.do("put_asset")
    assert "No assets yet" in user.window.assets.dialog.empty.text()
    user.window.assets.dialog.reject()
    scene, skeleton, _ = puppet(8)
    s.replace(scene)
    user.wait()
    user.select("Puppet")
    user.do("keep_asset")
    user.window.assets.dialog.accept()
    user.wait()
    assert "Kept" in user.notice and (tmp_path / "Puppet.estampa").exists() and (tmp_path / "Puppet.png").exists()
    user.do("put_asset")
    dialog = user.window.assets.dialog
    assert dialog.list.count() == 1 and dialog.in_place.text() == "In the place of Puppet"
    dialog.accept()
    user.wait()
    assert [t.name for t in s.doc.skeletons] == ["Puppet", "Puppet 1"]
    user.do("undo")
    user.select("Puppet")
    user.do("put_asset")
    user.click(user.window.assets.dialog.in_place)
    user.wait()
    assert [t.on for t in s.doc.skeletons] == [False, True]


def test_very_many_cells_are_asked_for_first(user):
    s = user.session
    globe(user)
    user.select("Globe")
    user.do("add_break")
    layer = s.selection.thing
    s.set(layer.id, {"count": 90_000})
    assert "90,000 cells take some" in user.window.question.text() and "GB" in user.window.question.text()
    user.window.question.defaultButton().click()
    user.wait()
    assert s.doc.find(layer.id).constant("count") == 60
