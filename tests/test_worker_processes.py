"""Work in other processes: it is done, trouble comes back, a stop ends it, a script is not run again."""

import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from estampa import warm
from estampa.errors import Cancelled, EstampaError
from estampa.worker_processes import Gone, Workers

ROOT = str(Path(__file__).resolve().parents[1])
SCRIPT = """
import numpy as np, trimesh
from estampa.geometry import cells, cutting
ball = trimesh.creation.icosphere(2)
from estampa.geometry.mesh import Mesh
mesh = Mesh.from_triangles(ball.vertices, ball.faces)
corners = cells.voronoi(cells.seeds(mesh, 20, 1, cells.Density()), *mesh.bounds)
print(len(np.unique(cutting.cut(mesh.points, mesh.triangles.astype(np.int64), corners, 2).cell)))
"""


def test_calls_are_answered_in_order_and_trouble_comes_back():
    workers, told = Workers(2, (ROOT,)), []
    assert workers.run(complex, (1, 2), complex.__add__, [], told.append) == []
    made = workers.run(slice, (3,), _twice, [4, 5, 6, 7], told.append)
    assert made == [8, 10, 12, 14] and told[-1] == 1.0
    with pytest.raises(ZeroDivisionError):
        workers.run(slice, (3,), _over, [1, 0, 2])
    with pytest.raises(Gone, match="ended before it was done.*do it again"):
        workers.run(slice, (3,), _leaves, [3])
    with pytest.raises(EstampaError, match="^A jar: has a hole. Mend it.$") as told_of:
        workers.run(slice, (3,), _refuses, [3])
    assert told_of.value.detail == "at the foot", "it comes whole from the other process"
    assert workers.run(slice, (3,), _twice, [1]) == [2], "others take the place of what is gone"
    workers.end()


def test_a_stop_ends_what_is_under_way():
    workers, begun = Workers(2, (ROOT,)), time.monotonic()

    def stop(share):
        raise Cancelled

    with pytest.raises(Cancelled):
        workers.run(slice, (3,), _sleeps, [0, 30, 30], stop)
    assert time.monotonic() - begun < 20, "nothing waits for what was stopped"
    workers.end()


def test_a_script_without_a_guard_cuts_in_workers_and_is_run_once(tmp_path):
    (tmp_path / "script.py").write_text(SCRIPT)
    done = subprocess.run([sys.executable, tmp_path / "script.py"], capture_output=True, text=True, timeout=120)
    assert done.stdout.split() == ["20"], done.stderr


def _twice(state, call):
    return 2 * call


def _over(state, call):
    return 1 / call


def _sleeps(state, call):
    time.sleep(call)


def _leaves(state, call):
    import os

    os._exit(call)


def _refuses(state, call):
    raise EstampaError("A jar", "has a hole.", "Mend it.", "at the foot")


HOSTILE = """
import pathlib
pathlib.Path({mark!r}).write_text("ran")
"""


def test_nothing_that_lies_in_the_present_folder_is_imported_by_what_runs_beside(tmp_path):
    """Modules by names of ours and of the packages, in the folder that a program is started in and where PYTHONPATH
    points; each would write a file. The command line starts as an installed program does."""
    from estampa import demo, save_scene

    folder, mark = tmp_path / "got by mail", tmp_path / "ran"
    folder.mkdir()
    for name in ("estampa", "numpy", "json", "pickle", "numba", "manifold3d", "sitecustomize", "usercustomize"):
        (folder / f"{name}.py").write_text(HOSTILE.format(mark=str(mark)))
    save_scene(demo.build("jar"), folder / "jar.estampa")
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONPATH"}
    environment |= {"ESTAMPA_STORE": str(tmp_path / "store"), "ESTAMPA_STATE": str(tmp_path / "state")}
    estampa = Path(sys.executable).with_name("estampa")
    for command in ([estampa, "solve", "jar.estampa"], *warm.commands()[:1]):
        cut = [*command[:4], "layers"] if command[0] == sys.executable else command
        done = subprocess.run(cut, cwd=folder, env=environment, capture_output=True, text=True, timeout=300)
        assert done.returncode == 0, done.stderr
    workers = subprocess.run(
        [sys.executable, "-I", "-c", f"import os; os.chdir({str(folder)!r}); "
         "from estampa.worker_processes import Workers; "
         "print(Workers(1).run(slice, (3,), isinstance, [slice]))"],
        env=environment | {"PYTHONPATH": str(folder)}, capture_output=True, text=True, timeout=100,
    )  # fmt: skip
    assert workers.stdout.strip() == "[True]", workers.stderr
    assert not mark.exists(), "nothing of it was imported"
