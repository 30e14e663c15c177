"""Rigid bodies against the handbook: falling, sliding, rolling, hitting, standing; and what never may happen."""

import subprocess
import sys
import tempfile

import numpy as np
import pytest
import trimesh

from estampa import demo, save_scene
from estampa import edits as do
from estampa.edits import joints as build
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.mesh import Mesh
from estampa.geometry.pieces import Pieces, mass_of
from estampa.geometry.primitives import joined
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore

G = 9.80665  # m/s2, CGPM 1901
RATE = 24.0


def of_trimesh(made) -> Mesh:
    return Mesh.from_triangles(made.vertices, made.faces)


def ball(radius=0.1, at=(0, 0, 0)) -> Mesh:
    return of_trimesh(trimesh.creation.icosphere(3, radius).apply_translation(at))


def box(size=(0.4, 0.4, 0.4), at=(0, 0, 0)) -> Mesh:
    return of_trimesh(trimesh.creation.box(size).apply_translation(at))


def pier(frames=48, ground=None, gravity=G) -> Scene:
    """An empty scene with gravity, and a ground of this friction where one is given."""
    scene = Scene(Document(start=1, end=frames, frame_rate=RATE))
    do.add_thing(scene, "gravity", values={"pull": gravity})
    if ground is not None:
        do.add_thing(scene, "ground", values={"friction": ground})
    return scene


def body(scene, mesh, name="Body", **values) -> str:
    subject = do.add_mesh(scene, mesh, name)
    do.add_layer(scene, subject.id, "body", f"Body of {name}", values)
    return subject.id


def solved(scene, store, until=None):
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(until or scene.doc.end)
    return evaluator


def middles(evaluator, subject_id) -> np.ndarray:
    """(frames, 3) of a subject's middle."""
    doc = evaluator.doc
    subject, frames = doc.find(subject_id), range(doc.start, doc.end + 1)
    return np.array([evaluator.subject(subject, f).points.mean(axis=0) for f in frames])


# -- mass ----------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(
    ("mesh", "volume", "about"),
    [
        (trimesh.creation.box((1, 2, 3)), 6.0, (13 / 12, 10 / 12, 5 / 12)),  # m (b2 + c2) / 12
        (trimesh.creation.icosphere(5, 0.5), 4 / 3 * np.pi * 0.125, (0.1, 0.1, 0.1)),  # 2/5 m r2
        (trimesh.creation.cylinder(0.5, 2.0, 400), np.pi / 2, (0.0625 + 1 / 3, 0.0625 + 1 / 3, 0.125)),  # r2/4 + h2/12
    ],
)
def test_mass_properties_are_those_of_the_handbook(mesh, volume, about):
    found = mass_of(mesh.vertices + [3.0, -2.0, 1.0], mesh.faces)
    assert found.closed and found.volume == pytest.approx(volume, rel=2e-3)
    assert found.centre == pytest.approx([3, -2, 1], abs=1e-9)
    assert np.diag(found.inertia) / found.volume == pytest.approx(about, rel=3e-3)


def test_mass_properties_of_any_closed_mesh_are_those_of_trimesh_and_an_open_one_says_so():
    made = trimesh.creation.annulus(0.2, 0.5, 0.3).apply_transform(
        trimesh.transformations.rotation_matrix(0.7, [1, 2, 3])
    )
    found = mass_of(made.vertices, made.faces)
    assert found.volume == pytest.approx(made.volume, rel=1e-9) and found.centre == pytest.approx(made.center_mass)
    assert found.inertia == pytest.approx(made.moment_inertia, abs=1e-12)
    opened = mass_of(made.vertices, made.faces[2:])
    assert not opened.closed and opened.volume == pytest.approx(np.prod(np.ptp(made.vertices, axis=0)))


