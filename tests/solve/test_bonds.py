"""Bonds of broken things: what they bear, by the handbook; walls that stand; harder strikes that break more."""

from itertools import pairwise

import numpy as np
import pytest
import trimesh

from estampa import edits as do
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import box
from estampa.inspect.remarks.worked_out import all_remarks
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.solve.bodies.bond_loads import Sections

from .test_broken import G, frames


def rod(last, strength, blocks=8, wide=0.1, tall=0.06, size=1.0, **body):
    """Blocks of 0.1 m in a row along X, of which the first is held; all times a size."""
    scene = Scene(Document(name="rod", start=1, end=last))
    long = 0.1 * blocks
    subject = do.add_mesh(scene, box([0, 0, 0], [size * long, size * tall, size * wide]), "Rod")
    cut = {"how": "bricks", "brick_x": 0.1 * size, "brick_y": 1.0 * size, "brick_z": 1.0 * size, "jitter": 0.0}
    do.add_layer(scene, subject.id, "break", values=cut | {"smallest": 0.0})
    where = {"x": size * (0.1 + long) / 2, "wide": size * long / 2 - 0.05 * size, "tall": size, "deep": size}
    zone = do.add_thing(scene, "zone", values={"shape": "box", "soft": 0} | where)
    values = {"each": "pieces", "begins": "zone", "reached": zone.id, "bonded": "bonds", "strength": strength}
    do.add_layer(scene, subject.id, "body", values=values | {"density": 600.0, "shear": 1e9} | body)
    return scene


def bending(blocks=8, tall=0.06, size=1.0, density=600.0):
    """Pa at the clamp under 1 g: 6 M / (b h^2), M = w L^2 / 2 (Euler-Bernoulli, any handbook of strength)."""
    long = 0.1 * (blocks - 1)
    return 3 * density * G * long**2 / tall * size


@pytest.mark.parametrize("size", [0.1, 1.0, 10.0])
def test_a_rod_of_blocks_breaks_at_the_bending_stress_of_the_handbook(store, size):
    last, share = 60, 0.7
    scene = rod(last, share * bending(size=size), size=size)
    gravity = do.add_thing(scene, "gravity")
    do.set_key(scene, gravity.id, "pull", 1, 0.0)
    do.set_key(scene, gravity.id, "pull", last, G)
    evaluator, found = frames(scene, store, last)
    whole = np.array([f["bonds"]["whole"] for f in found])
    parted = int(np.argmin(whole.all(axis=1)))
    assert found[0]["bodies"]["held"].sum() == 1 and whole[0].all() and not whole[-1].all()
    at = evaluator.values.at(scene.doc.find(gravity.id), "pull", parted + 1.0)
    assert at == pytest.approx(share * G, rel=0.05)


def test_a_rod_that_bears_its_weight_stands_for_ten_seconds(store):
    scene = rod(240, 1.1 * bending())
    do.add_thing(scene, "gravity")
    _, found = frames(scene, store, 240)
    assert found[-1]["bonds"]["whole"].all()
    place = np.array([f["bodies"]["position"] for f in found[-24:]])
    assert np.ptp(place, axis=0).max() < 1e-5, "and does not creep"


@pytest.mark.parametrize("wide", [0.5, 1.0, 3.0])
def test_stresses_are_a_beams(wide):
    """A rectangle b x h: N / A + M h / (2 I), I = b h^3 / 12 (any handbook of strength)."""
    b, h = 0.04 * wide, 0.04
    second = np.diag([0.0, b * h**3 / 12, h * b**3 / 12])[None]  # across X: y along h, z along b
    found = Sections.of(np.array([b * h]), np.array([[1.0, 0, 0]]), second)
    stress = found.stresses(np.array([[50.0, 0, 0, 0, 0, 3.0]]))  # bent about z: stretched along y
    assert stress.pull[0] == pytest.approx(50 / (b * h) + 3.0 * (h / 2) / (b * h**3 / 12))
    assert stress.press[0] == pytest.approx(-50 / (b * h) + 3.0 * (h / 2) / (b * h**3 / 12))
    assert found.stresses(np.array([[0, 30.0, 40.0, 0, 0, 0]])).shear[0] == pytest.approx(50 / (b * h))


