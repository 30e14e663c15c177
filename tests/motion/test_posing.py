"""Skins and the layers that move joints."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from estampa import edits as do
from estampa.edits import joints as build
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import box, sheet, tube
from estampa.motion.cage import coordinates
from estampa.motion.posing.reach import elbow
from estampa.motion.skin import blend, blend_dual, blend_normals, parts_of
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def tail(count=4, length=2.0, loop=None, end=48):
    scene = Scene(Document(start=1, end=end, loop=loop))
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, length, 0], count)])
    return scene, skeleton.id


def world(scene, skeleton, frame=1):
    return scene.evaluator().poses.world(scene.doc.find(skeleton), frame)


def ahead(matrices):
    """(n, 3) which way joints point."""
    return matrices[:, :3, 1] / np.linalg.norm(matrices[:, :3, 1], axis=1)[:, None]


# -- skins -----------------------------------------------------------------------------------------------------
def palette(*turns_and_places):
    return np.array([[np.column_stack([r.as_matrix(), t]) for r, t in turns_and_places]])


@pytest.mark.slow
def test_dual_quaternions_are_rigid_for_a_rigid_pose_and_keep_a_twist_open():
    """Kavan and others 2007: a rigid motion of all joints moves the mesh rigidly; half way through a 170 degree twist
    a tube keeps its radius, where linear blending collapses to cos(85 degrees) of it."""
    rng = np.random.default_rng(3)
    points, turn = rng.normal(size=(1, 50, 3)), Rotation.from_euler("XYZ", [0.7, -1.1, 2.0])
    indices, weights = np.tile([0, 1], (50, 1)).astype(np.int32), rng.dirichlet([1, 1], 50).astype(np.float32)
    both = palette((turn, [1, 2, 3]), (turn, [1, 2, 3]))
    wanted = turn.apply(points[0]) + [1, 2, 3]
    assert blend_dual(points, *parts_of(both), indices, weights)[0] == pytest.approx(wanted, abs=1e-6)
    round_ = np.stack([np.cos(np.linspace(0, 6, 20)), np.zeros(20), np.sin(np.linspace(0, 6, 20))], 1)[None]
    twist = palette((Rotation.identity(), [0, 0, 0]), (Rotation.from_euler("Y", 170, degrees=True), [0, 0, 0]))
    half = np.full((20, 2), 0.5, np.float32)
    dual = np.linalg.norm(blend_dual(round_, *parts_of(twist), indices[:20], half)[0], axis=1)
    assert dual == pytest.approx(np.ones(20), abs=1e-6)
    linear = np.linalg.norm(blend(round_, twist, indices[:20], half)[0], axis=1)
    assert linear == pytest.approx(np.full(20, np.cos(np.radians(85))), abs=1e-6)


def test_skinned_normals_stay_normals_and_mirrored_joints_mirror():
    rng = np.random.default_rng(4)
    points, normals = rng.normal(size=(1, 30, 3)), rng.normal(size=(1, 30, 3))
    normals /= np.linalg.norm(normals, axis=2, keepdims=True)
    turn = Rotation.from_euler("XYZ", [0.2, 0.4, -0.9])
    one = (np.zeros((30, 1), np.int32), np.ones((30, 1), np.float32))
    moved, turned = blend_normals(points, normals, palette((turn, [1, 0, 0])), *one)
    assert turned[0] == pytest.approx(turn.apply(normals[0]), abs=1e-9)
    flip = np.array([[np.column_stack([np.diag([-1.0, 1, 1]), [0, 0, 0]])]])
    for result in (blend(points, flip, *one), blend_dual(points, *parts_of(flip), *one)):
        assert result[0] == pytest.approx(points[0] * [-1, 1, 1], abs=1e-9)


def test_a_joint_scaled_by_nothing_gives_no_nonsense(store):
    scene, skeleton = tail(2)
    line = np.stack([np.zeros(21), np.linspace(0, 2, 21), np.zeros(21)], axis=1)
    subject = do.add_mesh(scene, tube(line, np.full(21, 0.1), 8), "Bar")
    layer, _ = build.bind_skin(scene, subject.id, skeleton)
    for name in ("stretch_x", "stretch_y", "stretch_z"):
        do.set_value(scene, scene.doc.find(skeleton).joints[1].id, name, 0.0)
    for method in ("linear", "dual"):
        do.set_value(scene, layer.id, "method", method)
        assert np.isfinite(scene.evaluate(1, store)["Bar"]).all()
    grip = do.add_thing(scene, "grip", values={"x": 1.0})
    do.add_layer(scene, skeleton, "aim", values={"target": grip.id})
    assert np.isfinite(world(scene, skeleton)).all()


def test_copies_of_a_skinned_mesh_play_its_joints_later(store):
    scene, skeleton = tail(2, end=24)
    line = np.stack([np.zeros(21), np.linspace(0, 2, 21), np.zeros(21)], axis=1)
    subject = do.add_mesh(scene, tube(line, np.full(21, 0.1), 8), "Bar")
    build.bind_skin(scene, subject.id, skeleton)
    joint = scene.doc.find(skeleton).joints[1].id
    do.set_key(scene, joint, "turn_z", 1, 0.0, "linear")
    do.set_key(scene, joint, "turn_z", 24, 1.0, "linear")
    values = {"subject": subject.id, "count": 3, "step_x": 2.0, "stagger": 4.0}
    copies = do.add_thing(scene, "copies", values=values)
    evaluator = scene.evaluator(store)
    found = evaluator.copies(scene.doc.find(copies.id), 20).points()
    for k in range(3):
        own = evaluator.subject(scene.doc.find(subject.id), 20 - 4 * k).points
        assert found[k] == pytest.approx(own + [2.0 * k, 0, 0], abs=1e-9)


# -- constraints -----------------------------------------------------------------------------------------------
def test_aimed_joints_point_at_the_target_and_less_towards_the_tip():
    scene, skeleton = tail(4)
    grip = do.add_thing(scene, "grip", values={"x": 3.0, "y": 0.5, "z": 1.0})
    layer = do.add_layer(scene, skeleton, "aim", values={"target": grip.id, "tip_strength": 1.0})
    at = world(scene, skeleton)
    way = np.array([3.0, 0.5, 1.0]) - at[:, :3, 3]
    assert ahead(at) == pytest.approx(way / np.linalg.norm(way, axis=1)[:, None], abs=1e-9)
    do.set_value(scene, layer.id, "tip_strength", 0.25)  # 1, 0.75, 0.5, 0.25 (common practice, no source)
    do.set_value(scene, layer.id, "strength", 0.4)
    bends = np.degrees(np.arccos(np.clip((ahead(world(scene, skeleton)) * [0, 1, 0]).sum(axis=1), -1, 1)))
    assert (np.diff(bends) > 0).all() and bends[-1] < 75


def test_aim_does_not_flip_when_the_target_passes_overhead():
    scene, skeleton = tail(3)
    grip = do.add_thing(scene, "grip", values={"y": 3.0})
    for frame, x in ((1, -1.5), (48, 1.5)):
        do.set_key(scene, grip.id, "x", frame, x, "linear")
    do.add_layer(scene, skeleton, "aim", values={"target": grip.id})
    evaluator = scene.evaluator()
    turns_ = [Rotation.from_matrix(evaluator.poses.at(scene.doc.find(skeleton), f).at[:, :3, :3]) for f in range(1, 49)]
    steps = [(b * a.inv()).magnitude().max() for a, b in zip(turns_, turns_[1:], strict=False)]
    assert max(steps) < 0.12


def test_aim_follows_the_middle_of_a_map_on_a_moving_mesh():
    scene, skeleton = tail(1)
    flag = do.add_mesh(scene, sheet(0.4, 0.4, 5, 5), "Flag")
    half = do.add_map(scene, flag.id, (scene.mesh(flag.mesh).points[:, 0] > 0.25).astype(float), "End")
    do.set_values(scene, flag.id, {"x": 1.0, "y": 1.0})
    lift = do.add_layer(scene, flag.id, "offset", values={"y": 0.7})
    do.add_layer(scene, skeleton, "aim", values={"target": flag.id, "target_map": half.id})
    middle = scene.evaluate(1)["Flag"][scene.mesh(flag.mesh).points[:, 0] > 0.25].mean(axis=0)
    assert ahead(world(scene, skeleton))[0] == pytest.approx(middle / np.linalg.norm(middle), abs=1e-6)
    assert middle[1] == pytest.approx(1.7) and lift.id


def test_a_copied_turn_takes_the_chosen_axes_only():
    scene, skeleton = tail(2)
    grip = do.add_thing(scene, "grip", values={"turn_x": 0.4, "turn_z": 0.9})
    second = scene.doc.find(skeleton).joints[1].id
    values = {"target": grip.id, "first": second, "last": second, "x": False, "space": "space"}
    layer = do.add_layer(scene, skeleton, "copy_turn", values=values)
    found = Rotation.from_matrix(world(scene, skeleton)[1, :3, :3]).as_euler("XYZ")
    assert found == pytest.approx([0, 0, 0.9], abs=1e-9)
    do.set_value(scene, layer.id, "strength", 0.5)
    assert Rotation.from_matrix(world(scene, skeleton)[1, :3, :3]).as_euler("XYZ")[2] == pytest.approx(0.45)
    first = scene.doc.find(skeleton).joints[0].id
    do.set_values(scene, layer.id, {"target": first, "space": "own", "strength": 1.0, "x": True})
    do.set_value(scene, first, "turn_z", 0.3)
    assert Rotation.from_matrix(world(scene, skeleton)[1, :3, :3]).as_euler("XYZ")[2] == pytest.approx(0.6)


def test_two_joints_reach_and_bend_to_the_pole():
    """The elbow's angle by the law of cosines."""
    pa, pb, pc = np.zeros(3), np.array([0, 1.0, 0]), np.array([0, 1.8, 0])
    for to in ([1.2, 0.3, 0.2], [0.1, 0.1, 0.0], [5.0, 0, 0]):
        b, c = elbow(pa, pb, pc, np.array(to), np.array([0, 0, 3.0]))
        assert np.linalg.norm(b) == pytest.approx(1) and np.linalg.norm(c - b) == pytest.approx(0.8)
    scene, skeleton = tail(3, 2.4)
    joints = scene.doc.find(skeleton).joints
    hand = do.add_thing(scene, "grip", values={"x": 0.9, "y": 0.7, "z": 0.1})
    side = do.add_thing(scene, "grip", values={"z": 4.0})
    do.add_layer(scene, skeleton, "reach", values={"last": joints[2].id, "target": hand.id, "pole": side.id})
    at = world(scene, skeleton)
    assert at[2, :3, 3] == pytest.approx([0.9, 0.7, 0.1], abs=1e-9)
    assert at[1, 2, 3] > 0.3
    far = np.linalg.norm([0.9, 0.7, 0.1])
    inside = np.arccos(-(ahead(at)[0] @ ahead(at)[1]))
    assert np.cos(inside) == pytest.approx((0.64 + 0.64 - far**2) / (2 * 0.64))