# -- motion --------------------------------------------------------------------------------------------------
def test_a_thrown_body_flies_a_parabola_and_turns_evenly(store):
    scene = pier(25)
    thrown = body(scene, box(), speed_x=3.0, speed_y=4.0, spin_y=2.0, turn_damping=0.0)
    path = middles(solved(scene, store), thrown)
    t = np.arange(25) / RATE
    assert path[:, 0] == pytest.approx(3 * t, abs=1e-4)
    # the inner step h falls behind by g t h / 2: 2 mm after a tenth of a second, 20 mm after one
    assert path[:, 1] == pytest.approx(4 * t - G * t**2 / 2, abs=G * t[-1] / RATE / 10 / 2 + 1e-3)
    rows = store.frame(Evaluator(scene.doc, scene, store).key(*Evaluator(scene.doc, scene, store).solvers()[0], 13))
    assert rows["bodies"]["spin"][0] == pytest.approx([0, 2, 0], abs=1e-4)


@pytest.mark.parametrize(("friction", "slides"), [(0.55, False), (0.45, True)])
def test_a_box_slides_just_past_the_angle_whose_tangent_is_the_friction(store, friction, slides):
    """Coulomb: it slides where tan(angle) exceeds the friction; a = g (sin - friction cos)."""
    angle = np.arctan(0.5)
    scene = pier(25)
    turn = trimesh.transformations.rotation_matrix(angle, [0, 0, 1])
    slope = of_trimesh(trimesh.creation.box((20, 0.2, 4)).apply_translation((0, -0.1, 0)).apply_transform(turn))
    body(scene, slope, "Slope", moved="still", shape="mesh", friction=friction, bounce=0.0)
    crate = of_trimesh(trimesh.creation.box((0.4, 0.2, 0.4)).apply_translation((0, 0.1005, 0)).apply_transform(turn))
    slid = body(scene, crate, "Crate", friction=friction, bounce=0.0)
    path = middles(solved(scene, store), slid)
    far = np.linalg.norm(path[-1] - path[0])
    expected = 0.5 * G * (np.sin(angle) - friction * np.cos(angle)) if slides else 0.0
    assert far == pytest.approx(expected, rel=0.08, abs=0.004)  # 8 % is half a percent of friction


def test_a_ball_rolls_down_without_slipping_at_five_sevenths(store):
    """a = 5/7 g sin(angle) for a full ball that does not slip; any handbook of mechanics."""
    angle = np.radians(10)
    scene = pier(25)
    turn = trimesh.transformations.rotation_matrix(angle, [0, 0, 1])
    slope = of_trimesh(trimesh.creation.box((20, 0.2, 4)).apply_translation((0, -0.1, 0)).apply_transform(turn))
    body(scene, slope, "Slope", moved="still", shape="hull", friction=0.8, bounce=0.0)
    at = turn[:3, :3] @ [0, 0.1, 0]
    rolled = body(scene, ball(0.1, at), "Ball", shape="ball", friction=0.8, bounce=0.0, turn_damping=0.0)
    path = middles(solved(scene, store), rolled)
    assert np.linalg.norm(path[-1] - path[0]) == pytest.approx(0.5 * 5 / 7 * G * np.sin(angle), rel=0.03)


@pytest.mark.parametrize("size", [0.011, 0.2, 30.0])
@pytest.mark.parametrize(
    ("bounce", "ground", "rule", "counts"),
    [
        (0.4, 0.0, "larger", 0.4), (1.0, 0.0, "larger", 1.0), (0.2, 0.7, "larger", 0.7), (1.0, 0.0, "mean", 0.5),
        (0.8, 0.5, "product", 0.4),
    ],
)  # fmt: skip
def test_a_ball_bounces_to_the_square_of_its_bounce(store, bounce, ground, rule, counts, size):
    """e2 h (Newton's law of restitution), from five times its size."""
    last = 2 + int(2.2 * np.sqrt(2 * 5 * size / G) * RATE * 2) if size > 1 else 48
    scene = pier(last, ground=0.5)
    do.set_value(scene, next(t.id for t in scene.doc.things if t.kind == "ground"), "bounce", ground)
    dropped = body(scene, ball(size / 2, (0, 5.5 * size, 0)), shape="ball", bounce=bounce)
    ensemble = next(t.id for t in scene.doc.things if t.kind == "bodies")
    do.set_values(scene, ensemble, {"bounces": rule, "substeps": 10 if size > 0.1 else 60})
    height = middles(solved(scene, store), dropped)[:, 1] - size / 2
    landed = int(np.argmax(height < 0.3 * size))
    if size > 0.1:
        assert height[landed + 1 :].max() == pytest.approx(counts**2 * 5 * size, abs=0.12 * size)
    else:  # between two frames it has bounced several times: it never rises higher than from where it fell
        assert height.max() <= 5 * size * 1.001


