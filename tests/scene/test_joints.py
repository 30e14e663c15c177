"""Building skeletons, posing them, binding meshes."""

import numpy as np
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from scipy.sparse.linalg import spsolve
from scipy.spatial.transform import Rotation, Slerp

from estampa import edits as do
from estampa.edits import joints as build
from estampa.errors import EstampaError
from estampa.geometry import pose as turns
from estampa.geometry import weights as bound
from estampa.geometry.mesh import Mesh
from estampa.geometry.paths import Sampled
from estampa.geometry.primitives import box, joined, ring, sheet, tube
from estampa.scene.bones import Bones
from estampa.scene.document import Rest, Thing
from estampa.scene.file import load_scene, save_scene
from estampa.scene.scene import Scene

UNIT = st.floats(-1, 1, allow_nan=False)


def bar(scene, length=2.0, rows=41, sides=12):
    line = np.stack([np.zeros(rows), np.linspace(0, length, rows), np.zeros(rows)], axis=1)
    return do.add_mesh(scene, tube(line, np.full(rows, 0.1), sides), "Bar")


def places(scene, skeleton_id, frame=1, rest=False):
    skeleton = scene.doc.find(skeleton_id)
    if rest:
        return Bones.of(skeleton).at_rest[:, :3, 3]
    return scene.evaluator().poses.world(skeleton, frame)[:, :3, 3]


# -- turns, against SciPy --------------------------------------------------------------------------------------
@settings(max_examples=60, deadline=None, derandomize=True)
@example([0.0, 0.0, 1.0, 0.0, 0.0, 0.0, 0.0, 1.0])  # half a turn apart
@example([1.0, 2.7557313621385722e-06, 1.0, 0.0, 0.0, 0.0, 1.0, 0.0])  # all but upright, where two angles are one
@given(st.lists(UNIT, min_size=8, max_size=8).filter(lambda v: min(np.linalg.norm(v[:4]), np.linalg.norm(v[4:])) > 0.1))
def test_turns_are_those_of_scipy(v):
    a, b = np.array(v[:4]) / np.linalg.norm(v[:4]), np.array(v[4:]) / np.linalg.norm(v[4:])
    ra, rb = Rotation.from_quat(a), Rotation.from_quat(b)
    assert np.abs(turns.turn_matrices(turns.product(a, b)) - (ra * rb).as_matrix()).max() < 1e-12
    for t in (0.0, 0.3, 1.0) if abs(a @ b) > 1e-6 else (0.0, 1.0):  # else both ways round are as short
        wanted = Slerp([0, 1], Rotation.concatenate([ra, rb]))(t)
        found = Rotation.from_quat(turns.slerp(a, b, t))
        assert (found * wanted.inv()).magnitude() < 1e-6
    half = Rotation.from_quat(turns.slerp(a, b, 0.5))
    assert (half * ra.inv()).magnitude() == pytest.approx((half * rb.inv()).magnitude(), abs=1e-6)
    assert np.abs(turns.turn_matrices(turns.from_vectors(ra.as_rotvec())) - ra.as_matrix()).max() < 1e-9
    angles = turns.to_euler(a[None])[0]
    assert (Rotation.from_euler("XYZ", angles) * ra.inv()).magnitude() < 1e-5
    least = Rotation.from_quat(turns.between(ra.apply([0, 0, 1.0]), rb.apply([0, 0, 1.0])))
    assert np.abs(least.apply(ra.apply([0, 0, 1.0])) - rb.apply([0, 0, 1.0])).max() < 1e-6


def test_angles_of_a_course_of_turns_do_not_jump():
    """Three times round about Y, through the place where X and Z turn about one axis."""
    course = turns.from_euler(np.full(200, 0.3), np.linspace(0, 6 * np.pi, 200), np.full(200, -0.2))
    angles = turns.to_euler(course)
    assert np.abs(np.diff(angles, axis=0)).max() < 0.7
    assert np.abs(np.abs((turns.from_euler(*angles.T) * course).sum(axis=1)) - 1).max() < 1e-12


