"""Deformers against their published definitions, and against plain facts of geometry."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from estampa.geometry.mesh import Mesh
from estampa.geometry.paths import Sampled
from estampa.geometry.place import Place
from estampa.geometry.primitives import box, joined, ring, sheet, tube
from estampa.motion.follow import Follow
from estampa.motion.layer import apply, sincos
from estampa.motion.look_at import LookAt
from estampa.motion.offset import Offset
from estampa.motion.refine import Refine, clark_step
from estampa.motion.relax import Relax
from estampa.motion.roll import rolled
from estampa.motion.shear import Shear
from estampa.motion.stretch import Stretch
from estampa.motion.sway import Sway
from estampa.motion.taper import Taper
from estampa.motion.twist import Twist
from estampa.motion.wave import Wave


def volume(mesh: Mesh, points) -> float:
    """By the divergence theorem."""
    a, b, c = points[mesh.triangles].transpose(1, 0, 2)
    return float((a * np.cross(b, c)).sum() / 6)


@pytest.fixture(scope="module")
def column():
    return tube(np.stack([np.zeros(81), np.linspace(0, 1, 81), np.zeros(81)], axis=1), np.full(81, 0.1), 48)


def test_twist_keeps_the_volume(column):
    """Barr 1984: the Jacobian of a twist is 1."""
    before = volume(column, column.points)
    assert volume(column, apply(Twist, column.points, angle=1.2)) == pytest.approx(before, rel=5e-4)
    top = apply(Twist, column.points, angle=1.2)[-1]
    assert np.allclose(top, Rotation.from_euler("Y", 1.2).apply(column.points[-1]))


def test_taper_scales_the_volume_by_its_jacobian(column):
    """Barr 1984: the Jacobian of a taper is the square of the scale, so the volume is its integral along the axis."""
    ratio = volume(column, apply(Taper, column.points, end=0.4)) / volume(column, column.points)
    s = np.linspace(0, 1, 2001)
    assert ratio == pytest.approx(np.trapezoid((1 - 0.6 * s) ** 2, s), rel=1e-3)


@pytest.mark.parametrize("length", [0.5, 1.7])
def test_stretch_keeps_the_volume_as_asked_and_shear_keeps_it_too(column, length):
    before = volume(column, column.points)
    assert volume(column, apply(Stretch, column.points, length=length)) == pytest.approx(before, rel=1e-12)
    assert volume(column, apply(Stretch, column.points, length=length, keep=0.0)) == pytest.approx(before * length)
    assert volume(column, apply(Shear, column.points, angle=0.5)) == pytest.approx(before, rel=1e-12)


def test_a_wave_travels_at_wavelength_times_rate():
    """The handbook's v = f times lambda: after t seconds the pattern stands v t further."""
    z = np.linspace(0, 6, 601)
    line = np.stack([z * 0, z * 0, z], axis=1)
    rate, wavelength, seconds = 0.7, 1.3, 0.9
    at = lambda t, where: apply(Wave, where, wavelength=wavelength, travel_rate=rate * t)[:, 1]
    assert np.allclose(at(seconds, line), at(0, line - [0, 0, rate * wavelength * seconds]), atol=1e-12)
    assert at(0, line).max() == pytest.approx(0.1, rel=1e-3)


def test_sway_keeps_each_stem_rooted_and_as_long_as_it_was():
    stems = []
    for x in (0.0, 0.5, 1.0):
        spine = np.stack([np.full(60, x), np.linspace(0.2, 1.4, 60), np.zeros(60)], axis=1)
        stems.append(tube(spine, np.full(60, 1e-4), 3))
    mesh = joined(stems)
    tips = []
    for cycle in np.linspace(0, 1, 16, endpoint=False):
        moved = apply(Sway, mesh.points, mesh, angle=0.5, travel_rate=cycle, aside=0.0)
        for i in range(3):
            stem = moved[mesh.islands == i]
            assert np.abs(stem[0] - mesh.points[mesh.islands == i][0]).max() < 1e-3  # the root stays
            spine = stem.reshape(60, 3, 3).mean(axis=1)
            assert np.linalg.norm(np.diff(spine, axis=0), axis=1).sum() == pytest.approx(1.2, rel=2e-3)
        tips.append([moved[mesh.islands == i][-1] for i in range(3)])
    tips = np.array(tips)
    swings = tips[:, :, 2] - tips[:, :, 2].mean(axis=0)
    together = swings.T @ swings / np.outer(*[np.linalg.norm(swings, axis=0)] * 2)
    assert np.abs(together[np.triu_indices(3, 1)]).max() < 0.97, "the stems swing out of step"


