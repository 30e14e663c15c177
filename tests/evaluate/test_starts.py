"""Start states: a solver begins from a solved frame, its own or another's."""

import numpy as np
import pytest

from estampa import edits as do
from estampa import open_scene, save_scene
from estampa.errors import EstampaError
from estampa.evaluate import starts
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import sheet
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