def test_a_chain_lies_on_its_path_and_keeps_its_lengths():
    scene, skeleton = tail(6, 1.2)
    wave = [(x, 0.2 * np.sin(2.5 * x), 0.0) for x in np.linspace(0, 6, 25)]
    path = do.add_thing(scene, "path", spots=wave)
    layer = do.add_layer(scene, skeleton, "along", values={"path": path.id})
    do.set_key(scene, layer.id, "slide", 1, 1.5, "linear")
    do.set_key(scene, layer.id, "slide", 48, 5.5, "linear")
    line = scene.evaluator().stage.sampled(scene.doc.find(path.id))
    for frame in (1, 20, 48):
        at = world(scene, skeleton, frame)[:, :3, 3]
        near = np.linalg.norm(at[:, None] - line.points[None], axis=2).min(axis=1)
        assert near.max() < 0.02
        assert np.linalg.norm(np.diff(at, axis=0), axis=1) == pytest.approx(np.full(5, 0.2), abs=1e-6)
    assert np.linalg.norm(world(scene, skeleton, 48)[0, :3, 3] - line.at(5.5)[0][0]) < 1e-6
    # a path shorter than the chain: it goes straight on, and nothing breaks
    do.set_spots(scene, path.id, [(0, 0, 0), (0.3, 0, 0)], "Shorten")
    assert np.isfinite(world(scene, skeleton, 20)).all()
    assert line.chord(0.0, 0.0, 1.0) == 0.0


