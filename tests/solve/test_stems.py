"""Stems against pendulums, cantilevers and damped springs of the handbooks."""

import numpy as np
import pytest
from scipy.special import ellipk

from estampa import edits as do
from estampa.edits import joints as build
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.solve.stems.kind import parts_of

G = 9.80665


def stem(points, values, end=48, rate=24.0, gravity=False, **more):
    scene = Scene(Document(start=1, end=end, frame_rate=rate))
    skeleton = build.add_skeleton(scene, [np.asarray(points, float)])
    values = {"drag": 0.0, "tip_stiffness": 1.0, "tip_mass": 1.0, "ratio": 0.0, "weight": gravity, **values}
    layer = do.add_layer(scene, skeleton.id, "stems", values=values)
    if gravity:
        do.add_thing(scene, "gravity")
    return scene, skeleton.id, layer.id


def turned(scene, skeleton_id, joint, axis, angle):
    """Let go from a pose: by hand at the first frame, at rest after."""
    skeleton = scene.doc.find(skeleton_id)
    name = f"turn_{axis}"
    do.set_key(scene, skeleton.joints[joint].id, name, scene.doc.start, angle, "step")
    do.set_key(scene, skeleton.joints[joint].id, name, scene.doc.start + 1, 0.0, "step")


def course(scene, skeleton_id, store, joint=0):
    """(frames, (f, n, 4, 4) matrices) over the range, solved."""
    evaluator = scene.evaluator(store)
    evaluator.solve_through(scene.doc.end)
    skeleton = scene.doc.find(skeleton_id)
    frames = np.arange(scene.doc.start, scene.doc.end + 1)
    posed = [evaluator.poses.at(skeleton, f) for f in frames]
    assert all(p.is_current for p in posed)
    return frames, np.stack([p.at for p in posed])


def period_of(signal, rate):
    """Mean time between rising zero crossings, in seconds."""
    s = signal - 0
    up = np.flatnonzero((s[:-1] < 0) & (s[1:] >= 0))
    at = up + s[up] / (s[up] - s[up + 1])
    return float(np.diff(at).mean()) / rate


@pytest.mark.slow
@pytest.mark.parametrize("angle", [np.radians(2), np.radians(60)])
def test_a_pendulum_swings_in_the_time_of_the_formula(store, angle):
    """A thin rod hung at its end: T0 = 2 pi sqrt(2 L / 3 g) for small angles, and T0 x 2 K(sin^2(a / 2)) / pi exactly
    (Landau and Lifshitz, Mechanics, section 11; K from SciPy)."""
    length = 1.0
    values = {"stiffness": 0.0, "mass": 1.0, "width": 0.001, "substeps": 20}
    scene, skeleton, _ = stem([[0, 0, 0], [0, -length, 0]], values, end=240, rate=60.0, gravity=True)
    turned(scene, skeleton, 0, "z", angle)
    _, at = course(scene, skeleton, store)
    tip = at[:, 0, :3, :3] @ np.array([0.0, length, 0])
    swing = np.arctan2(tip[:, 0], -tip[:, 1])
    expected = 2 * np.pi * np.sqrt(2 * length / (3 * G)) * 2 * ellipk(np.sin(angle / 2) ** 2) / np.pi
    assert period_of(swing[3:], 60.0) == pytest.approx(expected, rel=4e-3)
    assert np.abs(swing).max() <= angle * 1.01


@pytest.mark.slow
def test_a_double_pendulum_keeps_its_energy(store):
    """Without springs and damping the energy of two rods stays what it was (conservation of energy)."""
    values = {"stiffness": 0.0, "mass": 1.0, "width": 0.001, "substeps": 12}
    scene, skeleton, _ = stem([[0, 0, 0], [0, -0.5, 0], [0, -1.0, 0]], values, end=480, rate=240.0, gravity=True)
    turned(scene, skeleton, 0, "z", np.radians(100))
    _, at = course(scene, skeleton, store)
    middle = at[..., :3, 3] + at[..., :3, 1] * 0.25
    angle = np.unwrap(np.arctan2(at[..., 0, 1], -at[..., 1, 1]), axis=0)
    spin, speed = np.gradient(angle, 1 / 240, axis=0), np.gradient(middle, 1 / 240, axis=0)
    mass, about = 0.5, 0.5 * 0.25 / 12
    energy = (0.5 * mass * (speed**2).sum(axis=2) + 0.5 * about * spin**2 + mass * G * middle[..., 1]).sum(axis=1)
    inside = energy[2:-2]  # the differences at the ends are one-sided
    assert np.ptp(inside) < 0.02 * (energy.max() + mass * G * 1.0)


def test_a_cantilever_sags_as_the_formula_says(store):
    """Tip deflection w L^4 / (8 E I) of a clamped rod under its own weight, for small loads (Euler and Bernoulli; any
    handbook of strength). Springs at the joints: E I over the segment length, twice that at the clamp."""
    length, count, mass, ei = 1.0, 20, 0.05, 2.0
    step = length / count
    values = {"stiffness": ei / step, "mass": mass, "ratio": 0.6, "width": 0.002}
    scene, skeleton, _ = stem(build.straight([0, 0, 0], [length, 0, 0], count), values, end=60, gravity=True)
    do.set_value(scene, scene.doc.find(skeleton).joints[0].id, "stiffness", 2.0)
    _, at = course(scene, skeleton, store)
    tip = at[-1, -1] @ [0, step, 0, 1]
    assert -tip[1] == pytest.approx(mass * G * length**4 / (8 * ei), rel=0.01)


