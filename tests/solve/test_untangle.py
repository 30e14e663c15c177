"""Untangling: what has gone through comes back out by the shorter way, or is told; judged by ipctk."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.geometry.primitives import joined
from estampa.inspect.remarks.solved_cloth import cannot_be_untangled, goes_through
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from tests.solve.test_contact import crossings
from tests.solve.test_drapes import hung

LIMP = {"itself": True, "thickness": 0.004, "drag": 0.0, "lift": 0.0, "damping": 3.0}


def stretch(points, mesh):
    long = lambda p: np.linalg.norm(p[mesh.edges[:, 1]] - p[mesh.edges[:, 0]], axis=1)
    return long(points) / long(mesh.points)


def untangled(scene, store, subject, frames):
    evaluator = scene.evaluator(store)
    evaluator.solve_through(frames)
    return evaluator, [evaluator.subject(scene.doc.find(subject.id), f).points for f in range(1, frames + 1)]


def begun_from(points, mesh) -> tuple[Scene, object]:
    """A cloth that begins as a shape that a morph gives it."""
    scene = Scene(Document(start=1, end=12))
    subject = do.add_mesh(scene, mesh, "Cloth")
    target = do.add_target(scene, subject.id, points, "crossed")
    do.add_layer(scene, subject.id, "morph", values={"target": target.id, "weight": 1.0})
    do.add_layer(scene, subject.id, "cloth", "Silk", LIMP)
    return scene, subject


def poked(deep):
    """Two sheets side by side, a corner of the one bent through the other by so many m."""
    one, other = hung(0.6, 0.6, 13, 13), hung(0.6, 0.6, 13, 13)
    back = other.points + [0.25, -0.2, 0.02]
    bend = np.clip(((0.55 - back[:, 0]) + (back[:, 1] + 0.2)) / 0.3, 0, None)  # its upper left corner
    back[:, 2] -= (0.02 + deep) * np.clip(bend, 0, 1) ** 2
    flat = joined([one, other.with_points(other.points + [0.25, -0.2, 0.02])])
    return np.concatenate([one.points, back]), flat


@pytest.mark.slow
@pytest.mark.parametrize("deep", [0.01, 0.04])
def test_a_corner_that_pokes_through_another_sheet_comes_back_out_over_frames(store, deep):
    points, mesh = poked(deep)
    assert crossings(points, mesh) > 0
    scene, subject = begun_from(points, mesh)
    plain, _ = untangled(scene, store, subject, 8)
    told = list(goes_through(plain))
    assert len(told) == 1 and "Untangle" in told[0].mend
    told[0].fix[1](scene)
    aid = next(l for l in scene.doc.find(subject.id).stack if l.kind == "untangle")
    do.set_values(scene, aid.id, {"at": 2.0, "over": 4}, 1)
    evaluator, frames = untangled(scene, store, subject, 8)
    assert [crossings(p, mesh) for p in frames[5:]] == [0, 0, 0], "it is out, says ipctk"
    assert 0.85 < stretch(frames[-1], mesh).min() and stretch(frames[-1], mesh).max() < 1.11
    do.set_value(scene, aid.id, "over", 0)
    _, at_once = untangled(scene, store, subject, 8)
    aside = [np.linalg.norm(a - b, axis=1).max() for a, b in zip(frames[1:6], at_once[1:6], strict=True)]
    assert aside[0] > 0.5 * deep and np.array(aside) / aside[0] == pytest.approx(
        np.array([0.84375, 0.5, 0.15625, 0, 0]) / 0.84375, abs=1e-4
    ), "a smooth step over four frames"
    assert np.linalg.norm(frames[-1] - frames[0], axis=1).max() < 2 * (deep + 0.02), "by the shorter way"
    assert list(cannot_be_untangled(evaluator)) == []


@pytest.mark.slow
def test_a_fold_that_goes_through_itself_is_undone(store):
    mesh = hung(0.6, 0.3, 25, 9)
    x, y = mesh.points[:, 0], mesh.points[:, 1]
    # rolled up like a snail, a loop that is drawn through itself by 15 mm
    turn = np.clip((x - 0.2) / 0.4, 0, 1) * 2.3 * np.pi
    radius = 0.4 / (2.3 * np.pi)
    points = np.stack([np.where(x < 0.2, x, 0.2 + radius * np.sin(turn)), y, radius * (1 - np.cos(turn))], axis=1)
    points[:, 2] -= 0.02 * np.clip((x - 0.5) / 0.1, 0, 1) * np.clip((y + 0.3) / 0.3, 0, 1)
    assert crossings(points, mesh) > 0
    scene, subject = begun_from(points, mesh)
    do.add_layer(scene, subject.id, "untangle", values={"at": 2.0, "over": 0})
    evaluator, frames = untangled(scene, store, subject, 4)
    assert crossings(frames[1], mesh) == 0 and list(cannot_be_untangled(evaluator)) == []
    assert stretch(frames[1], mesh).max() < 1.11


@pytest.mark.slow
def test_what_is_held_across_is_told_as_impossible_and_is_solved_all_the_same(store):
    points, mesh = poked(0.04)
    scene, subject = begun_from(points, mesh)
    held = do.add_map(scene, subject.id, np.ones(mesh.count), "All")
    cloth = next(l for l in scene.doc.find(subject.id).stack if l.kind == "cloth")
    do.set_value(scene, cloth.id, "pins", held.id)
    do.add_layer(scene, subject.id, "untangle", "Out", {"at": 2.0, "over": 0})
    evaluator, frames = untangled(scene, store, subject, 3)
    assert crossings(frames[1], mesh) > 0 and np.allclose(frames[2], points, atol=1e-6), "nothing is lost"
    told = list(cannot_be_untangled(evaluator))
    assert len(told) == 1 and told[0].frame == 2 and "Out leaves" in told[0].wrong
