"""Trials of the plug-ins in tests/plugins, each by name, in a process that has read them; prints what came of them."""

import json
import os
import sys
import tempfile
import traceback

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from estampa import edits as do
from estampa.api import remarks
from estampa.app.facets import facet_of
from estampa.app.session import Session
from estampa.app.shell.theme import icon
from estampa.app.shell.window import Window
from estampa.evaluate import outcome
from estampa.geometry.primitives import sheet
from estampa.kinds.panels import panels
from estampa.kinds.plugins import BROKEN
from estampa.kinds.registry import kind_of
from estampa.press.run import run
from estampa.reference import reference
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore

LAST, SECONDS = 12, 11 / 24


def scene_with(*names):
    scene = Scene(Document(start=1, end=LAST))
    return scene, *(do.add_mesh(scene, sheet(1, 1, 3, 3), name) for name in names)


def middle(scene, thing, frame=LAST):
    """(3,) m, of what a thing looks like, solved."""
    evaluator = scene.evaluator(STORE)
    return outcome.of(evaluator, scene.doc.find(thing.id), frame).points().mean(axis=0)


def window_on(scene):
    session = Session(STORE)
    window = Window(session)
    session.replace(scene)
    window.resize(1200, 800)
    window.show()
    settle(session)
    return window


def settle(session):
    for _ in range(200):
        QApplication.processEvents()
        QTest.qWait(10)
        if not session.work.busy and not session.pictures.looker.busy:
            return


def is_known(word, family):
    """It has an icon of its own and a page of the reference."""
    assert kind_of(word).family == family and f"(`{word}`)" in reference()
    bits = [icon(k).pixmap(16).toImage().bits().tobytes() for k in (word, "no such kind")]
    assert bits[0] != bits[1], "its own icon"


def current():
    def pushed(with_it):
        scene, mat = scene_with("Mat")
        do.add_layer(scene, mat.id, "cloth")
        swarm = do.add_thing(scene, "swarm")
        do.add_layer(scene, swarm.id, "sow", values={"count": 20, "radius": 0.2})
        do.add_layer(scene, swarm.id, "grain_fall")
        liquid = do.add_thing(scene, "liquid", values={"spacing": 0.1})
        holder = do.add_thing(scene, "grip", values={"z": 8.0})
        box = {"where": "box", "around": holder.id, "wide": 0.4, "tall": 0.4, "deep": 0.4}
        do.add_layer(scene, liquid.id, "fill", values=box)
        if with_it:
            do.add_thing(scene, "current")
        return np.array([middle(scene, t)[0] for t in (mat, swarm, liquid)])

    is_known("current", "force")
    gone = pushed(True) - pushed(False)
    # uniformly accelerated motion: half of 3 m/s2 times the time squared (any handbook of mechanics)
    assert np.abs(gone - 0.5 * 3 * SECONDS**2).max() < 0.1, gone


def lift():
    is_known("lift", "layer")
    scene, mat = scene_with("Mat")
    window = window_on(scene)
    session, view = window.session, window.viewport
    session.selection.select(mat.id)
    window.actions_by_name["add_lift"].trigger()
    settle(session)
    layer = scene.doc.find(mat.id).stack[0]
    assert window.actions_by_name["add_lift"].shortcut().toString() == "Ctrl+Alt+9"
    assert window.sheet.row("height").channel.help == "How far it is raised."
    view.look_from(0.0, 0.0)
    spot = view.spots().points[0]
    start = view.view().at(spot)
    to = view.view().at(spot + [0, 0.4, 0])
    QTest.mouseMove(view, QPoint(*start.astype(int)))
    QTest.mousePress(view, Qt.LeftButton, Qt.NoModifier, QPoint(*start.astype(int)))
    QTest.mouseMove(view, QPoint(*((start + to) / 2).astype(int)))
    QTest.mouseMove(view, QPoint(*to.astype(int)))
    QTest.mouseRelease(view, Qt.LeftButton, Qt.NoModifier, QPoint(*to.astype(int)))
    settle(session)
    height = scene.doc.find(layer.id).value("height")
    assert abs(height - 0.5) < 0.03, f"dragged 0.4 m up from 0.1 m: {height}"
    assert abs(middle(scene, mat, 1)[1] - height) < 1e-6, "the subject stands as high"
    scene.undo()
    assert scene.doc.find(layer.id).value("height") == 0.1, "the drag is one step of the history"
    assert view.facet().hint(layer) == "drag the dot to raise it"
    without = view.grab().toImage()
    session.selection.select(mat.id)
    settle(session)
    assert view.grab().toImage() != without, "its handle is drawn while it is selected"
    end(window)


