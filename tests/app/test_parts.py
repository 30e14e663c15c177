"""Parts of the window on their own: fields, work beside the window, files and leaving."""

import sys
import threading
import time

import numpy as np
import pytest
import trimesh
from PySide6.QtCore import QMimeData, QPointF, Qt, QUrl
from PySide6.QtGui import QDropEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QPushButton

from estampa import edits as do
from estampa import open_scene, save_scene, warm
from estampa.app.model.tasks import Jobs, Latest, Task
from estampa.app.panels.fields import NumberField
from estampa.errors import Cancelled, EstampaError
from estampa.geometry.primitives import sheet
from estampa.kinds.channels import Channel
from estampa.scene import recovery
from estampa.scene.scene import Scene
from tests.app.conftest import answer
from tests.conftest import DEAD


def test_a_field_shows_units_and_keeps_its_hard_range(qtbot):
    field = NumberField(Channel("number", 0.2, "Size.", title="Size", unit="m", soft=(0, 1), hard=(0, 3)))
    qtbot.addWidget(field)
    field.show_value(0.2)
    field.resize(160, 24)
    field.show()
    heard, refused = [], []
    field.changed.connect(heard.append)
    field.refused.connect(refused.append)

    def typed(text):
        field.edit("")
        QTest.keyClicks(field._editor, text)
        QTest.keyClick(field._editor, Qt.Key_Return)

    typed("45 cm")
    assert heard == [0.45] and not field._editor.isVisible()
    typed("20")
    assert heard[-1] == 3, "held at the edge of the hard range"
    typed("wide")
    assert len(refused) == 1 and field._editor.isVisible(), "what is wrong stays to be mended"
    QTest.keyClick(field._editor, Qt.Key_Escape)
    assert not field._editor.isVisible() and field.value == 3
    QTest.keyClick(field, Qt.Key_Down, Qt.ShiftModifier)
    assert field.value == pytest.approx(2.95)
    QTest.keyClick(field, Qt.Key_7)  # typing begins at once
    assert field._editor.isVisible() and field._editor.text() == "7"


def test_only_the_newest_question_is_answered(qtbot):
    latest, answers, gate = Latest("test"), [], threading.Event()
    latest.ask(lambda: gate.wait(5), lambda answer, trouble: answers.append("first"))
    qtbot.waitUntil(lambda: latest._under_way == 1)
    for i in range(5):
        latest.ask(lambda i=i: i, lambda answer, trouble: answers.append(answer))
    gate.set()
    qtbot.waitUntil(lambda: not latest.busy)
    assert answers == ["first", 4]
    latest.ask(lambda: 1 / 0, lambda answer, trouble: answers.append(type(trouble)))
    qtbot.waitUntil(lambda: not latest.busy)
    assert answers[-1] is ZeroDivisionError
    latest.end()


def test_jobs_run_in_turn_with_progress_and_cancel(qtbot):
    jobs, seen, shares, told = Jobs(), [], [], []
    jobs.progress.connect(lambda share, text: shares.append((share, text)))
    jobs.trouble.connect(told.append)

    def endless(progress, cancelled):
        progress(0.5, "half way")
        while not cancelled():
            time.sleep(0.002)
        raise Cancelled

    jobs.add(Task("Endless", endless, seen.append))
    jobs.add(Task("Waiting", lambda progress, cancelled: "never", seen.append))
    qtbot.waitUntil(lambda: shares == [(0.5, "half way")])
    jobs.cancel()
    qtbot.waitUntil(lambda: not jobs.busy)
    assert seen == [] and told == []
    jobs.add(Task("Good", lambda progress, cancelled: 7, seen.append))
    jobs.add(Task("Bad", lambda progress, cancelled: [][1], seen.append))
    qtbot.waitUntil(lambda: not jobs.busy)
    assert seen == [7] and isinstance(told[0], EstampaError)
    assert "your scene is unharmed" in str(told[0]) and "IndexError" in told[0].detail
    jobs.end()


def test_an_stl_on_z_is_welded_turned_and_sized(user, tmp_path):
    trimesh.creation.box((200, 300, 50)).export(tmp_path / "crate.stl")
    files = user.window.files
    files.import_mesh(tmp_path / "crate.stl")
    user.wait(lambda: files.import_dialog is not None and files.import_dialog.isVisible())
    dialog = files.import_dialog
    assert dialog.unit.currentData() == "mm" and dialog.weld.isChecked() and "8 vertices" in dialog.words.text()
    dialog.up.setCurrentIndex(1)
    assert dialog.size.text().startswith("0.2 m × 5 cm × 0.3 m")
    dialog.weld.setChecked(False)
    assert "12 island(s)" in dialog.words.text()
    dialog.weld.setChecked(True)
    dialog.unit.setCurrentIndex(0)  # metres: suspiciously large
    dialog.unit.setCurrentIndex(dialog.unit.findData("in"))
    dialog.accept()
    user.wait()
    mesh = user.session.scene.mesh(user.session.selection.subject.mesh)
    assert mesh.count == 8 and np.allclose(mesh.size, np.array([200, 50, 300]) * 0.0254)


