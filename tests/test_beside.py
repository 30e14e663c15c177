"""Work in other processes: it is done, trouble comes back, a stop ends it, a script is not run again."""

import subprocess
import sys
import time

import pytest

from estampa.beside import Gone, Workers
from estampa.errors import Cancelled

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
    workers, told = Workers(2), []
    assert workers.run(complex, (1, 2), complex.__add__, [], told.append) == []
    made = workers.run(slice, (3,), _twice, [4, 5, 6, 7], told.append)
    assert made == [8, 10, 12, 14] and told[-1] == 1.0
    with pytest.raises(ZeroDivisionError):
        workers.run(slice, (3,), _over, [1, 0, 2])
    with pytest.raises(Gone):
        workers.run(slice, (3,), _leaves, [3])
    assert workers.run(slice, (3,), _twice, [1]) == [2], "others take the place of what is gone"
    workers.end()


def test_a_stop_ends_what_is_under_way():
    workers, begun = Workers(2), time.monotonic()

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
