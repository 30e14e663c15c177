"""A mirrored half, welded onto the mirror or with a rim of its own."""

import numpy as np
import pytest
import trimesh

from estampa import edits as do
from estampa.edits.halves import add_mirrored, cut_off, rims_off
from estampa.geometry.primitives import coloured, tube
from estampa.scene.document import Document
from estampa.scene.scene import Scene


@pytest.fixture
def shade():
    """Half a ball that stands on the mirror, with a captured shape whose rim has come off it by 10 mm."""
    turn = np.linspace(0.08, np.pi - 0.08, 25)
    ball = tube(0.2 * np.outer(-np.cos(turn), [0, 1, 0]), 0.2 * np.sin(turn), 24)
    scene = Scene(Document())
    subject = do.add_mesh(scene, coloured(ball, "Paper", (0.8, 0.6, 0.3)), "Shade")
    upper = do.add_map(scene, subject.id, (scene.mesh(subject.mesh).points[:, 1] > -1e-6).astype(float), "Upper half")
    cut_off(scene, subject.id, upper.id)
    subject = scene.doc.find(subject.id)
    points = scene.mesh(subject.mesh).points
    do.add_target(scene, subject.id, points * [1, 0.1, 1] + [0, 0.01, 0], "flat")
    return scene, subject.id


def pieces(mesh) -> int:
    """Connected pieces, as trimesh has them."""
    judge = trimesh.Trimesh(mesh.points, mesh.triangles, process=False)
    return len(set(trimesh.graph.connected_component_labels(judge.face_adjacency, node_count=len(judge.faces))))


def test_a_rim_that_is_off_the_mirror_is_told_and_moved_only_where_the_halves_are_welded(shade):
    scene, subject = shade
    assert rims_off(scene, subject, "y") == {"flat": pytest.approx(0.01, rel=1e-6)}
    count = scene.mesh(scene.doc.find(subject).mesh).count
    rim = np.flatnonzero(np.abs(scene.mesh(scene.doc.find(subject).mesh).points[:, 1]) < 1e-6)
    captured = lambda: scene.arrays.get(scene.doc.find(subject).targets[0].points)
    before, alone = captured(), pieces(scene.mesh(scene.doc.find(subject).mesh))
    add_mirrored(scene, subject, "y")
    whole = scene.mesh(scene.doc.find(subject).mesh)
    assert whole.count == 2 * count - len(rim) and np.abs(captured()[rim, 1]).max() == 0
    assert pieces(whole) == 2 * alone - 1
    scene.undo()
    add_mirrored(scene, subject, "y", welded=False)
    whole, shape = scene.mesh(scene.doc.find(subject).mesh), captured()
    assert whole.count == 2 * count
    assert np.array_equal(shape[:count], before) and np.allclose(shape[count:], before * [1, -1, 1])
    assert pieces(whole) == 2 * alone
