"""Baking to keys: within the tolerance at every frame, layers switched off and on again, clips, motion in place."""

import numpy as np
import pytest
from scipy.interpolate import make_lsq_spline

from estampa import edits as do
from estampa.baking import keys as baking
from estampa.edits import clips
from estampa.edits import joints as build
from estampa.errors import EstampaError
from estampa.geometry.pose import Pose
from estampa.inspect.remarks.scene import remarks
from estampa.scene import spans
from estampa.scene.curves import Curve
from estampa.scene.document import Document
from estampa.scene.file import load_scene, save_scene
from estampa.scene.reduce import Tolerance, posed, reduced
from estampa.scene.scene import Scene
from estampa.scene.spans import Spans


def swinging(count=8, end=60):
    """A cord that is let go sideways, so it whips."""
    scene = Scene(Document(start=1, end=end))
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0.8, 0, 0], count)], "Cord", "Cord")
    do.add_layer(scene, skeleton.id, "chain", "Swing", {"damping": 0.6})
    do.add_thing(scene, "gravity")
    return scene, skeleton.id


def course(scene, skeleton, store):
    evaluator = scene.evaluator(store)
    evaluator.solve_through(scene.doc.end)
    held = scene.doc.find(skeleton)
    return np.stack([evaluator.poses.at(held, f).at for f in range(scene.doc.start, scene.doc.end + 1)])


def apart(scene, skeleton, a, b):
    """(largest distance of a tip in metres, largest turn in rad) between two courses."""
    tips = scene.values.bones(scene.doc.find(skeleton)).tips
    reach = np.concatenate([tips, np.ones((len(tips), 1))], axis=1)
    place = np.linalg.norm(np.einsum("fnij,nj->fni", a - b, reach), axis=-1)
    cosine = (np.einsum("fnij,fnij->fn", a[..., :3, :3], b[..., :3, :3]) - 1) / 2
    return place.max(), np.arccos(np.clip(cosine, -1, 1)).max()


@pytest.mark.slow
@pytest.mark.parametrize("millimetres", [20.0, 5.0, 1.0])
def test_fewer_keys_are_within_the_tolerance_at_every_frame(store, millimetres):
    scene, skeleton = swinging()
    live = course(scene, skeleton, store)
    tolerance = Tolerance(millimetres / 1000, np.radians(2.0))
    baked = baking.bake(scene, skeleton, tolerance=tolerance, store=store)
    baking.put(scene, baked)
    found = course(scene, skeleton, store)
    place, turn = apart(scene, skeleton, live, found)
    assert place <= tolerance.place + 1e-9 and turn <= tolerance.turn + 1e-6
    assert place == pytest.approx(baked.gap, abs=1e-9)
    every = sum(len(v.keys) for j in scene.doc.find(skeleton).joints for v in j.values.values() if isinstance(v, Curve))
    assert every == baked.keys
    assert baked.keys < {20.0: 0.12, 5.0: 0.3, 1.0: 0.5}[millimetres] * 60 * 3 * 8


def test_spans_are_the_least_squares_of_a_spline_with_double_knots():
    """SciPy's least-squares spline with every inner knot twice is the same space: cubic, smooth once."""
    at, frames = np.array([0, 7, 15, 31, 40]), np.arange(41.0)
    rng = np.random.default_rng(3)
    wanted, weight = np.cumsum(rng.normal(size=41)), rng.uniform(0.2, 3, 41)
    made = Spans(at, wanted[at].copy(), np.zeros(5), False)
    spans.fitted(made, 5, weight, wanted, np.zeros(41), False)
    ours = np.empty(41)
    spans.drawn(made, 5, ours)
    knots = np.r_[[0] * 4, np.repeat(at[1:-1], 2), [40] * 4].astype(float)
    held = np.where((frames == 0) | (frames == 40), 1e5, np.sqrt(weight))  # both ends keep their value
    theirs = make_lsq_spline(frames, wanted, knots, 3, w=held)
    assert np.abs(ours - theirs(frames)).max() < 2e-3 * np.ptp(wanted)


@pytest.mark.slow
def test_keys_fall_with_the_tolerance_and_one_that_is_mended_moves_its_neighbourhood_alone(store):
    scene, skeleton = swinging(9, 97)
    counts = []
    for millimetres in (1, 2, 5, 10, 20):
        baked = baking.bake(scene, skeleton, tolerance=Tolerance(millimetres / 1000), store=store)
        assert 0.3 * millimetres < 1000 * baked.gap <= millimetres
        counts.append(baked.keys)
    assert all(b < 0.9 * a for a, b in zip(counts, counts[1:], strict=False)), counts
    curve = next(c for (_, name), c in baked.curves.items() if name == "turn_z" and len(c.keys) > 8)
    frames = [k.frame for k in curve.keys]
    moved, fine = curve.moved([frames[4]], 0, 0.2), np.linspace(1, 97, 961)
    off = np.abs(moved.at(fine) - curve.at(fine))
    beside = (fine > frames[3]) & (fine < frames[5])
    assert off[~beside].max() < 1e-9 and off.max() == pytest.approx(0.2, rel=0.02), "no ripple, and no overshoot"


