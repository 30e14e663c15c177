"""Ragdolls: mass, hinges and limits, the fall, energy; and going limp from a pose, and back."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.baking import keys
from estampa.edits import body_parts, ragdoll
from estampa.edits import joints as build
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry import pose as turns
from estampa.geometry.primitives import box
from estampa.scene.document import Document
from estampa.scene.reduce import Tolerance
from estampa.scene.scene import Scene
from estampa.solve.bodies.body import placed
from estampa.solve.bodies.limbs import limbs_of

G, RATE = 9.80665, 24


def puppet(last=48, up=0.0, ground=True, **values):
    """A figure of 11 joints with its arms held out; (scene, skeleton, layer)."""
    scene = Scene(Document(name="puppet", start=1, end=last))
    line = lambda *points: np.array(points, float)
    trunk = [line([0, 0.95, 0], [0, 1.15, 0], [0, 1.45, 0], [0, 1.72, 0])]
    skeleton = build.add_skeleton(scene, trunk, "Puppet", "Spine")
    hips, spine, head = [j.id for j in skeleton.joints]
    for joint, name in ((hips, "Hips"), (spine, "Spine"), (head, "Head")):
        do.rename(scene, joint, name)
    for side, x in (("left", 1), ("right", -1)):
        arm = line([0.17 * x, 1.42, 0], [0.45 * x, 1.42, 0], [0.72 * x, 1.42, 0])
        leg = line([0.1 * x, 0.95, 0], [0.1 * x, 0.5, 0], [0.1 * x, 0.05, 0])
        for above, way, names in ((spine, arm, ("upper arm", "lower arm")), (hips, leg, ("thigh", "shin"))):
            for joint, name in zip(build.extend(scene, above, skeleton.id, way, "x"), names, strict=True):
                do.rename(scene, joint.id, f"{name} {side}")
    if up:
        do.set_value(scene, skeleton.id, "y", up)
    layer = ragdoll.make_limp(scene, skeleton.id)
    do.set_values(scene, layer.id, values)
    do.add_thing(scene, "gravity")
    if ground:
        do.add_thing(scene, "ground")
    return scene, skeleton.id, layer.id


def solved(scene, store):
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(scene.doc.end)
    run = evaluator.runs.every()[0]
    return evaluator, [store.frame(evaluator.runs.key(run, f)) for f in range(1, scene.doc.end + 1)]


def hinges(frame, limbs):
    """((t,) m between the two ends of each hinge, (t,) rad across it and (t,) rad about it, away from its rest)."""
    rows, own = frame["bodies"], frame["limbs"]
    stands, centre = placed(rows), rows["centre"].astype(float)
    at, turn = own["hinge"].astype(float), own["stood"].astype(float)
    tied = np.flatnonzero(limbs.parent >= 0)
    parent = limbs.parent[tied]
    see = lambda who: np.einsum("tij,tj->ti", stands.axes[who], at[tied] - centre[who]) + stands.origin[who]
    apart = np.linalg.norm(see(tied) - see(parent), axis=1)
    now = turns.product(turns.turns_of(stands.axes), turn)
    rest = turns.product(now[parent], limbs.rest[tied])
    away = turns.product(turns.inverse(limbs.along[tied]), turns.inverse(rest))
    away = turns.product(turns.product(away, now[tied]), limbs.along[tied])
    across = np.arccos(np.clip(turns.turned(away, np.tile([1.0, 0, 0], (len(tied), 1)))[:, 0], -1, 1))
    about = 2 * np.arctan2(np.abs(away[:, 0]), np.abs(away[:, 3]))
    return apart, across, about, tied


def test_a_limp_figure_falls_as_a_stone_keeps_its_hinges_and_its_limits(store):
    scene, skeleton, layer = puppet(72, up=2.0, weight=62.0)
    evaluator, found = solved(scene, store)
    thing = scene.doc.find(skeleton)
    limbs = limbs_of(evaluator.poses.bones(thing))
    assert sorted(j.constant("part") for j in thing.joints) == sorted(
        ["hips", "spine", "head", *["upper_arm", "lower_arm", "thigh", "shin"] * 2]
    )
    # its mass is shared by volume
    run = evaluator.runs.every()[0]
    from estampa.solve.bodies.model import Model

    model = Model.of(evaluator.runs.inputs(run, 1))
    mass = model.mass
    tensor = np.array([m.inertia / m.volume for *_, m in model.parts]) * mass[:, None, None]
    assert mass.sum() == pytest.approx(62.0, rel=1e-6)
    assert mass == pytest.approx(62.0 * limbs.volumes() / limbs.volumes().sum(), rel=1e-3)
    # until it lands it falls sqrt(2 h / g) long
    low = np.array([limbs.points(evaluator.poses.world(thing, f))[:, 1].min() for f in range(1, 31)])
    lands = 1 + np.argmax(low < 0.02)
    height = low[0]
    k = int(lands) - 2
    share = (low[k - 1] - 0.02) / (low[k - 1] - low[k])  # within the frame
    assert (k - 1 + share) / RATE == pytest.approx(np.sqrt(2 * height / G), rel=0.03)
    # hinges and limits, in the fall and at rest; energy is only lost
    energy = []
    for frame in found:
        apart, across, about, tied = hinges(frame, limbs)
        assert apart.max() < 0.005, "hinges part by less than 5 mm in a fall from 2 m"
        assert (across - limbs.cone[tied]).max() < np.radians(2)
        assert (about - limbs.twist[tied]).max() < np.radians(2)
        rows = frame["bodies"]
        axes, spin, speed = placed(rows).axes, rows["spin"].astype(float), rows["velocity"].astype(float)
        inward = np.einsum("pji,pj->pi", axes, spin)
        moving = 0.5 * (mass * (speed**2).sum(axis=1)).sum() + 0.5 * np.einsum("pi,pij,pj", inward, tensor, inward)
        energy.append(moving + float((mass * G * rows["position"][:, 1]).sum()))
    assert np.diff(energy).max() < 0.02 * energy[0], "but for what soft contacts give back"
    assert energy[-1] < 0.2 * energy[0]
    assert hinges(found[-1], limbs)[0].max() < 0.001, "and under 1 mm at rest"


def test_it_goes_limp_from_its_motion_and_is_pulled_up_again(store):
    scene, skeleton, layer = puppet(140, ground=False, begins="frame", at=13)
    do.set_key(scene, skeleton, "x", 1, 0.0)
    do.set_key(scene, skeleton, "x", 13, 0.5)
    for frame in (1, 13):
        do.set_segment(scene, skeleton, "x", frame, "linear")
    for frame, hertz in ((24, 0.0), (25, 4.0)):
        do.set_key(scene, layer, "spring", frame, hertz)
        do.set_key(scene, layer, "lifted", frame, hertz)
        for name in ("spring", "lifted"):
            do.set_segment(scene, layer, name, frame, "step")
    evaluator, found = solved(scene, store)
    thing = scene.doc.find(skeleton)
    hips = np.array([evaluator.poses.world(thing, f)[0, :3, 3] for f in range(1, 141)])
    assert hips[:12, 1] == pytest.approx(0.95, abs=1e-6)
    assert hips[11, 0] == pytest.approx(0.5 * 11 / 12, abs=1e-6)
    speed = (hips[17] - hips[15]) * RATE / 2  # it goes on at the metre a second that it had, and falls
    assert speed[0] == pytest.approx(1.0, abs=0.1)
    assert hips[22, 1] < 0.95 - 0.5 * G * (9 / RATE) ** 2
    above = evaluator.poses.world(thing, 140, [])
    back = evaluator.poses.world(thing, 140)
    assert np.linalg.norm(back[:, :3, 3] - above[:, :3, 3], axis=1).max() < 0.15, "pulled up to its pose"
    assert np.abs(back[:, :3, 3] - evaluator.poses.world(thing, 139)[:, :3, 3]).max() < 5e-3, "and all but still there"


def test_a_figure_of_half_the_size_weighs_what_it_is_said_to(store):
    scene, skeleton, _ = puppet(6, weight=10.0)
    do.set_value(scene, skeleton, "size", 0.5)
    evaluator, found = solved(scene, store)
    from estampa.solve.bodies.model import Model

    model = Model.of(evaluator.runs.inputs(evaluator.runs.every()[0], 1))
    assert model.mass.sum() == pytest.approx(10.0, rel=1e-6)
    hips = [evaluator.poses.world(scene.doc.find(skeleton), f)[0, 1, 3] for f in (1, 6)]
    assert hips[0] == pytest.approx(0.475) and hips[1] < hips[0]


def test_parts_are_told_by_names_and_a_missing_one_is_named():
    scene, skeleton, _ = puppet(4)
    bones = scene.values.bones(scene.doc.find(skeleton))
    parts = body_parts.proposed(bones)
    assert body_parts.missing(parts) == []
    shin = next(j for j in bones.joints if j.name == "shin left")
    parts.pop(shin.id)
    assert body_parts.missing(parts) == ["one shin"]
    with pytest.raises(EstampaError, match="no joints"):
        ragdoll.make_limp(scene, do.add_thing(scene, "grip").id)
    scene.undo()
    scene.undo()


def test_any_chain_can_go_limp_and_a_restart_goes_on_with_the_same_bits(store, tmp_path):
    scene = Scene(Document(name="tail", start=1, end=30))
    skeleton = build.add_skeleton(scene, [build.straight([0, 1, 0], [1, 1.2, 0], 6)], "Tail")
    ragdoll.make_limp(scene, skeleton.id)
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    evaluator, found = solved(scene, store)
    assert len(found[0]["bodies"]) == 6
    # a new evaluator goes on from what is kept, in the middle
    again = Evaluator(scene.doc, scene, store)
    run = again.runs.every()[0]
    for f in range(21, 31):
        store._path(again.runs.key(run, f)).unlink()
    again.solve_through(30)
    last = store.frame(again.runs.key(run, 30))
    assert last["bodies"]["position"].tobytes() == found[-1]["bodies"]["position"].tobytes()


def test_a_fall_is_baked_to_keys_of_its_joints_to_a_tenth_of_a_millimetre(store):
    scene, skeleton, _ = puppet(30, up=0.4)
    evaluator, _ = solved(scene, store)
    thing = scene.doc.find(skeleton)
    wanted = [evaluator.poses.world(thing, f) for f in range(1, 31)]
    keys.put(scene, keys.bake(scene, skeleton, tolerance=Tolerance(5e-5, 1e-4), store=store))
    thing = scene.doc.find(skeleton)
    assert not any(l.on for l in thing.stack)
    evaluator = Evaluator(scene.doc, scene, store)
    for frame, world in enumerate(wanted, 1):
        assert evaluator.poses.world(thing, frame)[:, :3, 3] == pytest.approx(world[:, :3, 3], abs=1e-4)
    scene.undo()
    assert scene.doc.find(skeleton).stack[0].on


def test_it_is_away_some_seconds_after_it_went_limp_and_leaves_room_for_others(store):
    scene, skeleton, layer = puppet(36, begins="frame", at=5, away=0.5)
    box_ = do.add_mesh(scene, box([-0.2, 6.0, -0.2], [0.2, 6.4, 0.2]), "Crate")
    do.add_layer(scene, box_.id, "body")
    evaluator, found = solved(scene, store)
    thing = scene.doc.find(skeleton)
    sizes = [np.linalg.norm(evaluator.poses.world(thing, f)[1, :3, 0]) for f in range(1, 37)]
    # let go in the step to frame 5: 0.5 s and 12 frames later
    assert np.flatnonzero(np.array(sizes) < 0.5)[0] + 1 == 16
    assert found[-1]["limbs"]["limp"] == pytest.approx(32 / RATE, abs=1e-5)
    # the crate falls through where it lay: sqrt(2 h / g) to the ground
    crate = np.array([evaluator.subject(scene.doc.find(box_.id), f).points[:, 1].min() for f in range(1, 37)])
    lands = np.argmax(crate < 0.01)
    assert lands / RATE == pytest.approx(np.sqrt(2 * 6.0 / G), abs=2 / RATE)


def test_a_joint_with_more_stiffness_of_its_own_is_held_better(store):
    # a spring of a frequency sags by g / (2 pi f)^2 of its arm, so that four times the stiffness sags a quarter
    sags = []
    for stiffness in (1.0, 4.0):
        scene, skeleton, _ = puppet(60, ground=False, spring=3.0, lifted=20.0, carried=0.0)
        arms = [j for j in scene.doc.find(skeleton).joints if j.name.startswith("upper arm")]
        for joint in arms:
            do.set_value(scene, joint.id, "stiffness", stiffness)
        evaluator, _ = solved(scene, store)
        ends = evaluator.poses.world(scene.doc.find(skeleton), 60)
        rest = evaluator.poses.world(scene.doc.find(skeleton), 60, [])
        where = evaluator.poses.bones(scene.doc.find(skeleton)).where[arms[0].id]
        sags.append(np.arccos(ends[where, :3, 1] @ rest[where, :3, 1]))
    assert sags[0] / sags[1] == pytest.approx(4.0, rel=0.35)


def test_parts_are_proposed_by_place_where_names_tell_nothing_and_mirrored_turns_stay():
    scene, skeleton, _ = puppet()
    named = {j.id: j.constant("part") for j in scene.doc.find(skeleton).joints}
    for i, joint in enumerate(scene.doc.find(skeleton).joints):
        do.rename(scene, joint.id, f"j{i:02d}")
    bones = scene.values.bones(scene.doc.find(skeleton))
    assert body_parts.proposed(bones) == named
    slots = body_parts.by_slot(bones, named)
    assert len(slots) == 11
    left = bones.at_rest[bones.where[slots["upper_arm", "left"]], 0, 3]
    assert left > 0 > bones.at_rest[bones.where[slots["upper_arm", "right"]], 0, 3]
    do.set_values(scene, slots["shin", "left"], {"turn_x": 0.4})
    do.set_values(scene, slots["shin", "right"], {"turn_x": 0.4, "turn_y": np.pi})
    ragdoll.make_limp(scene, skeleton, named, at_zero=True, weight=41.0)
    joints = {j.id: j for j in scene.doc.find(skeleton).joints}
    assert joints[slots["shin", "left"]].constant("turn_x") == 0
    assert joints[slots["shin", "right"]].constant("turn_x") == 0.4, "half a turn there mirrors it"
    assert scene.doc.find(skeleton).stack[-1].constant("weight") == 41.0
