"""Limbs by the skin that they carry: mass, centre and inertia against trimesh; what lies does not sink."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.pieces import together
from estampa.solve.bodies.limb_shapes import fitted
from estampa.solve.bodies.model import Model

from .figures import dressed, figure, posed


@pytest.mark.parametrize("joints", [11, 17, 24])
def test_the_mass_of_a_figure_is_that_of_its_skin(joints):
    """trimesh gives the volume, centre and inertia of the closed skin."""
    scene, skeleton, _ = figure(joints, last=2)
    body = dressed(scene, skeleton)
    evaluator = Evaluator(scene.doc, scene, None)
    crowd = evaluator.runs.inputs(evaluator.runs.every()[0], 1)
    whole = together([(mass, 1.0) for *_, mass in Model.of(crowd).parts])
    assert whole.volume == pytest.approx(body.volume, rel=0.01)
    assert whole.centre == pytest.approx(body.center_mass, abs=0.003)
    assert np.diag(whole.inertia) == pytest.approx(np.diag(body.moment_inertia), rel=0.02)
    # every part of the trunk is of a limb
    parts = [scene.doc.find(skeleton).joints[j].constant("part") for j in crowd.members[0].limbs.joint]
    mass = dict.fromkeys(("hips", "spine", "chest", "neck", "head"), 0.0)
    for part, own in zip(parts, Model.of(crowd).mass, strict=True):
        mass[part] = mass.get(part, 0.0) + own
    trunk = mass["hips"] + mass["spine"] + mass["chest"]
    assert sum(mass.values()) == pytest.approx(70.0) and trunk > 1.2 * mass["head"]


@pytest.mark.parametrize("pose", [1, 5, 8])
def test_a_figure_that_fell_lies_on_the_ground_and_not_in_it(store, pose):
    scene, skeleton, _ = figure(17)
    dressed(scene, skeleton)
    posed(scene, skeleton, pose, 0.8)
    do.add_thing(scene, "ground")
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(96)
    points = evaluator.subject(scene.doc.subjects[0], 96).points
    assert -0.045 < points[:, 1].min() < 0.03
    assert np.mean(points[:, 1] < -0.015) < 0.02, "72 mm of the trunk was in it once"


def test_capsules_fill_what_is_round_or_flat():
    dice = np.random.default_rng(4)
    ball = dice.normal(size=(4000, 3))
    ball /= np.linalg.norm(ball, axis=1)[:, None]
    even = np.ones(len(ball))
    round_ = fitted(ball * [0.05, 0.2, 0.05], even)
    assert len(round_.radius) == 1 and round_.radius[0] == pytest.approx(0.05, rel=0.1)
    assert abs(round_.b[0] - round_.a[0])[1] + 2 * round_.radius[0] == pytest.approx(0.4, rel=0.1)
    flat = fitted(ball * [0.18, 0.25, 0.08], even)
    assert len(flat.radius) == 2 and flat.radius == pytest.approx(0.08, rel=0.1)
    ends = np.concatenate([flat.a, flat.b])
    assert np.ptp(ends[:, 0]) + 2 * flat.radius[0] == pytest.approx(0.36, rel=0.1)
    assert np.abs(ends[:, 2]).max() < 0.01