def test_keys_over_a_loop_meet_in_value_and_slope(store):
    frames = np.arange(49)
    values = np.zeros((49, 1, 9))
    values[..., 6:] = 1
    values[:, 0, 5] = 0.4 * np.sin(2 * np.pi * frames / 48) + 0.1 * np.sin(6 * np.pi * frames / 48)
    bones = Scene(Document()).values.bones(build.add_skeleton(Scene(Document()), [[[0, 0, 0], [0, 1.0, 0]]]))
    poses = posed(bones, Pose.stacked([bones.rest] * 49), np.arange(1), values)
    found = reduced(bones, values, np.arange(1), poses, Tolerance(0.004), loops=True)
    curve = found.curves(frames.astype(float))[0, 5]
    assert len(curve.keys) < 12 and curve.keys[0].value == pytest.approx(curve.keys[-1].value, abs=1e-12)
    assert curve.slope_at(0, 1) == pytest.approx(curve.slope_at(48, -1), abs=1e-4)


def test_every_frame_and_a_tolerance_of_nothing_are_exact(store):
    scene, skeleton = swinging(5, 24)
    live = course(scene, skeleton, store)
    for tolerance in (None, Tolerance(0.0, 0.0)):
        baked = baking.bake(scene, skeleton, tolerance=tolerance, store=store)
        baking.put(scene, baked, "Exact")
        place, turn = apart(scene, skeleton, live, course(scene, skeleton, store))
        assert place < 1e-9 and turn < 1e-6
        baking.back_to_live(scene, skeleton)


def test_baked_layers_are_off_hand_keys_elsewhere_stay_and_live_comes_back(store, tmp_path):
    scene, skeleton = swinging(4, 24)
    joint = scene.doc.find(skeleton).joints[0]
    do.set_key(scene, joint.id, "stiffness", 1, 2.0)  # a hand key that is no part of the pose
    do.set_formula(scene, joint.id, "turn_y", "10 * sin(t)")
    before, live = scene.doc.find(skeleton), course(scene, skeleton, store)
    baking.put(scene, baking.bake(scene, skeleton, store=store), "Swing")
    baked = scene.doc.find(skeleton)
    assert [l.on for l in baked.stack] == [False] and [c.name for c in baked.clips] == ["Swing"]
    assert baked.joints[0].curve("stiffness") is not None
    assert isinstance(baked.joints[0].values["turn_y"], Curve)
    # the baked keys are edited by hand, saved and opened
    frames = [k.frame for k in baked.joints[2].curve("turn_z").keys]
    moved = baked.joints[2].curve("turn_z").moved(frames[10:12], 0, 0.3, reach=6)
    do.set_curve(scene, baked.joints[2].id, "turn_z", moved, "Lift")
    save_scene(scene, tmp_path / "cord.estampa")
    again = load_scene(tmp_path / "cord.estampa")
    assert again.doc.find(skeleton) == scene.doc.find(skeleton)
    baking.back_to_live(again, skeleton)
    back = again.doc.find(skeleton)
    assert back.joints == before.joints and [l.on for l in back.stack] == [True] and back.live == ()
    assert apart(again, skeleton, live, course(again, skeleton, store))[0] < 1e-12
    # the edited clip is still there, and can be played again
    clips.use_clip(again, skeleton, back.clips[0].id)
    assert again.doc.find(skeleton).joints[2].curve("turn_z") == moved
    with pytest.raises(EstampaError, match="has not been baked"):
        baking.back_to_live(again, skeleton)


def test_a_bake_over_the_present_clip_keeps_keys_outside_its_range(store):
    scene, skeleton = swinging(3, 40)
    joint = scene.doc.find(skeleton).joints[1]
    for frame, value in ((1, 0.0), (38, 0.5), (40, 0.6)):
        do.set_key(scene, joint.id, "turn_z", frame, value)
    baking.put(scene, baking.bake(scene, skeleton, frames=(1, 20), store=store), clip=None)
    keys = [k.frame for k in scene.doc.find(skeleton).joints[1].curve("turn_z").keys]
    assert keys[:20] == list(range(1, 21)) and keys[20:] == [38, 40]
    assert scene.doc.find(skeleton).clips == ()


def test_a_layer_that_moves_more_than_is_baked_is_refused_by_name(store):
    scene, skeleton = swinging(4, 12)
    joints = scene.doc.find(skeleton).joints
    with pytest.raises(EstampaError, match="Swing: also moves joints"):
        baking.bake(scene, skeleton, [joints[0].id], store=store)
    with pytest.raises(EstampaError, match="would end at 3"):
        baking.bake(scene, skeleton, frames=(9, 3), store=store)


