"""What is said of a loop, a bake, a bed of copies and a scatter is what is there."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.baking import keys as baking
from estampa.edits import clips, joints
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import box, joined, sheet
from estampa.inspect import closing, loops, sync
from estampa.inspect.remarks.starts import clip_is_stale
from estampa.press import run as press
from estampa.press.run import seam_jump
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from tests.conftest import named


def reed(**doc):
    """A stem of five joints that a looping wind sways."""
    scene = Scene(Document(start=1, end=48, loop=(1, 49), **doc))
    skeleton = joints.add_skeleton(scene, [joints.straight([0, 0, 0], [0, 1.2, 0], 5)], "Reed", "Reed")
    values = {"stiffness": 8.0, "mass": 0.3, "ratio": 0.15, "width": 0.02, "weight": False}
    do.add_layer(scene, skeleton.id, "stems", "Sway", values)
    do.add_thing(scene, "wind", "Wind", {"speed": 5.0, "loops": True, "gustiness": 0.5})
    return scene, skeleton


def seam_of(scene, store, name):
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(scene.doc.solved_to)
    return next(s for s in loops.seams(evaluator) if s.name == name)


@pytest.mark.slow
def test_a_run_up_lets_solved_motion_loop_and_the_seam_is_judged_by_what_follows(store):
    scene, _ = reed()
    without = seam_of(scene, store, "Reed")
    offer = next(o for o in closing.offers(scene.doc) if o.channel == "run_up")
    closing.close(scene, [offer])
    assert scene.doc.run_up == 48
    do.set_range(scene, run_up=240)
    after = seam_of(scene, store, "Reed")
    assert without.pose > 0.01 and not without.closed
    assert after.closed and after.pose < 2e-5, "the wind comes again, and the stem has forgotten how it began"
    scene.undo()
    scene.undo()
    assert scene.doc.run_up == 0


def test_a_closed_motion_stays_closed_when_it_is_baked_with_a_key_on_every_frame(store):
    scene = Scene(Document(start=1, end=48, loop=(1, 49)))
    skeleton = joints.add_skeleton(scene, [joints.straight([0, 0, 0], [0, 1, 0], 3)], "Lamp", "Lamp")
    do.add_layer(scene, skeleton.id, "turn_noise", values={"loops": True})
    assert seam_of(scene, store, "Lamp").closed
    baking.put(scene, baking.bake(scene, skeleton.id, store=store), "Round")
    clip = scene.doc.find(skeleton.id).clips[0]
    assert (clip.first, clip.last, clip.loops) == (1, 49, True) and clip.frames == list(range(1, 49))
    found = seam_of(scene, store, "Lamp")
    assert found.closed, (found.pose, found.speed)


def test_a_print_of_a_loop_is_checked_as_a_player_goes_round(store, tmp_path):
    t = np.arange(48) / 48 * 2 * np.pi
    course = np.stack([np.sin(t), np.cos(t), 0 * t], axis=1)[:, None]
    ends = lambda c: [*c[:3], *c[-3:]]
    assert seam_jump(ends(course)) < 1e-6
    stutter = np.concatenate([course, course[:1]])  # the first pose twice
    assert seam_jump(ends(stutter)) > 0.1
    assert seam_jump(ends(course[:-6])) > 0.1  # a piece is missing
    scene = Scene(Document(start=1, end=48, loop=(1, 49)))
    mat = do.add_mesh(scene, sheet(1, 1, 5, 5), "Mat")
    lift = do.add_layer(scene, mat.id, "offset", "Lift")
    for frame, value in ((1, 0.0), (25, 0.4), (49, 0.0)):
        do.set_key(scene, lift.id, "y", frame, value)
    item = do.add_thing(scene, "vertex_cache", "Round", {"loop": True})
    evaluator = Evaluator(scene.doc, scene, store)
    good = press.run(scene, evaluator, item, tmp_path)
    assert good.passed and good.goes_round and "goes round" in good.words()
    do.set_key(scene, lift.id, "y", 49, 0.3)
    bad = press.run(scene, Evaluator(scene.doc, scene, store), scene.doc.find(item.id), tmp_path)
    assert not bad.passed and bad.gap <= bad.tolerance and "JUMPS" in bad.words()


def test_not_a_number_in_a_file_is_a_failure_that_names_its_place(store, tmp_path, monkeypatch):
    scene = Scene(Document(start=1, end=4))
    do.add_mesh(scene, sheet(1, 1, 4, 4), "Mat")
    item = do.add_thing(scene, "vertex_cache", "Cache")
    real = item.declared.reader

    def spoilt(self, target):
        reader = real(self, target)
        points = reader.points

        def bad(frame):
            found = np.array(points(frame))
            found[7] = np.nan if frame == 3 else found[7]
            return found

        reader.points = bad
        return reader

    monkeypatch.setattr(item.declared, "reader", spoilt)
    result = press.run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    assert not result.passed and "vertex 7 at frame 3 is no number" in result.words()


def test_a_stretch_too_large_for_a_half_float_is_refused_by_its_joint(store, tmp_path):
    """OpenUSD stores scales as half floats, which end at 65,504 (IEEE 754)."""
    scene = Scene(Document(start=1, end=3))
    skeleton = joints.add_skeleton(scene, [joints.straight([0, 0, 0], [0, 1, 0], 2)])
    mat = do.add_mesh(scene, box([-0.1, 0, -0.1], [0.1, 1, 0.1]), "Post")
    joints.bind_skin(scene, mat.id, skeleton.id, "nearest")
    do.set_value(scene, skeleton.joints[1].id, "stretch_x", 70_000.0)
    item = do.add_thing(scene, "skinned_usd", "Skin")
    with pytest.raises(EstampaError, match="joint 2 7e.04 times"):
        press.run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)


def bed():
    scene = Scene(Document(start=1, end=48))
    deck = do.add_mesh(scene, sheet(4, 4, 9, 9), "Deck")
    reed_ = do.add_mesh(scene, box([-0.05, 0, -0.05], [0.05, 1, 0.05]), "Reed")
    do.add_layer(scene, reed_.id, "sway", values={"angle": 0.3, "rate": 1.0})
    values = {"subject": reed_.id, "arrange": "scatter", "ground": deck.id, "density": 2.5, "seed": 5}
    return scene, do.add_thing(scene, "copies", "Bed", values)


def places(scene, copies):
    return Evaluator(scene.doc, scene, None).copies(scene.doc.find(copies.id), 1).places


def test_desync_moves_nothing_looks_again_and_says_what_is_left():
    scene, copies = bed()
    before = places(scene, copies)
    assert before.rows == 40
    found = sync.in_step(scene.evaluator())[0]
    left = sync.desync(scene, found)
    assert np.array_equal(places(scene, copies).origin, before.origin)
    assert left and len(left[0].members) > 1, "forty copies of one period cannot all be out of step by shifts alone"
    scene.undo()
    varied = sync.desync(scene, found, vary=0.4)
    assert sum(len(f.members) for f in varied) < sum(len(f.members) for f in left)
    assert np.array_equal(places(scene, copies).origin, before.origin)


@pytest.mark.parametrize("rounds", [1, 2, 4])
def test_forty_copies_are_brought_out_of_step_by_the_period_that_their_motion_has(rounds):
    scene = Scene(Document(start=1, end=96, loop=(1, 97)))
    reed_ = do.add_mesh(scene, box([-0.05, 0, -0.05], [0.05, 1, 0.05]), "Reed")
    do.add_layer(scene, reed_.id, "sway", values={"angle": 0.3, "rate": rounds / 4})
    bed_ = do.add_thing(scene, "copies", "Bed", {"subject": reed_.id, "count": 40, "step_x": 0.4})
    assert sync.period_of(scene.evaluator(), bed_) == (96 / rounds, rounds)
    found = sync.in_step(scene.evaluator())[0]
    left = sync.desync(scene, found, vary=0.6)
    # by whole rounds, by stagger over their period, and by shape; of one round there are but two rates for forty
    assert all(f.correlation < 0.96 for f in left) if rounds == 1 else left == []
    assert loops.seams(scene.evaluator())[0].closed, "and the loop still closes"
    signals = sync.copy_signals(scene.evaluator(), scene.doc.find(bed_.id))
    unit = signals - signals.mean(axis=1, keepdims=True)
    unit /= np.sqrt((unit**2).sum(axis=(1, 2)))[:, None, None]
    together = np.einsum("afd,bfd->ab", unit, unit) - np.eye(40)
    assert together.max() < 0.96, "as NumPy has it too"


def test_copies_move_more_or_less_by_chance_about_the_same_rest():
    scene, copies = bed()
    do.set_value(scene, copies.id, "amounts", 0.5)
    evaluator = Evaluator(scene.doc, scene, None)
    found = evaluator.copies(scene.doc.find(copies.id), 7)
    rest = scene.mesh(named(scene, "Reed").mesh).points
    one = evaluator.rows(named(scene, "Reed"), evaluator.layers(named(scene, "Reed")), evaluator.stage.one(
        named(scene, "Reed"), 7)).points[0]  # fmt: skip
    share = [((p - rest) * (one - rest)).sum() / ((one - rest) ** 2).sum() for p in found.shape.points]
    assert min(share) < 0.7 and max(share) > 1.3 and np.mean(share) == pytest.approx(1, abs=0.1)


def test_a_scatter_has_an_exact_number_only_where_it_faces_up_and_where_its_map_is():
    scene, copies = bed()
    crate = do.add_mesh(scene, box([0, 0, 0], [1, 1, 1]), "Crate")
    values = {"ground": crate.id, "fill": "count", "exactly": 30, "apart": 0.05}
    do.set_values(scene, copies.id, values)
    stand = lambda: many_of(scene, copies)
    assert len(stand()) == 30
    do.set_value(scene, copies.id, "upward", np.radians(20))
    assert len(stand()) == 30 and np.allclose(stand()[:, 1], 1.0), "on the top alone"
    left = (scene.mesh(crate.mesh).points[:, 0] < 0.5).astype(np.float32)
    where = do.add_map(scene, crate.id, left, "Left half")
    do.set_value(scene, copies.id, "ground_map", where.id)
    x = stand()[:, 0]
    assert len(x) == 30 and (x < 0.5).sum() >= 20, "weights go from 1 to 0 across the top: three quarters lie left"


def many_of(scene, copies):
    doc = scene.doc
    found = Evaluator(doc, scene, None).stage.many(doc.find(copies.id), named(scene, "Reed"), 1)
    return found.copy.moved(np.zeros(3))


def test_a_bake_of_a_name_replaces_its_clip_and_a_stale_one_says_so(store):
    scene, skeleton = reed()
    for _ in range(2):
        baking.put(scene, baking.bake(scene, skeleton.id, store=store), "Wind A")
        baking.back_to_live(scene, skeleton.id)
    assert [c.name for c in scene.doc.find(skeleton.id).clips] == ["Wind A"]
    assert list(clip_is_stale(Evaluator(scene.doc, scene, store))) == []
    do.set_value(scene, named(scene, "Wind").id, "speed", 7.0)
    found = list(clip_is_stale(Evaluator(scene.doc, scene, store)))
    assert len(found) == 1 and "“Wind A” of Reed was baked before" in found[0].wrong
    baking.put(scene, baking.bake(scene, skeleton.id, store=store), "Wind A")
    assert list(clip_is_stale(Evaluator(scene.doc, scene, store))) == [], "in play, and true again"
    do.set_value(scene, named(scene, "Wind").id, "speed", 8.0)
    assert len(list(clip_is_stale(Evaluator(scene.doc, scene, store)))) == 1, "in play, and stale"


def palm():
    """A trunk of four joints, six stalks on its top, and two leaflets on each stalk."""
    scene = Scene(Document(start=1, end=6))
    palm_ = joints.add_skeleton(scene, [joints.straight([0, 0, 0], [0, 4, 0], 4)], "Palm", "Trunk")
    top = palm_.joints[-1].id
    for k in range(6):
        out = np.array([np.cos(k), 0, np.sin(k)])
        stalk = joints.extend(scene, top, palm_.id, np.array([[0, 4, 0], [0, 4, 0] + out]), "Stalk")[0]
        for side in (-0.3, 0.3):
            end = [0, 4, 0] + out
            joints.extend(scene, stalk.id, palm_.id, np.array([end, end + [side, -0.4, 0.2]]), "Leaflet")
    return scene, palm_


def test_three_layers_take_the_trunk_the_stalks_and_the_leaves_of_a_palm(store):
    from estampa.scene.parts import joints_of

    scene, skeleton = palm()
    bones = scene.values.bones(scene.doc.find(skeleton.id))
    take = lambda only="all", named_="", first=None, last=None: [
        bones.joints[i].name for i in joints_of(bones, {"first": first, "last": last, "only": only, "named": named_})
    ]
    assert len(take("trunk")) == 4 and all(n.startswith("Trunk") for n in take("trunk"))
    assert len(take("branches")) == 6 and all(n.startswith("Stalk") for n in take("branches"))
    assert len(take("leaves")) == 12 and all(n.startswith("Leaflet") for n in take("leaves"))
    assert take(named_="Stalk 2, Leaflet 1*") == ["Stalk 2", "Leaflet 1", "Leaflet 10", "Leaflet 11", "Leaflet 12"]
    # a trunk layer alone moves no leaf within its stalk
    trunk = do.add_layer(scene, skeleton.id, "stems", "Trunk", {"only": "trunk", "stiffness": 3000.0})
    do.add_thing(scene, "wind", values={"speed": 9.0})
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(6)
    owner = scene.doc.find(skeleton.id)
    before, after = (evaluator.poses.at(owner, 6, layers).pose for layers in ([], [trunk]))
    moved = np.abs(after.turn - before.turn).max(axis=1) > 1e-9
    assert {bones.joints[i].name.split()[0] for i in np.flatnonzero(moved)} == {"Trunk"}


def test_strings_of_beads_are_as_thick_as_their_beads():
    from estampa.geometry.primitives import tube

    beads = []
    for x in (0.0, 0.5):
        for k in range(6):
            spine = np.array([[x, 1 - 0.1 * k + d, 0] for d in (0.03, 0.0, -0.03)])
            beads.append(tube(spine, [0.01, 0.04, 0.01], 12))
    scene = Scene()
    mesh = do.add_mesh(scene, joined(beads), "Shells")
    skeleton = joints.from_beads(scene, mesh.id)
    radius = scene.doc.find(skeleton.id).stack[0].values["radius"]
    assert radius == pytest.approx(0.04, rel=0.02)


def test_a_new_clip_that_loops_ends_on_the_frame_that_is_the_first_again(store):
    scene, skeleton = reed()
    clip = clips.new_clip(scene, skeleton.id, "Round", *scene.doc.loop, loops=True)
    assert clip.frames[0] == 1 and clip.frames[-1] == 48 and clip.last == 49
    item = do.add_thing(scene, "joint_csv", "Table", {"skeleton": skeleton.id})
    assert press.frames_of(scene.doc, item) == list(range(1, 49))