def test_a_mesh_dropped_on_the_window_is_imported(user, tmp_path):
    trimesh.creation.box().export(tmp_path / "box.ply")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(tmp_path / "box.ply"))])
    event = QDropEvent(QPointF(10, 10), Qt.CopyAction, data, Qt.LeftButton, Qt.NoModifier)
    user.window.dropEvent(event)
    user.wait(lambda: user.window.files.import_dialog is not None)
    user.window.files.import_dialog.accept()
    user.wait()
    assert user.session.selection.subject.name == "Box"


def test_leaving_unsaved_work_is_asked_about(flag_user, tmp_path):
    user, s = flag_user, flag_user.session
    path = save_scene(s.scene, tmp_path / "flag.estampa")
    do.set_range(s.scene, end=20)
    user.do("new")
    answer(user, "Stay")
    assert s.doc.end == 20
    user.do("new")
    answer(user, "Save")
    user.wait(lambda: not s.doc.things)
    assert not s.doc.things and open_scene(path).doc.end == 20
    s.replace(open_scene(path))
    do.set_range(s.scene, end=30)
    user.window.close()
    assert user.window.isVisible(), "closing waits for the answer"
    answer(user, "Leave it unsaved")
    assert not user.window.isVisible() and open_scene(path).doc.end == 20


def test_work_without_a_name_is_recovered_too(user):
    s = user.session
    do.add_mesh(s.scene, sheet(1, 1, 3, 3), "Mat")
    s.desk.autosave_now()
    user.wait()
    kept = s.desk.autosave.file(None)
    assert kept.exists() and recovery.recoverable(None) == [], "a living program's work is left alone"
    orphan = kept.with_name(f"untitled@{DEAD}.autosave")
    kept.rename(orphan)
    assert recovery.recoverable(None) == [orphan]
    s.scene.saved_doc = s.doc
    s.replace(Scene())
    user.window.files.offer_recovery()
    user.click(user.window.notice.first)
    user.wait()
    assert user.thing("Mat") and s.scene.is_changed
    assert orphan.exists(), "it stays kept until it is saved or given up"
    s.desk.give_up()
    assert not orphan.exists()


def test_playing_waits_for_the_solver_and_goes_round(flag_user):
    user, s = flag_user, flag_user.session
    seen = []
    s.pictures.looked.connect(
        lambda: seen.append((s.pictures.picture.frame, all(p.is_current for p in s.pictures.picture.shapes.values())))
    )
    s.player.play(True)
    user.wait(lambda: any(a[0] == 12 and b[0] == 1 for a, b in zip(seen, seen[1:], strict=False)))
    assert "of 24 frames a second" in user.window.score.status.text()
    s.player.play(False)
    assert all(is_current for frame, is_current in seen if frame > 1), "no unsolved frame is played"


def test_a_click_selects_what_is_under_it(user):
    s, v = user.session, user.window.viewport
    a = do.add_mesh(s.scene, sheet(1, 1, 5, 5), "Near")
    b = do.add_mesh(s.scene, sheet(1, 1, 5, 5).with_points(sheet(1, 1, 5, 5).points + [1.5, 0, 0]), "Beside")
    grip = do.add_thing(s.scene, "grip", "Knob", {"x": 0.75, "y": 0.0, "z": 1.4})
    s.selection.select(a.id)
    user.wait()
    v.camera = v.camera.__class__(target=np.array([1.2, 0, 0.6]), distance=4, yaw=0, pitch=1.2)
    v.redraw()
    at = lambda *p: v.camera.project(np.array([p], float), v.width(), v.height())[0][0]
    user.click(v, at(2.0, 0, 0.4))
    assert s.selection.selected_id == b.id
    user.click(v, at(0.75, 0, 1.4))
    assert s.selection.selected_id == grip.id
    user.click(v, at(0.3, 0, 0.3))
    assert s.selection.selected_id == a.id


def test_the_press_says_why_a_print_cannot_be_made_and_when_it_is_old(flag_user):
    user, s, press = flag_user, flag_user.session, flag_user.window.press
    user.do("panel_press")
    texture = do.add_thing(s.scene, "vertex_texture", "Long", {"last": 99999})

    def words():
        user.wait()
        return " ".join(l.text() for l in press.cards[texture.id].findChildren(type(press.where)))

    assert "a side may have 8,192" in words()
    run = next(b for b in press.cards[texture.id].findChildren(QPushButton) if b.text() == "Run")
    assert not run.isEnabled()
    do.set_value(s.scene, texture.id, "last", 5)
    assert "117 × 5 texels" in words()
    user.click(next(b for b in press.cards[texture.id].findChildren(QPushButton) if b.text() == "Run"))
    user.wait()
    assert "matches the scene" in words() and "changed since" not in words()
    do.rename(s.scene, user.thing("Lean").id, "Tilt")  # what the file does not hold does not make it old
    do.add_thing(s.scene, "vertex_cache", "Other")
    assert "changed since" not in words()
    do.set_value(s.scene, user.thing("Cloth").id, "damping", 0.7)
    assert "changed since" in words()
    s.selection.select(texture.id)
    user.do("remove")
    assert texture.id not in press.cards
    user.do("undo")
    assert "matches the scene" in words(), "what took long to make is still known"