def test_clips_are_swapped_reversed_changed_and_removed():
    scene = Scene(Document(start=1, end=24))
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 1, 0], 2)])
    joint = skeleton.joints[0].id
    for frame, value in ((1, 0.0), (9, 1.0), (24, 0.2)):
        do.set_key(scene, joint, "turn_x", frame, value, "linear")
    curve = lambda: scene.doc.find(joint).curve("turn_x")
    nod = clips.new_clip(scene, skeleton.id, "Nod", 1, 24, loops=True)
    forth = curve()
    back = clips.reverse_clip(scene, skeleton.id, nod.id)
    clips.use_clip(scene, skeleton.id, back.id)
    frames = np.arange(1, 25)
    assert curve().at(frames) == pytest.approx(forth.at(25 - frames), abs=1e-12)
    do.set_value(scene, joint, "turn_z", 0.4)  # of this clip alone
    clips.use_clip(scene, skeleton.id, nod.id)
    assert curve() == forth and "turn_z" not in scene.doc.find(joint).values
    clips.set_clip(scene, skeleton.id, back.id, name="Nod", speed=-2.0)
    assert [c.name for c in scene.doc.find(skeleton.id).clips] == ["Nod", "Nod 2"]
    with pytest.raises(EstampaError, match="speed of 0"):
        clips.set_clip(scene, skeleton.id, back.id, speed=0.0)
    clips.remove_clip(scene, skeleton.id, nod.id)
    assert curve() == forth  # the keys that are played stay
    scene.undo()
    assert len(scene.doc.find(skeleton.id).clips) == 2


@pytest.mark.slow
def test_in_place_takes_the_travel_out_and_keeps_it_on_a_grip(store):
    scene = Scene(Document(start=1, end=48))
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 1.2, 0], 6)])
    path = do.add_thing(scene, "path", spots=[(x, 0.0, 0.15 * np.sin(3 * x)) for x in np.linspace(0, 6, 30)])
    layer = do.add_layer(scene, skeleton.id, "along", values={"path": path.id})
    do.set_key(scene, layer.id, "slide", 1, 1.5, "linear")
    do.set_key(scene, layer.id, "slide", 48, 4.5, "linear")
    live = course(scene, skeleton.id, store)
    baking.put(scene, baking.bake(scene, skeleton.id, store=store))
    grip = baking.in_place(scene, skeleton.id)
    still = course(scene, skeleton.id, store)
    # only the even way from its first place to its last is taken out; what it sways and surges about that stays
    even = np.linspace(live[0, 0, :3, 3], live[-1, 0, :3, 3], 48) - live[0, 0, :3, 3]
    assert live[:, 0, :3, 3] - still[:, 0, :3, 3] == pytest.approx(even, abs=1e-9)
    assert np.ptp(still[:, 0, 2, 3]) > 0.2
    assert still[..., :3, :3] == pytest.approx(live[..., :3, :3], abs=1e-9)
    # riding on the grip, it travels as before
    do.set_value(scene, skeleton.id, "parent", grip.id)
    evaluator = scene.evaluator(store)
    again = np.stack([evaluator.poses.world(scene.doc.find(skeleton.id), f) for f in range(1, 49)])
    assert again == pytest.approx(live, abs=1e-9)
    with pytest.raises(EstampaError, match="no keyed travel"):
        baking.in_place(scene, skeleton.id)


def test_nothing_that_is_no_number_reaches_the_keys(store):
    """An amplitude that would throw joints out of all numbers is refused with the layer's name."""
    scene, skeleton = swinging(3, 6)
    layer = do.add_layer(scene, skeleton, "turn_noise", "Shiver")
    do.set_formula(scene, layer.id, "angle", "1e300")
    with pytest.raises(EstampaError, match="Shiver"):
        baking.bake(scene, skeleton, store=store)


def test_a_baked_clip_that_plays_while_its_layers_are_on_is_told_and_mended_with_a_click(store):
    scene = Scene(Document(start=1, end=24))
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0.8, 0, 0], 4)], "Cord", "Cord").id
    do.add_layer(scene, skeleton, "turn_noise", "Stir")
    live = course(scene, skeleton, store)
    baking.put(scene, baking.bake(scene, skeleton, store=store), "Swing")
    baking.back_to_live(scene, skeleton)
    clips.use_clip(scene, skeleton, scene.doc.find(skeleton).clips[0].id)
    twice = apart(scene, skeleton, live, course(scene, skeleton, store))[0]
    told = [r for r in remarks(scene) if "moves twice" in r.causes]
    assert twice > 0.001 and len(told) == 1 and "“Swing”" in told[0].wrong
    told[0].fix[1](scene)
    assert apart(scene, skeleton, live, course(scene, skeleton, store))[0] < 1e-9
    assert not [r for r in remarks(scene) if "moves twice" in r.causes]
