"""Broken things as bodies: bonds carry the load of their strength and no more, zones let go, layers hand over."""

import numpy as np
import pytest
import trimesh
from scipy.integrate import solve_ivp

from estampa import edits as do
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.mesh import Mesh
from estampa.geometry.pieces import Pieces
from estampa.geometry.primitives import box
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.solve.bodies.model import Model

G = 9.80665


def beam(last, strength, **body):
    """A beam of five cells, 0.1 m each, that hangs by its uppermost one, which no zone reaches."""
    scene = Scene(Document(name="beam", start=1, end=last))
    subject = do.add_mesh(scene, box([0, 0, 0], [0.1, 0.5, 0.1]), "Beam")
    cut = {"how": "planks", "brick_x": 1.0, "brick_y": 0.1, "brick_z": 1.0, "jitter": 0.0, "smallest": 0.0}
    do.add_layer(scene, subject.id, "break", values=cut)
    zone = do.add_thing(scene, "zone", values={"shape": "box", "y": 0.2, "tall": 0.2, "wide": 1, "deep": 1, "soft": 0})
    values = {"each": "pieces", "begins": "zone", "reached": zone.id, "bonded": "bonds", "strength": strength}
    do.add_layer(scene, subject.id, "body", values=values | {"density": 600.0} | body)
    return scene


def frames(scene, store, last):
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(last)
    run = evaluator.runs.every()[0]
    return evaluator, [store.frame(evaluator.runs.key(run, f)) for f in range(1, last + 1)]


def test_a_chain_of_bonded_cells_carries_the_load_of_its_strength_and_no_more(store):
    # the uppermost bond bears four cells: 4 rho g h, in Pa; gravity grows until it parts
    last, strength = 48, 0.8 * 4 * 600 * G * 0.1
    scene = beam(last, strength)
    gravity = do.add_thing(scene, "gravity")
    do.set_key(scene, gravity.id, "pull", 1, 0.0)
    do.set_key(scene, gravity.id, "pull", last, G)
    _, found = frames(scene, store, last)
    whole = np.array([f["bonds"]["whole"] for f in found])
    parted = int(np.argmin(whole.all(axis=1)))
    pull = np.array([f["bonds"]["pull"] for f in found])
    evaluator = Evaluator(scene.doc, scene, store)
    at = evaluator.values.at(scene.doc.find(gravity.id), "pull", parted + 1.0)
    assert not whole[-1].all() and whole[0].all()
    assert at == pytest.approx(0.8 * G, rel=0.04)
    # only the uppermost parts, and before it did, each bore what hangs below it
    assert whole[-1].tolist() == [1, 1, 1, 0]
    before = pull[parted - 1]
    assert before == pytest.approx(before[3] * np.array([1, 2, 3, 4]) / 4, rel=0.03)
    held = found[-1]["bodies"]["held"]
    assert held.tolist() == [0, 0, 0, 0, 1]


def test_what_a_zone_reaches_is_let_go_and_the_rest_follows_the_layers(store):
    scene = Scene(Document(name="wall", start=1, end=24))
    subject = do.add_mesh(scene, box([0, 0, 0], [1.2, 0.6, 0.1]), "Wall")
    cut = {"how": "bricks", "brick_x": 0.2, "brick_y": 0.1, "brick_z": 0.2, "jitter": 0.0}
    do.add_layer(scene, subject.id, "break", values=cut)
    zone = do.add_thing(scene, "zone", values={"reach": 0.25, "soft": 0.0, "y": 0.5})
    do.set_key(scene, zone.id, "x", 1, -1.0)
    do.set_key(scene, zone.id, "x", 24, 0.6)
    step = do.add_layer(scene, subject.id, "step", values={"y": 0.0, "z": 0.0})
    do.set_key(scene, step.id, "z", 1, 0.0)
    do.set_key(scene, step.id, "z", 24, 0.23)
    do.add_layer(scene, subject.id, "body", values={"each": "pieces", "begins": "zone", "reached": zone.id})
    do.add_thing(scene, "gravity")
    evaluator, found = frames(scene, store, 24)
    held = np.array([f["bodies"]["held"] for f in found]).astype(bool)
    assert held[0].all() and not held[-1].all() and held[-1].any()
    assert (held[1:] <= held[:-1]).all(), "what was let go is not taken again"
    place = found[-1]["bodies"]["position"]
    centre = found[-1]["bodies"]["centre"]
    assert place[held[-1]] - centre[held[-1]] == pytest.approx(np.tile([0, 0, 0.23], (held[-1].sum(), 1)), abs=1e-5)
    # the speed with which it was moved is handed over
    gone = np.flatnonzero(~held[-1])
    first = held.argmin(axis=0)[gone]
    z = lambda f: evaluator.values.at(scene.doc.find(step.id), "z", float(f))
    for f, b in zip(first, gone, strict=True):  # frames are numbered from 1
        wanted = (z(f) - z(f - 1)) * 24
        assert found[f]["bodies"]["velocity"][b, 2] == pytest.approx(wanted, abs=0.08), "but for what it rubs on"


