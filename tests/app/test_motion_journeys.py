"""Rigs, links, curves, loops, panes and movies, by hand in the real window."""

import imageio_ffmpeg
import numpy as np
import OpenEXR
import pytest
from PySide6.QtCore import QMimeData, QPoint, QPointF, Qt
from PySide6.QtGui import QColor, QDragEnterEvent, QDropEvent, QImage
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QDialogButtonBox

from estampa import edits as do
from estampa.app.panels.linking import CHANNEL, LinkDialog
from estampa.geometry.primitives import joined, tube
from estampa.scene.document import Document, Formula, Link
from estampa.scene.scene import Scene
from tests.solve.test_bodies import box


def stem(x, z):
    spine = np.stack([np.full(16, x), np.linspace(0, 1, 16), np.full(16, z)], axis=1)
    return tube(spine, np.full(16, 0.02), 5)


@pytest.fixture
def plant_user(user):
    scene = Scene(Document(name="plant", start=1, end=24))
    turn = 2 * np.pi * np.arange(6) / 6
    do.add_mesh(scene, joined([stem(0.3 * np.sin(a), 0.3 * np.cos(a)) for a in turn]), "Plant")
    user.session.replace(scene)
    user.wait()
    return user


def accept(dialog):
    box = dialog.findChild(QDialogButtonBox)
    QTest.mouseClick(box.button(QDialogButtonBox.Ok), Qt.LeftButton)
    QApplication.processEvents()


def test_a_plant_is_rigged_with_a_map_and_a_sway_for_each_pair_of_stems(plant_user):
    user, w, s = plant_user, plant_user.window, plant_user.session
    user.select("Plant")
    user.do("maps_by_island")
    w.rigging.dialog.editors["every"].show_value(2)
    accept(w.rigging.dialog)
    assert [m.name for m in user.thing("Plant").maps] == ["Islands 1", "Islands 2", "Islands 3"]
    user.do("layer_by_map")
    accept(w.rigging.dialog)
    layers = user.thing("Plant").stack
    assert [l.kind for l in layers] == ["sway"] * 3 and len({l.value("angle") for l in layers}) == 3
    assert {l.value("grip") for l in layers} == {user.thing("Plant control").id}
    user.do("make_different")
    apply = w.rigging.dialog.findChild(QDialogButtonBox).buttons()
    again = next(b for b in apply if "next seed" in b.text())
    before = [l.value("phase") for l in layers]
    QTest.mouseClick(again, Qt.LeftButton)
    QTest.mouseClick(again, Qt.LeftButton)
    after = [l.value("phase") for l in user.thing("Plant").stack]
    assert after != before and w.rigging.dialog.editors["seed"].value == 3
    w.rigging.dialog.reject()
    user.do("add_copies")
    user.wait()
    copies = user.thing("Plant copies")
    assert s.pictures.picture.shapes[copies.id].copies == 5
    user.do("copies_by_hand")
    assert len(user.thing("Plant copies").spots) == 5 and s.view.tool == "place"
    user.wait()
    # click the floor in the middle of the view: one more stands there
    user.do("frame_all")
    user.click(w.viewport, (w.viewport.width() * 0.5, w.viewport.height() * 0.8))
    assert len(user.thing("Plant copies").spots) == 6
    x = user.thing("Plant copies").spots[0]
    at = w.viewport.camera.project(np.array([x[:3]]), w.viewport.width(), w.viewport.height())[0][0]
    user.drag(w.viewport, at, at + [40, 0])
    moved = user.thing("Plant copies").spots[0]
    assert moved[:3] != x[:3] and moved[1] == pytest.approx(x[1], abs=1e-9), "it is moved, and stays at its height"
    user.do("undo")
    assert user.thing("Plant copies").spots[0] == x
    user.drag(w.viewport, at, at + [30, 0], modifier=Qt.ShiftModifier)
    user.drag(w.viewport, at, at + [0, -30], modifier=Qt.ControlModifier)
    turned = user.thing("Plant copies").spots[0]
    assert turned[:3] == x[:3] and turned[3] > x[3] and turned[4] > x[4]
    QTest.mouseMove(w.viewport, QPoint(*map(int, at)))
    user.keys(w.viewport, Qt.Key_Delete)
    assert len(user.thing("Plant copies").spots) == 5


