"""Ragdolls: energy, hinges, limits and rest in falls by chance, and what they fall on.

The bounds are what a body of that sort does: nothing that is passive gains energy (conservation of energy), bones do
not come apart, joints stop at their limits; it comes to rest.
"""

import numpy as np
import pytest
from scipy.integrate import solve_ivp

from estampa import edits as do
from estampa.edits import joints as build
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import box, sheet
from estampa.scene.document import Document
from estampa.scene.scene import Scene

from .figures import G, fallen, figure, posed

RATE = 24


def on_ground(joints, pose, up, last=96, **values):
    scene, skeleton, layer = figure(joints, last=last, **values)
    posed(scene, skeleton, pose, up)
    do.add_thing(scene, "ground")
    return scene


@pytest.mark.parametrize(("joints", "pose", "up"), [(11, 1, 2.0), (17, 2, 0.5), (17, 9, 2.0), (24, 4, 2.0)])
def test_a_fall_gains_no_energy_keeps_its_hinges_and_limits_and_rests(store, joints, pose, up):
    fall = fallen(on_ground(joints, pose, up), store)
    assert fall.rise < 0.005 and fall.parts.max() < 0.005 and fall.parts[-1] < 0.001
    assert np.degrees(fall.past[12:].max()) < 3
    assert not fall.awake[-1] and fall.low.min() > 0.03
    last = np.array([f["bodies"]["position"] for f in fall.frames[-3:]])
    assert np.abs(np.diff(last, axis=0)).max() == 0, "what sleeps does not creep"


@pytest.mark.sweep
@pytest.mark.parametrize("joints", [11, 17, 24])
@pytest.mark.parametrize("up", [0.5, 2.0])
def test_no_fall_of_twenty_poses_gains_energy(store, joints, up):
    awake = 0
    for pose in range(20):
        fall = fallen(on_ground(joints, pose, up), store)
        assert fall.rise < 0.005 and fall.parts.max() < 0.005 and fall.parts[-1] < 0.001, pose
        assert np.degrees(fall.past[12:].max()) < 3, pose
        awake += bool(fall.awake[-1])
    assert awake <= 2, "in 4 s; those that begin upright may balance longer"


@pytest.mark.parametrize("tall", [0.05, 0.4, 6.0])
def test_figures_of_any_height_fall_and_rest(store, tall):
    last = int(96 * max(1.0, np.sqrt(tall / 1.75)))
    scene, skeleton, layer = figure(11, tall=tall, last=last, weight=70 * (tall / 1.75) ** 3)
    posed(scene, skeleton, 3, tall)
    do.set_value(scene, skeleton, "y", tall * 1.3)
    do.add_thing(scene, "ground")
    fall = fallen(scene, store)
    assert fall.rise < 0.005 and fall.parts.max() < 0.004 * tall and not fall.awake[-1]


def test_one_that_stands_does_not_stay_standing(store):
    """A limp figure set down upright has nothing that holds it: it falls over, and stays where it fell."""
    fall = fallen(on_ground(11, 0, 0.5, last=120), store)
    assert fall.energy[-1] < 0.25 * fall.energy[0] and fall.rise < 0.005 and not fall.awake[-1]
    at = fall.frames[-1]["bodies"]["position"]
    assert np.abs(at[:, [0, 2]]).max() < 2.0, "it is not flung"


def test_one_that_begins_under_the_ground_is_let_out_without_a_jolt(store):
    fall = fallen(on_ground(11, 1, -0.4, last=120), store)
    fast = max(float(np.abs(f["bodies"]["velocity"]).max()) for f in fall.frames)
    assert fall.low[0] < -0.1 and fall.low[-1] > 0.02, "out it comes"
    highest = float(fall.frames[0]["bodies"]["position"][:, 1].max())
    assert fast < np.sqrt(2 * G * highest) and not fall.awake[-1], "what stood above falls, and nothing is thrown"


