"""Start states: a solver begins from a solved frame, its own or another's."""

import numpy as np
import pytest

from estampa import edits as do
from estampa import open_scene, save_scene
from estampa.errors import EstampaError
from estampa.evaluate import starts
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import sheet
from estampa.inspect.remarks.solved_cloth import starts_with_a_jump
from estampa.inspect.remarks.starts import begins_without_some
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def begun_without(evaluator):
    return list(begins_without_some(evaluator))


def hanging(resolution=7, name="Sheet", scene=None):
    """A sheet held at two corners, that swings and comes to rest."""
    scene = scene or Scene(Document(start=1, end=60))
    mesh = sheet(1, 1, resolution, resolution)
    subject = do.add_mesh(scene, mesh, name)
    x, y = mesh.points[:, 0], mesh.points[:, 1]
    corners = (np.isclose(y, y.max()) & (np.isclose(x, x.min()) | np.isclose(x, x.max()))).astype(np.float32)
    held = do.add_map(scene, subject.id, corners, "Corners")
    values = {"pins": held.id, "substeps": 6, "damping": 4.0, "warp": 200.0, "weft": 200.0}
    layer = do.add_layer(scene, subject.id, "cloth", f"Cloth of {name}", values)
    if not any(t.kind == "gravity" for t in scene.doc.things):
        do.add_thing(scene, "gravity")
    return scene, subject.id, layer.id


def drop(evaluator, subject_id, frame):
    evaluator.solve_through(frame)
    return evaluator.subject(evaluator.doc.find(subject_id), frame).points


def test_a_settled_frame_is_the_first_one_after_it_was_adopted_and_stays_with_the_scene(store, tmp_path):
    scene, subject, layer = hanging()
    evaluator = Evaluator(scene.doc, scene, store)
    settled = drop(evaluator, subject, 48)
    do.set_start(scene, layer, starts.adopt(evaluator, layer, 48))
    again = Evaluator(scene.doc, scene, store)
    assert np.array_equal(drop(again, subject, 1), settled), "bit for bit"
    moved = np.abs(drop(again, subject, 3) - settled).max()
    fallen = np.abs(drop(evaluator, subject, 3) - drop(evaluator, subject, 1)).max()
    assert moved < 0.2 * fallen, "it goes on from rest and does not fall anew"
    assert begun_without(again) == []
    # the scene alone carries it: another store, the scene saved and opened
    opened = open_scene(save_scene(scene, tmp_path / "settled.estampa"))
    assert opened.doc.find(layer).adopted == scene.doc.find(layer).adopted
    assert np.array_equal(drop(Evaluator(opened.doc, opened, type(store)(tmp_path / "other")), subject, 1), settled)
    scene.undo()
    assert np.array_equal(drop(Evaluator(scene.doc, scene, store), subject, 48), settled), "undone, nothing was lost"


def test_a_finer_cloth_begins_from_a_coarse_one_by_the_nearest_rest_points(store):
    scene, coarse, first = hanging(7)
    scene, fine, second = hanging(13, "Fine", scene)
    evaluator = Evaluator(scene.doc, scene, store)
    settled = drop(evaluator, coarse, 48)
    do.set_start(scene, second, starts.adopt(evaluator, second, 48, first))
    again = Evaluator(scene.doc, scene, store)
    begun = drop(again, fine, 1)
    assert begun[:, 1].min() == pytest.approx(settled[:, 1].min(), abs=1e-6)
    assert begun_without(again) == []
    # a sheet that stands elsewhere finds nothing to begin from, and says so
    do.set_value(scene, coarse, "x", 0.0)
    scene, far, third = hanging(7, "Far", scene)
    mesh = scene.mesh(scene.doc.find(far).mesh)
    moved = do.mesh_ref(scene, mesh.with_points(mesh.points + [5, 0, 0]))
    scene.apply("Move", scene.doc.replace(scene.doc.find(far).with_(mesh=moved)))
    do.set_start(scene, third, starts.adopt(Evaluator(scene.doc, scene, store), third, 48, first))
    lost = begun_without(Evaluator(scene.doc, scene, store))
    assert len(lost) == 1 and lost[0].thing == third and "49 of its points find nothing" in lost[0].wrong