def test_mirrored_and_flat_joints_keep_their_handedness():
    own = np.diag([-2.0, 1.5, 0.5])
    turn, stretch = turns.split((Rotation.from_euler("XYZ", [0.3, 0.2, 0.1]).as_matrix() @ own)[None])
    assert stretch[0] == pytest.approx([-2, 1.5, 0.5])
    again = turns.turn_matrices(turn)[0] * stretch[0]
    assert np.abs(again - Rotation.from_euler("XYZ", [0.3, 0.2, 0.1]).as_matrix() @ own).max() < 1e-12
    flat, size = turns.split(np.zeros((1, 3, 3)))
    assert np.isfinite(flat).all() and not size.any()


# -- building --------------------------------------------------------------------------------------------------
def test_strands_stand_where_they_are_drawn_and_come_back_from_a_file(tmp_path):
    scene = Scene()
    line = np.array([[0, 0, 0], [0, 1, 0], [0.5, 1.5, 0.2], [1, 1.5, 0.9]])
    skeleton = build.add_skeleton(scene, [line], "Tail", "Tail")
    assert [j.name for j in skeleton.joints] == ["Tail 1", "Tail 2", "Tail 3"]
    assert np.abs(places(scene, skeleton.id) - line[:3]).max() < 1e-12
    build.extend(scene, skeleton.joints[1].id, skeleton.id, np.array([[0.5, 1.5, 0.2], [0.5, 2, 0.2]]), "Fin")
    do.set_key(scene, skeleton.joints[1].id, "turn_x", 5, 0.5)
    save_scene(scene, tmp_path / "tail.estampa")
    again = load_scene(tmp_path / "tail.estampa")
    assert again.doc.skeletons == scene.doc.skeletons
    assert (places(again, skeleton.id, 5) == places(scene, skeleton.id, 5)).all()


def test_joints_are_cut_mirrored_named_and_removed_in_place():
    scene = Scene()
    skeleton = build.add_skeleton(scene, [build.straight([0.3, 0, 0], [0.3, 1, 0], 2)], "Arms", "Arm left")
    build.subdivide(scene, skeleton.joints[0].id, 2)
    assert places(scene, skeleton.id)[:, 1] == pytest.approx([0, 0.25, 0.5])
    made = build.mirror(scene, skeleton.joints[0].id, "x")
    found = places(scene, skeleton.id)
    assert found[3:] == pytest.approx(found[:3] * [-1, 1, 1])
    assert [m.name for m in made] == ["Arm right 1", "Arm right 1 1", "Arm right 2"]
    bones = Bones.of(scene.doc.find(skeleton.id))
    assert (np.linalg.det(bones.at_rest[:, :3, :3]) > 0).all()  # proper turns
    left, right = bones.joints[1].id, bones.joints[4].id
    for joint in (left, right):  # and both bend up alike
        do.set_value(scene, joint, "turn_x", 0.5)
    moved = places(scene, skeleton.id)
    assert moved[5] == pytest.approx(moved[2] * [-1, 1, 1])
    build.rename_joints(scene, [j.id for j in bones.joints[:3]], "Beam", 5)
    assert [j.name for j in scene.doc.find(skeleton.id).joints[:3]] == ["Beam 05", "Beam 06", "Beam 07"]
    build.to_rest(scene, skeleton.id, [left])
    before = places(scene, skeleton.id, rest=True)
    build.remove_joint(scene, left)
    assert places(scene, skeleton.id, rest=True) == pytest.approx(np.delete(before, 1, axis=0))


def test_copies_of_joints_and_of_skeletons_stand_on_their_own():
    scene = Scene()
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 3, 0], 3)], "Arm", "Arm")
    do.set_value(scene, skeleton.joints[1].id, "turn_z", 0.5)
    branch = do.duplicate(scene, skeleton.joints[1].id)  # takes along what hangs on it
    do.set_value(scene, branch.id, "turn_z", -0.5)
    found = places(scene, skeleton.id)
    assert len(found) == 5 and found[4] == pytest.approx(found[2] * [-1, 1, 1])
    with pytest.raises(EstampaError, match="stands in no stack"):
        do.move_layer(scene, branch.id, 0)
    with pytest.raises(EstampaError, match="remove_joint"):
        do.remove(scene, branch.id)

    twin = do.duplicate(scene, skeleton.id)
    do.set_value(scene, twin.joints[0].id, "x", 2.0)
    assert places(scene, twin.id) == pytest.approx(found + [2, 0, 0])
    assert places(scene, skeleton.id) == pytest.approx(found)
    ids = [t.id for t, _ in scene.doc.everything()]
    assert len(ids) == len(set(ids))