def test_two_balls_that_meet_head_on_keep_their_momentum_and_share_their_energy(store):
    """Elastic, equal masses: they swap speeds. Unequal: v = (m1 - m2) / (m1 + m2) u and 2 m1 / (m1 + m2) u."""
    for heavy in (1.0, 3.0):
        scene = pier(24, gravity=0.0)
        one = body(
            scene, ball(0.1, (-0.6, 0, 0)), "One", shape="ball", speed_x=2.0, bounce=1.0, mass=heavy, friction=0.0
        )
        two = body(scene, ball(0.1, (0, 0, 0)), "Two", shape="ball", bounce=1.0, mass=1.0, friction=0.0)
        evaluator = solved(scene, store)
        speed = [np.diff(middles(evaluator, s), axis=0)[-1, 0] * RATE for s in (one, two)]
        assert heavy * speed[0] + speed[1] == pytest.approx(2 * heavy, rel=1e-3), "momentum"
        assert speed[0] == pytest.approx((heavy - 1) / (heavy + 1) * 2, abs=0.06)
        assert speed[1] == pytest.approx(2 * heavy / (heavy + 1) * 2, abs=0.06)


def test_a_stack_of_ten_boxes_stands_for_ten_seconds(store):
    scene = pier(240, ground=0.6)
    boxes = [body(scene, box((0.3, 0.3, 0.3), (0, 0.15 + 0.3 * i, 0)), f"Box {i}", bounce=0.0) for i in range(10)]
    evaluator = solved(scene, store)
    for i, one in enumerate(boxes):
        path = middles(evaluator, one)
        assert np.abs(path[-1] - [0, 0.15 + 0.3 * i, 0]).max() < 0.01, f"box {i}"
        assert np.abs(path[-24:] - path[-1]).max() < 1e-4, "and it is still"


def test_a_driven_body_pushes_with_its_own_speed_and_lets_go_with_it(store):
    scene = pier(36, ground=0.0)
    pusher = body(scene, box((0.2, 0.4, 0.4), (-1, 0.2, 0)), "Pusher", moved="driven", bounce=0.0, friction=0.0)
    pushed = body(scene, box((0.4, 0.4, 0.4), (0, 0.2, 0)), "Pushed", bounce=0.0, friction=0.0)
    let_go = body(scene, box((0.2, 0.2, 0.2), (-1, 2, 3)), "Let go", begins="frame", at=13, turn_damping=0.0)
    for thing in (pusher, let_go):
        do.set_key(scene, thing, "x", 1, 0.0)
        do.set_key(scene, thing, "x", 25, 1.0)
        for frame in (1, 25):
            do.set_segment(scene, thing, "x", frame, "linear")
    evaluator = solved(scene, store)
    path = middles(evaluator, pushed)[:, 0]
    assert path[23] == pytest.approx(-1 + 23 / 24 + 0.3, abs=0.02), "0.1 + 0.2 m ahead of the pusher's middle"
    assert (path[30] - path[28]) * RATE / 2 == pytest.approx(1.0, abs=0.05), (
        "and goes on at the pusher's metre a second"
    )
    flown = middles(evaluator, let_go)
    assert flown[11, 1] == pytest.approx(2.0, abs=1e-6), "until frame 13 it follows the layers above"
    assert (flown[20, 0] - flown[16, 0]) * RATE / 4 == pytest.approx(1.0, abs=0.02), "then it flies on with their speed"
    assert flown[24, 1] - 2 == pytest.approx(-G * (12.5 / RATE) ** 2 / 2, rel=0.1)


