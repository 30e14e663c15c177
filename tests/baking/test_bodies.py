"""Bodies baked to keys: the subjects play what the solve did, with few keys, and can go back."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.baking import bodies
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import joined
from estampa.scene.reduce import Tolerance
from tests.solve.test_bodies import ball, body, box, pier


def test_baked_keys_play_what_was_solved_and_go_back(store):
    scene = pier(60, ground=0.5)
    grip = do.add_thing(scene, "grip", values={"x": 0.5, "turn_y": 0.4}).id
    one = body(scene, box((0.3, 0.2, 0.25), (0, 1.0, 0)), "One", spin_z=5.0, spin_x=2.0)
    two = body(scene, ball(0.15, (0.1, 1.6, 0.05)), "Two", shape="ball")
    do.set_values(scene, one, {"x": 0.2, "turn_y": 0.3, "parent": grip})
    live = Evaluator(scene.doc, scene, store)
    live.solve_through(60)
    before = scene.doc
    baked = bodies.bake(scene, tolerance=Tolerance(0.002, np.radians(0.5)), store=store)
    assert baked.keys < 12 * 60 * 0.7 and baked.gap <= 0.002 and "2 subjects over 60 frames" in baked.words()
    bodies.put(scene, baked)
    played = Evaluator(scene.doc, scene, store)
    assert played.solvers() == []
    for frame in (1, 9, 17, 30, 60):
        for thing in (one, two):
            a, b = (e.subject(e.doc.find(thing), frame).points for e in (live, played))
            assert np.abs(a - b).max() < 0.0025, (thing, frame)
    bodies.back_to_live(scene)
    assert scene.doc.things == before.things
    exact = bodies.bake(scene, [two], store=store)
    assert exact.gap < 1e-6 and len(exact.curves[two, "y"].keys) == 60, "without a tolerance each frame has a key"


def test_what_cannot_be_baked_says_why(store):
    scene = pier(5)
    with pytest.raises(EstampaError, match="finds no body"):
        bodies.bake(scene, store=store)
    heap = body(scene, joined([box(at=(i, 0, 0)) for i in range(3)]), "Heap", each="pieces")
    with pytest.raises(EstampaError, match="comes in 3 pieces.*Print its pieces"):
        bodies.bake(scene, [heap], store=store)
    with pytest.raises(EstampaError, match="has not been baked"):
        bodies.back_to_live(scene, [heap])
