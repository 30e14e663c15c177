"""The command line as a user meets it: what it prints, where, and its exit codes."""

import os
import pty
import re
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from estampa import edits as do
from estampa import open_scene, save_scene
from estampa.cli import main
from estampa.reference import reference
from tests.conftest import named

ROOT = Path(__file__).parents[1]


def estampa(*words, **more):
    return subprocess.run([sys.executable, "-m", "estampa", *map(str, words)], capture_output=True, text=True, **more)


@pytest.fixture
def shot(flag, tmp_path):
    do.add_thing(flag, "vertex_cache", "Cache")
    do.add_thing(flag, "vertex_texture", "Texture")
    return save_scene(flag, tmp_path / "shot.estampa")


def test_solve_bake_info_and_check_a_scene(shot, tmp_path):
    environment = os.environ | {"ESTAMPA_STORE": str(tmp_path / "store")}
    ran = estampa("solve", shot, env=environment)
    assert ran.returncode == 0 and "12 frame(s) solved" in ran.stdout
    assert re.search(r"^solving: +\d+ % Cloth · frame \d+$", ran.stderr, re.M), "plain lines in a pipe"
    assert "0 frame(s) solved" in estampa("solve", shot, env=environment).stdout
    ran = estampa("bake", shot, "--print", "Cache", "--out", tmp_path / "out", env=environment)
    assert ran.returncode == 0 and "matches the scene" in ran.stdout
    assert [p.name for p in (tmp_path / "out").iterdir()] == ["Cache.usdc"]
    ran = estampa("info", shot)
    assert (
        "frames 1 to 12 at 24 a second" in ran.stdout and "layer cloth" in ran.stdout and "117 vertices" in ran.stdout
    )
    ran = estampa("check", shot)
    assert (ran.returncode, ran.stdout) == (0, "nothing to remark\n")


def test_exit_codes_are_honest(flag, shot, tmp_path):
    do.set_value(flag, named(flag, "Cloth").id, "pins", None)
    ran = estampa("check", save_scene(flag, tmp_path / "falls.estampa"))
    assert ran.returncode == 1 and ran.stdout.startswith("error: Cloth is held by nothing")
    for words in (("solve", tmp_path / "none.estampa"), ("bake", shot, "--print", "Nothing", "--out", tmp_path),
                  ("info", __file__), ("demo", "ferry", "--out", tmp_path)):  # fmt: skip
        ran = estampa(*words)
        assert ran.returncode == 2 and ran.stderr.startswith("estampa: "), words
    assert estampa("bake", shot).returncode == 2  # --out is missing: argparse says so
    do.set_value(flag, flag.doc.prints[1].id, "tolerance", 0.0)
    ran = estampa("bake", save_scene(flag, tmp_path / "strict.estampa"), "--print", "Texture", "--out", tmp_path)
    assert ran.returncode == 1 and "DIFFERS" in ran.stdout


def test_the_store_tells_its_size_and_is_cleared(shot, tmp_path):
    environment = os.environ | {"ESTAMPA_STORE": str(tmp_path / "store"), "ESTAMPA_STORE_LIMIT": "5000000"}
    estampa("solve", shot, env=environment)
    told = estampa("store", env=environment).stdout
    assert "45.2 kB of at most 5 MB" in told, told  # 12 x (28 x 117 bytes, a report, no crossings and a header)
    assert "12 frame(s) deleted" in estampa("store", "--clear", env=environment).stdout
    assert "12 frame(s) solved" in estampa("solve", shot, env=environment).stdout


def test_help_tells_of_every_command(capsys):
    def told(*words):
        with pytest.raises(SystemExit) as left:
            main([*words, "--help"])
        assert left.value.code == 0
        return capsys.readouterr().out

    whole = told()
    words = ("open", "info", "demo", "solve", "bake", "check", "store", "bind", "import", "keys", "clips", "movie")
    for word in (*words, "match"):
        assert word in whole and "usage: estampa " + word in told(word)


def test_a_camera_is_matched_by_what_is_known(flag, tmp_path):
    """Four corners of a square of 2 m about the origin, seen from 5 m straight above it by a lens of 24 mm on 24 mm."""
    do.add_thing(flag, "camera", "Over")
    path = save_scene(flag, tmp_path / "over.estampa")
    corners = {(600, 300): (-1, 0, -1), (1000, 300): (1, 0, -1), (1000, 700): (1, 0, 1), (600, 700): (-1, 0, 1)}
    words = [f"--point={u},{v}={x},{y},{z}" for (u, v), (x, y, z) in corners.items()]
    lifted = "--point=800,500=0,1,0", "--point=1050,500=1,1,0"  # they tell the lens
    told = estampa("match", path, "--size", "1600x1000", *words, *lifted).stdout
    assert "within 0.00 px; lens 24.0 mm, film back 24 mm" in told and "0.000 m, 5.000 m, 0.000 m" in told.replace(
        "-0.000", "0.000"
    )
    assert "Write it as U,V=X,Y,Z" in estampa("match", path, "--size", "1600x1000", "--point=1,2=3").stderr
    assert "runs along no axis" in estampa("match", path, "--size", "1600x1000", "--line=Q=1,2,3,4").stderr
    assert "1 points and 0 lines" in estampa("match", path, "--size", "1600x1000", words[0]).stderr