def test_a_fallen_jar_is_gathered_whole_again(store):
    scene = Scene(Document(name="ball", start=1, end=30))
    ball = trimesh.creation.icosphere(2, 0.2)
    mesh = Mesh.from_triangles(ball.vertices + [0, 0.6, 0], ball.faces)
    subject = do.add_mesh(scene, mesh, "Ball")
    do.add_layer(scene, subject.id, "break", values={"count": 20})
    do.add_layer(scene, subject.id, "body", values={"each": "pieces", "density": 2000.0})
    gather = do.add_layer(scene, subject.id, "gather", values={"where": "home", "strength": 0.0})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    evaluator, _ = frames(scene, store, 30)
    subject = scene.doc.find(subject.id)
    fallen = evaluator.subject(subject, 30).points
    assert fallen[:, 1].min() > -0.005 and fallen[:, 1].max() < 0.35
    do.set_value(scene, gather.id, "strength", 1.0)
    evaluator = Evaluator(scene.doc, scene, store)
    again = evaluator.subject(scene.doc.find(subject.id), 30).points
    rest = evaluator.mesh(scene.doc.find(subject.id)).points
    assert again == pytest.approx(rest, abs=2e-6)  # places are kept in 32 bits
    assert Pieces.each(evaluator.mesh(scene.doc.find(subject.id))).count == 20


@pytest.mark.parametrize(("hertz", "ratio"), [(2.0, 0.3), (3.0, 1.0), (1.5, 2.0)])
def test_a_trailing_piece_answers_a_step_as_a_damped_oscillator(store, hertz, ratio):
    """Step response of x'' = w^2 (1 - x) - 2 z w x', by SciPy's solution of that equation from rest."""
    scene = Scene(Document(name="step", start=1, end=40))
    subject = do.add_mesh(scene, box([0, 0, 0], [0.2, 0.2, 0.2]), "Box")
    step = do.add_layer(scene, subject.id, "step", values={"y": 0.0, "turn_z": 0.0})
    for channel, far in (("y", 1.0), ("turn_z", 0.8)):
        do.set_key(scene, step.id, channel, 1, 0.0)
        do.set_key(scene, step.id, channel, 2, far)
        do.set_segment(scene, step.id, channel, 1, "linear")
    do.add_layer(scene, subject.id, "trail", values={"hertz": hertz, "ratio": ratio, "uneven": 0.0})
    evaluator, found = frames(scene, store, 40)
    w, dt = 2 * np.pi * hertz, 1 / 24
    target = lambda t: min(t / dt, 1.0)  # it takes one frame
    made = solve_ivp(
        lambda t, x: [x[1], w * w * (target(t) - x[0]) - 2 * ratio * w * x[1]], (0, 39 * dt), [0, 0],
        t_eval=np.arange(40) * dt, rtol=1e-9, atol=1e-11, max_step=dt / 4,
    )  # fmt: skip
    place = np.array([f["pieces"]["position"][0, 1] for f in found]) - 0.1
    assert place == pytest.approx(made.y[0], abs=2e-6)
    angle = np.array([2 * np.arctan2(f["pieces"]["turn"][0, 2], f["pieces"]["turn"][0, 3]) for f in found])
    assert angle == pytest.approx(0.8 * made.y[0], abs=2e-6)
    last = evaluator.subject(scene.doc.find(subject.id), 40).points
    assert np.linalg.norm(last[1] - last[0]) == pytest.approx(0.2, abs=1e-6)


