"""The demos of pieces and of a ragdoll do what they show."""

import numpy as np

from estampa import demo
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.pieces import Pieces
from estampa.scene.values import Rows


def seen(name, store, subject):
    scene = demo.build(name)
    evaluator = Evaluator(scene.doc, scene, store)
    thing = next(s for s in scene.doc.subjects if s.name == subject)
    broken = [l for l in evaluator.layers(thing) if not l.declared.of_pieces]
    at = lambda frame: evaluator.subject(thing, frame).points
    return scene, evaluator, thing, at, evaluator.through(thing, broken, 1).points


def test_the_jar_breaks_where_the_hoop_is_is_whole_again_and_loops(store):
    scene, evaluator, thing, at, whole = seen("jar", store, "Lantern jar")
    pieces = Pieces.each(evaluator.mesh(thing))
    assert pieces.count > 200
    assert np.array_equal(at(1), whole) and np.array_equal(at(49), whole), "whole before the hoop and behind it"
    assert np.allclose(at(97), whole, atol=1e-12)
    home = pieces.middles(whole[None])[0]
    for frame in (16, 28):
        away = np.linalg.norm(pieces.middles(at(frame)[None])[0] - home, axis=1)
        hoop = next(t for t in scene.doc.things if t.name == "Hoop's way")
        y = evaluator.values.place(hoop, Rows.one(frame)).origin[0, 1]
        far = np.linalg.norm(home - [0, y, 0], axis=1) > 0.34
        assert (away[far] == 0).all() and away[~far].max() > 0.03
    # a loop is smooth through its seam: the speed before it is the speed after
    before, after = at(97) - at(96), at(2) - at(1)
    assert np.abs(before - after).max() < 2e-3


def test_every_tile_comes_home(store):
    _, evaluator, thing, at, whole = seen("tiles", store, "Fish of tiles")
    assert Pieces.each(evaluator.mesh(thing)).count == 36 * 22
    assert np.array_equal(at(120), whole)
    share = [(np.abs(at(f) - whole).max(axis=1) < 1e-9).mean() for f in (10, 40, 60, 80, 100)]
    assert share == sorted(share) and share[0] < 0.05 and share[-1] == 1.0


def test_no_part_of_the_organ_touches_another_where_it_is_exploded(store):
    _, evaluator, thing, at, whole = seen("organ", store, "Barrel organ")
    pieces = Pieces.each(evaluator.mesh(thing))
    low, high = pieces.boxes(
        evaluator.rows(thing, evaluator.layers(thing)[:1], evaluator.stage.one(thing, 70)).points[0]
    )
    apart = np.maximum(low[:, None] - high[None], low[None] - high[:, None]).max(axis=2)
    assert apart[np.triu_indices(pieces.count, 1)].min() > 0.059
    assert np.array_equal(at(1), whole) and np.array_equal(at(132), whole)


def test_the_puppet_falls_is_struck_and_stands_again(store):
    scene = demo.build("puppet")
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(150)
    skeleton = scene.doc.skeletons[0]
    hips = lambda f: evaluator.poses.world(skeleton, f)[0, :3, 3]
    assert np.allclose(hips(29), evaluator.poses.world(skeleton, 29, [])[0, :3, 3], atol=1e-6)
    assert hips(80)[1] < 0.42 and hips(80)[0] < -0.15, "it lies where the buoy drove it"
    assert np.linalg.norm(hips(80) - hips(79)) < 2e-3
    posed = evaluator.poses.world(skeleton, 150, [])[:, :3, 3]
    assert np.abs(evaluator.poses.world(skeleton, 150)[:, :3, 3] - posed).max() < 0.03