def test_stopping_a_solve_is_told_and_keeps_its_frames(flag, tmp_path):
    do.set_range(flag, end=20_000)
    store = tmp_path / "store"
    path = save_scene(flag, tmp_path / "long.estampa")
    environment = os.environ | {"ESTAMPA_STORE": str(store)}
    words = [sys.executable, "-m", "estampa", "solve", str(path)]
    process = subprocess.Popen(words, env=environment, stderr=subprocess.PIPE, text=True)
    deadline = time.time() + 60
    while len(list(store.glob("*/*.frame"))) < 3 and time.time() < deadline:
        time.sleep(0.02)
    process.send_signal(signal.SIGINT)
    _, told = process.communicate(timeout=120)
    assert process.returncode == 130 and "what was solved so far is kept" in told
    assert len(list(store.glob("*/*.frame"))) >= 3


def test_a_terminal_gets_a_bar(shot, tmp_path):
    master, slave = pty.openpty()
    environment = os.environ | {"ESTAMPA_STORE": str(tmp_path / "store"), "TERM": "xterm"}
    words = [sys.executable, "-m", "estampa", "solve", str(shot)]
    process = subprocess.Popen(words, env=environment, stdout=subprocess.PIPE, stderr=slave)
    os.close(slave)
    shown = b""
    while True:
        try:
            part = os.read(master, 4096)
        except OSError:
            break
        if not part:
            break
        shown += part
    assert process.wait() == 0 and b"\x1b[" in shown and b"solving" in shown


def test_info_on_a_mesh_reads_its_unit(tmp_path):
    path = ROOT / "src/estampa/demo/data/awning.obj"
    assert "3.2 m × 0.7" in estampa("info", path).stdout
    ran = estampa("info", path, "--unit", "mm", "--up", "z", "--weld")
    assert "3.2 mm" in ran.stdout and "islands                        1" in ran.stdout


def test_the_demo_is_baked_without_a_window(tmp_path):
    ran = estampa("demo", "--out", tmp_path)
    assert ran.returncode == 0 and ran.stdout.count("matches the scene") == 2, ran.stderr
    assert sum(p.stat().st_size for p in tmp_path.iterdir()) > 5_000_000


def test_the_example_for_python_runs_as_it_is_written(tmp_path, monkeypatch):
    from estampa.formats.obj import write_obj
    from estampa.geometry.primitives import sheet

    flat = sheet(100, 60, 11, 7)
    flat.points[:, [1, 2]] = flat.points[:, [2, 1]] * [-1, 1]
    write_obj(tmp_path / "banner.obj", flat)
    monkeypatch.chdir(tmp_path)
    code = "\n".join(re.findall(r"```python\n(.*?)```", (ROOT / "docs/python.md").read_text(), re.S))
    names = {}
    exec(compile(code, "docs/python.md", "exec"), names)
    assert names["again"].doc.find(names["cloth"].id) == names["saved"].find(names["cloth"].id)
    assert names["shape"].shape == (77, 3) and names["copied"].points().shape == (6, 77, 3)
    assert names["closed"] and all(pose > 1e-3 for _, pose, _ in names["gaps"]), "a cloth that falls does not loop"
    assert names["baked"].gap <= 0.002 and names["world"].shape == (4, 4, 4)
    assert (tmp_path / "prints" / "Banner_cache.usdc").exists()


def test_the_pages_are_up_to_date_and_their_links_lead_somewhere():
    assert (ROOT / "docs/channels.md").read_text() == reference()
    pictures = set((ROOT / "docs/screenshots").glob("*.png"))
    linked = set()
    for page in (ROOT / "README.md", *(ROOT / "docs").glob("*.md")):
        for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
            if not target.startswith("http"):
                assert (page.parent / target).exists(), f"{page.name} links to {target}"
                linked.add((page.parent / target).resolve())
    assert pictures <= linked and len(pictures) < 20


