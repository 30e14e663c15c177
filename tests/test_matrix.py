"""Every feature next to every other one; see matrix.py. A sample is in every run, all of it in `-m sweep`."""

import pytest

from estampa.store.frames import FrameStore
from tests import matrix

SAMPLE = {
    "demo sorter": ("save, open", "asset"), "demo lanterns": ("asset",),
    "layer cloth": ("adopt, run-up", "copies", "loop"), "layer body": ("save, open", "adopt, run-up", "live"),
    "layer break": ("save, open",), "layer sow": ("save, open", "prints"),
    "layer reach": ("duplicate, remove",), "force collider": ("save, open", "duplicate, remove"),
    "thing copies": ("save, open", "undo, redo"), "ensemble bodies": ("command line",),
}  # fmt: skip


@pytest.mark.parametrize("row", SAMPLE)
def test_a_sample_of_the_matrix(row, tmp_path):
    matrix.judge(row, tmp_path, SAMPLE[row])


@pytest.mark.sweep
@pytest.mark.parametrize("row", matrix.ROWS)
def test_the_matrix(row, tmp_path, record_property):
    """What was found is written into docs/matrix.md when all rows were run (conftest.py)."""
    found = matrix.judge(row, tmp_path)
    record_property("matrix", [row, found])


@pytest.mark.sweep
@pytest.mark.parametrize("first", sorted({a for a, _ in matrix.PAIRS}))
def test_pairs_of_layers(first, tmp_path):
    for a, b in matrix.PAIRS:
        if a == first:
            matrix.judge_pair(a, b, FrameStore(tmp_path / b / "store"))


def test_two_layers_in_either_order(tmp_path):
    for a, b in (("break", "body"), ("body", "break"), ("cloth", "noise"), ("refine", "cloth"), ("chain", "reach")):
        if (a, b) in matrix.PAIRS:
            matrix.judge_pair(a, b, FrameStore(tmp_path / f"{a} {b}" / "store"))
