"""Bodies of 3 mm to 30 m: they rest at their height, slide and roll by the laws of the incline, and fall through
nothing.

Laws of the incline: a = g (sin - friction cos) for what slides, 5/7 g sin for a full ball that rolls (any handbook of
mechanics). Meshes are trimesh's.
"""

import numpy as np
import pytest
import trimesh

from estampa import edits as do

from .test_bodies import RATE, G, body, middles, of_trimesh, pier, solved

SIZES = (0.003, 0.011, 0.3, 30.0)
SOLIDS = ("ball", "box", "capsule", "cylinder", "hull", "hulls")


def made(shape: str, size: float) -> trimesh.Trimesh:
    """A mesh of that size across whose shape the word fits."""
    if shape == "ball":
        return trimesh.creation.icosphere(3, size / 2)
    if shape == "capsule":
        lying = trimesh.creation.capsule(size, size / 4, count=(24, 24))
        lying.apply_translation(-lying.bounds.mean(axis=0))
        return lying.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [0, 1, 0]))
    if shape == "cylinder":
        return trimesh.creation.cylinder(size / 2, size, 32).apply_transform(
            trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0])
        )
    return trimesh.creation.box((size, 0.7 * size, 0.8 * size))


def slope(scene, angle: float, size: float, shape: str, friction: float, bounce: float = 0.0) -> np.ndarray:
    """A still slab that leans about Z; returns the turn (4, 4)."""
    turn = trimesh.transformations.rotation_matrix(angle, [0, 0, 1])
    slab = trimesh.creation.box((3.6 + 8 * size, 10 * size, 40 * size)).apply_translation((0, -5 * size, 0))
    body(
        scene,
        of_trimesh(slab.apply_transform(turn)),
        "Slope",
        moved="still",
        shape=shape,
        friction=friction,
        bounce=bounce,
    )
    return turn


@pytest.mark.parametrize("size", SIZES)
@pytest.mark.parametrize("ground", ["box", "hull", "mesh"])
def test_a_box_slides_down_by_the_law_whatever_its_size(store, size, ground):
    angle, friction = np.radians(30), 0.2
    pace = G * (np.sin(angle) - friction * np.cos(angle))
    last = max(25, int(RATE * np.sqrt(2 * size / pace)) + 1)  # until it has gone its own length
    scene = pier(last)
    turn = slope(scene, angle, size, ground, friction)
    crate = trimesh.creation.box((size, 0.6 * size, size)).apply_translation((0, 0.3 * size, 0)).apply_transform(turn)
    slid = body(scene, of_trimesh(crate), "Crate", shape="box", friction=friction, bounce=0.0)
    path = middles(solved(scene, store), slid)
    expected = 0.5 * pace * ((last - 1) / RATE) ** 2
    assert np.linalg.norm(path[-1] - path[0]) == pytest.approx(expected, rel=0.03)
    off = (path - path[0]) @ turn[:3, 1]
    assert np.abs(off).max() < 0.01 * size, "it neither sinks nor leaves the slope"


@pytest.mark.parametrize("size", SIZES)
def test_a_ball_rolls_down_by_the_law_whatever_its_size(store, size):
    angle = np.radians(13)
    scene = pier(25)
    turn = slope(scene, angle, size, "box", 0.8)
    round_ = trimesh.creation.icosphere(3, size / 2).apply_translation((0, size / 2, 0)).apply_transform(turn)
    rolled = body(scene, of_trimesh(round_), "Ball", shape="ball", friction=0.8, bounce=0.0, turn_damping=0.0)
    path = middles(solved(scene, store), rolled)
    assert np.linalg.norm(path[-1] - path[0]) == pytest.approx(0.5 * 5 / 7 * G * np.sin(angle), rel=0.03)


@pytest.mark.parametrize("size", SIZES)
@pytest.mark.parametrize("shape", SOLIDS)
@pytest.mark.parametrize("ground", ["hull", "box", "mesh"])
def test_what_is_set_down_rests_at_its_height(store, size, shape, ground):
    """On a still block, a fifth of its size off the middle, turned about all axes as it was modelled."""
    scene = pier(36)
    block = trimesh.creation.box((40 * size, 2 * size, 40 * size)).apply_translation((0, -size, 0))
    body(scene, of_trimesh(block), "Block", moved="still", shape=ground, bounce=0.0)
    thing = made(shape, size)
    low = thing.bounds[0][1]
    thing.apply_translation((0.2 * size, -low + 0.1 * size, 0.1 * size))
    set_down = body(scene, of_trimesh(thing), "Thing", shape=shape, bounce=0.0)
    evaluator = solved(scene, store)
    lowest = evaluator.subject(scene.doc.find(set_down), 36).points[:, 1].min()
    assert abs(lowest) < 0.01 * size, f"{lowest / size:.4f} of its size off the block"


