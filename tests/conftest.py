import os
import tempfile
from pathlib import Path

_home = tempfile.mkdtemp(prefix="estampa-tests-")
os.environ["ESTAMPA_STORE"] = f"{_home}/store"
os.environ["ESTAMPA_STATE"] = f"{_home}/state"

import numpy as np
import pytest
from hypothesis import settings

from estampa import edits as do
from estampa.geometry.primitives import sheet
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore

# on a busy machine a deadline fails by itself, and other examples in each run find nothing that can be found again
settings.register_profile("estampa", deadline=None, derandomize=True)
settings.load_profile("estampa")

SLOW = ("app", "demo", "test_cli", "test_damage")  # folders and files that open windows, run programs or try much


def pytest_collection_modifyitems(items):
    """`-m quick` leaves out what opens a window, runs the program, or is marked slow."""
    for item in items:
        marked = any(item.get_closest_marker(m) for m in ("slow", "sweep"))
        if not any(word in item.nodeid for word in SLOW) and not marked:
            item.add_marker(pytest.mark.quick)


@pytest.fixture
def store(tmp_path):
    return FrameStore(tmp_path / "store")


@pytest.fixture
def flag():
    """A small scene: a sheet held along one edge, with gravity and a wind; 12 frames."""
    scene = Scene(Document(name="flag", start=1, end=12))
    subject = do.add_mesh(scene, sheet(1.0, 0.6, 13, 9), "Flag")
    held = do.add_map(scene, subject.id, (scene.arrays.get(subject.mesh.points)[:, 0] == 0).astype(np.float32), "Hoist")
    do.add_layer(scene, subject.id, "bend", "Lean", {"angle": 0.0, "high": 1.0}, grip={"x": 0.5})
    do.add_layer(scene, subject.id, "cloth", "Cloth", {"pins": held.id, "substeps": 8})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "wind", "Wind", {"speed": 4.0})
    return Scene(scene.doc, scene.arrays)


DEAD = "999999999.1.1"  # a process that is not there, as autosaves and leftovers name it


def named(scene, name):
    return next(t for t, _ in scene.doc.everything() if t.name == name)


# -- the matrix ------------------------------------------------------------------------------------------------
_matrix: dict[str, dict[str, str]] = {}


def pytest_runtest_logreport(report):
    """Gathers what the rows of the matrix found, from all processes of a run."""
    for name, value in getattr(report, "user_properties", ()):
        if name == "matrix" and report.when == "call" and report.passed:
            _matrix[value[0]] = value[1]


def pytest_sessionfinish(session):
    """Writes the page of the matrix, once all of its rows were run."""
    if _matrix and not hasattr(session.config, "workerinput"):
        from tests import matrix

        if set(_matrix) == set(matrix.ROWS):
            (Path(__file__).parents[1] / "docs" / "matrix.md").write_text(matrix.table(_matrix))