def wall(raised=0.0):
    scene = Scene(Document(name="wall", start=1, end=48))
    subject = do.add_mesh(scene, box([-0.5, 0, -0.05], [0.5, 0.8, 0.05]), "Wall")
    do.set_value(scene, subject.id, "y", raised)
    cut = {"how": "bricks", "brick_x": 0.2, "brick_y": 0.1, "brick_z": 0.2, "jitter": 0.2}
    do.add_layer(scene, subject.id, "break", values=cut)
    do.add_layer(scene, subject.id, "body", values={"each": "pieces"})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    return scene, subject.id


def test_a_broken_wall_that_stands_does_not_stir_until_it_is_struck(store):
    scene, subject = wall()
    ball = trimesh.creation.icosphere(2, 0.12)
    thrown = do.add_mesh(scene, Mesh.from_triangles(ball.vertices + [0, 0.5, 2.0], ball.faces), "Ball")
    do.add_layer(scene, thrown.id, "body", values={"shape": "ball", "speed_z": -4.0, "speed_y": 1.5, "density": 3000.0})
    evaluator, found = frames(scene, store, 48)
    own = lambda f: next(
        found[f - 1]["bodies"].of(layer.id) for layer in scene.doc.find(subject).stack if layer.kind == "body"
    )
    first = own(1)["position"]
    struck = next(f for f in range(1, 49) if not np.array_equal(own(f)["position"], first))
    at = [f["bodies"].of(scene.doc.find(thrown.id).stack[0].id)["position"][0, 2] for f in found]
    assert 2 < struck and at[struck - 2] > 0.15 > at[struck - 1] - 0.06, (
        "it stirs in the frame in which the ball is there"
    )
    moved = np.linalg.norm(own(48)["position"] - first, axis=1)
    assert moved.max() > 0.3 and own(48)["position"][:, 1].min() > 0


def test_a_broken_wall_in_the_air_falls(store):
    scene, subject = wall(raised=0.5)
    _, found = frames(scene, store, 7)
    fallen = (found[0]["bodies"]["position"] - found[6]["bodies"]["position"])[:, 1]
    assert fallen == pytest.approx(np.full(len(fallen), 0.5 * G * (6 / 24) ** 2), rel=0.05)


@pytest.mark.parametrize("size", [0.1, 1.0])
def test_three_hundred_pieces_come_to_rest_and_stay(store, size):
    scene = Scene(Document(name="heap", start=1, end=120))
    half = 0.5 * size
    subject = do.add_mesh(scene, box([-half, 0.6 * half, -half], [half, 2.6 * half, half]), "Block")
    do.add_layer(scene, subject.id, "break", values={"count": 300})
    do.add_layer(scene, subject.id, "body", values={"each": "pieces"})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground", values={"friction": 0.6})
    evaluator, found = frames(scene, store, 120)
    place = np.array([f["bodies"]["position"] for f in found[-12:]])
    assert found[-1]["bodies"]["asleep"].all() and np.ptp(place, axis=0).max() == 0, "within 5 s, and then none creeps"
    run = evaluator.runs.every()[0]
    model = Model.of(evaluator.runs.inputs(run, 1))
    assert place[-1][:, 1].min() > 0.02 * model.smallest and place[-1][:, 1].max() < 1.6 * size
    pairs = found[-1].going[0].world.narrow_phase.contact_pairs() if found[-1].going else []
    if not pairs:  # from the store: as it was kept
        kept = next(f for f in reversed(found) if f.blob)
        import rapier3d as rp

        pairs = rp.PhysicsWorld.restore(kept.blob).narrow_phase.contact_pairs()
    deep = np.array([-c.dist for p in pairs if (c := p.find_deepest_contact()) is not None and c.dist < 0])
    assert deep.mean() < 0.01 and np.quantile(deep, 0.99) < 0.05 and deep.max() < 0.12, "of the smallest piece's size"