def drop(source_id, channel, target):
    data = QMimeData()
    data.setData(CHANNEL, f"{source_id}|{channel}".encode())
    at = target.rect().center()
    enter = QDragEnterEvent(at, Qt.LinkAction, data, Qt.LeftButton, Qt.NoModifier)
    QApplication.sendEvent(target, enter)
    if enter.isAccepted():
        QApplication.sendEvent(target, QDropEvent(QPointF(at), Qt.LinkAction, data, Qt.LeftButton, Qt.NoModifier))
    QApplication.processEvents()
    return enter.isAccepted()


def test_a_channel_is_linked_by_drag_by_list_and_by_formula(plant_user):
    user, w, s = plant_user, plant_user.window, plant_user.session
    grip = do.add_thing(s.scene, "grip", "Breeze").id
    user.select("Breeze")
    user.do("pin")
    user.select("Plant")
    user.do("add_sway")
    sway = s.selection.selected_id
    assert drop(grip, "y", w.sheet.row("angle").label)
    link = s.doc.find(sway).value("angle")
    assert isinstance(link, Link) and link.span == (-5, 5), "unlike units get a range map"
    assert "Breeze" in user.notice
    row = w.sheet.row("angle").computed
    user.type_in(row.fields[3], "20 deg")
    user.type_in(w.pinned.row("y").editor, "5 m")
    assert user.value("Sway", "angle") == pytest.approx(np.radians(20))
    assert "20 deg" in row.parent().findChildren(type(row))[0].value.text()
    assert not drop(grip, "y", w.sheet.row("grip").label), "a choice cannot read a number"
    # by the list
    w.sheet.row("rate").ask_link()
    dialog = next(d for d in w.findChildren(LinkDialog) if d.isVisible())
    QTest.keyClicks(dialog.find, "breeze siz")
    assert dialog.list.count() == 1
    accept(dialog)
    assert s.doc.find(sway).value("rate").reads.channel == "size"
    # a ring is refused in words
    user.select("Breeze")
    assert drop(sway, "rate", w.sheet.row("size").label)
    assert "in a ring" in user.notice and "size" not in s.doc.find(grip).values
    # a formula is typed where a number is
    user.select("Sway")
    user.type_in(w.sheet.row("phase").editor, "=0.4 + 0.3 * sin(t)")
    assert s.doc.find(sway).value("phase") == Formula(formula="0.4 + 0.3 * sin(t)")
    field = w.sheet.row("phase").computed.text
    field.selectAll()
    QTest.keyClicks(field, "1 / (frame - 5)")
    QTest.keyClick(field, Qt.Key_Return)
    assert "gives no number at frame 5" in user.notice
    assert s.doc.find(sway).value("phase").formula == "0.4 + 0.3 * sin(t)", "what was there stays"
    user.click(w.sheet.row("phase").reset)
    assert "phase" not in s.doc.find(sway).values
    # a locked channel has no handle and takes no value
    do.set_locked(s.scene, grip, "x", True)
    user.select("Breeze")
    assert not w.sheet.row("x").editor.isEnabled()
    assert "move x" not in [name for name, _ in w.viewport.handles().parts()]


@pytest.fixture
def curve_user(plant_user):
    user, s = plant_user, plant_user.session
    grip = do.add_thing(s.scene, "grip", "Hand").id
    for frame, value in ((1, 0.0), (9, 1.0), (17, 0.0), (24, 0.5)):
        do.set_key(s.scene, grip, "y", frame, value)
    user.select("Hand")
    user.do("curves")
    user.wait()
    return user


