"""A frame that is damaged, taken away or under another's name is never shown as true: it is solved again."""

import os

import numpy as np
import pytest

from estampa import edits as do
from estampa.evaluate import outcome
from estampa.geometry.primitives import box, sheet
from estampa.press.run import run as press
from estampa.scene.document import Document
from estampa.scene.ids import ids_of
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore


def cloth():
    scene = Scene(Document(end=8))
    mat = do.add_mesh(scene, sheet(1, 1, 6, 6), "Mat")
    held = do.add_map(scene, mat.id, (np.arange(36) < 6).astype(np.float32), "Held")
    do.add_layer(scene, mat.id, "cloth", values={"pins": held.id})
    do.add_thing(scene, "gravity")
    return scene


def bodies():
    scene = Scene(Document(end=8))
    for i in range(3):
        cube = do.add_mesh(scene, box([-0.1, 0.4 + i, -0.1], [0.1, 0.6 + i, 0.1]), f"Cube {i}")
        do.add_layer(scene, cube.id, "body")
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground", values={"height": 0.39})
    return scene


def swarm():
    scene = Scene(Document(end=8))
    made = do.add_thing(scene, "swarm", "Sparks").id
    do.add_layer(scene, made, "sow", values={"count": 50, "radius": 0.5, "speed_y": 2.0})
    do.add_thing(scene, "gravity")
    return scene


def chained():
    """Bodies that a cloth runs into: what is solved reads what is solved."""
    scene = bodies()
    mat = do.add_mesh(scene, sheet(1, 1, 6, 6), "Mat")
    do.set_value(scene, mat.id, "y", 1.2)
    do.add_layer(scene, mat.id, "cloth")
    for subject in [t for t in scene.doc.subjects if t.stack[0].kind == "body"]:
        do.add_thing(scene, "collider", values={"shape": "mesh", "subject": subject.id})
    return scene


def seen(scene, store, frame, stand_ins=False):
    """(points of all that is seen, whether they are true)."""
    evaluator = scene.evaluator(store, stand_ins)
    owners = scene.doc.owned_by("mesh", "grains")
    found = [outcome.of(evaluator, t, frame) for t in owners]
    if any(f is None for f in found):  # nothing stands in where nothing is left
        return None, False
    return np.concatenate([f.points() for f in found]), all(f.is_current for f in found)


def flip(path, dice, others):
    data = bytearray(path.read_bytes())
    data[dice.integers(len(data))] ^= 1 << dice.integers(8)
    path.write_bytes(data)


def cut(path, dice, others):
    path.write_bytes(path.read_bytes()[: dice.integers(path.stat().st_size)])


def same_time(path, dice, others):
    """Another byte, and nothing that tells when: as a failing disk does."""
    kept = path.stat()
    flip(path, dice, others)
    os.utime(path, ns=(kept.st_atime_ns, kept.st_mtime_ns))


def take_away(path, dice, others):
    path.unlink()


def take_all_away(path, dice, others):
    for other in others:
        other.unlink(missing_ok=True)


def put_neighbour(path, dice, others):
    path.write_bytes(others[dice.integers(len(others))].read_bytes())


def zeros(path, dice, others):
    path.write_bytes(bytes(path.stat().st_size))


WAYS = (flip, cut, same_time, take_away, take_all_away, put_neighbour, zeros)


def damaged(make, way, seed, folder):
    """Solve, damage one frame in an open store and in one that is opened anew, and hold what is seen against it."""
    dice = np.random.default_rng(seed)
    with ids_of("untrue"):
        scene = make()
    frame = int(dice.integers(1, 9))
    is_current = seen(scene, FrameStore(folder / "true"), frame)[0]
    for k, anew in enumerate((False, True)):
        store = FrameStore(folder / f"damaged {k}")
        scene.evaluator(store).solve_through(8)
        again = Scene(scene.doc, scene.arrays)  # nothing of what was looked at is remembered
        evaluator = again.evaluator(store)
        runs = evaluator.runs.every()
        keys = evaluator.runs.keys(runs[dice.integers(len(runs))], 8)
        others = [store._path(key) for run in runs for key in evaluator.runs.keys(run, 8)]
        way(store._path(keys[frame - 1]), dice, others)
        store = FrameStore(store.root) if anew else store
        points, told = seen(again, store, frame, stand_ins=True)
        assert not told or np.array_equal(points, is_current), f"{way.__name__}: a viewer is shown what is untrue"
        assert np.array_equal(seen(Scene(scene.doc, scene.arrays), store, frame)[0], is_current), way.__name__
        solved = Scene(scene.doc, scene.arrays).evaluate(frame, store)
        for subject in scene.doc.subjects:
            assert np.array_equal(solved[subject.name], seen_of(scene, folder, subject, frame)), way.__name__


def seen_of(scene, folder, subject, frame):
    return scene.evaluator(FrameStore(folder / "true")).subject(subject, frame).points


MAKES = (cloth, bodies, swarm, chained)


@pytest.mark.parametrize("make", MAKES)
@pytest.mark.parametrize("way", WAYS)
def test_a_damaged_frame_is_solved_again_and_never_shown_as_true(make, way, tmp_path):
    damaged(make, way, len(make.__name__), tmp_path)


@pytest.mark.sweep
@pytest.mark.parametrize("seed", range(240))
def test_two_hundred_and_forty_damaged_frames(seed, tmp_path):
    damaged(MAKES[seed % 4], WAYS[seed % 7], seed, tmp_path)


def test_a_print_of_a_scene_whose_frames_are_taken_away_meanwhile_holds_the_true_ones(store, tmp_path):
    scene = cloth()
    item = do.add_thing(scene, "vertex_cache", "Cache")
    evaluator = scene.evaluator(store)
    good = press(scene, evaluator, item, tmp_path / "good")
    evaluator.solve_through(8)
    store_again = FrameStore(store.root)
    store_again.clear()
    other = Scene(scene.doc, scene.arrays)
    again = press(other, other.evaluator(store), item, tmp_path / "again")
    assert good.passed and again.passed
    assert [p.read_bytes() for p in good.paths] == [p.read_bytes() for p in again.paths]
