"""Swinging chains against catenaries, pendulums and what is solid."""

import numpy as np
import pytest
from scipy.optimize import brentq

from estampa import edits as do
from estampa.edits import joints as build
from estampa.errors import EstampaError
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import box
from estampa.scene.document import Document
from estampa.scene.scene import Scene

G = 9.80665


def hung(lines, values=None, end=48, rate=24.0, gravity=True):
    scene = Scene(Document(start=1, end=end, frame_rate=rate))
    skeleton = build.add_skeleton(scene, [np.asarray(line, float) for line in lines])
    plain = {"drag": 0.0, "bend": 0.0, "twist": 0.0, "clamp": False, "damping": 0.0}
    layer = do.add_layer(scene, skeleton.id, "chain", values=plain | (values or {}))
    if gravity:
        do.add_thing(scene, "gravity")
    return scene, skeleton.id, layer.id


def points(scene, store, skeleton_id, frame=None):
    """(p, 3) where the joints and the ends of leaves are, solved through a frame."""
    frame = scene.doc.end if frame is None else frame
    evaluator = scene.evaluator(store)
    evaluator.solve_through(frame)
    posed = evaluator.poses.at(scene.doc.find(skeleton_id), frame)
    assert posed.is_current
    at = evaluator.poses.world(scene.doc.find(skeleton_id), frame)
    leaves = [i for i, below in enumerate(posed.bones.children) if not below]
    ends = [at[i] @ [*posed.bones.tips[i], 1.0] for i in leaves]
    return np.vstack([at[:, :3, 3], np.array(ends)[:, :3]])


def test_a_chain_between_two_posts_hangs_as_a_catenary(store):
    """y = a cosh(x / a), with a from the length of the chain (any handbook of statics)."""
    span, length, count = 2.0, 2.6, 40
    x = np.linspace(-span / 2, span / 2, count + 1)
    drop = brentq(lambda d: np.hypot(np.diff(x), np.diff(-d * (1 - (2 * x / span) ** 2))).sum() - length, 0, 3)
    start = np.stack([x, -drop * (1 - (2 * x / span) ** 2), np.zeros(count + 1)], axis=1)
    scene, skeleton, _ = hung([start], {"held": "both", "damping": 3.0, "mass": 0.3, "stretch": 1e6}, end=96)
    found = points(scene, store, skeleton)
    a = brentq(lambda a: 2 * a * np.sinh(span / (2 * a)) - length, 0.1, 10)
    wanted = a * np.cosh(found[:, 0] / a) - a * np.cosh(span / (2 * a))
    assert np.abs(found[:, 1] - wanted).max() < 0.008
    assert np.linalg.norm(np.diff(found, axis=0), axis=1).sum() == pytest.approx(length, rel=2e-3)


@pytest.mark.slow
def test_a_bead_on_a_thread_swings_as_a_pendulum(store):
    """T = 2 pi sqrt(l / g) with nearly all of the mass at the end, for a small swing (Galileo's law)."""
    angle = np.radians(4)
    line = build.straight([0, 0, 0], [np.sin(angle), -np.cos(angle), 0], 8)
    values = {"mass": 0.001, "end_mass": 1.0, "substeps": 40, "stretch": 1e6}
    scene, skeleton, _ = hung([line], values, end=240, rate=60.0)
    evaluator = scene.evaluator(store)
    evaluator.solve_through(240)
    held = scene.doc.find(skeleton)
    swing = []
    for f in range(1, 241):
        posed = evaluator.poses.at(held, f)
        swing.append((posed.at[-1] @ [*posed.bones.tips[-1], 1.0])[0])
    swing = np.array(swing)
    up = np.flatnonzero((swing[:-1] < 0) & (swing[1:] >= 0))
    at = up + swing[up] / (swing[up] - swing[up + 1])
    assert np.diff(at).mean() / 60 == pytest.approx(2 * np.pi / np.sqrt(G), rel=0.01)
    assert np.abs(swing[120:]).max() > 0.8 * np.abs(swing[:60]).max()  # and does not die at once


def test_strands_keep_their_length_however_many_points(store):
    for count in (5, 80):
        scene, skeleton, _ = hung([build.straight([0, 0, 0], [1, 0, 0], count)], {"stretch": 1e5}, end=24)
        found = points(scene, store, skeleton)
        assert np.linalg.norm(np.diff(found, axis=0), axis=1).sum() == pytest.approx(1.0, rel=2e-3)