def test_keys_are_moved_scaled_turned_copied_and_removed_in_the_curve_view(curve_user):
    user, s = curve_user, curve_user.session
    view, graph = user.window.score.curves, user.window.score.curves.graph
    curve, track = lambda: user.thing("Hand").curve("y"), (user.thing("Hand").id, "y")
    at = lambda i: graph.place(track, curve().keys[i])
    point = lambda p: (p.x(), p.y())
    step = graph.x_of(2) - graph.x_of(1)
    user.drag(graph, point(at(1)), (at(1).x() + 2.2 * step, at(1).y()))
    assert [k.frame for k in curve().keys] == [1, 11, 17, 24] and curve().keys[1].value == pytest.approx(1.0, abs=0.02)
    user.do("undo")
    assert [k.frame for k in curve().keys] == [1, 9, 17, 24], "a drag is one step"
    # a soft range carries the neighbours along
    user.click(view.soft)
    user.type_in(view.soft_width, "16")
    user.drag(graph, point(at(1)), (at(1).x(), at(1).y() + 30))
    assert curve().keys[1].value < 1 and curve().keys[0].value < 0 and curve().keys[2].value < 0
    user.do("undo")
    user.click(view.soft)
    # a tangent that is turned becomes free, and its other side follows
    user.click(graph, point(at(1)))
    handle = dict(graph.handle_places(track, curve(), 1))["right"]
    user.drag(graph, point(handle), (handle.x(), handle.y() - 30))
    key = curve().keys[1]
    assert key.tangent == "free" and key.right[1] > 0 > key.left[1]
    user.click(view.findChildren(type(view.soft))[0])  # flat again
    assert curve().keys[1].tangent == "flat"
    # a box takes keys; the side of their frame retimes them
    user.drag(graph, (graph.x_of(0), graph.height() - 2), (graph.x_of(18), 30))
    assert {f for _, f in graph.chosen} == {1, 9, 17}
    side = graph.frame_of_chosen()
    user.drag(graph, (side.right(), side.center().y()), (side.right() - 8 * step, side.center().y()))
    assert [k.frame for k in curve().keys] == [1, 5, 9, 24]
    # copied and pasted at the end; held at the end is a matter of copying a key
    graph.setFocus()
    s.player.go_to(14)
    user.keys(graph, Qt.Key_C, Qt.ControlModifier)
    user.keys(graph, Qt.Key_V, Qt.ControlModifier)
    assert [k.frame for k in curve().keys] == [1, 5, 9, 14, 18, 22, 24]
    user.keys(graph, Qt.Key_Delete)
    assert [k.frame for k in curve().keys] == [1, 5, 9, 24]
    view.after.setCurrentIndex(view.after.findData("cycle"))
    view.after.activated.emit(view.after.currentIndex())
    assert curve().after == "cycle"
    user.click(view.normalised)
    assert graph.span(track) != graph._view
    user.do("curves")
    assert user.window.score.stack.currentWidget() is user.window.score.lanes


def test_auto_key_keys_what_a_hand_drags_and_the_way_is_drawn(plant_user):
    user, w, s = plant_user, plant_user.window, plant_user.session
    do.add_thing(s.scene, "grip", "Hand")
    user.select("Hand")
    user.do("auto_key")
    for frame, by in ((1, 30), (20, 60)):
        s.player.go_to(frame)
        user.wait()
        centre = w.viewport.handles().centre
        user.drag(w.viewport, centre, centre + [by, 0])
    assert [k.frame for k in user.thing("Hand").curve("x").keys] == [1, 20]
    user.wait()
    trail = s.work.trails[s.selection.selected_id]
    assert len(trail) == 24 and np.ptp(trail[:, 0]) > 0.01
    user.do("auto_key")
    assert not s.view.auto_key
    # a key on the way is dragged where it should be, at its own frame
    s.player.go_to(10)
    user.wait()
    user.do("frame_all")
    (there,), thing = w.viewport.spots()[0][:1], user.thing("Hand")
    before = thing.curve("x").keys
    at = w.viewport.camera.project(there[None], w.viewport.width(), w.viewport.height())[0][0]
    user.drag(w.viewport, at, at + [25, 0])
    after = user.thing("Hand").curve("x").keys
    assert after[0].value != before[0].value and after[1] == before[1] and len(after) == 2


