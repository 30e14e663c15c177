"""Cloth set up by hand: cut off, pressed shape kept as rest, held along joints, mirrored."""

import numpy as np
from PySide6.QtWidgets import QDialogButtonBox, QLabel

from estampa import edits as do
from estampa.app.view.overlay import Overlay
from estampa.app.view.stretching import stretch_told
from estampa.edits import joints
from estampa.geometry.primitives import sheet


def answered(user, **values):
    """Fill in the dialog that is open and run it."""
    dialog = user.window.rigging.dialog
    for name, value in values.items():
        do_it = dialog.editors[name]
        do_it.setCurrentIndex(do_it.findData(value)) if hasattr(do_it, "findData") else user.type_in(do_it, str(value))
    box = dialog.findChild(QDialogButtonBox)
    user.click(next(b for b in box.buttons() if box.buttonRole(b) == QDialogButtonBox.AcceptRole))
    user.wait()


def test_a_gust_is_closed_into_a_loop_by_a_click_and_the_stretch_is_looked_at(user, monkeypatch):
    s = user.session
    do.set_range(s.scene, end=24)
    do.set_loop(s.scene, 1, 25)
    flat = sheet(0.6, 0.4, 9, 7)
    flag = do.add_mesh(s.scene, flat.with_points(flat.points[:, [0, 2, 1]]), "Flag")
    held = do.add_map(s.scene, flag.id, (flat.points[:, 0] < -0.299).astype(float), "Mast")
    layer = do.add_layer(s.scene, flag.id, "cloth", "Silk", {"pins": held.id})
    for kind in ("gravity", "wind"):
        do.add_thing(s.scene, kind)
    user.do("solve")
    user.wait()
    user.window.show_panel("loop")
    user.wait()
    seam = lambda: user.window.loop.table.item(0, 1).text()
    assert float(seam().split()[0]) > 10
    user.click(user.window.loop.solved_button)
    user.wait(lambda: "run-up" in user.notice and "Undo" in user.notice, 120)
    assert s.doc.run_up >= 24 and next(t for t in s.doc.things if t.kind == "wind").value("loops") is True
    user.do("solve")
    user.wait(seconds=60)
    user.wait(lambda: seam() == "0.00 mm" or float(seam().split()[0]) < 0.1)
    drawn = []
    monkeypatch.setattr(Overlay, "_draw_ramp", lambda self, painter, name, ends=("0", "1"): drawn.append((name, ends)))
    s.player.go_to(12)
    user.do("stretch")
    user.wait()
    user.window.viewport.grab()
    assert drawn[-1] == ("stretch", ("0 %", "15 %"))
    (words, _), *_ = stretch_told(s)
    rest, now = s.scene.mesh(flag.mesh), s.scene.evaluator(s.store).subject(user.thing("Flag"), 12).points
    long = lambda p: np.linalg.norm(p[rest.edges[:, 1]] - p[rest.edges[:, 0]], axis=1)
    assert f"{100 * (long(now) / long(rest.points) - 1).max():+.1f} %" in words, "as NumPy has it"
    user.select("Flag")
    user.do("untangle")
    assert [l.kind for l in user.thing("Flag").stack] == ["cloth", "untangle"] and "from frame 12" in user.notice
    user.do("undo")
    assert [l.id for l in user.thing("Flag").stack] == [layer.id]


def test_a_sail_is_cut_off_held_along_a_yard_and_mirrored(user):
    s = user.session
    mesh = sheet(1, 1, 11, 11)
    sail = do.add_mesh(s.scene, mesh, "Sail")
    do.add_map(s.scene, sail.id, (mesh.points[:, 0] < 0.55).astype(float), "Inner")
    user.select("Sail")
    user.do("cut_off")
    answered(user)
    assert [t.name for t in s.doc.subjects] == ["Sail", "Sail, rest"]
    assert np.ptp(s.scene.mesh(user.thing("Sail").mesh).points[:, 0]) == 0.5
    user.do("undo")
    user.do("redo")
    user.select("Sail, rest")
    user.do("remove")

    user.select("Sail")
    user.do("mirrored_half")
    answered(user)
    both = s.scene.mesh(user.thing("Sail").mesh)
    assert (both.points[:, 0].min(), both.points[:, 0].max()) == (-0.5, 0.5) and both.island_count == 1
    assert (both.normals()[:, 1] > 0.9).all(), "both halves face up"

    joints.add_skeleton(s.scene, [joints.straight(np.array([-0.5, 0, 0]), np.array([0.5, 0, 0]), 2)], "Yard")
    user.select("Sail")
    user.do("hold_along")
    answered(user)
    cloth = next(l for l in user.thing("Sail").stack if l.kind == "cloth")
    held = s.scene.arrays.get(user.thing("Sail").map(cloth.values["pins"]).weights)
    assert held.sum() == 11, "the row along the yard"
    do.add_thing(s.scene, "gravity")
    do.set_range(s.scene, end=12)
    user.do("solve")
    lane = lambda: s.work.lanes.get(cloth.id)
    user.wait(lambda: lane() is not None and lane().state is not None and lane().state.done)
    s.player.go_to(12)
    user.wait()
    user.select(cloth.name)
    user.do("keep_as_rest")
    target = user.thing("Sail").targets[-1]
    rest = s.scene.arrays.get(target.points)
    assert user.thing(cloth.name).values["rest"] == target.id and rest[:, 1].min() < -0.05, "hanging, it rests"
    user.do("undo")
    assert not user.thing("Sail").targets, "and back"


def test_what_cannot_be_cut_says_why(user):
    s = user.session
    do.add_mesh(s.scene, sheet(1, 1, 5, 5), "Sail")
    user.select("Sail")
    user.do("cut_off")
    assert "weight map" in user.notice
    do.add_map(s.scene, user.thing("Sail").id, np.ones(25), "All")
    user.do("cut_off")
    answered(user)
    assert "all of its faces" in user.notice and len(s.doc.subjects) == 1


def test_what_the_sheet_tells_is_of_what_is_solved(user):
    """Facts of an older solve never stand beside frames of a new one."""
    s = user.session
    do.add_mesh(s.scene, sheet(1, 1, 8, 8), "Sail")
    do.set_range(s.scene, end=6)
    user.select("Sail")
    user.do("add_cloth")
    words = lambda: [label.text() for label in user.window.sheet.findChildren(QLabel) if label.isVisible()]
    user.do("solve")
    s.player.go_to(3)
    user.wait(lambda: "20" in words())
    cloth = user.thing("Sail").stack[0]
    do.set_value(s.scene, cloth.id, "quality", "draft")
    user.wait(lambda: "20" not in words())
    user.do("solve")
    user.wait(lambda: "10" in words())
