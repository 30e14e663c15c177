"""What a user does, in the real window: clicks, drags and keys."""

import sys
import time
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QMimeData, QPointF, Qt
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QPushButton

from estampa import edits as do
from estampa import open_scene, save_scene
from estampa.app.session import Session
from estampa.app.shell.finder import Finder
from estampa.app.shell.window import Window
from estampa.formats.obj import write_obj
from estampa.geometry.primitives import joined, sheet
from estampa.inspect.lanes import SOLVED, STALE
from estampa.scene.scene import Scene
from estampa.solve.cloth.kind import Cloth
from tests.app.conftest import answer
from tests.conftest import DEAD


def import_file(user, path, unit=None):
    user.window.files.import_mesh(path)
    user.wait(lambda: user.window.files.import_dialog is not None and user.window.files.import_dialog.isVisible())
    dialog = user.window.files.import_dialog
    if unit:
        dialog.unit.setCurrentIndex(dialog.unit.findData(unit))
    words = dialog.size.text()
    dialog.accept()
    user.wait()
    return words


def test_from_a_mesh_file_to_printed_files_and_back(user, tmp_path):
    """Import, map, layers, wind, keys, play, solve, change, undo, print, compare, save, reopen."""
    banner = sheet(120, 80, 25, 17)
    banner.points[:, [1, 2]] = banner.points[:, [2, 1]] * [-1, 1]
    write_obj(tmp_path / "banner.obj", joined([banner, sheet(10, 10, 3, 3)]))
    w, s = user.window, user.session
    assert "1.2 m × 0.8 m" in import_file(user, tmp_path / "banner.obj", "cm")
    subject = s.selection.subject
    assert (subject.name, s.scene.mesh(subject.mesh).count) == ("Banner", 434)

    # choose the top edge by box in the viewport and make a map of it
    user.do("tool_pick")
    v = w.viewport
    v.camera = v.camera.__class__(target=np.array([0.6, -0.4, 0]), distance=3, yaw=0, pitch=0)
    pixels, _ = v.camera.project(s.pictures.picture.shapes[subject.id].points, v.width(), v.height())
    top = np.abs(s.pictures.picture.shapes[subject.id].points[:, 1]) < 1e-9
    top[425:] = False
    low, high = pixels[top].min(axis=0) - 5, pixels[top].max(axis=0) + 5
    user.drag(v, low, high)
    assert s.selection.chosen_of(subject)[:25].all() and not s.selection.chosen_of(subject)[25:425].any()
    user.click(w.maps.new)
    assert s.selection.subject.maps and s.scene.arrays.get(s.selection.subject.maps[0].weights)[:25].min() == 1

    # layers: bend, noise, cloth; forces: gravity and wind with two keys
    for name in ("add_bend", "add_cloth", "add_noise", "add_gravity"):
        if name != "add_gravity":
            user.select("Banner")
        user.do(name)
    assert [l.kind for l in user.thing("Banner").stack] == ["bend", "cloth", "noise"]
    assert user.value("Cloth", "pins", 1) == s.selection.subject.maps[0].id if s.selection.subject else True
    user.do("add_wind")
    user.do("panel_sheet")
    user.type_in(w.score.end_box, "24")
    speed = w.sheet.row("speed")
    user.type_in(speed.editor, "18 km/h")
    user.click(speed.key)
    s.player.go_to(16)
    user.type_in(w.sheet.row("speed").editor, "9")
    wind = user.thing("Wind")
    assert [(k.frame, k.value) for k in wind.curve("speed").keys] == [(1, 5.0), (16, 9.0)]

    # play: it solves beside the window and fills the lane
    user.keys(v, Qt.Key_Space)
    assert s.player.playing
    cloth = user.thing("Cloth").id
    user.wait(
        lambda: cloth in s.work.lanes and s.work.lanes[cloth].state is not None and s.work.lanes[cloth].state.done
    )
    user.keys(v, Qt.Key_Space)
    user.wait()
    assert not s.player.playing and s.pictures.picture.shapes[subject.id].is_current
    assert np.nanmax(s.work.lanes[cloth].reach) > 0.02

    # a change goes stale with its reason, undo brings it back without solving
    user.select("Cloth")
    user.type_in(w.sheet.row("damping").editor, "2")
    user.wait(lambda: (s.work.lanes[cloth].state.states == STALE).all())
    assert s.work.lanes[cloth].state.why == "Cloth · damping" and "stale: Cloth · damping" in w.score.status.text()
    assert not s.pictures.picture.shapes[subject.id].is_current
    user.do("undo")
    user.wait()
    assert s.work.lanes[cloth].state.done and s.pictures.picture.shapes[subject.id].is_current

    # two prints, run and read back; the file plays beside the live subject
    user.select("Banner")
    user.do("add_vertex_cache")
    user.select("Banner")
    user.do("add_vertex_texture")
    user.do("press_all")
    user.wait(lambda: len(w.press.results) == 2)
    user.wait()
    assert all(r.passed for r in w.press.results.values())
    assert sorted(p.suffix for p in w.press.folder.iterdir()) == [".exr", ".exr", ".glb", ".json", ".usdc"]
    card = w.press.cards[user.thing("Vertex animation texture").id]
    user.click(next(b for b in card.findChildren(QPushButton) if b.text() == "Show beside"))
    user.wait(lambda: "beside" in s.pictures.picture.shapes)
    assert (
        np.abs(s.pictures.picture.shapes["beside"].points - s.pictures.picture.shapes[subject.id].points).max() < 1e-3
    )

    # save, close, reopen: the same scene, the solved frames still there
    assert s.desk.save(tmp_path / "banner.estampa")
    doc = s.doc
    w.files.open(tmp_path / "banner.estampa")
    user.wait(lambda: s.scene.path is not None and s.doc is not doc)
    user.wait()
    assert s.doc.things == doc.things and s.work.lanes[cloth].state.done