def test_it_comes_to_rest_on_a_slope_of_triangles_over_a_rail_and_on_boxes(store):
    for kind in ("mesh", "capsule", "box", "plane"):
        scene, skeleton, layer = figure(11, last=108)
        posed(scene, skeleton, 5, 1.6)
        values = {"shape": kind, "friction": 1.0}
        if kind == "mesh":
            slab = do.add_mesh(scene, sheet(6, 6, 25, 25), "Cloth of stone")
            do.set_values(scene, slab.id, {"x": -3.0, "z": -3.0})
            values["subject"] = slab.id
        elif kind == "capsule":
            do.add_thing(scene, "ground")
            values |= {"radius": 0.08, "reach": 1.5, "turn_z": np.pi / 2, "y": 0.9}
        elif kind == "box":
            do.add_thing(scene, "ground")
            values |= {"wide": 0.4, "tall": 0.2, "deep": 0.4, "y": 0.2}
        do.add_thing(scene, "collider", values=values)
        fall = fallen(scene, store)
        assert fall.rise < 0.005, kind
        assert fall.low.min() > 0.02, f"it falls through a {kind}"
        assert fall.parts.max() < 0.006, kind


def test_a_limb_swings_as_a_physical_pendulum(store):
    """theta'' = -m g l sin(theta) / I, against SciPy's integrator; hung at a joint that is driven, without friction."""
    scene = Scene(Document(start=1, end=97))
    made = build.add_skeleton(scene, [np.array([[-0.3, 2, 0], [0, 2, 0], [0.35, 1.65, 0]], float)], "Arm", "Joint")
    zone = do.add_thing(scene, "zone", values={"x": 0.18, "y": 1.82, "shape": "sphere", "reach": 0.1})
    do.set_values(scene, made.joints[1].id, {"cone": 3.0, "twist": 3.0})
    do.add_layer(
        scene, made.id, "limp", values={
            "begins": "zone", "reached": zone.id, "turn_damping": 0.0, "damping": 0.0, "joint_damping": 0.0,
        }
    )  # fmt: skip
    do.add_thing(scene, "gravity", values={"pull": G})
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(97)
    run = evaluator.runs.every()[0]
    frames = [store.frame(evaluator.runs.key(run, f)) for f in range(1, 98)]
    held = frames[-1]["bodies"]["held"]
    assert held.tolist() == [1, 0], "the upper limb is driven, the lower one limp"
    from estampa.solve.bodies.model import Model

    model = Model.of(evaluator.runs.inputs(run, 1))
    mass, inertia = model.mass[1], 1 / model.ragdolls.bodies.inverse_inertia[1]
    centre = np.array([f["bodies"]["position"][1] for f in frames], float) - [0, 2.0, 0]
    arm = float(np.linalg.norm(centre[0]))
    angle = np.unwrap(np.arctan2(centre[:, 0], -centre[:, 1]))
    about = inertia.max() + mass * arm**2
    times = np.arange(97) / RATE
    began = int(np.argmax(np.abs(angle - angle[0]) > 1e-6)) - 1
    law = solve_ivp(
        lambda t, y: (y[1], -mass * G * arm * np.sin(y[0]) / about), (0, times[-1]), (angle[0], 0.0), rtol=1e-9,
        t_eval=times[: 97 - began],
    )  # fmt: skip
    swings = lambda a: np.flatnonzero(np.diff(np.sign(np.diff(a)))) / RATE
    ours, exact = swings(angle[began:]), swings(law.y[0])
    halves = lambda turns: (turns[4] - turns[0]) / 4
    assert halves(ours) == pytest.approx(halves(exact), abs=0.5 / RATE)
    far = np.abs(angle[began + int(3.5 * RATE) :]).max() / abs(angle[0])
    assert far > 0.8, f"{100 * far:.0f} % of a swing is left after four seconds"


