"""The parasol: ribs as joints, silk held along them."""

import numpy as np
import pytest

from estampa import demo
from estampa.demo.parasol import FOLDS, GUST, OPENS
from estampa.inspect.remarks.scene import remarks
from tests.solve.test_contact import crossings


@pytest.mark.slow
def test_the_parasol_opens_fills_and_folds_without_crossing_itself(store):
    scene = demo.build("parasol")
    evaluator = scene.evaluator(store)
    silk = next(t for t in scene.doc.things if t.name == "Silk")
    evaluator.solve_through(scene.doc.end)
    mesh = scene.mesh(silk.mesh)
    at = lambda frame: evaluator.subject(silk, frame).points
    for frame in range(1, scene.doc.end + 1, 5):
        assert crossings(at(frame), mesh) == 0, frame
    wide = lambda frame: np.linalg.norm(at(frame)[:, [0, 2]], axis=1).max()
    assert wide(1) < 0.35 < 0.5 < wide(OPENS[1] + 4) and wide(FOLDS[1] + 8) < 0.35, "folded, open, folded"
    high = lambda frame: at(frame)[:, 1].mean()
    assert high(GUST[1] + 6) > high(GUST[0]) + 0.02, "the gust fills it"
    assert not [r for r in remarks(scene) if r.severity == "error"]