def test_a_solve_is_cancelled_and_the_window_stays_live(flag_user, monkeypatch):
    user, s = flag_user, flag_user.session
    step = Cloth.step
    monkeypatch.setattr(Cloth, "step", lambda *a: (time.sleep(0.02), step(*a))[1])  # however quick the machine is
    do.set_range(s.scene, end=400)
    user.do("solve")
    user.wait(lambda: s.work.jobs.busy and user.window.score.bar.value() > 0)
    begun, felt = s.work.jobs._running[0], []
    for frame in range(1, 20):
        s.player.go_to(frame)
        QTest.qWait(15)
        felt.append(s.work.jobs.busy and s.work.jobs._running[0] is begun)
    assert s.player.frame == 19 and all(felt), "hands are felt nineteen times while one solve goes on"
    user.click(user.window.score.cancel_button)
    user.wait()
    solved = (s.work.lanes[user.thing("Cloth").id].state.states == SOLVED).sum()
    assert 0 < solved < 400 and not s.work.wants_solved


def test_editing_a_late_key_in_the_lane_keeps_the_frames_before_it(flag_user):
    user, s, lanes = flag_user, flag_user.session, flag_user.window.score.lanes
    wind = user.thing("Wind").id
    for frame, value in ((1, 4.0), (6, 4.0), (10, 7.0)):
        do.set_key(s.scene, wind, "speed", frame, value)
    user.do("solve")
    user.wait()
    cloth = user.thing("Cloth").id
    assert s.work.lanes[cloth].state.done

    def row(name):
        return next(box for thing, box in lanes.rows() if thing.name == name)

    y = row("Wind").top() + 11
    user.drag(lanes, (lanes.x_of(10), y), (lanes.x_of(12), y))
    user.wait()
    assert [k.frame for k in user.thing("Wind").curve("speed").keys] == [1, 6, 12]
    assert s.work.lanes[cloth].state.states.tolist() == [SOLVED] * 6 + [STALE] * 6
    assert s.work.lanes[cloth].state.why == "Wind · speed"
    user.do("undo")  # the whole drag is one step
    user.wait()
    assert s.work.lanes[cloth].state.done

    # unfold the lane and drag the key's value in its curve
    user.click(lanes, (12, y))
    box = row("Wind")
    assert box.height() > 60
    inner = lanes._curve_box(box)
    user.drag(lanes, (lanes.x_of(10), inner.top()), (lanes.x_of(10), inner.top() + 20))
    assert user.thing("Wind").curve("speed").keys[-1].value < 6.9
    user.keys(lanes, Qt.Key_Delete)
    assert len(user.thing("Wind").curve("speed").keys) == 2
    user.drag(lanes, (lanes.x_of(2), 10), (lanes.x_of(9), 10))  # scrub on the ruler
    assert s.player.frame == 9


def test_grips_are_moved_turned_and_sized_by_their_handles(flag_user):
    user, s, v = flag_user, flag_user.session, flag_user.window.viewport
    user.select("Lean grip")
    user.wait()
    before = v.grip_values(user.thing("Lean grip"))
    for handle, channel in (("move x", "x"), ("move y", "y"), ("size", "size"), ("move", "y"), ("turn z", "turn_z")):
        handles = v.handles()
        line = dict(handles.parts())[handle]
        start = line[-1] if handle != "turn z" else next(p for p in line if handles.under(*p) == handle)
        assert handles.under(*start) == handle
        steps = len(s.scene._undo)
        user.drag(v, start, start + [22, -14])
        after = v.grip_values(user.thing("Lean grip"))
        assert after[channel] != before[channel], handle
        if handle == "move x":
            assert after["y"] == before["y"] and after["z"] == before["z"]
        assert len(s.scene._undo) == steps + 1, "a drag is one step"
        user.do("undo")
        assert v.grip_values(user.thing("Lean grip")) == before