def test_what_waits_to_be_touched_hangs_still_until_it_is(store):
    scene = pier(30)
    waits = body(scene, box((0.3, 0.3, 0.3), (0, 2, 0)), "Waits", begins="touched")
    body(scene, ball(0.1, (0, 3, 0)), "Falls", shape="ball")
    height = middles(solved(scene, store), waits)[:, 1]
    assert np.abs(height[:9] - 2).max() < 1e-6 and height[-1] < 1.5


def test_small_balls_stay_in_an_open_box_of_a_mesh(store):
    """20 balls of 11 mm, 500 frames."""
    scene = pier(500)
    tray = trimesh.creation.box((0.12, 0.08, 0.12))
    tray = Mesh.from_triangles(tray.vertices, tray.faces[np.abs(tray.face_normals[:, 1] - 1) > 1e-6])
    body(scene, tray, "Tray", moved="still", shape="mesh")
    places = [(0.02 * (i % 4 - 1.5), 0.02 * (i // 4), 0.02 * (i % 3 - 1)) for i in range(20)]
    marbles = body(scene, joined([ball(0.0055, p) for p in places]), "Marbles", each="pieces", shape="ball", bounce=0.4)
    evaluator = solved(scene, store)
    for frame in (60, 250, 500):
        points = evaluator.subject(scene.doc.find(marbles), frame).points
        assert points[:, 1].min() > -0.0405 and np.abs(points[:, [0, 2]]).max() < 0.0605, frame
    report = store.frame(evaluator.key(*evaluator.solvers()[0], 500))["report"]
    assert report["energy"][0] < 1e-7, "they have come to rest"


def test_a_light_thing_falls_no_faster_than_its_drag_allows_and_is_carried_by_the_wind(store):
    """Terminal speed sqrt(2 m g / (rho Cd A)); rho 1.225 kg/m3 (ISO 2533); of a cube the mean exposed area is a quarter
    of its surface (Cauchy)."""
    scene = pier(96)
    lantern = body(scene, box((0.3, 0.3, 0.3)), "Lantern", mass=0.05, drag=1.1)
    do.add_thing(scene, "wind", values={"speed": 3.0, "gustiness": 0.0, "turbulence": 0.0})
    terminal = np.sqrt(2 * 0.05 * G / (1.225 * 1.1 * 6 * 0.09 / 4))
    path = middles(solved(scene, store), lantern)
    assert np.diff(path[:, 2])[-1] * RATE == pytest.approx(3.0, rel=0.05), "it goes with the wind"
    assert -np.diff(path[:, 1])[-1] * RATE == pytest.approx(terminal, rel=0.05)


@pytest.mark.parametrize("size", [0.005, 0.05, 5.0, 100.0])
def test_bodies_of_any_size_stand_on_one_another_without_a_margin_to_set(store, size):
    scene = pier(72, ground=0.5)
    boxes = [body(scene, box((size,) * 3, (0, size * (0.5 + i), 0)), f"Box {i}", bounce=0.0) for i in range(3)]
    evaluator = solved(scene, store)
    for i, one in enumerate(boxes):
        path = middles(evaluator, one)
        assert np.abs(path[-1] - path[0]).max() < 0.02 * size, (i, np.abs(path[-1] - path[0]).max() / size)


def test_a_row_of_boards_falls_in_order_each_as_long_after_the_one_before():
    scene = demo.build("boards")
    with tempfile.TemporaryDirectory() as folder:
        evaluator = Evaluator(scene.doc, scene, FrameStore(folder))
        evaluator.solve_through(scene.doc.end)
        lean = {}
        for subject in scene.doc.subjects:
            if "oard " in subject.name:
                up = [_up(evaluator.subject(subject, f).points) for f in range(1, scene.doc.end + 1)]
                lean[subject.name] = np.degrees(np.arccos(np.clip(up, -1, 1)))
    fell = [int(np.argmax(lean[f"Board {i}"] > 30)) for i in range(1, 10)]
    assert all(lean[f"Board {i}"][-1] > 45 for i in range(1, 10)), "all of the light ones lie"
    gaps = np.diff(fell)
    assert (gaps > 0).all() and np.ptp(gaps[2:]) <= 3, f"one after another, evenly: {fell}"
    heavy = [lean[f"Weighted board {i}"] for i in range(1, 10)]
    assert heavy[0].max() > 5 and all(h[-1] < 2 for h in heavy), "the heavy ones wobble and stand"


def _up(points) -> float:
    """Cosine between a board's height and the vertical: its foot has the first eight vertices."""
    way = points[8:].mean(axis=0) - points[:8].mean(axis=0)
    return float(way[1] / np.linalg.norm(way))


def test_a_strand_is_pushed_aside_by_a_body_that_falls_past_it(store):
    """One way: the strand meets the body's mesh as it is solved."""
    scene = pier(30)
    weight = body(scene, ball(0.15, (0.1, 1.2, 0.0)), "Weight", shape="ball")
    rope = build.add_skeleton(scene, [build.straight([0, 0.6, 0], [0, -0.6, 0], 12)])
    do.add_layer(scene, rope.id, "chain")
    free = solved(scene, store).poses.world(scene.doc.find(rope.id), 16)[:, 0, 3]
    do.add_thing(scene, "collider", values={"shape": "mesh", "subject": weight})
    evaluator = solved(scene, store)
    aside = min(evaluator.poses.world(scene.doc.find(rope.id), f)[:, 0, 3].min() for f in range(6, 24))
    assert aside < free.min() - 0.02
    # what the strand meets feels nothing of it, so that a ring would be made by letting the body meet its own collider
    with pytest.raises(EstampaError, match="ring"):
        do.set_on(scene, weight, True)
        scene.apply("Feel", _feeling_itself(scene, weight))


def _feeling_itself(scene, weight):
    """The document with the falling body riding on the very strand that it pushes."""
    joint = next(t for t in scene.doc.things if t.kind == "skeleton").joints[2].id
    subject = scene.doc.find(weight)
    return scene.doc.replace(subject.with_(values={**subject.values, "parent": joint}))


# -- what must hold ----------------------------------------------------------------------------------------
def pile() -> Scene:
    scene = pier(30, ground=0.5)
    places = [(0.21 * (i % 3) + 0.02 * i, 0.3 + 0.25 * i, 0.1 * (i % 2)) for i in range(8)]
    body(scene, joined([box((0.2, 0.2, 0.2), p) for p in places]), "Pile", each="pieces")
    return scene


def test_going_on_from_the_store_in_another_process_gives_the_same_bits(tmp_path):
    scene = pile()
    whole, split = FrameStore(tmp_path / "whole"), FrameStore(tmp_path / "split")
    evaluator = solved(scene, whole)
    solved(scene, split, 20)
    path = save_scene(scene, tmp_path / "pile.estampa")
    words = f"""
import estampa
from estampa.store.frames import FrameStore
scene = estampa.open_scene({str(path)!r})
print(scene.evaluator(FrameStore({str(tmp_path / "split")!r})).solve_through(30))
"""
    made = subprocess.run([sys.executable, "-c", words], capture_output=True, text=True, check=True).stdout
    assert made.strip() == "10", "the frames that were there are not solved again"
    key = evaluator.key(*evaluator.solvers()[0], 30)
    for column, values in whole.frame(key)["bodies"].columns.items():
        assert np.array_equal(FrameStore(tmp_path / "split").frame(key)["bodies"][column], values), column


def test_bodies_are_named_by_what_they_are_and_their_order_stales_nothing(store):
    scene = pile()
    body(scene, ball(0.1, (3, 1, 0)), "Other", shape="ball")
    evaluator = solved(scene, store)
    key = evaluator.key(*evaluator.solvers()[0], 30)
    ids = store.frame(key)["bodies"].ids
    assert (np.diff(ids) > 0).all()
    things = scene.doc.things
    scene.apply("Reorder", scene.doc.with_(things=(things[-1], *things[:-1])))
    again = Evaluator(scene.doc, scene, store)
    assert again.key(*again.solvers()[-1], 30) == key and again.solve_through(30) == 0
    pieces = Pieces.each(scene.mesh(scene.doc.subjects[-1].mesh))
    assert pieces.count in (1, 8)


def test_an_ensemble_twice_in_one_stack_is_refused_by_name_at_the_edit(store):
    scene = pier(4)
    one = body(scene, box(), "One")
    with pytest.raises(EstampaError, match="makes a ring: Bodies → Bodies"):
        do.add_layer(scene, one, "body", "Again")
    layer = do.add_layer(scene, one, "cloth", "Between")
    two = do.add_mesh(scene, box(at=(3, 0, 0)), "Two")
    do.add_layer(scene, two.id, "cloth", "First")
    do.add_layer(scene, two.id, "body", "Then")
    assert solved(scene, store).solve_through(4) == 0, "a cloth above a body, and one below, are solved in turn"
    with pytest.raises(EstampaError, match="ring: Bodies → Between → Bodies|ring: Between → Bodies → Between"):
        do.add_layer(scene, one, "body", "Again")
    assert scene.doc.find(layer.id) is not None


def test_bad_bodies_are_refused_in_words_or_survived(store):
    scene = pier(6, ground=0.5)
    flat = Mesh.from_triangles([[0, 0, 0], [1, 0, 0], [0, 0, 1], [1, 0, 1]], [[0, 1, 2], [2, 1, 3]])
    body(scene, Mesh(flat.points + [0, 1, 0], flat.face_counts, flat.face_indices), "Card")
    one = body(scene, box(at=(5, 0.2, 0)), "One")
    body(scene, box(at=(5.05, 0.25, 0)), "Inside it")
    body(scene, ball(0.1, (9, 5, 0)), "Heavy", mass=1e6, shape="ball")
    points = solved(scene, store).subject(scene.doc.find(one), 6).points
    assert np.isfinite(points).all() and np.abs(points - [5, 0.2, 0]).max() < 0.6, "pushed apart, and not thrown"
    # an ensemble that is gone: its members do nothing, and are not in the way
    gone = next(t for t in scene.doc.things if t.kind == "bodies")
    do.remove(scene, gone.id)
    again = Evaluator(scene.doc, scene, store)
    assert again.solvers() == [] and again.subject(scene.doc.find(one), 6).is_current
    with pytest.raises(EstampaError, match="have no body"):
        from estampa.solve.bodies import Bodies
        from estampa.solve.ensemble import EnsembleInputs

        Bodies().start(EnsembleInputs((), None, None, 1, 1))


def test_what_one_body_does_is_not_taken_for_what_another_does(store):
    """Many are solved by one key; each has its own shape, its own name and its own lane."""
    scene = pier(12)
    one = body(scene, box(at=(0, 1, 0)), "One", speed_x=1.0)
    two = body(scene, box(at=(0, 1, 2)), "Two", speed_x=-2.0)
    for thing in (one, two):
        do.add_layer(scene, thing, "offset", values={"y": 0.25})
    evaluator = solved(scene, store)
    things = [scene.doc.find(t) for t in (one, two)]
    shapes = [evaluator.subject(t, 12) for t in things]
    assert shapes[0].digest != shapes[1].digest and shapes[0].is_current
    middle = [s.points.mean(axis=0) for s in shapes]
    assert middle[0][0] == pytest.approx(11 / 24, abs=1e-3) and middle[1][0] == pytest.approx(-22 / 24, abs=1e-3)
    far = [evaluator.travel_of(t, t.stack[0], 12)[1] for t in things]
    assert far[1] > far[0] + 0.2