def test_natural_frequency_converges_to_the_cantilevers(store):
    """First natural frequency (1.875^2 / 2 pi) sqrt(E I / (m L^4)) of a clamped rod (Rao, Mechanical Vibrations): the
    error falls with the square of the number of joints, when the clamp's spring stands for half a segment."""
    length, mass, ei = 1.2, 0.08, 3.0
    exact = 1.8751040687**2 / (2 * np.pi) * np.sqrt(ei / (mass * length**4))
    errors = []
    for count in (4, 8, 16):
        values = {"stiffness": ei / (length / count), "mass": mass, "width": 1e-4}
        scene, skeleton, layer = stem(build.straight([0, 0, 0], [0, length, 0], count), values)
        do.set_value(scene, scene.doc.find(skeleton).joints[0].id, "stiffness", 2.0)
        _, _, parts = parts_of(scene.evaluator(store), scene.doc.find(skeleton), scene.doc.find(layer), 1)
        frame = np.tile(np.eye(3), (count, 1, 1))
        errors.append(abs(parts.modes(frame, frame, np.zeros((count, 3)))[0] / exact - 1))
    assert errors[-1] < 3e-3
    assert errors[0] / errors[1] > 3 and errors[1] / errors[2] > 3


def test_it_swings_at_the_frequency_that_is_told(store):
    values = {"stiffness": 30.0, "mass": 0.5, "ratio": 0.0, "substeps": 30}
    scene, skeleton, layer = stem(build.straight([0, 0, 0], [0, 1, 0], 1), values, end=120, rate=48.0)
    _, _, parts = parts_of(scene.evaluator(store), scene.doc.find(skeleton), scene.doc.find(layer), 1)
    turned(scene, skeleton, 0, "x", np.radians(3))
    _, at = course(scene, skeleton, store)
    assert 1 / period_of(at[3:, 0, 2, 1], 48.0) == pytest.approx(float(parts.frequencies()[0]), rel=0.01)


def test_logarithmic_decrement_is_the_damping_ratio(store):
    """ln(x1 / x2) = 2 pi z / sqrt(1 - z^2) between peaks (Rao, Mechanical Vibrations)."""
    ratio = 0.08
    values = {"stiffness": 30.0, "mass": 0.5, "ratio": ratio, "substeps": 60}
    scene, skeleton, _ = stem(build.straight([0, 0, 0], [0, 1, 0], 1), values, end=150, rate=60.0)
    turned(scene, skeleton, 0, "x", np.radians(5))
    _, at = course(scene, skeleton, store)
    swing = at[:, 0, 2, 1]
    peaks = [i for i in range(2, len(swing) - 1) if swing[i] > swing[i - 1] and swing[i] >= swing[i + 1]]
    top = []
    for i in peaks[:4]:  # the top of the parabola through three points
        a, b, c = swing[i - 1 : i + 2]
        top.append(b - (a - c) ** 2 / (8 * (a - 2 * b + c)))
    measured = float(np.mean(np.log(np.array(top[:-1]) / top[1:])))
    assert measured == pytest.approx(2 * np.pi * ratio / np.sqrt(1 - ratio**2), rel=0.06)


def test_wind_leans_a_stem_by_the_drag_on_it(store):
    """Steady air on a short stiff rod: k angle = drag x L / 2, with drag = rho / 2 Cd A u^2 (the drag equation)."""
    values = {"stiffness": 20.0, "mass": 0.3, "ratio": 0.7, "width": 0.05, "drag": 1.1}
    scene, skeleton, _ = stem(build.straight([0, 0, 0], [0, 1, 0], 1), values, end=72)
    do.add_thing(scene, "wind", values={"speed": 4.0, "gustiness": 0.0, "turbulence": 0.0})
    _, at = course(scene, skeleton, store)
    lean = np.arcsin(at[-1, 0, 2, 1])
    force = 0.5 * 1.225 * 1.1 * 0.05 * 4.0**2
    # leaning, the rod meets the air at a slant only with its middle, so the arm is L / 2 cos(lean)
    assert lean == pytest.approx(force * 0.5 * np.cos(lean) / 20.0, rel=0.02)


def test_parts_read_winds_of_their_own_and_leaves_move_most(store):
    scene = Scene(Document(start=1, end=48))
    trunk = build.straight([0, 0, 0], [0, 2, 0], 3)
    skeleton = build.add_skeleton(scene, [trunk], "Tree", "Trunk")
    top = skeleton.joints[-1].id
    stalk = build.extend(scene, top, skeleton.id, build.straight([0, 2, 0], [0.4, 2.6, 0], 2), "Stalk")
    leaf = build.extend(scene, stalk[-1].id, skeleton.id, build.straight([0.4, 2.6, 0], [0.8, 2.7, 0], 2), "Leaf")
    sea = do.add_thing(scene, "wind", "Sea", {"speed": 8.0, "gustiness": 0.1})
    gusts = do.add_thing(scene, "wind", "Gusts", {"speed": 5.0, "gustiness": 0.8, "gust_length": 1.5, "seed": 4})
    # three layers on one skeleton: each part is the tree below its first joint, the later ones replace what is above
    for first, preset, wind in ((None, 3000.0, sea), (stalk[0].id, 150.0, sea), (leaf[0].id, 1.0, gusts)):
        values = {"first": first, "stiffness": preset, "wind": wind.id, "mass": 0.05}
        do.add_layer(scene, skeleton.id, "stems", values=values)
    _, at = course(scene, skeleton.id, store)
    local = np.einsum("fnji,fnjk->fnik", at[:, [1, 3, 5], :3, :3], at[:, [2, 4, 6], :3, :3])
    sway = np.linalg.norm(local - local[0], axis=(2, 3)).std(axis=0)
    assert sway[0] < 0.3 * sway[1] and sway[0] < 0.1 * sway[2]