def test_maps_are_made_and_changed_with_the_tools(user):
    s, w, v = user.session, user.window, user.window.viewport
    subject = do.add_mesh(s.scene, joined([sheet(1, 1, 9, 9), sheet(0.4, 0.4, 5, 5)]), "Mats")
    s.selection.select(subject.id)
    user.wait()
    v.camera = v.camera.__class__(target=np.array([0.5, 0, 0.5]), distance=3, yaw=0, pitch=1.5)
    user.do("tool_pick")
    pixels, _ = v.camera.project(s.pictures.picture.shapes[subject.id].points, v.width(), v.height())
    corner = pixels[8]  # only the large mat reaches there
    user.click(v, corner)
    assert np.flatnonzero(s.selection.chosen_of(subject)).tolist() == [8]
    user.click(v, pixels[80], Qt.ShiftModifier)
    assert s.selection.chosen_of(subject).sum() == 2
    user.click(v, corner, Qt.ControlModifier)
    assert np.flatnonzero(s.selection.chosen_of(subject)).tolist() == [80]
    QTest.mouseDClick(v, Qt.LeftButton, Qt.NoModifier, QPointF(*corner).toPoint())
    assert s.selection.chosen_of(subject)[:81].all() and not s.selection.chosen_of(subject)[81:].any()
    user.do("map_new")
    user.do("choose_uncovered")
    assert (
        np.flatnonzero(s.selection.chosen_of(subject)).tolist() == list(range(81, 106)) and "25 vertices" in user.notice
    )
    weights = lambda: s.scene.arrays.get(s.selection.subject.map(s.selection.map_id).weights)
    user.type_in(w.maps.amount, "0.25")
    user.do("map_set")
    assert (weights()[81:] == 0.25).all() and (weights()[:81] == 1).all()
    user.do("map_add")
    assert (weights()[81:] == 0.5).all()
    user.do("choose_none")
    user.do("map_invert")
    assert (weights()[:81] == 0).all()
    user.do("tool_gradient")
    user.drag(v, pixels[36], pixels[44])  # straight across the large mat
    across = weights()[36:45]
    assert across[0] < 0.05 and across[-1] > 0.95 and (np.diff(across) > 0).all()
    user.do("map_smooth")
    user.do("map_remove")
    assert not s.selection.subject.maps
    for _ in range(2):
        user.do("undo")
    assert np.allclose(weights()[36:45], across)


def test_the_stack_is_reordered_renamed_switched_and_duplicated(flag_user):
    user, roster = flag_user, flag_user.window.score.roster
    order = lambda: [l.name for l in user.thing("Flag").stack]
    user.select("Cloth")
    target = roster.visualItemRect(roster.item_for(user.thing("Lean").id))
    event = QDropEvent(
        QPointF(target.center().x(), target.top() + 1), Qt.MoveAction, QMimeData(), Qt.LeftButton, Qt.NoModifier
    )
    roster.drop_layer(user.thing("Cloth").id, user.thing("Lean").id, after=False)
    roster.dropEvent(event)  # a drop onto the tree never tears rows out of it
    assert order() == ["Cloth", "Lean"] and roster.topLevelItem(0).childCount() == 2
    user.keys(user.window, Qt.Key_Down, Qt.ControlModifier)
    assert order() == ["Lean", "Cloth"]
    user.do("duplicate")
    assert order() == ["Lean", "Cloth", "Cloth 2"]
    user.do("switch")
    assert not user.thing("Cloth 2").on
    user.do("rename")
    editor = roster.viewport().findChild(type(user.window.sheet._head.name))
    QTest.keyClicks(editor, "Spare")
    QTest.keyClick(editor, Qt.Key_Return)
    QApplication.processEvents()
    assert order()[-1] == "Spare"
    user.do("remove")
    assert order() == ["Lean", "Cloth"]
    user.do("undo")
    assert order()[-1] == "Spare"


