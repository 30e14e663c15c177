"""The scene file: what goes in comes out; what is damaged or hostile is refused in words and changes nothing."""

import io
import json
import os
import pickle
import subprocess
import sys
import time
import zipfile

import numpy as np
import pytest

from estampa import edits as do
from estampa import open_scene, save_scene
from estampa.errors import EstampaError
from tests.conftest import named


def altered(path, target, change=None, entries=()):
    """A copy of a scene file with its JSON changed and entries added or replaced."""
    with zipfile.ZipFile(path) as old, zipfile.ZipFile(target, "w") as new:
        data = json.loads(old.read("scene.json"))
        if change:
            change(data)
        new.writestr("scene.json", json.dumps(data))
        for name in old.namelist():
            if name != "scene.json" and name not in dict(entries):
                new.writestr(name, old.read(name))
        for name, content in entries:
            new.writestr(name, content)
    return target


def test_what_is_saved_is_opened_again(flag, tmp_path):
    do.set_key(flag, named(flag, "Wind").id, "speed", 3, 6.5, "step")
    path = save_scene(flag, tmp_path / "flag.estampa")
    again = open_scene(path)
    assert again.doc == flag.doc
    for name in flag.doc.arrays():
        assert np.array_equal(again.arrays.get(name), flag.arrays.get(name))
    assert not flag.is_changed and not again.is_changed


def test_damaged_and_hostile_files_are_refused_by_name(flag, tmp_path):
    good = save_scene(flag, tmp_path / "good.estampa")
    torn = tmp_path / "torn.estampa"
    torn.write_bytes(good.read_bytes()[:-400])
    marker = tmp_path / "ran"

    class Bomb:
        def __reduce__(self):
            return os.system, (f"touch {marker}",)

    with zipfile.ZipFile(good) as z:
        array_name = next(n for n in z.namelist() if n.startswith("arrays/"))
    bomb = io.BytesIO()
    np.lib.format.write_array(bomb, np.array([Bomb()], object), allow_pickle=True)

    def wrong_type(data):
        data["frame_rate"] = "fast"

    def nan_value(data):
        data["things"][0]["stack"][1]["values"]["damping"] = float("nan")

    cases = {
        "torn": (torn, "torn or is no Estampa scene"),
        "outside": (
            altered(good, tmp_path / "outside.estampa", entries=[("../evil.txt", "x")]),
            "leads out of its folder",
        ),
        "newer": (altered(good, tmp_path / "newer.estampa", lambda d: d.update(version=99)), "newer Estampa"),
        "wrong type": (altered(good, tmp_path / "wrong.estampa", wrong_type), "wrong type at frame_rate"),
        "nan": (altered(good, tmp_path / "nan.estampa", nan_value), "cannot be read"),
        "bomb": (
            altered(good, tmp_path / "bomb.estampa", entries=[(array_name, bomb.getvalue())]),
            "not plain numbers",
        ),
        "pickle": (
            altered(good, tmp_path / "pickle.estampa", entries=[(array_name, pickle.dumps(Bomb()))]),
            "not plain numbers",
        ),
        "things": (altered(good, tmp_path / "things.estampa", lambda d: d.update(things=[3])), "wrong type"),
        "missing": (tmp_path / "none.estampa", "is not there"),
    }
    for name, (path, words) in cases.items():
        with pytest.raises(EstampaError) as trouble:
            open_scene(path)
        assert words in str(trouble.value), name
        assert path.name in str(trouble.value), name
    assert not marker.exists(), "a file ran code"


def test_an_unknown_layer_and_value_survive_a_save(flag, tmp_path):
    good = save_scene(flag, tmp_path / "good.estampa")
    strange = {
        "id": "x1",
        "kind": "tidal_swell",
        "name": "Swell",
        "on": True,
        "values": {"height": 2},
        "depth": [1, {"a": 2}],
    }

    def change(data):
        data["things"][0]["stack"].append(strange)
        data["things"][0]["stack"][1]["values"]["damping"] = {"formula": "__import__('os').system('true')"}

    scene = open_scene(altered(good, tmp_path / "strange.estampa", change))
    assert named(scene, "Swell").unknown == strange
    assert scene.evaluate(3)["Flag"].shape == (117, 3)  # the rest goes on, the formula is not run
    save_scene(scene, tmp_path / "again.estampa")
    with zipfile.ZipFile(tmp_path / "again.estampa") as z:
        stack = json.loads(z.read("scene.json"))["things"][0]["stack"]
    assert stack[-1] == strange
    assert stack[1]["values"]["damping"] == {"formula": "__import__('os').system('true')"}


def test_a_refused_save_leaves_the_earlier_file_whole(flag, tmp_path, monkeypatch):
    path = save_scene(flag, tmp_path / "flag.estampa")
    before = path.read_bytes()
    do.set_range(flag, end=40)

    def full(*_, **__):
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patch:
        patch.setattr(np.lib.format, "write_array", full)
        with pytest.raises(EstampaError, match="disk is full.*untouched"):
            save_scene(flag)
    assert path.read_bytes() == before
    assert [p.name for p in tmp_path.iterdir()] == ["flag.estampa"], "no scraps are left"
    with pytest.raises(EstampaError, match="does not exist"):
        save_scene(flag, tmp_path / "no" / "such" / "flag.estampa")


@pytest.mark.slow
def test_killed_while_saving_the_file_is_old_or_new(flag, tmp_path):
    path = save_scene(flag, tmp_path / "flag.estampa")
    script = (
        "import sys; from estampa import open_scene, save_scene; from estampa import edits as do\n"
        "s = open_scene(sys.argv[1]); print('ready', flush=True); i = 13\n"
        "while True:\n    do.set_range(s, end=i); save_scene(s); i += 1\n"
    )
    for wait in (0.02, 0.09, 0.15):
        process = subprocess.Popen([sys.executable, "-c", script, str(path)], stdout=subprocess.PIPE)
        process.stdout.readline()
        time.sleep(wait)
        process.kill()
        process.wait()
        assert open_scene(path).doc.end >= 12