def test_turn_noise_closes_a_loop_and_gives_each_joint_its_own():
    scene, skeleton = tail(5, loop=(1, 25))
    do.add_layer(scene, skeleton, "turn_noise", values={"loops": True})
    evaluator = scene.evaluator()
    pose = lambda f: evaluator.poses.at(scene.doc.find(skeleton), f).pose.turn
    assert pose(25) == pytest.approx(pose(1), abs=1e-12)
    # and in speed: differences on both sides of the seam
    assert pose(25) - pose(24.99) == pytest.approx(pose(1.01) - pose(1), abs=2e-5)
    course = np.stack([pose(f)[:, 0] for f in np.arange(1, 25, 0.5)])
    apart = np.corrcoef(course.T) - np.eye(5)
    assert np.abs(apart).max() < 0.98 and course.std(axis=0).min() > 1e-3


def test_amplify_and_delay_plays_later_and_larger_down_the_chain():
    scene, skeleton = tail(3)
    for joint in scene.doc.find(skeleton).joints:
        for frame, angle in ((1, 0.0), (21, 0.4)):
            do.set_key(scene, joint.id, "turn_z", frame, angle, "linear")
    do.add_layer(scene, skeleton, "delay", values={"amplitude": 2.0, "each": 3.0})
    at = world(scene, skeleton, 15)
    local = [Rotation.from_matrix(m).as_euler("XYZ")[2] for m in at[:, :3, :3]]
    assert np.diff([0, *local]) == pytest.approx([2 * 0.02 * (14 - 3 * k) for k in range(3)], abs=1e-9)