def test_space_presses_a_focused_button_and_plays_elsewhere(flag_user):
    user, s = flag_user, flag_user.session
    user.do("panel_maps")
    button = user.window.maps.new
    button.setFocus()
    count = len(user.thing("Flag").maps)
    user.keys(button, Qt.Key_Space)
    assert len(user.thing("Flag").maps) == count + 1 and not s.player.playing
    user.window.viewport.setFocus()
    user.keys(user.window.viewport, Qt.Key_Space)
    assert s.player.playing
    user.keys(user.window.viewport, Qt.Key_Escape)
    assert not s.player.playing


def test_the_camera_is_moved_by_mouse_wheel_and_keys(flag_user):
    user, v = flag_user, flag_user.window.viewport
    before = v.camera
    user.keys(v, Qt.Key_Left)
    assert v.camera.yaw != before.yaw
    user.keys(v, Qt.Key_Up, Qt.ShiftModifier)
    assert not np.allclose(v.camera.target, before.target)
    user.keys(v, Qt.Key_Plus)
    assert v.camera.distance < before.distance
    before = v.camera
    user.drag(v, (20, 300), (60, 320))  # the hand on nothing turns the view
    assert v.camera.yaw != before.yaw and np.allclose(v.camera.target, before.target)
    QApplication.processEvents()


def test_presets_set_several_channels_in_one_step(flag_user):
    user = flag_user
    user.select("Wind")
    menu = user.window.sheet._head.presets.menu()
    next(a for a in menu.actions() if a.text().startswith("Beaufort 6")).trigger()
    assert user.value("Wind", "speed", 1) == 12.3
    user.select("Cloth")
    before = user.thing("Cloth").values
    next(a for a in user.window.sheet._head.presets.menu().actions() if a.text() == "Silk").trigger()
    assert user.value("Cloth", "density", 1) == 0.06
    user.do("undo")
    assert user.thing("Cloth").values == before


def test_a_lane_tells_its_frame_and_the_ruler_its_seconds(flag_user):
    user, s = flag_user, flag_user.session
    user.do("solve")
    user.wait()
    lane = s.work.lanes[user.thing("Cloth").id]
    points = lambda f: s.scene.evaluate(f, s.store)["Flag"]
    rest = s.scene.mesh(user.thing("Flag").mesh).points
    moved = np.linalg.norm(points(12) - rest, axis=1)
    assert lane.reach[-1] == pytest.approx(moved.max(), rel=1e-6) and lane.mean[-1] == pytest.approx(
        moved.mean(), rel=1e-6
    )
    assert np.isfinite(lane.reach).all()
    assert lane.state.words() == "solved"


def test_a_nudge_while_playing_is_solved_and_shown_again(flag_user):
    user, s = flag_user, flag_user.session
    cloth = user.thing("Cloth").id
    done = lambda: cloth in s.work.lanes and s.work.lanes[cloth].state is not None and s.work.lanes[cloth].state.done
    s.player.play(True)
    user.wait(done)
    key = s.work.lanes[cloth]
    do.set_value(s.scene, cloth, "density", 0.4)
    user.wait(lambda: s.work.lanes.get(cloth) is not key and done())
    assert s.player.playing
    s.player.play(False)
    do.set_value(s.scene, cloth, "density", 0.5)
    user.wait()
    assert not done(), "at rest, nothing is solved unasked"


def test_other_kernels_are_prepared_once_the_window_rests_and_the_score_says_so(user, monkeypatch, tmp_path):
    """The programs here are quick ones; that they are those of estampa.warm is asserted."""
    s, score = user.session, user.window.score
    for program, isolated, _, code, *_ in warm.commands():
        assert (program, isolated) == (sys.executable, "-I") and "from estampa.warm import main" in code
    assert {part for c in warm.commands() for part in c[4:]} == set(warm.PARTS), "every part, once"
    quick = [[sys.executable, "-c", f"import time; time.sleep(0.5); open({str(tmp_path / n)!r}, 'w')"] for n in "ab"]
    monkeypatch.setattr(warm, "commands", lambda: quick)
    monkeypatch.setattr(warm, "_mark", lambda: f"prepared for {tmp_path}")
    assert not warm.is_prepared()
    s.work.preparing._idle.setInterval(50)
    s.work.preparing.begin_soon()
    user.wait(lambda: "preparing" in score.status.text())
    user.wait(lambda: (tmp_path / "a").exists() and (tmp_path / "b").exists() and not s.work.preparing.words)
    assert warm.is_prepared() and "preparing" not in score.status.text()
    s.work.preparing.begin_soon()
    user.wait(lambda: not s.work.preparing._idle.isActive())
    assert not s.work.preparing.words, "what is there is not compiled again"
