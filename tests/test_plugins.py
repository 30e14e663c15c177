"""What a newcomer writes: a layer, a force, a print and an ensemble, a file each, found by themselves."""

import json
import os
import subprocess
import sys
from pathlib import Path

from estampa.kinds import plugins

PLUGINS = Path(__file__).parent / "plugins"
SCRIPT = """
import json, sys, tempfile
import estampa
import numpy as np
from estampa.app.shell.theme import icon
from estampa.inspect.remarks.scene import remarks
from estampa.geometry.primitives import sheet
from estampa.reference import reference
from estampa import edits as do
from estampa.kinds.registry import kind_of
from estampa.scene.scene import Scene
from estampa.scene.document import Document
from estampa.store.frames import FrameStore
from PySide6.QtWidgets import QApplication

app = QApplication([])
from estampa.app.session import Session
from estampa.app.shell.window import Window

scene = Scene(Document(start=1, end=12))
a = do.add_mesh(scene, sheet(1, 1, 3, 3), "A")
b = do.add_mesh(scene, sheet(1, 1, 3, 3), "B")
do.set_value(scene, b.id, "x", 3.0)
do.add_layer(scene, a.id, "lift", values={"height": 0.5})
do.add_layer(scene, a.id, "drifter")
do.add_layer(scene, b.id, "drifter")
cloth = do.add_mesh(scene, sheet(1, 1, 3, 3), "C")
do.add_layer(scene, cloth.id, "cloth")
swarm = do.add_thing(scene, "swarm")
do.add_layer(scene, swarm.id, "sow", values={"count": 20, "radius": 0.2})
do.add_layer(scene, swarm.id, "grain_fall")
liquid = do.add_thing(scene, "liquid", values={"spacing": 0.1})
holder = do.add_thing(scene, "grip", values={"z": 8.0})
box = {"where": "box", "around": holder.id, "wide": 0.4, "tall": 0.4, "deep": 0.4}
do.add_layer(scene, liquid.id, "fill", values=box)
if not sys.argv[1:]:
    do.add_thing(scene, "current")
do.add_thing(scene, "centre_table", values={"subject": a.id})
store = FrameStore(tempfile.mkdtemp())
evaluator = scene.evaluator(store)
evaluator.solve_through(12)
from estampa.evaluate import outcome
middle = lambda t: outcome.of(evaluator, scene.doc.find(t.id), 12).points().mean(axis=0).round(4).tolist()
if sys.argv[1:]:
    print(json.dumps([middle(t) for t in (cloth, swarm, liquid)]))
    raise SystemExit
from estampa.press.run import run
printed = run(scene, evaluator, scene.doc.prints[0], tempfile.mkdtemp())
session = Session(store)
window = Window(session)
session.replace(scene)
window.show()
session.selection.select(scene.doc.find(a.id).stack[0].id)
app.processEvents()
docs = reference()
print(json.dumps({
    "middles": [middle(t) for t in (a, b, cloth, swarm, liquid)],
    "kinds": [kind_of(k).family for k in ("lift", "current", "centre_table", "drift", "drifter")],
    "bend": kind_of("bend").title,
    "docs": [f"(`{k}`)" in docs for k in ("lift", "current", "centre_table", "drift", "drifter")],
    "shortcut": window.actions_by_name["add_lift"].shortcut().toString() if hasattr(window, "actions_by_name") else
        next(x.shortcut().toString() for x in window.actions() if x.objectName() == "add_lift"),
    "icons": len({icon(k).pixmap(16).toImage().bits().tobytes() for k in ("lift", "current", "drift", "none")}),
    "sheet": window.sheet.row("height").channel.help,
    "printed": printed.passed,
    "remarks": [str(r) for r in remarks(scene) if "plug-in" in str(r)],
}), flush=True)
session.end()
import os
os._exit(0)
"""