def test_a_target_that_rides_on_the_same_skeleton_is_refused_by_name():
    from estampa.errors import EstampaError

    scene, skeleton = tail(2)
    grip = do.add_thing(scene, "grip", values={"x": 1.0, "parent": scene.doc.find(skeleton).joints[1].id})
    before = scene.doc
    with pytest.raises(EstampaError, match="Add Watch.*ring: Skeleton → Grip → Skeleton"):
        do.add_layer(scene, skeleton, "aim", "Watch", {"target": grip.id})
    assert scene.doc is before


# -- cages -----------------------------------------------------------------------------------------------------
def test_mean_value_coordinates_give_points_back_and_carry_affinely():
    """Ju, Schaefer and Warren 2005: partition of unity, linear precision, and 1 at a vertex."""
    cage = box([-1, -1, -1], [1, 1, 1])
    points = np.random.default_rng(5).uniform(-0.95, 0.95, (200, 3))
    weights = coordinates(points, cage.points, cage.triangles)
    assert weights.sum(axis=1) == pytest.approx(1, abs=1e-6)
    move = np.array([[1.2, 0.3, 0], [0, 0.9, 0.1], [0.2, 0, 1.1]])
    assert weights @ (cage.points @ move.T + [1, 2, 3]) == pytest.approx(points @ move.T + [1, 2, 3], abs=1e-5)
    on = coordinates(np.array([[1, 1, 1], [1, 0.2, -0.3]]), cage.points, cage.triangles)
    assert on[0].max() == 1 and on[1] @ cage.points == pytest.approx([1, 0.2, -0.3], abs=1e-6)


def test_a_simulated_cage_carries_what_is_inside(store):
    scene = Scene(Document(start=1, end=12))
    fish = do.add_mesh(scene, tube([[0, 0, 0], [0, 0, 0.5], [0, 0, 1.0]], [0.1, 0.15, 0.05], 8), "Fish")
    cage = do.add_mesh(scene, Mesh(*_cage()), "Cage")
    front = do.add_map(scene, cage.id, scene.mesh(cage.mesh).points[:, 2] < 0, "Front")
    do.add_layer(scene, cage.id, "cloth", values={"pins": front.id})
    do.add_thing(scene, "gravity")
    build.bind_cage(scene, fish.id, cage.id)
    rest, moved = scene.mesh(fish.mesh).points, scene.evaluate(12, store)["Fish"]
    assert np.isfinite(moved).all()
    drop = rest[:, 1] - moved[:, 1]
    assert drop[rest[:, 2] > 0.9].mean() > 3 * abs(drop[rest[:, 2] < 0.1].mean())


def _cage():
    block = box([-0.3, -0.3, -0.2], [0.3, 0.3, 1.2])
    return block.points, block.face_counts, block.face_indices