def test_every_channel_is_dragged_typed_past_its_range_keyed_and_reset(flag_user):
    user, w = flag_user, flag_user.window
    user.select("Cloth")
    row = w.sheet.row("density")
    user.drag(row.editor, (40, 12), (90, 12))
    dragged = user.value("Cloth", "density", 1)
    assert dragged > 0.2 and len(user.session.scene._undo) == 1
    user.type_in(row.editor, "2500 gsm")  # past the soft range of 1 kg/m2
    assert user.value("Cloth", "density", 1) == pytest.approx(2.5)
    user.keys(row.editor, Qt.Key_Up)
    assert user.value("Cloth", "density", 1) > 2.5
    user.click(w.sheet.row("density").key)
    assert user.thing("Cloth").curve("density")
    user.click(w.sheet.row("density").reset)
    assert "density" not in user.thing("Cloth").values
    user.type_in(w.sheet.row("density").editor, "12 cm")
    assert "does not fit here" in user.notice
    assert w.sheet.row("density").label.toolTip().startswith("Density: Mass of a square metre")


def test_remarks_are_counted_and_lead_to_the_culprit(flag_user):
    user, w = flag_user, flag_user.window
    cloth = user.thing("Cloth")
    do.set_value(user.session.scene, cloth.id, "pins", None)
    user.wait()
    assert w.panels.tabText(5) == "Remarks (1)"
    user.do("panel_remarks")
    w.remarks.list.itemClicked.emit(w.remarks.list.item(0))
    assert user.session.selection.selected_id == cloth.id and "held by nothing" in w.remarks.list.item(0).text()


def test_the_finder_lists_every_command_and_runs_one(flag_user):
    user, w = flag_user, flag_user.window
    user.keys(w, Qt.Key_J, Qt.ControlModifier)
    finder = w.findChild(Finder)
    assert finder.list.count() == len(w.actions_by_name)
    QTest.keyClicks(finder.line, "to the last")
    assert "End" in finder.list.item(0).text()
    QTest.keyClick(finder.line, Qt.Key_Return)
    assert user.session.player.frame == 12
    shortcuts = [a.shortcut().toString() for a in w.actions_by_name.values() if not a.shortcut().isEmpty()]
    assert len(shortcuts) == len(set(shortcuts)), "two commands share a shortcut"
    assert all(a.toolTip() and a.text() for a in w.actions_by_name.values())


def test_bad_files_are_told_in_the_window_and_change_nothing(flag_user, tmp_path):
    user, s = flag_user, flag_user.session
    doc = s.doc
    (tmp_path / "cut.obj").write_text("v 0 0 0\nv 1 0 0\nf 1 2 9\n")
    (tmp_path / "torn.estampa").write_bytes(b"PK\x03\x04 torn")
    for name, words in (
        ("cut.obj", "names a point that is not in the file"),
        ("torn.estampa", "torn or is no Estampa scene"),
    ):
        user.window.files.open(tmp_path / name)
        user.wait()
        assert words in user.notice and name in user.notice
        assert s.doc is doc
    user.window.press.folder = tmp_path / "cut.obj" / "no"
    do.add_thing(s.scene, "vertex_cache", "Cache")
    user.do("press_all")
    user.wait()
    assert "Earlier files are untouched" in user.notice


def test_work_left_by_a_crash_is_offered_kept_until_answered_and_recovered(flag_user, tmp_path):
    user, s = flag_user, flag_user.session
    path = save_scene(s.scene, tmp_path / "flag.estampa")
    do.set_range(s.scene, end=33)
    s.desk.autosave_now()
    user.wait()
    kept = s.desk.autosave.file(path)
    crashed = kept.rename(kept.with_name(f"{kept.name.split('@')[0]}@{DEAD}.autosave"))
    s.replace(open_scene(path))
    assert s.doc.end == 12
    user.window.files.offer_recovery()
    assert "autosave" in user.notice
    do.set_range(s.scene, end=20)  # work goes on before the question is answered
    s.desk.autosave_now()
    user.wait()
    assert s.desk.save() and crashed.exists(), "this window's save is no answer for the other's work"
    s.replace(open_scene(path))
    user.window.files.offer_recovery()
    user.click(user.window.notice.first)
    user.wait()
    assert s.doc.end == 33 and s.scene.is_changed and s.scene.path == path
    user.do("save")
    user.wait()
    assert open_scene(path).doc.end == 20, "somebody saved it after the crash: it is asked for"
    answer(user, "Save over it")
    user.wait(lambda: not s.scene.is_changed)
    assert open_scene(path).doc.end == 33 and not crashed.exists()


