"""An asset through the window: its tree ticked, brought in, seen with its pictures, and its new version taken."""

import numpy as np
from pxr import Usd, UsdGeom, Vt
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QMessageBox

from estampa.app.view.shooting import drawn_of
from tests.formats.test_assets import png, stage_of, tree


def test_a_tree_is_ticked_brought_in_and_seen_with_its_pictures(user, tmp_path):
    files = user.window.files
    files.open(tree(tmp_path / "plant.glb"))
    user.wait(lambda: files.import_dialog is not None and files.import_dialog.isVisible())
    dialog = files.import_dialog
    names = [dialog.items[i].text(0) for i in range(5)]
    assert names == ["Plant", "Stem", "Leaf", "Leaf", "Eye"] and "pictures" in dialog.items[2].text(1)
    assert dialog.items[1].parent() is dialog.items[0] and "3 subjects" in dialog.words.text()
    dialog.items[3].setCheckState(0, Qt.Unchecked)
    dialog.items[4].setCheckState(0, Qt.Unchecked)
    assert "2 subjects" in dialog.words.text() and "moves for 1 s" in dialog.words.text()
    assert dialog.size.text().startswith("0.45 m × 1.3 m")
    dialog.accept()
    user.wait(lambda: len(user.session.doc.subjects) == 2)
    user.wait()
    assert {t.name for t in user.session.doc.things} >= {"Plant", "Stem", "Leaf"}
    shape = user.session.pictures.picture.shapes[user.thing("Leaf").id]
    first, count, material = shape.pictured.parts[0]
    assert (first, count, material.alpha, material.picture.data) == (0, 2, "mask", png())
    tinted = drawn_of("leaf", shape, (1, 1, 1), tint=shape.tint)
    assert tinted.pictured is shape.pictured and drawn_of("ghost", shape, (1, 0, 0)).pictured is None
    user.window.viewport.redraw(fine=True)
    user.wait()
    user.session.scene.undo()
    assert not user.session.doc.subjects, "one step of the history"


def test_a_file_that_changes_is_noticed_and_its_new_version_taken(user, tmp_path):
    path, files = stage_of(tmp_path / "stall.usda"), user.window.files
    files.open(path)
    user.wait(lambda: files.import_dialog is not None and files.import_dialog.isVisible())
    assert files.import_dialog.unit.currentData() == 0.01 and files.import_dialog.up.currentData() == "z"
    files.import_dialog.accept()
    user.wait(lambda: len(user.session.doc.subjects) == 1)
    user.wait()
    user.session.watch.look()
    awning = user.session.doc.subjects[0]
    height = lambda: user.session.pictures.picture.shapes[awning.id].points[:, 1].max()
    before = height()
    stage = Usd.Stage.Open(str(path))
    points = UsdGeom.Mesh(stage.GetPrimAtPath("/Stall/Awning")).GetPointsAttr()
    for time in points.GetTimeSamples():
        points.Set(Vt.Vec3fArray.FromNumpy(np.array(points.Get(time)) + np.float32([0, 0, 50])), time)
    stage.GetRootLayer().Save()
    user.session.watch.look()
    user.wait()
    user.wait(lambda: abs(height() - before - 0.5) < 1e-4)  # what is played follows at once
    assert "changed on disk" in user.window.notice.text.text()
    user.session.selection.select(awning.id)
    user.do("new_version")
    user.wait(lambda: any(b.isVisible() for b in user.window.findChildren(QMessageBox)))
    box = next(b for b in user.window.findChildren(QMessageBox) if b.isVisible())
    assert "same topology" in box.text()
    user.click(next(b for b in box.buttons() if b.text() == "Take the new version"))
    assert user.session.scene.undo_label == "Take the new version"
