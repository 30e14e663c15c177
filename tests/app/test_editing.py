"""Editing in the window: every kind of channel, keyed grips, rows of the roster, files by their dialogs."""

import json
import subprocess
import sys
import zipfile

import numpy as np
import pytest
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QContextMenuEvent, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QMessageBox

from estampa import edits as do
from estampa import open_scene, save_scene
from estampa.app.session import Session
from estampa.app.shell.window import Window
from estampa.geometry.primitives import sheet
from estampa.store.frames import FrameStore


def test_choices_maps_grips_words_and_names_are_set_in_the_sheet(flag_user):
    user, w = flag_user, flag_user.window
    user.select("Cloth")
    weave = w.sheet.row("weave").editor
    weave.setCurrentIndex(weave.findData("links"))
    weave.activated.emit(weave.currentIndex())
    assert user.value("Cloth", "weave", 1) == "links"
    held = w.sheet.row("pins").editor
    assert [held.itemText(i) for i in range(held.count())] == ["– none –", "Hoist"]
    held.activated.emit(0)
    assert user.value("Cloth", "pins", 1) is None
    do.add_map(user.session.scene, user.thing("Flag").id, np.ones(117), "All of it")
    held = w.sheet.row("pins").editor
    assert held.findText("All of it") == 2, "a new map is offered at once"

    user.select("Wind")
    grip = w.sheet.row("grip").editor
    grip.activated.emit(grip.findText("Lean grip"))
    assert user.value("Wind", "grip", 1) == user.thing("Lean grip").id

    item = do.add_thing(user.session.scene, "vertex_cache", "Cache")
    user.session.selection.select(item.id)
    normals = w.sheet.row("normals").editor
    user.click(normals, (6, normals.height() // 2))
    assert user.value("Cache", "normals", 1) is True
    line = w.sheet.row("file").editor
    QTest.keyClicks(line, "shot_010")
    QTest.keyClick(line, Qt.Key_Return)
    assert user.value("Cache", "file", 1) == "shot_010"

    head = w.sheet._head.name
    head.selectAll()
    QTest.keyClicks(head, "Wind")  # taken already
    QTest.keyClick(head, Qt.Key_Return)
    assert user.thing("Wind 2").kind == "vertex_cache"


def test_dragging_a_keyed_grip_sets_a_key_where_one_is(flag_user):
    user, s, v = flag_user, flag_user.session, flag_user.window.viewport
    grip = user.thing("Lean grip").id
    do.set_key(s.scene, grip, "x", 1, 0.5)
    s.player.go_to(8)
    user.select("Lean grip")
    user.wait()
    handles = v.handles()
    start = dict(handles.parts())["move x"][-1]
    user.drag(v, start, start + [25, 6])
    keys = user.thing("Lean grip").curve("x").keys
    assert [k.frame for k in keys] == [1, 8] and keys[0].value == 0.5 and keys[1].value != 0.5
    user.do("set_key")
    s.player.go_to(4)
    user.do("set_key")
    assert [k.frame for k in user.thing("Lean grip").curve("x").keys] == [1, 4, 8]
    key = user.window.sheet.row("x").key
    user.click(key)
    assert [k.frame for k in user.thing("Lean grip").curve("x").keys] == [1, 8]


def test_the_roster_shows_switches_and_folds(flag_user):
    user, roster = flag_user, flag_user.window.score.roster
    item = roster.item_for(user.thing("Cloth").id)
    rect = roster.visualItemRect(item)
    user.click(roster.viewport(), (roster.header().sectionPosition(1) + 12, rect.center().y()))
    assert not user.thing("Cloth").on
    flag = roster.item_for(user.thing("Flag").id)
    flag.setExpanded(False)
    lanes = user.window.score.lanes
    assert "Cloth" not in [t.name for t, _ in lanes.rows()]
    do.rename(user.session.scene, user.thing("Wind").id, "Sea wind")
    assert not roster.item_for(user.thing("Flag").id).isExpanded(), "what was folded stays folded"
    assert "Sea wind" in [t.name for t, _ in lanes.rows()]
    roster.drop_layer(user.thing("Cloth").id, user.thing("Sea wind").id, after=True)
    assert [l.name for l in user.thing("Flag").stack] == ["Lean", "Cloth"], "a layer stays in its own stack"


def test_undo_while_a_solve_is_under_way_does_no_harm(flag_user):
    user, s = flag_user, flag_user.session
    do.set_range(s.scene, end=60)
    user.do("solve")
    for density in (0.3, 0.4, 0.5):
        do.set_value(s.scene, user.thing("Cloth").id, "density", density)
        QTest.qWait(30)
    for _ in range(3):
        user.do("undo")
        QTest.qWait(10)
    user.wait()
    assert s.work.lanes[user.thing("Cloth").id].state.done and not user.notice
    assert s.pictures.picture.shapes[user.thing("Flag").id].is_current


def test_files_by_their_dialogs(flag_user, tmp_path, monkeypatch):
    user, s = flag_user, flag_user.session
    chosen = {}
    for name in ("getSaveFileName", "getOpenFileName"):
        monkeypatch.setattr(QFileDialog, name, lambda *a, **k: (str(chosen["path"]), ""))
    chosen["path"] = tmp_path / "named"
    user.do("save")
    user.wait()
    assert s.scene.path == tmp_path / "named.estampa" and not s.scene.is_changed
    assert "Saved named.estampa" in user.notice
    do.set_range(s.scene, end=15)
    assert "not saved" in user.window.windowTitle()
    chosen["path"] = tmp_path / "other.estampa"
    user.do("save_as")
    user.wait()
    assert open_scene(tmp_path / "other.estampa").doc.end == 15 and open_scene(tmp_path / "named.estampa").doc.end == 12
    chosen["path"] = tmp_path / "named.estampa"
    user.do("open")
    user.wait()
    assert s.doc.end == 12 and s.scene.path == chosen["path"]
    chosen["path"] = ""
    user.do("open")  # dismissed
    user.do("import")
    user.wait()
    assert s.scene.path == tmp_path / "named.estampa"
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *a: str(tmp_path / "prints here"))
    user.window.press._choose_folder()
    assert user.window.press.folder == tmp_path / "prints here"


def test_trouble_has_its_details_one_click_away(flag_user):
    user = flag_user
    user.session.work.jobs.add(
        __import__("estampa.app.model.tasks", fromlist=["Task"]).Task("Bad", lambda *_: {}["missing"])
    )
    user.wait()
    assert "went wrong inside Estampa" in user.notice
    user.click(user.window.notice.details)
    box = next(b for b in user.window.findChildren(QMessageBox) if b.isVisible())
    assert "KeyError" in box.detailedText()
    box.close()
    user.click(user.window.notice.close_button)
    assert not user.notice


def test_a_thing_that_is_not_understood_is_shown_and_said_so(flag_user, tmp_path):
    user, s = flag_user, flag_user.session
    path = save_scene(s.scene, tmp_path / "flag.estampa")
    with zipfile.ZipFile(path) as old:
        data = json.loads(old.read("scene.json"))
        data["things"][0]["stack"].append({"id": "z9", "kind": "undertow", "name": "Undertow", "values": {}})
        with zipfile.ZipFile(tmp_path / "new.estampa", "w") as new:
            new.writestr("scene.json", json.dumps(data))
            for name in old.namelist()[1:]:
                new.writestr(name, old.read(name))
    s.replace(open_scene(tmp_path / "new.estampa"))
    user.wait()
    user.select("Undertow")
    labels = " ".join(l.text() for l in user.window.sheet._scroll.widget().findChildren(type(user.window.maps.hint)))
    assert "made by a newer Estampa" in labels
    assert user.window.panels.tabText(5) == "Remarks (1)"
    user.do("solve")
    user.wait()
    assert s.work.lanes[user.thing("Cloth").id].state.done


def test_lanes_tell_what_is_under_the_pointer_and_scroll_with_the_roster(flag_user):
    user, s, lanes = flag_user, flag_user.session, flag_user.window.score.lanes
    do.set_key(s.scene, user.thing("Wind").id, "speed", 5, 6.0)
    user.do("solve")
    user.wait()
    from PySide6.QtWidgets import QToolTip

    def hover(x, name):
        y = next(box for thing, box in lanes.rows() if thing.name == name).top() + 11
        QTest.mouseMove(lanes, QPoint(int(x), int(y)))
        QApplication.processEvents()
        return QToolTip.text()

    hover(lanes.x_of(2), "Lean")
    assert "Speed 6 m/s at 5" in hover(lanes.x_of(5), "Wind")
    text = hover(lanes.x_of(9), "Cloth")
    assert "frame 9: moves" in text and "solved" in text
    for i in range(12):
        do.add_thing(s.scene, "grip", f"Knob {i}")
    roster = user.window.score.roster
    roster.verticalScrollBar().setValue(roster.verticalScrollBar().maximum())
    QApplication.processEvents()
    for thing, box in lanes.rows():
        assert roster.visualItemRect(roster.item_for(thing.id)).top() + 24 == box.top()


def test_a_picture_of_the_window_is_saved_without_a_screen(flag, tmp_path):
    path = save_scene(flag, tmp_path / "flag.estampa")
    picture = tmp_path / "window.png"
    words = [sys.executable, "-m", "estampa", "open", str(path), "--picture", str(picture)]
    ran = subprocess.run(words, capture_output=True, text=True, timeout=120)
    assert ran.returncode == 0, ran.stderr
    image = QImage(str(picture))
    assert (image.width(), image.height()) == (1280, 800)
    assert len({image.pixel(x, y) for x in range(0, 1280, 40) for y in range(0, 800, 40)}) > 20


@pytest.mark.parametrize("kind", ["bend", "noise", "cloth"])
def test_a_layers_defaults_do_something_at_once_on_a_thing_of_human_size(user, kind):
    s = user.session
    flat = sheet(0.8, 1.8, 9, 19)
    do.add_mesh(s.scene, flat.with_points(flat.points[:, [0, 2, 1]]), "Curtain")
    if kind == "cloth":
        user.do("add_gravity")
        user.do("add_ground")
    user.do(f"add_{kind}")
    assert s.selection.thing.kind == kind
    s.work.solve()
    user.wait()
    lane = s.work.lanes[s.selection.selected_id]
    assert np.nanmax(lane.reach) > 0.01
    assert not any(r.severity == "error" for r in s.work.remarks)


def test_a_right_click_on_a_key_chooses_how_it_goes_on(flag_user):
    user, s, lanes = flag_user, flag_user.session, flag_user.window.score.lanes
    wind = user.thing("Wind").id
    for frame, value in ((2, 4.0), (9, 8.0)):
        do.set_key(s.scene, wind, "speed", frame, value)
    y = next(box for thing, box in lanes.rows() if thing.name == "Wind").top() + 11
    at = QPoint(int(lanes.x_of(2)), int(y))
    QApplication.sendEvent(lanes, QContextMenuEvent(QContextMenuEvent.Mouse, at, lanes.mapToGlobal(at)))
    words = {a.text(): a for a in lanes.menu.actions()}
    words["Hold until the next key"].trigger()
    assert user.value("Wind", "speed", 8) == 4.0
    words["Straight to the next key"].trigger()
    assert user.value("Wind", "speed", 5.5) == pytest.approx(6.0)
    words["Remove the key"].trigger()
    assert [k.frame for k in user.thing("Wind").curve("speed").keys] == [9]


def test_opening_and_autosaving_do_not_wait_for_a_long_solve(flag_user, tmp_path):
    user, s = flag_user, flag_user.session
    do.set_range(s.scene, end=2000)
    do.set_value(s.scene, user.thing("Cloth").id, "substeps", 200)
    user.do("solve")
    user.wait(lambda: s.work.jobs.busy)
    s.desk.autosave_now()
    user.wait(lambda: s.desk.autosave.file(None).exists())
    assert s.work.jobs.busy
    (tmp_path / "mat.obj").write_text("v 0 0 0\nv 1 0 0\nv 0 0 1\nf 1 2 3\n")
    user.window.files.import_mesh(tmp_path / "mat.obj")
    user.wait(lambda: user.window.files.import_dialog is not None and user.window.files.import_dialog.isVisible())
    assert s.work.jobs.busy
    user.window.files.import_dialog.reject()
    user.do("cancel")
    user.wait()
    s.desk.autosave.discard()


def test_without_opengl_the_window_says_so_and_everything_else_works(qtbot, flag, tmp_path, monkeypatch):
    def none():
        raise RuntimeError("no OpenGL context: egl: not found")

    monkeypatch.setattr("estampa.app.view.viewport.Renderer", none)
    window = Window(Session(FrameStore(tmp_path / "store")))
    qtbot.addWidget(window, before_close_func=lambda w: setattr(w, "_left", True))
    window.show()
    window.session.replace(flag)
    qtbot.waitUntil(lambda: not window.session.busy)
    assert "not found" in window.viewport.trouble
    window.actions_by_name["tool_pick"].trigger()
    v = window.viewport
    QTest.mousePress(v, Qt.LeftButton, Qt.NoModifier, QPoint(5, 5))
    QTest.mouseMove(v, QPoint(v.width() - 5, v.height() - 5))
    QTest.mouseRelease(v, Qt.LeftButton, Qt.NoModifier, QPoint(v.width() - 5, v.height() - 5))
    assert window.session.selection.chosen_of(window.session.doc.subjects[0]).any()
    window.session.work.solve()
    qtbot.waitUntil(lambda: not window.session.busy, timeout=20_000)
    assert all(lane.state.done for lane in window.session.work.lanes.values() if lane.state)