def test_the_loop_panel_measures_offers_closes_and_desyncs(plant_user):
    user, w, s = plant_user, plant_user.window, plant_user.session
    plant = user.thing("Plant").id
    do.add_layer(s.scene, plant, "noise", "Ripple", {"height": 0.1})
    do.add_layer(s.scene, plant, "sway", "Swing", {"rate": 0.7})
    do.add_thing(s.scene, "copies", "Bed", {"subject": plant, "count": 4})
    user.do("panel_loop")
    panel = w.loop
    user.click(panel.on, (6, panel.on.height() / 2))
    assert s.doc.loop == (1, 25)
    user.wait()
    user.wait(lambda: panel.table.rowCount() == 1)
    assert "open" in panel.state.text() and panel.list.count() == 2
    user.click(panel.close_button)
    user.wait()
    user.wait(lambda: panel.state.text() == "Every seam is closed.")
    assert user.value("Ripple", "loops") is True and user.value("Swing", "rate") == 1.0
    user.click(panel.look_button)
    user.wait(lambda: bool(panel.found))
    assert "4 of 4 copies of Bed move in step" in panel.steps.item(0).text()
    user.click(panel.desync_button)
    assert user.value("Bed", "stagger") == 6 and user.value("Bed", "order") == "seed"
    user.wait()
    user.click(panel.look_button)
    user.wait(lambda: "No copies" in user.notice)


def test_panes_cameras_ghosts_and_a_held_result(plant_user):
    user, w, s = plant_user, plant_user.window, plant_user.session
    user.select("Plant")
    user.do("add_bend")
    do.set_values(s.scene, s.selection.selected_id, {"angle": 0.4})
    user.wait()
    user.do("second_pane")
    assert w.second.isVisible() and w.second.drawn() == [] and len(w.viewport.drawn()) == 1
    before = w.viewport.camera
    user.drag(w.second, (60, 60), (120, 90))
    assert w.viewport.camera == before and s.view.pane == 1
    user.do("meshes")
    assert len(w.second.drawn()) == 1
    user.click(w.viewport, (5, 5))
    user.do("hold")
    do.set_values(s.scene, user.thing("Bend").id, {"angle": 0.9})
    user.wait()
    assert any(d.id.startswith("held") for d in w.viewport.drawn())
    from estampa.app.model.looks import difference

    apart = difference(
        s.pictures.picture.shapes[user.thing("Plant").id], s.pictures.picture.held[user.thing("Plant").id]
    )
    assert apart[1] > 0.1
    user.do("hold")
    do.set_key(s.scene, user.thing("Bend").id, "angle", 1, 0.0)
    do.set_key(s.scene, user.thing("Bend").id, "angle", 24, 1.0)
    s.player.go_to(12)
    user.do("ghosts")
    user.wait()
    user.wait(lambda: len(s.pictures.picture.ghosts) == 4)
    assert [away for away, _ in s.pictures.picture.ghosts] == [-8, -4, 4, 8]
    user.do("add_camera")
    user.do("look_through")
    assert w.viewport.camera.held is not None
    user.drag(w.viewport, (60, 60), (120, 90))
    assert "looks through a camera" in user.notice
    user.do("look_through")
    assert w.viewport.camera.held is None
    user.select("Plant")
    user.do("isolate")
    assert s.selection.isolated == {user.thing("Plant").id}
    user.do("isolate")
    assert not s.selection.isolated