def test_offset_follows_its_grip_and_swells_a_sphere():
    grip = Place.of({"x": 0, "y": 0, "z": 0, "turn_x": 0, "turn_y": 0, "turn_z": np.pi / 2, "size": 1})
    moved = apply(Offset, np.zeros((1, 3)), x=0.2, y=0.0, grip=grip)
    assert np.allclose(moved, [[0, 0.2, 0]])  # the grip's X axis points up
    ball = ring(1.0, 0.3, 32, 16)
    swelled = apply(Offset, ball.points, ball, y=0.0, swell=0.1)
    grown = np.linalg.norm(swelled - ball.points, axis=1)
    assert np.allclose(grown, 0.1)
    assert volume(ball, swelled) > volume(ball, ball.points) > 0


def test_look_at_points_its_axis_at_the_target_by_the_least_turn():
    aim = Place.of({"x": 3.0, "y": 1.0, "z": -2.0, "turn_x": 0, "turn_y": 0, "turn_z": 0, "size": 1})
    arrow = np.array([[0.0, 0, 0], [0, 0, 1]])
    moved = apply(LookAt, arrow, target=aim)
    assert np.allclose(moved[1] - moved[0], np.array([3, 1, -2]) / np.sqrt(14))
    half = apply(LookAt, arrow, target=aim, strength=0.5)
    cos = lambda a, b: a @ b / np.linalg.norm(a) / np.linalg.norm(b)
    assert np.arccos(cos(half[1], [0, 0, 1.0])) == pytest.approx(np.arccos(cos(moved[1], [0, 0, 1.0])) / 2)
    # straight behind has no least turn, but it must still be a turn
    behind = apply(LookAt, arrow, target=Place(np.array([[0.0, 0, -5]]), np.eye(3)[None], np.ones(1)))
    assert np.allclose(behind[1], [0, 0, -1])


def test_follow_rides_a_circle_with_its_nose_along_it():
    turn = np.linspace(0, 2 * np.pi, 64, endpoint=False)
    path = Sampled(np.stack([np.sin(turn), 0 * turn, np.cos(turn)], axis=1), closed=True)
    assert path.length == pytest.approx(2 * np.pi, rel=1e-4)
    nose = np.array([[0.0, 0, 0], [0, 0, 0.1]])
    for share in (0.0, 0.25, 0.6, 1.25):
        moved = apply(Follow, nose, path=(path, Place.still()), along=share)
        angle = 2 * np.pi * share
        assert np.allclose(moved[0], [np.sin(angle), 0, np.cos(angle)], atol=2e-3)
        assert np.allclose((moved[1] - moved[0]) / 0.1, [np.cos(angle), 0, -np.sin(angle)], atol=0.03)