def test_held_too_far_apart_it_stretches_within_its_stiffness(store):
    """Hooke: force over E A is the strain; here by the ends, whatever the stiffness, and nothing flies apart."""
    scene, skeleton, layer = hung([build.straight([0, 0, 0], [1, 0, 0], 10)], {"held": "both"}, end=24)
    tip = scene.doc.find(skeleton).joints[-1]
    do.set_key(scene, scene.doc.find(skeleton).joints[0].id, "stretch_y", 1, 1.0)
    do.set_key(scene, scene.doc.find(skeleton).joints[0].id, "stretch_y", 12, 1.4)
    do.set_value(scene, layer, "keeps_length", False)
    found = points(scene, store, skeleton)
    assert np.isfinite(found).all() and tip.id
    gaps = np.linalg.norm(np.diff(found[:-1], axis=0), axis=1)
    assert gaps.max() < 3 * gaps.min()


def test_a_stiff_rod_is_bent_less_than_a_limp_one(store):
    sag = []
    for bend in (0.0, 0.05, 5.0):
        line = build.straight([0, 0, 0], [0.6, 0, 0], 8)
        values = {"bend": bend, "twist": bend, "clamp": True, "damping": 4.0, "mass": 0.1}
        scene, skeleton, _ = hung([line], values, end=72)
        sag.append(-points(scene, store, skeleton)[-1, 1])
    assert sag[0] > 0.55 and sag[0] > sag[1] > sag[2] > 0
    # w L^4 / (8 E I) for the stiffest, whose sag is small (Euler and Bernoulli)
    assert sag[2] == pytest.approx(0.1 * G * 0.6**4 / (8 * 5.0), rel=0.02)


SOLID = {
    "sphere": ({"radius": 0.25, "y": -0.7}, lambda p: np.linalg.norm(p - [0, -0.7, 0], axis=1) - 0.25),
    "capsule": (
        {"radius": 0.15, "reach": 0.5, "y": -0.7, "turn_x": np.pi / 2},
        lambda p: (
            np.linalg.norm(p - np.stack([0 * p[:, 0], 0 * p[:, 0] - 0.7, np.clip(p[:, 2], -0.5, 0.5)], 1), axis=1)
            - 0.15
        ),
    ),
    "box": (
        {"wide": 0.3, "tall": 0.1, "deep": 0.3, "y": -0.7},
        lambda p: (np.abs(p - [0, -0.7, 0]) - [0.3, 0.1, 0.3]).max(axis=1),
    ),
    "plane": ({"y": -0.7}, lambda p: p[:, 1] + 0.7),
    "mesh": ({}, lambda p: (np.abs(p - [0, -0.7, 0]) - [0.3, 0.1, 0.3]).max(axis=1)),
}


@pytest.mark.parametrize("shape", SOLID)
def test_strands_lie_on_what_is_solid(store, shape):
    place, outside = SOLID[shape]
    lines = [build.straight([-0.5, 0.0, z], [0.5, 0.0, z], 16) for z in (-0.1, 0.1)]
    scene, skeleton, _ = hung(lines, {"held": "none", "damping": 2.0, "radius": 0.02}, end=36)
    if shape == "mesh":
        block = do.add_mesh(scene, _outward(box([-0.3, -0.8, -0.3], [0.3, -0.6, 0.3])), "Block")
        place = {"subject": block.id}
    do.add_thing(scene, "collider", values={"shape": shape, **place})
    course = [points(scene, store, skeleton, frame) for frame in range(1, 37)]
    assert np.isfinite(course).all()
    near = [outside(found).min() for found in course]
    # a strand is 20 mm thick about its line: it goes in by less than a quarter of that, and it touches
    assert min(near) > 0.015 and min(near) < 0.03


def _outward(mesh: Mesh) -> Mesh:
    """Faces that look outwards, whatever way the box has them."""
    t = mesh.triangles
    p = mesh.points
    middle = p.mean(axis=0)
    normal = np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]])
    wrong = (normal * (p[t].mean(axis=1) - middle)).sum(axis=1) < 0
    t = np.where(wrong[:, None], t[:, ::-1], t)
    return Mesh.from_triangles(p, t)


def test_strands_do_not_pass_through_one_another(store):
    """A strand that falls across a held one lies over it."""
    lines = [build.straight([-0.4, 0, 0], [0.4, 0, 0], 10), build.straight([0, 0.3, -0.4], [0, 0.3, 0.4], 10)]
    lines[0][:, 1] = -0.1 * np.cos(lines[0][:, 0] / 0.4 * np.pi / 2)
    scene = Scene(Document(start=1, end=30))
    rope = build.add_skeleton(scene, [lines[0]])
    over = build.extend(scene, None, rope.id, lines[1])
    values = {"bend": 0.0, "clamp": False, "drag": 0.0, "radius": 0.02, "held": "both", "damping": 1.0}
    do.add_layer(scene, rope.id, "chain", values=values)
    do.add_thing(scene, "gravity")
    # the upper one is let down onto the lower by hand
    for name, to in (("y", -0.4),):
        do.set_key(scene, over[0].id, name, 1, 0.0)
        do.set_key(scene, over[0].id, name, 20, to)
    evaluator = scene.evaluator(store)
    evaluator.solve_through(30)
    state = evaluator.runs.shown(scene.doc.find(rope.id), scene.doc.find(rope.id).stack[0], 30).frame
    lower, upper = state["points"]["position"][:11], state["points"]["position"][11:22]
    assert upper[5, 1] > lower[5, 1] + 0.03


