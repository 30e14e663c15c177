"""What a newcomer writes: a file for each of the seven likely changes, found by itself."""

import ast
import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from estampa.kinds import plugins

PLUGINS = Path(__file__).parent / "plugins"
TRIALS = {  # what each of them adds, and what is tried of it in tests/plugin_trials.py
    "current": "a force that moves a cloth, a swarm and a liquid",
    "lift": "a layer with a handle in the view",
    "embers": "an ensemble of grains with a source, a lane and a start by hand",
    "centre_table": "a print",
    "tall": "a remark that needs an evaluator",
    "ledger": "a panel",
    "drift": "an ensemble of things and its members",
}


def tried(folder: Path, state: Path, *names: str) -> dict[str, str]:
    """What came of the trials of some plug-ins in a folder: "" where all of it holds, else what does not."""
    environment = os.environ | {"ESTAMPA_KINDS": str(folder), "ESTAMPA_STATE": str(state)}
    run = [sys.executable, "-m", "tests.plugin_trials", *names]
    done = subprocess.run(run, capture_output=True, text=True, env=environment, cwd=PLUGINS.parent.parent, check=False)
    assert done.returncode == 0, done.stderr[-3000:]
    return json.loads(done.stdout.splitlines()[-1])


def test_each_is_one_file_and_works_with_no_other_one_touched(tmp_path):
    found = tried(PLUGINS, tmp_path, *TRIALS, "broken")
    assert found == dict.fromkeys((*TRIALS, "broken"), "")


@pytest.mark.sweep
@pytest.mark.parametrize("name", TRIALS)
def test_its_trial_fails_when_its_body_is_emptied(name, tmp_path):
    """With every function of it doing nothing, so that a trial is no show."""
    (tmp_path / "kinds").mkdir()
    tree = ast.parse((PLUGINS / f"{name}.py").read_text())
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef):
            node.body = [ast.Pass()]
    (tmp_path / "kinds" / f"{name}.py").write_text(ast.unparse(tree))
    assert tried(tmp_path / "kinds", tmp_path, name)[name], f"{TRIALS[name]}: emptied, and not noticed"


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
    monkeypatch.setattr(plugins, "_load", lambda path: loaded.append(path.name))
    plugins.load()
    assert asked == [folder] and not loaded and "not agreed" in plugins.BROKEN[str(folder)]
    agrees[0] = True
    plugins.load()
    plugins.load()
    assert len(asked) == 2 and loaded == ["one.py", "one.py"], "once it was agreed to"
    (folder / "more" / "helper.py").write_text("")
    plugins.load()
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