def test_a_layer_a_force_a_print_and_an_ensemble_are_a_file_each(tmp_path):
    environment = os.environ | {"ESTAMPA_KINDS": str(PLUGINS), "ESTAMPA_STATE": str(tmp_path / "state")}
    run = [sys.executable, "-c", SCRIPT]
    made = subprocess.run(run, capture_output=True, text=True, env=environment, check=False)
    assert made.returncode == 0, made.stderr[-3000:]
    told = json.loads(made.stdout.splitlines()[-1])
    assert told["kinds"] == ["layer", "force", "print", "ensemble", "layer"] and all(told["docs"])
    first, second, *pushed = told["middles"]
    still = subprocess.run([*run, "still"], capture_output=True, text=True, env=environment, check=False)
    for by, without in zip(pushed, json.loads(still.stdout.splitlines()[-1]), strict=True):
        assert abs(by[0] - without[0] - 0.5 * 3 * (11 / 24) ** 2) < 0.1, "the current pushes cloth, swarm and liquid"
    gone = 11 / 24  # 11 frames at a metre a second
    assert abs(first[0] - 0.5 + gone) < 2e-2 and abs(second[0] - 3.5 - gone) < 2e-2, "they drift apart"
    assert 0.4 < first[1] < 0.7 and abs(second[1]) < 0.2, "from where the lift above has put it"
    assert told["shortcut"] == "Ctrl+Alt+9" and told["icons"] == 4 and told["sheet"] == "How far it is raised."
    assert told["printed"]
    # what is broken is remarked upon, and stops nothing
    assert told["bend"] == "Bend" and len(told["remarks"]) == 2
    assert any("broken.py" in r and "left half-way" in r for r in told["remarks"])
    assert any("taken.py" in r and "is the word of Bend already" in r for r in told["remarks"])


LAYER = """
import numpy as np
from estampa.kinds.channels import number
from estampa.motion.layer import Deformer
class Bad(Deformer):
    "Goes wrong."
    kind, title = "{word}", "{word}"
    def apply(self, points, v, now):
        {body}
"""
BODIES = {
    "misshapen": "return points[:, 1:]",
    "flattened": "return points.astype(np.float32)",
    "no_array": "return None",
    "nowhere": "return points + np.nan",
    "quits": "raise SystemExit(3)",
    "stumbles": "return points / {}",
}
FORCE = """
from estampa.fields.force import Force
class Gust(Force):
    "Goes wrong."
    kind, title = "gone_gust", "Gone gust"
    def act(self, world, v):
        raise SystemExit(4)
"""
JUDGE = """
import json, sys
from estampa import edits as do, EstampaError
from estampa.geometry.primitives import sheet
from estampa.inspect.remarks.worked_out import all_remarks
from estampa.scene.document import Document
from estampa.scene.scene import Scene
found = {}
for word in sys.argv[1:]:
    scene = Scene(Document(end=3))
    mat = do.add_mesh(scene, sheet(1, 1, 3, 3), "Mat")
    do.add_layer(scene, mat.id, word, word)
    try:
        scene.evaluate(2)
        found[word] = ["went on", []]
    except EstampaError as err:
        told = [str(r) for r in all_remarks(scene.evaluator(stand_ins=True)) if r.severity == "error"]
        found[word] = [str(err), told]
scene = Scene(Document(end=3))
plain = do.add_mesh(scene, sheet(1, 1, 3, 3), "Plain")
do.add_layer(scene, plain.id, "bend")
print(json.dumps([found, [str(r) for r in all_remarks(scene.evaluator(stand_ins=True)) if "plug-in" in str(r)],
                  scene.evaluate(2)["Plain"].shape]))
"""