@pytest.mark.parametrize("size", SIZES)
def test_a_small_ball_off_the_middle_of_a_block_does_not_fall_through(store, size):
    """An 11 mm ball 2 mm off the middle of a 12 x 39 x 40 mm block of one hull fell through it."""
    k = size / 0.011
    scene = pier(72)
    block = trimesh.creation.box(np.array([0.039, 0.012, 0.040]) * k).apply_translation((0, -0.006 * k, 0))
    body(scene, of_trimesh(block), "Block", moved="still", shape="hull", bounce=0.0)
    ball = trimesh.creation.icosphere(2, 0.0055 * k).apply_translation((0.002 * k, 0.0075 * k, 0))
    set_down = body(scene, of_trimesh(ball), "Ball", shape="hull", bounce=0.0)
    evaluator = solved(scene, store)
    lowest = [evaluator.subject(scene.doc.find(set_down), f).points[:, 1].min() for f in range(1, 73)]
    assert min(lowest) > -0.02 * size and abs(lowest[-1]) < 0.02 * size


@pytest.mark.parametrize("shape", ["box", "capsule", "cylinder"])
@pytest.mark.parametrize("modelled", [True, False])
def test_shapes_lie_along_the_body_and_not_along_the_world(store, shape, modelled):
    """Turned by 20 degrees as it was modelled, or as its subject stands: it comes to rest flat, not tilted for ever."""
    scene = pier(72, ground=0.5)
    thing = made(shape, 0.4)
    turn = trimesh.transformations.rotation_matrix(np.radians(20), [0, 0.3, 1])
    if modelled:
        thing.apply_transform(turn)
    subject = body(scene, of_trimesh(thing), "Thing", shape=shape, bounce=0.0)
    if not modelled:
        do.set_values(scene, subject, {"turn_z": np.radians(20)})
    do.set_value(scene, subject, "y", 0.4)
    evaluator = solved(scene, store)
    lowest = evaluator.subject(scene.doc.find(subject), 72).points[:, 1].min()
    assert abs(lowest) < 0.004


@pytest.mark.parametrize("shape", ["hull", "hulls", "box", "mesh"])
def test_nine_balls_in_a_moving_machine_stay_on_its_lifter(store, shape):
    """Balls of 11 mm in a shaft, on a driven slab of 8 mm that goes up, comes down and goes up again; 500 frames."""
    last, mm = 500, 0.001
    scene = pier(last)
    walls = (((-32, -20, -32), (-22, 120, 32)), ((22, -20, -32), (32, 120, 32)), ((-22, -20, -32), (22, 120, -22)),
             ((-22, -20, 22), (22, 120, 32)))  # fmt: skip
    for n, (low, high) in enumerate(walls):
        size, at = np.subtract(high, low) * mm, np.add(high, low) / 2 * mm
        made_ = trimesh.creation.box(size).apply_translation(at)
        body(scene, of_trimesh(made_), f"Wall {n}", moved="still", shape="box")
    slab = trimesh.creation.box(np.array([43, 8, 43]) * mm).apply_translation((0, -4 * mm, 0))
    lifter = body(scene, of_trimesh(slab), "Lifter", moved="driven", shape=shape)
    for frame, y in ((1, 0), (12, 0), (30, 60), (48, 60), (60, 20), (72, 70), (400, 70), (412, 10)):
        do.set_key(scene, lifter, "y", frame, y * mm)
    ball = trimesh.creation.icosphere(2, 5.5 * mm)
    for i in range(3):
        for j in range(3):
            at = np.array([-13 + 13 * i + 0.7 * j, 8 + 3 * j, -13 + 13 * j]) * mm
            body(scene, of_trimesh(ball.copy().apply_translation(at)), f"Ball {i}{j}", shape="ball", density=7800.0)
    evaluator = scene.evaluator(store)
    evaluator.solve_through(last)
    run = evaluator.runs.every()[0]
    place = np.array([store.frame(evaluator.runs.key(run, f))["bodies"]["position"][4:] for f in range(1, last + 1)])
    deep = place[:, :1, 1] + (4 + 5.5) * mm - place[:, 1:, 1]
    assert deep.max() < 0.01 * 11 * mm and np.abs(place[:, 1:][..., [0, 2]]).max() < (22 - 5.4) * mm