def test_a_path_is_drawn_by_clicks_and_followed(plant_user):
    user, w, s = plant_user, plant_user.window, plant_user.session
    user.do("add_path")
    count = len(user.thing("Path").spots)
    for x in (0.3, 0.7):
        user.click(w.viewport, (w.viewport.width() * x, w.viewport.height() * 0.85))
    assert len(user.thing("Path").spots) == count + 2
    assert all(abs(p[1]) < 1e-9 for p in user.thing("Path").spots[count:]), "on the floor"
    user.select("Plant")
    user.do("add_follow")
    do.set_values(s.scene, s.selection.selected_id, {"path": user.thing("Path").id, "along": 1.0})
    user.wait()
    end = np.array(user.thing("Path").spots[-1])
    middle = s.pictures.picture.shapes[user.thing("Plant").id].points.mean(axis=0)
    assert np.linalg.norm((middle - end)[[0, 2]]) < 0.05


def test_a_pane_is_filmed_as_a_movie_and_as_pictures_and_can_be_cancelled(plant_user, tmp_path):
    user, w, _s = plant_user, plant_user.window, plant_user.session
    user.select("Plant")
    user.do("add_sway")
    user.wait()

    def film(kind, name, size=None, last=6):
        user.do("movie")
        dialog = w.movie_dialog
        dialog.kind.setCurrentIndex(kind)
        dialog.size.setCurrentText(size or "Another size")
        if size is None:
            user.type_in(dialog.wide, "320")
            user.type_in(dialog.tall, "180")
        user.type_in(dialog.last, str(last))
        for ticked in (dialog.stamp, dialog.mattes, dialog.measured):
            ticked.setChecked(True)
        dialog.path.setText(str(tmp_path / name))
        accept(dialog)

    film(0, "sway.mp4", "1080 × 1920, upright")
    user.wait(lambda: "Filmed" in user.notice, 60)
    reader = imageio_ffmpeg.read_frames(str(tmp_path / "sway.mp4"))
    told = next(reader)
    assert told["size"] == (1080, 1920) and told["fps"] == 24 and told["codec"] == "h264"
    frames = [np.frombuffer(f, np.uint8) for f in reader]
    assert len(frames) == 6 and imageio_ffmpeg.count_frames_and_secs(str(tmp_path / "sway.mp4"))[0] == 6
    assert np.abs(frames[0].astype(int) - frames[5]).max() > 30, "it moves"
    film(2, "still.png", last=3)
    user.wait(lambda: "3 pictures" in user.notice)
    assert sorted(p.name for p in tmp_path.glob("*.png")) == [f"still_{i:04d}.png" for i in (1, 2, 3)]
    film(3, "over.exr", last=2)  # over nothing, with a matte for each thing, depth and motion
    user.wait(lambda: "2 pictures" in user.notice)
    with OpenEXR.File(str(tmp_path / "over_0001.exr")) as file:
        of = {name: np.array(channel.pixels, float) for name, channel in file.channels().items()}
    alpha, matte, far = of["RGBA"][..., 3], of["matte.Plant"], of["Z"]
    assert matte.max() == 1 and (alpha >= matte - 0.01).all(), "beside the plant there is its shadow"
    assert (alpha == 0).any() and ((alpha > 0.2) & (matte == 0)).any()
    assert (far[matte == 0] == 1e10).mean() > 0.98 and far[matte == 1].max() < 100
    assert 0.01 < np.hypot(of["motion.x"], of["motion.y"])[matte == 1].max() < 60
    film(1, "over.mov", last=2)
    user.wait(lambda: "over.mov" in user.notice)
    reader = imageio_ffmpeg.read_frames(str(tmp_path / "over.mov"), pix_fmt="rgba", bits_per_pixel=32)
    assert next(reader)["codec"] == "prores"
    pixels = np.frombuffer(next(reader), np.uint8).reshape(180, 320, 4)
    assert np.abs(pixels[..., 3] / 255 - alpha).max() < 0.08
    film(0, "never.mp4", "1920 × 1080", last=24)
    user.do("cancel")
    user.wait()
    assert not (tmp_path / "never.mp4").exists()
    film(0, "sway.mp4", last=0)
    assert "before its start" in user.notice