def test_rolling_without_slipping_turns_by_distance_over_radius():
    """A ball that goes once round its circumference comes back to how it lay; where nothing moves, it stays."""
    frames = np.arange(0, 101.0)
    go = np.stack([np.linspace(0, 2 * np.pi * 0.5, 101), frames * 0, frames * 0], axis=1)
    flat = np.repeat(np.eye(3)[None], 101, axis=0)
    turn = lambda at, way=go: rolled(frames, way, flat, Place.still(), np.array([at]), np.array([0.5]), "any")
    assert turn(100.0).magnitude()[0] < 1e-6
    # forwards along +X a ball rolls about -Z
    assert np.allclose(turn(25.0).as_rotvec()[0], [0, 0, -np.pi / 2], atol=1e-9)
    assert np.allclose(turn(25.5).as_rotvec()[0], [0, 0, -0.51 * np.pi], atol=1e-9)
    assert turn(60.0, go * 0).magnitude()[0] == 0
    # radius 5, a step of 4 units: about an eighth of a turn, 45 degrees (common practice, no source)
    step = rolled(
        np.array([0.0, 1]),
        np.array([[0.0, 0, 0], [4, 0, 0]]),
        flat[:2],
        Place.still(),
        np.ones(1),
        np.array([5.0]),
        "any",
    )
    assert np.degrees(step.magnitude()[0]) == pytest.approx(45, abs=1)
    assert step.magnitude()[0] == pytest.approx(4 / 5)


def test_relax_leaves_a_turned_shape_alone_and_smooths_a_crumpled_one():
    cloth = sheet(1, 1, 15, 15)
    detail = cloth.with_points(cloth.points + [0, 0.02, 0] * np.sin(17 * cloth.points[:, :1]))
    turn = Rotation.from_euler("XYZ", [0.4, 1.0, -0.3])
    turned = turn.apply(detail.points) + [1, 2, 3]
    assert np.abs(apply(Relax, turned, detail) - turned).max() < 1e-9
    crumpled = detail.points + 0.01 * np.random.default_rng(1).normal(size=detail.points.shape)
    roughness = lambda p: np.abs(np.diff((p - detail.points).reshape(15, 15, 3)[2:-2, 2:-2], 2, axis=0)).mean()
    assert roughness(apply(Relax, crumpled, detail, rounds=20)) < 0.4 * roughness(crumpled)


@pytest.mark.slow
def test_sine_and_cosine_are_those_of_numpy():
    from numba import njit

    @njit
    def both(x):
        result = np.empty((len(x), 2))
        for i in range(len(x)):
            result[i] = sincos(x[i])
        return result

    x = np.concatenate([np.linspace(-40, 40, 40_001), np.random.default_rng(3).uniform(-1e4, 1e4, 20_000)])
    assert np.abs(both(x) - np.stack([np.sin(x), np.cos(x)], axis=1)).max() < 4e-16


# -- subdivision -------------------------------------------------------------------------------------------
def refined(mesh, levels, **more):
    v = {n: c.default for n, c in Refine.channels.items()} | {"levels": levels} | more
    return Refine().plan(mesh, v, more.get("weights"))


