"""Stacks of several layers and subjects: what reads what, and how often anything is computed."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import sheet
from estampa.motion.noise import Noise
from estampa.scene.document import Document
from estampa.scene.scene import Scene, ShapeCache
from estampa.store.frames import FrameStore
from tests.conftest import named


@pytest.fixture
def sails():
    """Two sails that share a grip; the second has a cloth on a cloth."""
    scene = Scene(Document(start=1, end=8))
    grip = do.add_thing(scene, "grip", "Mast")
    for name in ("Jib", "Main"):
        subject = do.add_mesh(scene, sheet(1, 1, 7, 7), name)
        held = do.add_map(scene, subject.id, (np.arange(49) < 7).astype(np.float32))
        do.add_layer(
            scene, subject.id, "bend", f"{name} bend", {"grip": grip.id, "angle": 0.3 if name == "Jib" else 0.2}
        )
        do.add_layer(scene, subject.id, "cloth", f"{name} cloth", {"pins": held.id, "substeps": 4})
    main = named(scene, "Main")
    do.add_layer(scene, main.id, "noise", "Ripple", {"height": 0.05})
    do.add_layer(scene, main.id, "cloth", "Lining", {"pins": main.maps[0].id, "substeps": 4})
    do.add_thing(scene, "gravity")
    return scene


def test_a_cloth_on_a_cloth_follows_it_and_goes_stale_with_it(sails, tmp_path):
    store = FrameStore(tmp_path)
    evaluator = Evaluator(sails.doc, sails, store)
    assert [l.name for _, l in evaluator.solvers()] == ["Jib cloth", "Main cloth", "Lining"]
    assert evaluator.solve_through(8) == 24
    main = named(sails, "Main")
    upper, whole = evaluator.through(main, evaluator.layers(main)[:3], 8), evaluator.subject(main, 8)
    assert np.allclose(whole.points[:7], upper.points[:7], atol=1e-6), "the lining is held to the sail above it"
    assert np.abs(whole.points - upper.points).max() > 1e-3
    do.set_value(sails, named(sails, "Ripple").id, "height", 0.06)
    assert Evaluator(sails.doc, sails, store).solve_through(8) == 8, "only the lining reads the ripple"
    do.set_value(sails, named(sails, "Mast").id, "x", 0.01)
    assert Evaluator(sails.doc, sails, store).solve_through(8) == 24, "all read the mast"


def test_copies_that_read_the_same_share_their_frames(sails, tmp_path):
    """A subject that is the same in all but name has the same keys, so its work is done once."""
    store = FrameStore(tmp_path)
    copy = do.duplicate(sails, named(sails, "Jib").id)
    assert copy.name == "Jib 2"
    assert Evaluator(sails.doc, sails, store).solve_through(8) == 24
    both = sails.evaluate(8, store)
    assert np.array_equal(both["Jib"], both["Jib 2"])


def test_a_result_is_computed_once_and_only_when_asked_for(sails, tmp_path, monkeypatch):
    calls = []
    real = Noise.apply
    monkeypatch.setattr(Noise, "apply", lambda self, *a: calls.append(1) or real(self, *a))
    store = FrameStore(tmp_path)
    evaluator = Evaluator(sails.doc, sails, store)
    evaluator.subject(named(sails, "Jib"), 3)
    assert not calls
    evaluator.solve_through(4)
    made = len(calls)
    assert made == 4
    for _ in range(3):
        Evaluator(sails.doc, sails, store).subject(named(sails, "Main"), 4)
    assert len(calls) == made


def test_a_layer_or_subject_switched_off_is_as_if_it_were_not_there(sails, tmp_path):
    store = FrameStore(tmp_path)
    sails.evaluate(8, store)
    do.set_on(sails, named(sails, "Main").id, False)
    assert list(sails.evaluate(8, store)) == ["Jib"]
    do.set_on(sails, named(sails, "Jib cloth").id, False)
    do.set_on(sails, named(sails, "Jib bend").id, False)
    assert np.array_equal(sails.evaluate(8, store)["Jib"], sheet(1, 1, 7, 7).points)


def test_frames_before_the_first_stand_still_and_frames_between_take_the_one_before(sails, tmp_path):
    store = FrameStore(tmp_path)
    at = lambda frame: sails.evaluate(frame, store)["Jib"]
    assert np.array_equal(at(-10), at(1))
    assert np.array_equal(at(3.7), at(3))


def test_a_mean_travel_and_a_largest_are_measured_against_what_came_in(sails, tmp_path):
    evaluator = Evaluator(sails.doc, sails, FrameStore(tmp_path))
    main, ripple = named(sails, "Main"), named(sails, "Ripple")
    assert evaluator.travel_of(main, ripple, 4) is None, "what stands on unsolved frames is not measured"
    evaluator.solve_through(4)
    mean, most = evaluator.travel_of(main, ripple, 4)
    layers = evaluator.layers(main)
    moved = evaluator.through(main, layers[:3], 4).points - evaluator.through(main, layers[:2], 4).points
    assert (mean, most) == pytest.approx((np.linalg.norm(moved, axis=1).mean(), np.linalg.norm(moved, axis=1).max()))
    assert most <= 0.05 + 1e-9


def test_a_layer_that_gives_nonsense_is_named(sails, monkeypatch):
    monkeypatch.setattr(Noise, "apply", lambda self, points, v, now: points * np.nan)
    with pytest.raises(EstampaError, match="Ripple on Main: gives points that are not numbers at frame"):
        sails.evaluate(2)


def test_the_shape_cache_keeps_within_its_limit_and_lets_go_of_the_oldest():
    cache = ShapeCache(limit=1000)
    for i in range(10):
        cache.put(bytes([i]), np.zeros(40))
        cache.get(bytes([0]))
    assert cache.get(bytes([0])) is not None and cache.get(bytes([9])) is not None
    assert cache.get(bytes([1])) is None and cache._size <= 1000


def test_a_keyed_speed_carries_its_pattern_without_a_jump():
    """A speed that drops to nothing stops the pattern where it is; it does not throw it back to the start."""
    scene = Scene(Document(start=0, end=40))
    subject = do.add_mesh(scene, sheet(1, 1, 9, 9), "Mat")
    noise = do.add_layer(scene, subject.id, "noise", values={"height": 0.1, "scale": 0.4})
    for frame, speed in ((0, 1.0), (20, 1.0), (21, 0.0)):
        do.set_key(scene, noise.id, "speed", frame, speed, "linear")
    shapes = [scene.evaluate(f)["Mat"] for f in range(0, 40)]
    steps = [np.abs(b - a).max() for a, b in zip(shapes, shapes[1:], strict=False)]
    assert max(steps[21:]) == 0 and max(steps[18:22]) <= 1.5 * max(steps[:18])
    assert scene.values.travel(named(scene, "Noise"), "speed", 40) == pytest.approx(20.5 / 24)