def embers():
    is_known("embers", "thing")
    scene, _ = scene_with("Stall")
    window = window_on(scene)
    window.actions_by_name["add_embers"].trigger()
    settle(window.session)
    made = scene.doc.of_kind("embers")[0]
    assert [l.kind for l in made.stack] == ["sparks"], "it starts with its source"
    evaluator = scene.evaluator(STORE)
    evaluator.solve_through(LAST)
    at = [middle(scene, made, f)[1] for f in (1, LAST)]
    assert evaluator.swarms.expected(scene.doc.find(made.id)) == 40
    fallen = lambda t: 2 * (t - (1 - np.exp(-t)))  # m, thrust 2 m/s2 against a drag of 1/s, from rest
    assert abs(at[1] - at[0] - fallen(SECONDS)) < 0.03, at
    window.session.work.plan()
    settle(window.session)
    lane = window.session.work.lanes[made.id]
    assert lane.state.done and lane.frame_words[-1] == "40 glow" and 0.5 < lane.reach[-1] < 1.0
    assert lane.report.over_all(lane.reach).endswith("m/s")
    window.session.selection.select(made.id)
    settle(window.session)
    end(window)


def centre_table():
    is_known("centre_table", "print")
    scene, mat = scene_with("Mat")
    do.set_value(scene, mat.id, "y", 1.5)
    do.add_thing(scene, "centre_table", values={"subject": mat.id})
    with tempfile.TemporaryDirectory() as folder:
        made = run(scene, scene.evaluator(STORE), scene.doc.prints[0], folder)
        rows = np.loadtxt(made.paths[0])
    assert made.passed and rows.shape == (LAST, 4)
    assert np.allclose(rows[:, 1:], middle(scene, mat, 1), atol=1e-6)


def tall():
    scene, mat = scene_with("Mat")
    found = lambda: [str(r) for r in remarks(scene) if "reaches" in str(r)]
    assert not found()
    do.add_layer(scene, mat.id, "offset", values={"y": 3.0})
    assert len(found()) == 1 and "Mat reaches 3.0 m" in found()[0]


def ledger():
    scene, mat = scene_with("Mat")
    window = window_on(scene)
    window.actions_by_name["panel_ledger"].trigger()
    told = window.panels.currentWidget()
    assert told.item(0).text() == "Mat: 0 layers"
    do.add_layer(scene, mat.id, "bend")
    settle(window.session)
    assert told.item(0).text() == "Mat: 1 layers"
    assert window.actions_by_name["panel_ledger"].shortcut().toString() == "Shift+F12"
    end(window)


def drift():
    is_known("drift", "ensemble")
    scene, a, b = scene_with("A", "B")
    do.set_value(scene, b.id, "x", 3.0)
    for subject in (a, b):
        do.add_layer(scene, subject.id, "drifter")
    gone = [middle(scene, t)[0] - middle(scene, t, 1)[0] for t in (a, b)]
    assert np.allclose(gone, [-SECONDS, SECONDS], atol=1e-3), "at a metre a second, apart"


def broken():
    """What is broken is remarked upon, and stops nothing."""
    assert kind_of("bend").title == "Bend"
    assert "left half-way" in next(why for path, why in BROKEN.items() if "broken.py" in path)
    assert "is the word of Bend already" in next(why for path, why in BROKEN.items() if "taken.py" in path)
    assert len([r for r in remarks(Scene()) if "plug-in" in str(r)]) == 2
    assert not [r for r in remarks(Scene()) if "Never" in str(r)]
    assert kind_of("half_layer") is None and facet_of(kind_of("bend")).hint(None) == ""
    assert "half_panel" not in [p.word for p in panels()]


def end(window):
    window.session.end()
    window.hide()


if __name__ == "__main__":
    STORE = FrameStore(tempfile.mkdtemp())
    app, found = QApplication([]), {}
    for name in sys.argv[1:]:
        try:
            globals()[name]()
            found[name] = ""
        except Exception:
            found[name] = traceback.format_exc()[-900:]
    print(json.dumps(found), flush=True)
    os._exit(0)