def test_a_crate_that_falls_on_one_that_lies_is_borne(store):
    """Two ways: the figure is pressed and struck, and what strikes it does not fall through it."""
    scene = on_ground(11, 2, 0.1, last=96)
    crate = do.add_mesh(scene, box([-0.2, 2.0, -0.2], [0.2, 2.4, 0.2]), "Crate")
    do.add_layer(scene, crate.id, "body", values={"mass": 20.0})
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(96)
    lowest = evaluator.subject(scene.doc.find(crate.id), 96).points[:, 1].min()
    assert lowest > -0.005, "it lies on the figure or beside it, not in the ground"
    fast = np.abs(
        evaluator.subject(scene.doc.find(crate.id), 96).points - evaluator.subject(scene.doc.find(crate.id), 95).points
    )
    assert fast.max() < 0.004


def test_springs_bear_what_hangs_on_them(store):
    """At rest each spring's moment is that of the weight beyond its joint: stiffness x angle = sum of m g x arm."""
    from estampa.geometry import pose as turns
    from estampa.solve.bodies.model import Model
    from estampa.solve.ragdoll.coupling import RagdollFrame

    scene, skeleton, layer = figure(11, last=60, spring=3.0)
    above = {"shape": "box", "y": 1.6, "tall": 0.45, "wide": 2.0, "deep": 1.0, "soft": 0.0}  # hips and legs are held
    zone = do.add_thing(scene, "zone", values=above)
    do.set_values(scene, layer, {"begins": "zone", "reached": zone.id})
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(60)
    run = evaluator.runs.every()[0]
    inputs, frame = evaluator.runs.inputs(run, 60), store.frame(evaluator.runs.key(run, 60))
    model, rows = Model.of(inputs), frame["bodies"]
    columns = [rows[n].astype(float) for n in ("position", "turn", "velocity", "spin")]
    none = np.zeros(model.count, bool)
    found = RagdollFrame(model, inputs, frame, columns, none, {}, none, 1 / RATE)
    joints, (x, q, *_) = found.ragdolls.joints, found.motion
    up, own = joints.up, joints.own
    away = turns.product(turns.inverse(turns.product(q[up], joints.frame_up)), turns.product(q[own], joints.frame_own))
    away = turns.product(away, turns.inverse(found.springs.pose))
    angle = 2 * np.arctan2(np.linalg.norm(away[:, :3], axis=1), np.abs(away[:, 3]))
    hinge = x[own] + turns.turned(q[own], joints.arm_own)
    down = np.array([0, -G, 0])
    borne = [
        np.linalg.norm(sum(model.mass[i] * np.cross(x[i] - at, down) for i in np.flatnonzero(below)))
        for at, below in zip(hinge, model.hinges[0].below, strict=True)
    ]
    arms = (np.array(borne) > 0.5) & (joints.cone > 0.1)  # elbows bear it across their hinges
    assert arms.sum() == 2
    assert found.springs.stiff[arms] * angle[arms] == pytest.approx(np.array(borne)[arms], rel=0.04)


@pytest.mark.parametrize("joints", [11, 17, 24])
@pytest.mark.parametrize("hertz", [2.0, 5.0])
def test_one_that_is_pulled_up_arrives_at_its_pose_as_a_damped_spring_does(store, joints, hertz):
    """x = (1 + w t) exp(-w t): a critically damped spring from rest (any handbook of vibrations)."""
    scene, skeleton, layer = figure(joints, last=108)
    do.add_thing(scene, "ground")
    posed(scene, skeleton, 3, 0.5)
    for name in ("spring", "lifted"):
        do.set_key(scene, layer, name, 72, 0.0)
        do.set_key(scene, layer, name, 73, hertz)
        for frame in (72, 73):
            do.set_segment(scene, layer, name, frame, "step")
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(108)
    thing = scene.doc.find(skeleton)
    wanted = evaluator.poses.world(thing, 1, [])[:, :3, 3]
    at = np.array([evaluator.poses.world(thing, f)[:, :3, 3] for f in range(72, 109)])
    off = np.linalg.norm(at - wanted, axis=2)
    t = np.arange(37) / RATE * 2 * np.pi * hertz
    assert off[:, 0] == pytest.approx(off[0, 0] * (1 + t) * np.exp(-t), abs=0.03 * off[0, 0])
    assert off[24].max() < 0.005, "within a second"
    assert np.linalg.norm(at[-1] - at[-2], axis=1).max() * RATE < 0.01
    # and it is handed back without a jump
    do.set_key(scene, layer, "handed", 100, 0.0)
    do.set_key(scene, layer, "handed", 108, 1.0)
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(108)
    back = np.array([evaluator.poses.world(thing, f)[:, :3, 3] for f in range(99, 109)])
    assert np.linalg.norm(np.diff(back, axis=0), axis=2).max() < 0.005
    assert back[-1] == pytest.approx(wanted, abs=1e-6)