def wall(last, density, strength, **body):
    scene = Scene(Document(name="wall", start=1, end=last))
    subject = do.add_mesh(scene, box([-0.9, 0, -0.1], [0.9, 0.96, 0.1]), "Wall")
    cut = {"how": "bricks", "brick_x": 0.24, "brick_y": 0.12, "brick_z": 0.2, "jitter": 0.0}
    do.add_layer(scene, subject.id, "break", values=cut)
    values = {"each": "pieces", "bonded": "bonds", "strength": strength, "density": density, **body}
    do.add_layer(scene, subject.id, "body", values=values)
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    return scene


@pytest.mark.parametrize("raised", [0.0, 0.004])
def test_a_wall_does_not_break_by_its_own_weight(store, raised):
    """It presses by 17 kPa at its foot and pulls by nothing; let down by 4 mm it lands on all of its foot."""
    scene = wall(30, 1800.0, 60e3)
    do.set_value(scene, scene.doc.things[0].id, "y", raised)
    _, found = frames(scene, store, 30)
    assert found[-1]["bonds"]["whole"].all()
    assert found[-1]["bodies"]["asleep"].all()
    if raised == 0:
        assert np.array_equal(found[0]["bodies"]["position"], found[-1]["bodies"]["position"])


def struck(store, speed):
    scene = wall(16, 1800.0, 150e3, shear=150e3)
    ball = trimesh.creation.icosphere(2, 0.12)
    thrown = do.add_mesh(scene, Mesh.from_triangles(ball.vertices + [0, 0.6, 0.4], ball.faces), "Ball")
    do.add_layer(scene, thrown.id, "body", values={"shape": "ball", "speed_z": -speed, "density": 7000.0})
    _, found = frames(scene, store, 16)
    return int((found[-1]["bonds"]["whole"] == 0).sum()), len(found[0]["bonds"]["whole"])


def test_a_harder_strike_breaks_more(store):
    broken, of = zip(*(struck(store, speed) for speed in (0.5, 2.0, 8.0, 20.0)), strict=True)
    assert broken[0] < 0.05 * of[0]
    assert all(a < b for a, b in pairwise(broken))
    assert broken[1] < 0.6 * of[0], "what stands far from the strike holds"


def test_what_a_wall_bears_of_its_own_weight_is_told(store):
    """A pier of blocks presses on its foot; hung up, it pulls by rho g h at its top (statics)."""
    scene = wall(1, 1800.0, 60e3)
    _, found = frames(scene, store, 1)
    assert found[0]["report"]["bears"][0] > 5
    hung = rod(2, 60e3, density=1000.0)
    do.set_value(hung, hung.doc.subjects[0].id, "turn_z", -np.pi / 2)
    zone = next(t for t in hung.doc.things if t.kind == "zone")
    do.set_values(hung, zone.id, {"x": 0.03, "y": -0.45, "wide": 1.0, "tall": 0.35})
    do.add_thing(hung, "gravity")
    evaluator, found = frames(hung, store, 1)
    pull = 1000.0 * G * 0.7  # seven blocks hang on the one that is held
    assert found[0]["bodies"]["held"].sum() == 1
    assert found[0]["report"]["bears"][0] == pytest.approx(60e3 / pull, rel=0.01)
    assert not any("own weight" in r.wrong for r in all_remarks(evaluator))
    body = hung.doc.subjects[0].stack[-1]
    do.set_value(hung, body.id, "strength", 0.5 * pull)
    evaluator, _ = frames(hung, store, 1)
    told = next(r.wrong for r in all_remarks(evaluator) if "own weight" in r.wrong)
    assert f"{pull / 1000:.3g} kPa" in told


def test_bonds_of_no_strength_and_of_any(store):
    scene = wall(8, 1800.0, 0.0, shear=0.0)
    _, found = frames(scene, store, 8)
    assert found[-1]["bodies"]["asleep"].all(), "a wall without mortar stands by its weight"
    scene = wall(8, 1800.0, 1e12, shear=1e12, speed_z=3.0)
    _, found = frames(scene, store, 8)
    assert found[-1]["bonds"]["whole"].all()
    assert all(np.isfinite(c).all() for f in found for c in f["bonds"].columns.values())