def test_a_plug_in_that_goes_wrong_is_named_where_it_stops_and_in_the_remarks(tmp_path):
    """Wrong shapes and types, numbers that are none, an exit: each is trouble of its layer, and of nothing else."""
    folder = tmp_path / "kinds"
    folder.mkdir()
    for word, body in BODIES.items():
        (folder / f"{word}.py").write_text(LAYER.format(word=word, body=body))
    (folder / "leaves.py").write_text("raise SystemExit(1)")
    environment = os.environ | {"ESTAMPA_KINDS": f"{folder}{os.pathsep}{tmp_path / 'none'}"}
    run = [sys.executable, "-c", JUDGE, *BODIES]
    done = subprocess.run(run, capture_output=True, text=True, env=environment, timeout=100)
    assert done.returncode == 0, done.stderr[-2000:]
    found, broken, shape = json.loads(done.stdout.splitlines()[-1])
    for word, (said, remarks) in found.items():
        assert said.startswith(f"{word} on Mat") and "Traceback" not in said, said
        assert len(remarks) == 1 and remarks[0].startswith(f"{word} on Mat"), "what stops is remarked upon"
        assert word == "nowhere" or f"plug-in {word}.py" in said
    assert any("leaves.py" in w and "SystemExit" in w for w in broken) and any("no such folder" in w for w in broken)
    assert shape == [9, 3], "the rest goes on"


def test_a_folder_of_plug_ins_is_asked_about_once_and_again_when_it_changes(tmp_path, monkeypatch):
    folder = tmp_path / "kinds"
    (folder / "more").mkdir(parents=True)
    (folder / "one.py").write_text("ran.append(1)")
    monkeypatch.setenv("ESTAMPA_KINDS", str(folder))
    monkeypatch.setenv("ESTAMPA_STATE", str(tmp_path / "state"))
    monkeypatch.setattr(plugins, "BROKEN", {})
    asked, agrees = [], [False]

    def may_read(where):
        asked.append(where)
        return agrees[0]

    monkeypatch.setattr(plugins, "_may_read", plugins._may_read)
    plugins.ask(may_read)
    loaded = []
    monkeypatch.setattr(plugins, "_load", lambda path, known: loaded.append(path.name))
    plugins.load({})
    assert asked == [folder] and not loaded and "not agreed" in plugins.BROKEN[str(folder)]
    agrees[0] = True
    plugins.load({})
    plugins.load({})
    assert len(asked) == 2 and loaded == ["one.py", "one.py"], "once it was agreed to"
    (folder / "more" / "helper.py").write_text("")
    plugins.load({})
    assert len(asked) == 3, "what it may take from below has changed"


ASKS = """
import os, sys
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from PySide6.QtCore import QTimer
from PySide6.QtWidgets import QApplication, QMessageBox, QPushButton
from estampa.app.shell import theme
from estampa import cli
from estampa.kinds import registry

app = QApplication([])
def answer():
    boxes = [w for w in app.topLevelWidgets() if isinstance(w, QMessageBox) and w.isVisible()]
    if not boxes:
        QTimer.singleShot(50, answer)
        return
    print("asked", boxes[0].informativeText().splitlines()[1], "lift" in registry._KINDS, flush=True)
    next(b for b in boxes[0].findChildren(QPushButton) if b.text() == sys.argv[1]).click()
    QTimer.singleShot(1500, leave)
def leave():
    print("lift" in registry.load_kinds(), flush=True)
    os._exit(0)
QTimer.singleShot(0, answer)
QTimer.singleShot(15_000, leave)
cli.main(sys.argv[2:])
"""


def test_the_window_asks_before_anything_of_a_plug_in_runs(tmp_path):
    """On a demo, as `./start` opens it, and with nothing open."""
    (tmp_path / "kinds").mkdir()
    (tmp_path / "kinds" / "lift.py").write_text((PLUGINS / "lift.py").read_text())
    told = {"ESTAMPA_KINDS": str(tmp_path / "kinds"), "ESTAMPA_STORE": str(tmp_path / "store")}
    for state, words, loaded in (("one", "Go on without", "False"), ("two", "Load them", "True")):
        for k, command in enumerate((["demo", "boards"], ["open"])):
            environment = os.environ | told | {"ESTAMPA_STATE": str(tmp_path / state / str(k))}
            run = [sys.executable, "-c", ASKS, words, *command]
            done = subprocess.run(run, capture_output=True, text=True, env=environment, timeout=100)
            assert done.stdout.split() == ["asked", "lift.py", "False", loaded], done.stderr[-1500:]