def test_one_that_is_led_follows_a_pose_that_moves(store):
    scene, skeleton, layer = figure(11, last=48, spring=6.0, lifted=6.0)
    arm = next(j for j in scene.doc.find(skeleton).joints if j.name == "upper arm left")
    for frame, angle in ((1, 0.0), (25, 0.6), (48, 0.0)):
        do.set_key(scene, arm.id, "turn_z", frame, angle)
        do.set_key(scene, skeleton, "x", frame, angle)
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(48)
    thing = scene.doc.find(skeleton)
    off = [
        np.linalg.norm(
            evaluator.poses.world(thing, f)[:, :3, 3] - evaluator.poses.world(thing, f, [])[:, :3, 3], axis=1
        )
        for f in range(1, 49)
    ]
    assert np.max(off) < 0.01


def odd(how: str):
    scene, skeleton, layer = figure(11, last=30)
    do.add_thing(scene, "ground")
    thing = scene.doc.find(skeleton)
    each = lambda values: [do.set_values(scene, j.id, values(n)) for n, j in enumerate(thing.joints)]
    match how:
        case "no length":
            short = thing.joints[4]
            rest = short.rest.with_(tip=(0.0, 0.0, 0.0))
            joints = tuple(j.with_(rest=rest) if j is short else j for j in thing.joints)
            scene.apply("No length", scene.doc.replace(thing.with_(joints=joints)))
        case "limits of 0":
            each(lambda n: {"cone": 0.0, "twist": 0.0, "bends": "any"})
        case "limits of a whole turn":
            each(lambda n: {"cone": np.pi, "twist": np.pi, "bends": "any"})
        case "hinges of nothing":
            each(lambda n: {"bends": "hinge", "bend_far": 0.0, "bend_back": 0.0})
        case "hinges inside out":
            each(lambda n: {"bends": "hinge", "bend_far": -3.0, "bend_back": -3.0})
        case "light":
            do.set_value(scene, layer, "weight", 1e-4)
        case "heavy":
            do.set_value(scene, layer, "weight", 1e6)
        case "folded":
            each(lambda n: {"turn_x": 2.5 if n else 0.0, "turn_z": 1.5 if n else 0.0})
    return scene


ODD = ("no length", "limits of 0", "limits of a whole turn", "hinges of nothing", "hinges inside out", "light", "heavy",
       "folded")  # fmt: skip


@pytest.mark.parametrize("how", ODD)
def test_odd_figures_fall_without_a_jolt_and_without_what_is_no_number(store, how):
    scene = odd(how)
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(30)
    run = evaluator.runs.every()[0]
    frames = [store.frame(evaluator.runs.key(run, f)) for f in range(1, 31)]
    for frame in frames:
        for table in frame.tables.values():
            assert all(np.isfinite(c).all() for c in table.columns.values())
    fast = max(float(np.linalg.norm(f["bodies"]["velocity"], axis=1).max()) for f in frames)
    assert fast < 2 * np.sqrt(2 * G * 1.75), "no faster than a limb that is whipped along as it falls"
    assert frames[-1]["bodies"]["position"][:, 1].min() > 0.0