def test_rest_and_present_are_apart_and_can_be_made_one():
    scene = Scene()
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 2)])
    do.set_value(scene, skeleton.joints[1].id, "turn_z", np.pi / 2)
    posed = scene.evaluator().poses.world(scene.doc.find(skeleton.id), 1)
    assert posed[1, :3, 1] == pytest.approx([-1, 0, 0])
    build.rest_here(scene, skeleton.id, 1)
    assert Bones.of(scene.doc.find(skeleton.id)).at_rest == pytest.approx(posed)
    assert not any("turn_z" in j.values for j in scene.doc.find(skeleton.id).joints)


def test_chains_along_paths_and_from_beads():
    path = Sampled([[0, 0, 0], [1, 0, 0], [1, 0, 1]], smooth=False)
    scene = Scene()
    skeleton = build.add_skeleton(scene, [build.along_path(path, 4)])
    assert places(scene, skeleton.id) == pytest.approx(np.array([[0, 0, 0], [0.5, 0, 0], [1, 0, 0], [1, 0, 0.5]]))
    bead = ring(0.02, 0.01, 8, 6)
    strings = [joined([bead.with_points(bead.points + [x, -0.05 * k, 0]) for k in range(9)]) for x in (0, 0.2, 0.4)]
    lines = build.bead_lines(joined(strings))
    assert len(lines) == 3 and all(len(line) == 10 for line in lines)
    assert all((np.diff(line[:, 1]) < 0).all() for line in lines)  # from the top down
    assert [len(line) for line in build.bead_lines(joined(strings), every=3)] == [4, 4, 4]


def test_what_cannot_be_built_is_told():
    scene = Scene()
    with pytest.raises(EstampaError, match="no length"):
        build.add_skeleton(scene, [np.zeros((3, 3))])
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 1, 0], 3)])
    a, b, c = skeleton.joints
    with pytest.raises(EstampaError, match="ring"):
        do.set_value(scene, a.id, "parent", c.id)
    ring_ = Thing(kind="skeleton", name="Ring", joints=(a.with_(values={"parent": c.id}), b, c))
    with pytest.raises(EstampaError, match=f"{a.name} → {c.name} → {b.name} → {a.name}"):
        Bones.of(ring_)
    with pytest.raises(EstampaError, match="20,000"):
        build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 1, 0], 20_001)])
    with pytest.raises(ValueError, match="unit quaternion"):
        Rest(turn=(0, 0, 0, 0))


@pytest.mark.slow
def test_ten_thousand_joints_are_posed_at_once():
    scene = Scene()
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 100, 0], 10_000)])
    do.set_value(scene, skeleton.joints[0].id, "turn_z", -np.pi / 2)
    assert places(scene, skeleton.id)[-1] == pytest.approx([99.99, 0, 0], abs=1e-6)


def test_things_ride_on_joints_and_joints_on_things():
    scene = Scene()
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 2)])
    lamp = do.add_mesh(scene, box([-0.1, -0.1, -0.1], [0.1, 0.1, 0.1]), "Lamp")
    do.set_values(scene, lamp.id, {"y": 0.5, "parent": skeleton.joints[1].id})
    do.set_value(scene, skeleton.joints[1].id, "turn_z", np.pi / 2)
    middle = scene.evaluate(1)["Lamp"].mean(axis=0)
    assert middle == pytest.approx([-0.5, 1, 0])
    cart = do.add_thing(scene, "grip", values={"x": 3.0})
    do.set_value(scene, skeleton.id, "parent", cart.id)
    assert scene.evaluate(1)["Lamp"].mean(axis=0) == pytest.approx([2.5, 1, 0])


# -- binding ---------------------------------------------------------------------------------------------------
def test_heat_weights_sum_to_one_and_are_symmetric_on_a_straight_bar():
    scene = Scene()
    subject = bar(scene)
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 2)])
    layer, cold = build.bind_skin(scene, subject.id, skeleton.id)
    dense = build.weights_of(scene, scene.doc.find(layer.id))
    assert cold == 0 and (dense >= 0).all() and dense.sum(axis=1) == pytest.approx(1, abs=1e-6)
    y = scene.mesh(subject.mesh).points[:, 1]
    rings = [dense[np.isclose(y, h)].mean(axis=0) for h in np.unique(y)]
    assert np.abs(np.array(rings)[:, 0] - np.array(rings)[::-1, 1]).max() < 1e-3
    assert rings[20] == pytest.approx([0.5, 0.5], abs=1e-3)