def test_a_scene_that_changed_on_disk_is_not_saved_over_unasked(flag_user, tmp_path):
    user, s = flag_user, flag_user.session
    path = save_scene(s.scene, tmp_path / "flag.estampa")
    s.replace(open_scene(path))
    other = open_scene(path)
    do.set_range(other, end=50)
    save_scene(other)
    do.set_range(s.scene, end=70)
    user.do("save")
    user.wait()
    assert open_scene(path).doc.end == 50
    answer(user, "Save over it")
    user.wait(lambda: not s.scene.is_changed)
    assert open_scene(path).doc.end == 70


def test_a_name_that_is_there_is_asked_about_whatever_ending_was_typed(flag_user, tmp_path, monkeypatch):
    user, s = flag_user, flag_user.session
    other = save_scene(Scene(), tmp_path / "walk.estampa")
    before = other.read_bytes()
    typed = {"walk": other, "walk.v002": tmp_path / "walk.v002.estampa"}
    for name, becomes in typed.items():
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, n=name: (str(tmp_path / n), ""))
        user.do("save_as")
        if becomes == other:
            answer(user, "Keep it")
            assert other.read_bytes() == before and s.scene.path is None
        user.wait()
        assert becomes.exists()
    assert s.scene.path == tmp_path / "walk.v002.estampa" and other.read_bytes() == before


def test_a_second_window_on_a_scene_cannot_overwrite_it(flag_user, tmp_path, qtbot, monkeypatch):
    user = flag_user
    path = save_scene(user.session.scene, tmp_path / "flag.estampa")
    user.session.replace(open_scene(path))
    second = Window(Session(user.session.store))
    qtbot.addWidget(second, before_close_func=lambda w: setattr(w, "_left", True))
    second.show()
    second.session.replace(open_scene(path))
    assert "open in another window" in second.notice.text.text()
    do.set_range(second.session.scene, end=99)
    before = path.read_bytes()
    assert not second.session.desk.save()
    assert path.read_bytes() == before
    monkeypatch.chdir(tmp_path)
    assert user.session.desk.save(Path("flag.estampa")), "another way to its own file is no other window"
    assert second.session.desk.save(tmp_path / "other.estampa")
    assert not user.session.desk.save(tmp_path / "other.estampa"), "nor can it be saved over by its first window"
    assert "open in another window" in user.notice
    assert user.session.desk.save(path)
    third = Window(Session(user.session.store))
    qtbot.addWidget(third, before_close_func=lambda w: setattr(w, "_left", True))
    third.show()
    third.session.replace(open_scene(path))
    user.session.replace(Scene())  # the first window lets go of it
    do.set_range(third.session.scene, end=98)
    assert third.session.desk.save() and "yours now" in third.notice.text.text() and third.session.desk.lock_is_ours


def test_an_empty_window_says_what_to_do_next(user):
    w = user.window
    user.wait()
    assert "Import a mesh" in w.score.roster.topLevelItem(0).text(0)
    for panel, words in (
        ("press", "Nothing to deliver yet"),
        ("maps", "Select a subject"),
        ("sheet", "Select a thing"),
    ):
        user.do(f"panel_{panel}")
        widget = w.panels.currentWidget()
        texts = " ".join(l.text() for l in widget.findChildren(type(w.maps.hint)) if l.isVisible())
        assert words in texts, panel
    user.do("add_cloth")
    assert "Select a subject" in user.notice
    user.do("press_all")
    assert "no print yet" in user.notice


def test_views_shade_wire_and_frame(flag_user):
    user, v = flag_user, flag_user.window.viewport
    do.add_layer(user.session.scene, user.thing("Flag").id, "noise", values={"height": 0.3})

    def picture():
        user.wait()
        return v.grab().toImage()

    seen = [picture()]
    for name in ("wire", "shading", "shading", "shading", "yarns"):
        user.do(name)
        seen.append(picture())
    user.drag(v, (200, 200), (300, 220), Qt.RightButton)
    seen.append(picture())
    user.drag(v, (200, 200), (240, 200), Qt.MiddleButton)
    seen.append(picture())
    user.do("frame_selection")
    seen.append(picture())
    for name, axis in (("look_front", 2), ("look_side", 0), ("look_above", 1)):
        user.do(name)
        seen.append(picture())
        assert v.camera.axes[2][axis] > 0.99
    same = [i for i, (a, b) in enumerate(zip(seen, seen[1:], strict=False)) if a == b]
    assert not same, "a view command that changes no pixel"
    user.do("night")
    user.do("night")


def test_drawing_and_closing_leaves_the_interpreter_whole(flag_user):
    """A release of the Qt binding dropped a reference to None at every painter call; a few minutes of it end Python."""
    lanes = flag_user.window.score.lanes
    lanes.grab()
    before = sys.getrefcount(None)
    for _ in range(200):
        lanes.grab()
    assert sys.getrefcount(None) > before - 200