def test_a_backdrop_stands_behind_the_pane_and_a_bad_one_is_told(plant_user, tmp_path):
    user, w, s = plant_user, plant_user.window, plant_user.session
    for number, colour in ((7, "#c02020"), (8, "#2020c0")):
        image = QImage(64, 36, QImage.Format_RGB32)
        image.fill(QColor(colour))
        image.save(str(tmp_path / f"plate_{number}.png"))
    user.do("add_backdrop")
    user.type_in(w.sheet.row("first").editor, "1")
    line = w.sheet.row("file").editor
    line.setFocus()
    QTest.keyClicks(line, str(tmp_path / "plate_7.png"))
    QTest.keyClick(line, Qt.Key_Return)
    user.wait()
    corner = lambda: QColor(w.viewport.grab().toImage().pixel(w.viewport.width() // 2, 60))
    assert corner().red() > 150 > 60 > corner().blue()
    user.click(w.sheet.row("sequence").editor, (6, w.sheet.row("sequence").editor.height() / 2))
    s.player.go_to(2)
    user.wait()
    assert corner().blue() > 150 > 60 > corner().red(), "the second picture at the second frame"
    do.set_values(s.scene, user.thing("Backdrop").id, {"file": str(tmp_path / "none.png"), "sequence": False})
    user.wait()
    w.viewport.grab()
    user.wait(lambda: "cannot be read" in user.notice)


def test_a_refine_that_makes_millions_asks_first(plant_user):
    user, w, s = plant_user, plant_user.window, plant_user.session
    user.select("Plant")
    user.do("add_refine")
    user.wait()
    row = w.sheet.row("levels")
    user.type_in(row.editor, "6")
    assert (
        row.asked.isVisible() and "faces" in row.asked.text() and "GB" in row.asked.text() or "MB" in row.asked.text()
    )
    row.asked.reject()
    user.wait()
    assert user.value("Refine", "levels") == 1
    shape = s.pictures.picture.shapes[user.thing("Plant").id]
    assert len(shape.points) > len(shape.own)
    user.do("tool_pick")
    user.do("choose_all")
    assert s.selection.chosen_of(user.thing("Plant")).sum() == len(shape.own), "vertices of its own mesh are chosen"


def test_a_target_is_captured_and_morphed_to(plant_user):
    user, w, s = plant_user, plant_user.window, plant_user.session
    user.select("Plant")
    user.do("add_bend")
    do.set_values(s.scene, s.selection.selected_id, {"angle": 1.0})
    bent = s.scene.evaluate(1)["Plant"]
    user.do("capture_target")
    assert [t.name for t in user.thing("Plant").targets] == ["Plant at 1"]
    do.set_on(s.scene, user.thing("Bend").id, False)
    user.do("add_morph")
    combo = w.sheet.row("target").editor
    combo.setCurrentIndex(1)
    combo.activated.emit(1)
    assert np.allclose(s.scene.evaluate(1)["Plant"], bent)


def test_bodies_from_a_split_mesh_to_keys_and_printed_pieces(user, tmp_path):
    """Split by islands, add bodies and a ground, play, start from the settled frame, bake, print, go back to live."""
    s, w = user.session, user.window
    crates = [box((0.3, 0.3, 0.3), (0.1 * i, 0.3 + 0.4 * i, 0)) for i in range(3)]
    do.add_mesh(s.scene, joined(crates), "Crates")
    do.set_range(s.scene, end=40)
    user.select("Crates")
    user.do("split")
    assert [t.name for t in s.doc.subjects] == ["Crates 1", "Crates 2", "Crates 3"]
    for i in (1, 2, 3):
        user.select(f"Crates {i}")
        user.do("add_body")
    assert [t.kind for t in s.doc.things].count("bodies") == 1, "they are solved together"
    user.do("add_gravity")
    user.do("add_ground")
    user.select("Body")
    assert w.sheet.row("together").editor.currentText() == "Bodies"
    user.do("solve")
    user.wait()
    bodies = next(t for t in s.doc.things if t.kind == "bodies")
    lane = s.work.lanes[bodies.id]
    assert lane.state.done and lane.report.column == "awake" and lane.reach[0] == 1.0
    falls = s.work.evaluator("look").subject(s.doc.subjects[0], 1).points.copy()

    # begin from where they came to rest
    s.player.go_to(40)
    user.select("Bodies")
    user.do("start_here")
    user.wait(lambda: s.doc.find(bodies.id).adopted is not None)
    user.wait()
    assert "Bodies, frame 40" in s.doc.find(bodies.id).adopted.words
    rests = s.work.evaluator("look")
    rests.solve_through(3)
    assert np.abs(rests.subject(s.doc.subjects[0], 1).points - falls).max() > 0.01
    user.do("start_rest")
    user.do("solve")
    user.wait()

    # keys on the subjects, and back
    user.select("Crates 2")
    user.do("bake_bodies")
    w.rigging.dialog.accept()
    user.wait(lambda: s.doc.find(user.thing("Crates 2").id).curve("y") is not None)
    assert not user.thing("Crates 2").stack[0].on
    user.do("bodies_live")
    assert user.thing("Crates 2").stack[0].on and user.thing("Crates 2").curve("y") is None
    user.wait()

    # printed pieces match
    w.press.folder = tmp_path
    user.select("Crates 3")
    user.do("add_piece_nodes")
    user.do("press_all")
    user.wait(lambda: len(w.press.results) == 1)
    assert all(r.passed for r in w.press.results.values())


def test_a_camera_is_matched_to_the_photograph_by_marks(plant_user, tmp_path):
    """What a known camera saw is marked over the photograph it took: its lens and its place come back."""
    user, w, s = plant_user, plant_user.window, plant_user.session
    v = w.viewport
    truth = do.add_thing(s.scene, "camera", "Truth", {"x": 0.9, "y": 1.5, "z": 2.6, "turn_x": -0.25, "turn_y": 0.3})
    do.set_values(s.scene, truth.id, {"by": "lens", "lens": 0.03})
    user.wait()
    s.view.set_view(camera=truth.id)
    user.wait()
    wide, tall = v.width(), v.height()
    places = np.array([[-0.5, 0, -0.5], [0.5, 0, -0.5], [0.5, 0, 0.3], [-0.5, 0, 0.3], [0.0, 0.4, 0]])
    seen, _ = v.camera.project(places, wide, tall)
    image = QImage(wide, tall, QImage.Format_RGB32)
    image.fill(QColor("#808890"))
    image.save(str(tmp_path / "plate.png"))
    do.add_thing(s.scene, "backdrop", "Plate", {"file": str(tmp_path / "plate.png")})
    user.do("tool_match")
    s.view.set_view(camera=None)
    tool = v.tool
    user.click(v, (5, 5))
    if tool._known is not None:
        v.setFocus()
        user.qtbot.keyClick(v, Qt.Key_Delete)  # a click that was not meant
    for place, pixel in zip(places[:4], seen[:4], strict=True):
        s.view.set_view(tool="match")
        own, _ = v.camera.project(place[None], wide, tall)
        user.click(v, own[0])
        tool._known = place  # the floor under a pixel is right to a pixel only
        user.click(v, pixel)
    assert len(tool.points) == 4
    a, b = seen[0], seen[1]
    user.drag(v, a, b)
    assert [line.axis for line in tool.lines] == ["x"]
    user.do("match_camera")
    user.wait(lambda: "Matched within" in user.notice, 60)
    made = user.thing("Matched camera")
    assert v.look.camera == made.id and "30." in user.notice and "mm" in user.notice
    assert [made.constant(n) for n in "xyz"] == pytest.approx([0.9, 1.5, 2.6], abs=0.08)
    user.do("undo")
    user.do("tool_match")
    user.do("match_camera")
    tool.points[:], tool.lines[:] = [], []
    user.do("match_camera")
    user.wait(lambda: "cannot be told from 0 points" in user.notice, 60)