def test_heat_weights_are_those_of_a_dense_solve():
    """(L + H) w = H p on a small mesh, solved anew without our factorisation."""
    mesh = bar_mesh = tube(np.stack([np.zeros(9), np.linspace(0, 1, 9), np.zeros(9)], 1), np.full(9, 0.15), 6)
    starts, ends = np.array([[0, 0, 0], [0, 0.5, 0.0]]), np.array([[0, 0.5, 0], [0, 1, 0.0]])
    found, cold = bound.diffused(bar_mesh, starts, ends, np.array([0, 1]), 2)
    share, distance, seen = bound.seen_joints(mesh, starts, ends, np.array([0, 1]), 2)
    assert seen.all() and not cold.any()
    system, area = bound.heat_system(mesh, 1 / distance**2)
    source = share * (area / distance**2)[:, None]
    dense = np.linalg.solve(system.toarray(), source)
    assert np.abs(found - dense).max() < 1e-9
    assert np.abs(spsolve(system.tocsc(), source) - dense).max() < 1e-9
    # the matrix is the cotangent laplacian of the triangles: rows of the laplacian alone sum to nothing
    assert np.abs(bound.heat_system(mesh, np.zeros(mesh.count))[0].sum(axis=1)).max() < 1e-12


def test_a_wall_hides_a_joint_and_what_sees_none_takes_the_nearest():
    """Two bars side by side: heat does not leap across; a lone sheet far off sees nothing inside and falls back."""
    bars = [box([x - 0.1, 0, -0.1], [x + 0.1, 1, 0.1]) for x in (0, 0.5)]
    inner = sheet(0.2, 0.2, 3, 3)
    mesh = joined([_outward(b) for b in bars] + [inner.with_points(inner.points + [5, 0.5, 0])])
    starts, ends = np.array([[0, 0.1, 0], [0.5, 0.1, 0.0]]), np.array([[0, 0.9, 0], [0.5, 0.9, 0.0]])
    found, cold = bound.diffused(mesh, starts, ends, np.array([0, 1]), 2)
    assert found[mesh.islands == 0] == pytest.approx(np.tile([1, 0], (8, 1)), abs=1e-6)
    assert found[mesh.islands == 1] == pytest.approx(np.tile([0, 1], (8, 1)), abs=1e-6)
    assert np.isfinite(found).all() and found.sum(axis=1) == pytest.approx(1)


def _outward(mesh: Mesh) -> Mesh:
    t, p = mesh.triangles, mesh.points
    normal = np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]])
    wrong = (normal * (p[t].mean(axis=1) - p.mean(axis=0))).sum(axis=1) < 0
    return Mesh.from_triangles(p, np.where(wrong[:, None], t[:, ::-1], t))


def test_few_influences_are_kept_and_a_removed_joint_gives_its_weights_on():
    scene = Scene()
    subject = bar(scene)
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 10)])
    layer, _ = build.bind_skin(scene, subject.id, skeleton.id, "nearest", 4)
    assert scene.arrays.get(scene.doc.find(layer.id).bind.indices).shape[1] == 4
    before = build.weights_of(scene, scene.doc.find(layer.id))
    build.remove_joint(scene, skeleton.joints[3].id)
    after = build.weights_of(scene, scene.doc.find(layer.id))
    assert after.shape[1] == 9 and after.sum(axis=1) == pytest.approx(1, abs=1e-6)
    wanted = before.copy()
    wanted[:, 2] += wanted[:, 3]
    assert np.abs(after - np.delete(wanted, 3, axis=1)).max() < 5e-3


def test_a_skin_whose_joint_is_gone_stays_where_it_was_bound():
    scene = Scene()
    subject = bar(scene)
    skeleton = build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 2, 0], 2)])
    build.bind_skin(scene, subject.id, skeleton.id)
    held = scene.doc.find(skeleton.id)
    scene.apply("Break it", scene.doc.replace(held.with_(joints=held.joints[:1])))
    points = scene.evaluate(1)["Bar"]
    assert points == pytest.approx(scene.mesh(subject.mesh).points)
