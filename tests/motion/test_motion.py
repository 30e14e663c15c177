"""Bend and noise against their published definitions."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from estampa.geometry.primitives import sheet
from estampa.motion.bend import Bend
from estampa.motion.gradient_noise import PUBLISHED, fractal, noise_at, permutation
from estampa.motion.layer import Moment, Resolved
from estampa.motion.noise import Noise
from estampa.scene.things import Grip


def values(kind, **more):
    v = Resolved({name: c.default for name, c in kind.channels.items()})
    v.travel = {name: more.pop(f"travel_{name}", 0.0) for name, c in kind.channels.items() if c.accumulates}
    v.update(more)
    return v


def column(height=1.0, rows=201):
    """Points along Y with a square cross-section at each height."""
    y = np.linspace(-0.3, height + 0.3, rows)
    corners = np.array([[0, 0], [0.1, 0], [0, 0.1], [-0.05, 0.08]])
    return np.stack([np.r_[x, h, z] for h in y for x, z in corners]), y


NOW = Moment(1, 1 / 24, sheet(1, 1, 2, 2))


@pytest.mark.parametrize("angle", [0.3, -2.0, 3.0])
@pytest.mark.parametrize(
    "grip", [None, Grip.frame({"x": 0.2, "y": 0.0, "z": -1, "turn_x": 0.4, "turn_y": 1.0, "turn_z": -0.3, "size": 1})]
)
def test_bend_keeps_arc_length_and_cross_sections(angle, grip):
    """Barr 1984: the spine keeps its length, every cross-section stays rigid, and both ends are turned by the angle."""
    points, y = column()
    origin, axes, _ = grip or (np.zeros(3), np.eye(3), 1)
    points = points @ axes.T + origin
    moved = Bend().apply(points, values(Bend, angle=angle, grip=grip), NOW).reshape(len(y), 4, 3)
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
    assert Bend().apply(points, values(Bend, angle=0.0), NOW) is points
    full = Bend().apply(points, values(Bend), NOW)
    weights = np.linspace(0, 1, len(points)).astype(np.float32)
    part = Bend().apply(points, values(Bend, map=weights), NOW)
    assert np.allclose(part - points, (full - points) * weights[:, None])


def test_published_permutation_and_known_values():
    assert sorted(PUBLISHED) == list(range(256))
    p = permutation(0)
    # a value of the 2002 reference implementation, given in many ports of it (from memory)
    assert noise_at(3.14, 42.0, 7.0, p) == pytest.approx(0.13691995878400012, abs=1e-15)
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
    now = Moment(1, 0.0, mesh)
    grip = lambda x=0.0, z=0.0: Grip.frame({"x": x, "y": 0, "z": z, "turn_x": 0, "turn_y": 0, "turn_z": 0, "size": 1.0})
    still = Noise().apply(mesh.points, values(Noise, grip=grip()), now)
    shifted = Noise().apply(mesh.points, values(Noise, grip=grip(x=0.3)), now)
    assert np.allclose(
        shifted.reshape(21, 21, 3)[:, 3:, 1], still.reshape(21, 21, 3)[:, :-3, 1]
    )  # 0.3 m are three columns
    travelled = Noise().apply(mesh.points, values(Noise, grip=grip(), travel_speed=0.25), now)
    assert np.allclose(travelled, Noise().apply(mesh.points, values(Noise, grip=grip(z=0.25)), now))
    assert np.abs(still - mesh.points)[:, [0, 2]].max() < 1e-12  # along the normals of a flat sheet
    assert np.abs(still - mesh.points).max() <= 0.1


def test_grip_turns_as_scipy_does():
    _, axes, _ = Grip.frame({"x": 0, "y": 0, "z": 0, "turn_x": 0.3, "turn_y": -0.7, "turn_z": 1.1, "size": 1})
    assert np.allclose(axes, Rotation.from_euler("XYZ", [0.3, -0.7, 1.1]).as_matrix())