def octahedron() -> Mesh:
    points = np.array([[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1]], float)
    faces = [[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [2, 0, 5], [1, 2, 5], [3, 1, 5], [0, 3, 5]]
    return Mesh.from_triangles(points, faces)


@pytest.mark.parametrize("mesh", [octahedron(), box([-1, -1, -1], [1, 1, 1]), ring(1, 0.4, 8, 6)])
def test_refining_keeps_the_euler_characteristic_and_every_level_has_four_times_the_faces(mesh):
    euler = lambda m: m.count - len(m.edges) + len(m.face_counts)
    before, faces = euler(mesh), len(mesh.face_counts)
    for levels in (1, 2, 3):
        plan = refined(mesh, levels)
        assert euler(plan.mesh) == before and plan.mesh.open_edges == 0
        corners = 4 if (mesh.face_counts == 3).all() else mesh.face_counts[0]
        assert len(plan.mesh.face_counts) == faces * corners * 4 ** (levels - 1)
        assert np.allclose(np.asarray(plan.carry.sum(axis=1)).ravel(), 1)


def test_loop_goes_to_its_limit_position_at_a_vertex_of_six():
    """Loop 1987: the limit of a vertex of valence n is (chi V + sum of its neighbours) / (chi + n), with
    chi = 3 / (8 beta); for six neighbours that is V / 2 + mean of the neighbours / 2."""
    grid = sheet(6, 6, 7, 7)
    rows = np.arange(49).reshape(7, 7)
    a, b, c, d = rows[:-1, :-1].ravel(), rows[:-1, 1:].ravel(), rows[1:, 1:].ravel(), rows[1:, :-1].ravel()
    triangles = np.concatenate([np.stack([a, c, b], 1), np.stack([a, d, c], 1)])
    bumps = grid.points + [0, 1, 0] * np.random.default_rng(0).uniform(-1, 1, (49, 1))
    mesh = Mesh.from_triangles(bumps, triangles)
    middle = 24
    around = np.unique(mesh.edges[(mesh.edges == middle).any(axis=1)])
    around = around[around != middle]
    limit = 0.5 * bumps[middle] + 0.5 * bumps[around].mean(axis=0)
    assert len(around) == 6
    assert np.abs(refined(mesh, 5).mesh.points[middle] - limit).max() < 2e-3


def test_catmull_clark_goes_to_its_limit_position_at_a_vertex_of_four():
    """Halstead, Kass and DeRose 1993: the limit of a regular vertex is (16 V + 4 sum of edge neighbours + sum of the
    corners across) / 36."""
    grid = sheet(6, 6, 7, 7)
    points = grid.points + [0, 1, 0] * np.random.default_rng(2).uniform(-1, 1, (49, 1))
    mesh = grid.with_points(points)
    p = points.reshape(7, 7, 3)
    limit = (16 * p[3, 3] + 4 * (p[2, 3] + p[4, 3] + p[3, 2] + p[3, 4]) + p[2, 2] + p[2, 4] + p[4, 2] + p[4, 4]) / 36
    assert np.abs(refined(mesh, 5).mesh.points[24] - limit).max() < 2e-3


def test_a_refined_cube_tends_to_a_round_shape_and_creases_keep_it_a_cube():
    cube = box([-1, -1, -1], [1, 1, 1])
    round_ = refined(cube, 4).mesh
    away = np.linalg.norm(round_.points, axis=1)
    assert away.max() / away.min() < 1.16 and 0 < volume(round_, round_.points) < 8
    sharp = refined(cube, 4, crease=9.0, weights=np.ones(8, np.float32)).mesh
    assert volume(sharp, sharp.points) == pytest.approx(8)
    partly = refined(cube, 4, crease=1.0, weights=np.ones(8, np.float32)).mesh
    assert volume(round_, round_.points) < volume(partly, partly.points) < 8


def test_a_fine_ball_has_the_area_and_volume_of_a_sphere():
    ball = refined(octahedron(), 4).mesh
    points = ball.points / np.linalg.norm(ball.points, axis=1)[:, None]
    a, b, c = points[ball.triangles].transpose(1, 0, 2)
    area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()
    assert area == pytest.approx(4 * np.pi, rel=0.01)
    assert volume(ball, points) == pytest.approx(4 / 3 * np.pi, rel=0.01)
    assert np.abs((ball.with_points(points).normals(points) * points).sum(axis=1) - 1).max() < 2e-3


def test_a_sheet_keeps_its_border_and_corners_and_a_fold_stays_flat():
    finer, step, _ = clark_step(sheet(2, 2, 5, 5))
    flat = finer.points
    assert np.allclose(flat[:, 1], 0) and np.isclose(np.ptp(flat[:, 0]), 2) and np.isclose(np.ptp(flat[:, 2]), 2)
    assert finer.open_edges == 2 * sheet(2, 2, 5, 5).open_edges


@pytest.mark.parametrize("angle", [1e-17, 1e-14, 1e-11, -1e-9, 1e-8, 1e-6])
def test_a_bend_by_next_to_nothing_moves_by_next_to_nothing(angle):
    # a spine of 1 m bent by a small angle leaves its line by angle / 2 (the parabola of a shallow arc), no more
    from estampa.motion.bend import Bend

    points = np.stack([np.zeros(50), np.linspace(0, 1, 50), np.linspace(-0.1, 0.1, 50)], axis=1)
    moved = apply(Bend, points, angle=angle)
    assert np.abs(moved - points).max() < 2 * abs(angle) + 1e-12