def test_a_new_layer_is_one_file_as_the_page_says():
    import numpy as np

    from estampa.geometry.primitives import sheet
    from estampa.kinds.channels import number  # noqa: F401
    from estampa.kinds.registry import _KINDS
    from estampa.motion.layer import Deformer  # noqa: F401  (used by the page's example)
    from estampa.scene.scene import Scene

    code = re.search(r"```python\n(class Lift.*?)```", (ROOT / "docs/architecture.md").read_text(), re.S)[1]
    exec(compile(code, "docs/architecture.md", "exec"), locals())
    try:
        scene = Scene()
        subject = do.add_mesh(scene, sheet(1, 1, 3, 3), "Mat")
        do.add_layer(scene, subject.id, "lift", values={"height": 0.4})
        assert np.allclose(scene.evaluate(1)["Mat"][:, 1], 0.4)
        assert "### Lift (`lift`)" in reference()
    finally:
        del _KINDS["lift"]


def test_a_loop_is_measured_and_closed_from_the_command_line(tmp_path):
    from estampa.geometry.primitives import sheet
    from estampa.scene.document import Document
    from estampa.scene.scene import Scene

    scene = Scene(Document(start=1, end=24, loop=(1, 25)))
    mat = do.add_mesh(scene, sheet(1, 1, 6, 6), "Mat")
    do.add_layer(scene, mat.id, "wave", "Swell", {"rate": 0.7})
    do.add_thing(scene, "copies", "Mats", {"subject": mat.id, "count": 4})
    save_scene(scene, tmp_path / "mat.estampa")
    told = estampa("loop", tmp_path / "mat.estampa")
    assert told.returncode == 1 and "open" in told.stdout and "0.7 becomes 1 Hz" in told.stdout
    assert "4 of 4 copies of Mats move in step" in told.stdout
    assert estampa("loop", tmp_path / "mat.estampa", "--close").returncode == 0
    assert "offer" not in estampa("loop", tmp_path / "mat.estampa").stdout


def test_the_public_names_are_all_there_and_told(tmp_path):
    from estampa import api

    for name in api.__all__:
        found = getattr(api, name)
        assert (found.__doc__ or "").strip(), f"{name} does not say what it does"
    scene = api.Scene()
    mat = api.add_mesh(scene, api.Mesh([[0, 0, 0], [1, 0, 0], [0, 0, 1]], [3], [0, 1, 2]), "Mat")
    assert api.find(scene, "Mat") is mat and "cloth" in api.kinds() and "wind" in api.kinds("force")
    with pytest.raises(api.EstampaError, match="is not in the scene"):
        api.find(scene, "Rug")


def test_what_the_window_does_the_command_line_does_too(tmp_path):
    """Rig import, binding, baking a range, in place, clips, loops and movies, one after another on one scene."""
    from tests.nasty import whole_scene

    environment = os.environ | {"ESTAMPA_STORE": str(tmp_path / "store")}
    run = lambda *words: estampa(*words, env=environment)
    shot = tmp_path / "shot.estampa"
    shot.write_bytes(whole_scene())
    assert "follows Skeleton" in run("bind", shot, "--subject", "Cage", "--skeleton", "Skeleton").stdout
    scene = open_scene(shot)
    do.set_value(scene, named(scene, "Skinned mesh").id, "subject", named(scene, "Tail").id)
    save_scene(scene)
    run("bake", shot, "--print", "Skinned mesh", "--out", tmp_path)
    rig = next(tmp_path.glob("*.glb"))
    assert "4 joints" in run("import", rig, tmp_path / "new.estampa").stdout
    assert open_scene(tmp_path / "new.estampa").doc.skeletons
    assert "cannot be a cage" in run("bind", shot, "--subject", "Flag", "--cage", "Flag").stderr
    told = run("keys", shot, "--first", "1", "--last", "4", "--clip", "Short").stdout
    assert "over 4 frames" in told
    assert "“Short” is replaced" in run("keys", shot, "--first", "1", "--last", "5", "--clip", "Short").stdout
    listed = run("clips", shot, "--play", "Sway").stdout
    assert "Sway, frames 1 to 6, loops, played" in listed and "Short, frames 1 to 5" in listed
    assert "Short backwards" in run("clips", shot, "--reverse", "Short").stdout
    assert "Short backwards" not in run("clips", shot, "--remove", "Short backwards").stdout
    run("loop", shot, "--run-up", "3", "--drop", "--close")
    assert open_scene(shot).doc.run_up == 3
    movie = tmp_path / "m.mp4"
    assert run("movie", shot, "--out", movie, "--size", "96x64", "--first", "1", "--last", "2").returncode == 0
    assert movie.stat().st_size > 500
    assert "ends in none of" in run("movie", shot, "--out", tmp_path / "m.avi").stderr
