"""Bend and noise against their published definitions."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from estampa.geometry.place import Place
from estampa.geometry.primitives import sheet
from estampa.motion.bend import Bend
from estampa.motion.gradient_noise import PUBLISHED, fractal, loop_tables, noise_at, permutation, plain_table, slope_at
from estampa.motion.layer import apply
from estampa.motion.noise import Noise
from estampa.scene.things import Grip


def column(height=1.0, rows=201):
    """Points along Y with a square cross-section at each height."""
    y = np.linspace(-0.3, height + 0.3, rows)
    corners = np.array([[0, 0], [0.1, 0], [0, 0.1], [-0.05, 0.08]])
    return np.stack([np.r_[x, h, z] for h in y for x, z in corners]), y


@pytest.mark.parametrize("angle", [0.3, -2.0, 3.0])
@pytest.mark.parametrize(
    "grip", [None, {"x": 0.2, "y": 0.0, "z": -1, "turn_x": 0.4, "turn_y": 1.0, "turn_z": -0.3, "size": 1}]
)
def test_bend_keeps_arc_length_and_cross_sections(angle, grip):
    """Barr 1984: the spine keeps its length, every cross-section stays rigid, and both ends are turned by the angle."""
    points, y = column()
    origin, axes, _ = Grip.frame(grip) if grip else (np.zeros(3), np.eye(3), 1)
    points = points @ axes.T + origin
    moved = apply(Bend, points, angle=angle, grip=grip and Place.of(grip)).reshape(len(y), 4, 3)
    spine = moved[:, 0]
    assert np.isclose(np.linalg.norm(np.diff(spine, axis=0), axis=1).sum(), y[-1] - y[0], rtol=2e-4)
    rest = points.reshape(len(y), 4, 3)
    apart = lambda p: np.linalg.norm(p[:, :, None] - p[:, None], axis=3)
    assert np.allclose(apart(moved), apart(rest), atol=1e-12)
    start, end = spine[1] - spine[0], spine[-1] - spine[-2]
    cos = start @ end / np.linalg.norm(start) / np.linalg.norm(end)
    assert np.isclose(np.arccos(np.clip(cos, -1, 1)), abs(angle), atol=1e-6)
    assert np.allclose(moved[y <= 0], rest[y <= 0])  # below the limits nothing moves


def test_bend_by_nothing_is_the_identity_to_the_bit_and_weights_scale_it():
    points, _ = column()
    assert np.array_equal(apply(Bend, points, angle=0.0), points)
    full = apply(Bend, points)
    weights = np.linspace(0, 1, len(points)).astype(np.float32)
    part = apply(Bend, points, map=weights)
    assert np.allclose(part - points, (full - points) * weights[:, None])


def test_published_permutation_and_known_values():
    assert sorted(PUBLISHED) == list(range(256))
    p = permutation(0)
    # a value of the 2002 reference implementation, given in many ports of it (from memory)
    assert noise_at(3.14, 42.0, 7.0, p, plain_table()) == pytest.approx(0.13691995878400012, abs=1e-15)
    lattice = np.random.default_rng(1).integers(-300, 300, (500, 3)).astype(float)
    assert np.abs(fractal(lattice, p)).max() == 0


def plain_noise(at, p):
    """The reference of Perlin 2002 in plain NumPy, written from the paper: all eight corners, then three blends."""
    cell = np.floor(at).astype(int)
    f = at - cell
    cell &= 255
    u, v, w = (f**3 * (f * (f * 6 - 15) + 10)).T
    total = 0
    for i in (0, 1):
        for j in (0, 1):
            for k in (0, 1):
                h = p[p[p[cell[:, 0] + i].astype(int) + cell[:, 1] + j].astype(int) + cell[:, 2] + k] & 15
                x, y, z = (f - [i, j, k]).T
                a, b = np.where(h < 8, x, y), np.where(h < 4, y, np.where((h == 12) | (h == 14), x, z))
                dot = np.where(h & 1, -a, a) + np.where(h & 2, -b, b)
                total = total + dot * (u if i else 1 - u) * (v if j else 1 - v) * (w if k else 1 - w)
    return total


@pytest.mark.parametrize("seed", [0, 1, 77])
def test_noise_agrees_with_the_paper_and_stays_in_range(seed):
    at = np.random.default_rng(seed).uniform(-90, 90, (20_000, 3))
    table = permutation(seed)
    assert np.allclose(fractal(at, table), plain_noise(at, table.astype(int)), atol=1e-12)
    for octaves in (1, 3, 6):
        assert np.abs(fractal(at, table, octaves, 0.7)).max() <= 1.04  # the range of the 2002 noise, measured by many


def test_moving_the_grip_moves_the_pattern_and_travel_carries_it():
    mesh = sheet(2, 2, 21, 21)
    at = lambda **v: Place.of({n: 0.0 for n in ("x", "y", "z", "turn_x", "turn_y", "turn_z")} | {"size": 1.0} | v)
    run = lambda **v: apply(Noise, mesh.points, mesh, **v)
    still, shifted = run(grip=at()), run(grip=at(x=0.3))
    # 0.3 m are three columns
    assert np.allclose(shifted.reshape(21, 21, 3)[:, 3:, 1], still.reshape(21, 21, 3)[:, :-3, 1])
    assert np.allclose(run(grip=at(), travel_speed=0.25), run(grip=at(z=0.25)))
    assert np.abs(still - mesh.points)[:, [0, 2]].max() < 1e-12  # along the normals of a flat sheet
    assert np.abs(still - mesh.points).max() <= 0.1


def test_a_looped_noise_meets_itself_in_value_and_slope_and_looks_like_the_plain_one():
    p, rng = permutation(3), np.random.default_rng(2)
    at, radius = rng.uniform(-20, 20, (4000, 3)), np.array([[1.7, 3.4]])
    value = lambda turn: fractal(at, p, 2, 0.5, loop_tables(p, np.array([turn]), radius)[0])
    h = 1e-5
    assert np.abs(value(1.0) - value(0.0)).max() < 1e-12
    into, out = (value(1.0) - value(1.0 - h)) / h, (value(h) - value(0.0)) / h
    assert np.abs(into - out).max() < 0.01 * np.abs(out).max()
    assert np.abs(value(0.5) - value(0.0)).max() > 0.3  # it does change on the way
    plain = fractal(at, p, 2, 0.5)
    assert value(0.3).std() == pytest.approx(plain.std(), rel=0.1)


def test_the_slope_of_noise_is_its_derivative_and_a_flow_neither_gathers_nor_spreads():
    p, table = permutation(5), plain_table()
    h = 1e-6
    for x, y, z in np.random.default_rng(4).uniform(-9, 9, (40, 3)):
        n = lambda a, b, c: noise_at(a, b, c, p, table)
        numeric = [n(x + h, y, z) - n(x - h, y, z), n(x, y + h, z) - n(x, y - h, z), n(x, y, z + h) - n(x, y, z - h)]
        assert np.allclose(slope_at(x, y, z, p, table), np.array(numeric) / (2 * h), atol=1e-6)
    step = 1e-4
    base = np.random.default_rng(6).uniform(-2, 2, (300, 3))
    moved = lambda by: apply(Noise, base + by, height=1.0, along="flow", octaves=1) - base - by
    spread = sum((moved(step * e) - moved(-step * e))[:, i] for i, e in enumerate(np.eye(3))) / (2 * step)
    assert np.abs(spread).max() < 1e-5 * np.abs(moved(0)).max() / step * 1e-3 + 1e-4


def test_grip_turns_as_scipy_does():
    _, axes, _ = Grip.frame({"x": 0, "y": 0, "z": 0, "turn_x": 0.3, "turn_y": -0.7, "turn_z": 1.1, "size": 1})
    assert np.allclose(axes, Rotation.from_euler("XYZ", [0.3, -0.7, 1.1]).as_matrix())