def test_what_cannot_be_adopted_is_refused_with_a_cure(flag, store):
    evaluator = Evaluator(flag.doc, flag, store)
    layer = evaluator.solvers()[0][1]
    with pytest.raises(EstampaError, match="Frame 900.*Use 1 to 12"):
        starts.adopt(evaluator, layer.id, 900)
    with pytest.raises(EstampaError, match="is no solver, or is off"):
        starts.adopt(evaluator, next(t for t in flag.doc.things if t.kind == "wind").id, 4)


def steps(evaluator, subject, frames):
    """(f, n) m that vertices go from each frame to the next."""
    looked = np.stack([drop(evaluator, subject, f) for f in frames])
    return np.linalg.norm(np.diff(looked, axis=0), axis=2)


def settled_hanging(store):
    scene, subject, layer = hanging()
    do.set_start(scene, layer, starts.adopt(Evaluator(scene.doc, scene, store), layer, 48))
    return scene, subject, layer


@pytest.mark.slow
def test_a_hold_takes_hold_of_what_was_adopted_and_not_of_what_enters(store):
    scene, subject, layer = settled_hanging(store)
    grip = do.add_thing(scene, "grip", "Hand")
    free = do.add_map(scene, subject, (np.arange(49) % 7 == 3).astype(np.float32), "Middle")
    do.add_layer(scene, subject, "hold_to", "Hold", {"to": "grip", "grip": grip.id, "map": free.id})
    gone = steps(Evaluator(scene.doc, scene, store), subject, range(1, 8))
    rows = scene.mesh(scene.doc.find(subject).mesh).points
    sagged = np.abs(drop(Evaluator(scene.doc, scene, store), subject, 1) - rows)[3::7].max()
    assert sagged > 0.02, "the shape that enters is elsewhere"
    assert gone[:, 3::7].max() < 1e-5 and gone.max() < 0.006


@pytest.mark.slow
def test_what_is_held_goes_over_frames_to_what_enters_and_a_jump_is_told_with_a_run_up(store):
    scene, subject, layer = settled_hanging(store)
    lift = do.add_layer(scene, subject, "offset", "Lift", {"y": 0.12})
    do.move_layer(scene, lift.id, 0)
    corners = np.flatnonzero(scene.arrays.get(scene.doc.find(subject).maps[0].weights))
    gone = steps(Evaluator(scene.doc, scene, store), subject, range(1, 10))[:, corners]
    assert gone.sum(axis=0) == pytest.approx(0.12, abs=1e-5), "they come to where they enter"
    assert gone[0].max() < 0.012 and gone.max() < 0.031 and gone[6:].max() < 1e-6
    do.set_value(scene, layer, "ease", 0)
    evaluator = Evaluator(scene.doc, scene, store)
    assert steps(evaluator, subject, range(1, 6))[0, corners].max() == pytest.approx(0.12, abs=1e-5)
    told = list(starts_with_a_jump(evaluator))
    assert len(told) == 1 and told[0].frame == 2 and "jump" in told[0].wrong
    told[0].fix[1](scene)
    assert scene.doc.run_up == 24
    again = Evaluator(scene.doc, scene, store)
    again.solve_through(6)
    assert list(starts_with_a_jump(again)) == []


@pytest.mark.slow
def test_tension_and_pressure_ease_in_unless_the_start_was_adopted_with_them(store):
    scene, subject, layer = settled_hanging(store)
    tension = do.add_layer(scene, subject, "tension", "Taut", {"warp": 0.9, "weft": 0.9})
    eased = steps(Evaluator(scene.doc, scene, store), subject, range(1, 12))
    do.set_value(scene, tension.id, "ease", 0)
    at_once = steps(Evaluator(scene.doc, scene, store), subject, range(1, 12))
    assert at_once[0].max() > 0.01 and eased[0].max() < 0.25 * at_once[0].max()
    do.set_value(scene, tension.id, "ease", 6)
    do.set_start(scene, layer, starts.adopt(Evaluator(scene.doc, scene, store), layer, 60))
    assert tension.id in scene.doc.find(layer).adopted.acting
    assert steps(Evaluator(scene.doc, scene, store), subject, range(1, 6)).max() < 0.004, "it goes on as it was"