def test_an_obstacle_moved_through_a_curtain_pushes_it_aside_and_comes_out(store):
    lines = [build.straight([x, 0, 0], [x, -0.8, 0], 12) for x in np.linspace(-0.3, 0.3, 9)]
    scene, skeleton, _ = hung(lines, {"radius": 0.015, "damping": 0.5}, end=40)
    solid = do.add_thing(scene, "collider", values={"shape": "sphere", "radius": 0.15, "y": -0.5})
    do.set_key(scene, solid.id, "z", 1, -0.5, "linear")
    do.set_key(scene, solid.id, "z", 30, 0.6, "linear")
    evaluator = scene.evaluator(store)
    evaluator.solve_through(40)
    held, layer = scene.doc.find(skeleton), scene.doc.find(skeleton).stack[0]
    pushed = 0.0
    for frame in range(2, 41):
        state = evaluator.runs.shown(held, layer, frame).frame
        p = state["points"]["position"][: 9 * 13].astype(float)
        at = scene.values.at(scene.doc.find(solid.id), "z", frame)
        assert (np.linalg.norm(p - [0, -0.5, at], axis=1) > 0.15 + 0.015 - 0.02).all(), frame
        pushed = max(pushed, p[:, 2].max())
    assert pushed > 0.2


def test_an_obstacle_that_begins_inside_a_strand_lets_it_out_calmly(store):
    scene, skeleton, _ = hung([build.straight([0, 0, 0], [0, -1, 0], 12)], {"radius": 0.02}, end=24)
    do.add_thing(scene, "collider", values={"shape": "sphere", "radius": 0.3, "y": -0.6, "x": 0.05})
    evaluator = scene.evaluator(store)
    evaluator.solve_through(24)
    held, layer = scene.doc.find(skeleton), scene.doc.find(skeleton).stack[0]
    for frame in range(1, 25):
        state = store.frame(evaluator.key(held, layer, frame))
        assert np.abs(state["points"]["velocity"][:13]).max() < 12  # m/s; nothing is thrown
    state = evaluator.runs.shown(held, layer, 24).frame
    assert (np.linalg.norm(state["points"]["position"][:13] - [0.05, -0.6, 0], axis=1) > 0.3).all()


def test_what_hangs_follows_what_it_hangs_on(store):
    """A strand on another skeleton's joint, by riding on it; and one on a mesh that moves, by its nearest points."""
    scene, skeleton, layer = hung([build.straight([0, 1, 0], [0, 0.5, 0], 6)], end=12)
    cart = do.add_mesh(scene, box([-0.1, 0.9, -0.1], [0.1, 1.0, 0.1]), "Cart")
    do.set_key(scene, cart.id, "x", 1, 0.0, "linear")
    do.set_key(scene, cart.id, "x", 12, 0.6, "linear")
    do.set_value(scene, layer, "hang_on", cart.id)
    assert points(scene, store, skeleton)[0] == pytest.approx([0.6, 1, 0], abs=1e-5)
    do.set_value(scene, layer, "hang_on", None)
    do.set_value(scene, skeleton, "parent", cart.id)
    assert points(scene, store, skeleton)[0] == pytest.approx([0.6, 1, 0], abs=1e-5)


def test_wind_blows_strands_and_the_same_scene_gives_the_same_bits(store, tmp_path):
    from estampa.store.frames import FrameStore

    lines = [build.straight([x, 0, 0], [x, -0.5, 0], 10) for x in (0, 0.1, 0.2)]
    scene, skeleton, _ = hung(lines, {"drag": 1.1, "mass": 0.03}, end=24)
    do.add_thing(scene, "wind", values={"speed": 6.0})
    one = points(scene, store, skeleton)
    two = points(scene, FrameStore(tmp_path / "other"), skeleton)
    assert (one == two).all()
    assert one[5, 2] > 0.05  # they stream along the wind, +Z


def test_nonsense_is_told_with_the_frame_and_the_likely_channel(store):
    scene, skeleton, layer = hung([build.straight([0, 0, 0], [1, 0, 0], 4)], end=6)
    do.set_value(scene, layer, "mass", 1e-5)
    wind = do.add_thing(scene, "wind").id
    do.set_formula(scene, wind, "speed", "1e30")
    do.set_value(scene, layer, "drag", 2.0)
    with pytest.raises(EstampaError) as told:
        points(scene, store, skeleton)
    assert "frame" in str(told.value) and "Substeps" in str(told.value)
