"""What is done to a cloth by accident: it stops with words that name the thing, or goes on; nothing is lost, nothing
flies."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import sheet
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from tests.solve.test_contact import ball, crossings
from tests.solve.test_drapes import hung

LIMP = {"itself": True, "thickness": 0.004, "drag": 0.0, "lift": 0.0}


def scene_with(mesh, frames=12, gravity=True, **values):
    scene = Scene(Document(start=1, end=frames))
    cloth = do.add_mesh(scene, mesh, "Sheet")
    layer = do.add_layer(scene, cloth.id, "cloth", "Silk", {**LIMP, **values})
    if gravity:
        do.add_thing(scene, "gravity")
    return scene, cloth, layer


def solved(scene, store, cloth):
    """(points at each frame that was solved, the error or None); what was solved before an error can be read."""
    evaluator, error, last = scene.evaluator(store), None, scene.doc.end
    try:
        evaluator.solve_through(last)
    except EstampaError as err:
        error = err
        run = evaluator.runs.every()[0]
        last = max(f for f in range(1, last + 1) if store.has(evaluator.runs.key(run, f)))
    frames = [evaluator.subject(scene.doc.find(cloth.id), f).points for f in range(1, last + 1)]
    assert all(np.isfinite(p).all() for p in frames)
    return frames, error


def fastest(frames):
    return max(np.linalg.norm(b - a, axis=1).max() * 24 for a, b in zip(frames, frames[1:], strict=False))


@pytest.mark.slow
def test_a_ball_at_300_metres_a_second_is_stopped_at_with_its_name_or_crosses_nothing(store):
    mesh = hung(1.0, 1.0, 13, 13)
    scene, veil, layer = scene_with(mesh, 6)
    top = do.add_map(scene, veil.id, (mesh.points[:, 1] > -1e-6).astype(float), "Rail")
    do.set_values(scene, layer.id, {"pins": top.id, "patience": 20.0}, 1)
    shot = do.add_thing(scene, "collider", "Shot", {"shape": "sphere", "radius": 0.1, "x": 0.5, "y": -0.5})
    for frame, z in ((1, -6.25), (2, 6.25)):
        do.set_key(scene, shot.id, "z", frame, z, "linear")
    frames, error = solved(scene, store, veil)
    assert len(frames) >= 1 and all(crossings(p, mesh) == 0 for p in frames)
    if error is not None:
        assert "Shot" in str(error) and "Silk on Sheet, frame" in str(error)


@pytest.mark.slow
def test_a_ball_that_grows_from_nothing_inside_a_bag_fills_it(store):
    points, triangles = ball(0.2)
    mesh = Mesh.from_triangles(points, triangles)
    scene, bag, _ = scene_with(mesh, 12, gravity=False)
    seed = do.add_thing(scene, "collider", "Seed", {"shape": "sphere", "radius": 0.19, "friction": 0.0})
    for frame, size in ((1, 0.0), (10, 1.0)):
        do.set_key(scene, seed.id, "size", frame, size)
    frames, error = solved(scene, store, bag)
    assert error is None and fastest(frames) < 3
    assert np.linalg.norm(frames[-1], axis=1).min() > 0.19 - 0.004, "it is around the ball"
    assert all(crossings(p, mesh) == 0 for p in frames)


@pytest.mark.slow
def test_a_collider_that_is_removed_while_it_is_touched_lets_the_sheet_fall(store):
    mesh = sheet(0.4, 0.4, 13, 13)
    scene, cloth, _ = scene_with(mesh.with_points(mesh.points - [0.2, -0.22, 0.2]), 16)
    stone = do.add_thing(scene, "collider", "Stone", {"shape": "sphere", "radius": 0.15})
    lying, _ = solved(scene, store, cloth)
    assert lying[-1][:, 1].max() > 0.14
    do.remove(scene, stone.id)
    falling, error = solved(scene, store, cloth)
    assert error is None and falling[-1][:, 1].max() < -1
    scene.undo()
    again, _ = solved(scene, store, cloth)
    assert np.array_equal(again[-1], lying[-1]), "as it was, bit for bit"


@pytest.mark.slow
def test_a_sheet_folded_flat_onto_itself_and_two_in_one_place_are_not_thrown_apart(store):
    mesh = sheet(0.4, 0.4, 13, 13)
    points = mesh.points - [0.2, 0, 0.2]
    points[:, 0] = np.abs(points[:, 0])
    scene, cloth, _ = scene_with(mesh.with_points(points), 8, gravity=False)
    target = do.add_target(scene, cloth.id, mesh.points, "flat")
    do.set_value(scene, scene.doc.find(cloth.id).stack[0].id, "rest", target.id)
    frames, error = solved(scene, store, cloth)
    assert error is None and fastest(frames) < 3
    twins = Scene(Document(start=1, end=8))
    both = do.add_thing(twins, "cloths", "Both")
    pair = [do.add_mesh(twins, mesh, name) for name in ("One", "Other")]
    for one in pair:
        do.add_layer(twins, one.id, "cloth", f"Silk of {one.name}", {**LIMP, "together": both.id})
    for one in pair:
        frames, error = solved(twins, store, one)
        assert error is None and fastest(frames) < 3


@pytest.mark.slow
def test_a_hold_that_pulls_through_a_collider_loses_nothing(store):
    mesh = hung(0.5, 0.5, 11, 11)
    scene, cloth, layer = scene_with(mesh, 20)
    corner = do.add_map(scene, cloth.id, (np.arange(mesh.count) == 0).astype(float), "Corner")
    do.set_value(scene, layer.id, "patience", 20.0)
    hand = do.add_thing(scene, "grip", "Hand")
    for frame, z in ((1, 0.0), (20, 1.0)):
        do.set_key(scene, hand.id, "z", frame, z, "linear")
    do.add_layer(scene, cloth.id, "hold_to", "Pull", {"to": "grip", "grip": hand.id, "map": corner.id})
    do.add_thing(scene, "collider", "Crate", {"shape": "box", "wide": 1.0, "tall": 1.0, "deep": 0.2, "z": 0.4})
    frames, error = solved(scene, store, cloth)
    assert len(frames) > 6 and fastest(frames) < 30
    if error is not None:
        assert "Crate" in str(error) or "itself" in str(error)
