"""Copies, staggers, zones and rows: what each copy does, and that identical work is done once."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from estampa import edits as do
from estampa.edits import rig
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import box, joined, sheet, tube
from estampa.geometry.scatter import scatter
from estampa.motion.bend import Bend
from estampa.motion.remesh import Counts
from estampa.press.takes import MESH
from estampa.scene.curves import Curve, Key
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore
from tests.conftest import named


def stem(x=0.0):
    return tube(np.stack([np.full(20, x), np.linspace(0, 1, 20), np.zeros(20)], axis=1), np.full(20, 0.02), 6)


@pytest.fixture
def bed():
    scene = Scene(Document(name="bed", start=1, end=48))
    plant = do.add_mesh(scene, joined([stem(0.0), stem(0.2)]), "Plant")
    return scene, plant.id


def copies(scene, **values):
    return do.add_thing(scene, "copies", "Bed", values)


def shown(scene, frame, name="Bed"):
    return Evaluator(scene.doc, scene, None).copies(named(scene, name), frame)


def test_a_stagger_plays_the_same_curve_later_in_each_copy(bed):
    scene, plant = bed
    turn = Curve(keys=(Key(frame=1, value=0.0, segment="linear"), Key(frame=25, value=np.pi)))
    do.set_curve(scene, plant, "turn_z", turn, "Turn")
    copies(scene, subject=plant, arrange="line", count=5, step_x=2.0, stagger=4.0)
    found = shown(scene, 13)
    for i in range(5):
        expected = turn.at(13 - 4 * i)
        assert np.allclose(found.places.axes[i], Rotation.from_euler("Z", expected).as_matrix()), i
        assert np.allclose(found.places.origin[i], [2.0 * i, 0, 0])
    assert found.alike, "a rigid subject has one shape for all its copies"
    do.set_value(scene, named(scene, "Bed").id, "length", 2.0)  # the last takes twice as long
    assert np.allclose(
        shown(scene, 25).places.axes[4], Rotation.from_euler("Z", turn.at(1 + (24 - 16) / 2)).as_matrix()
    )


@pytest.mark.parametrize("order", ["index", "x", "seed", "grip"])
def test_copies_come_in_the_order_that_is_asked_for(bed, order):
    scene, plant = bed
    near = do.add_thing(scene, "grip", "Near", {"x": 4.0}).id
    copies(scene, subject=plant, count=6, step_x=1.0, stagger=1.0, order=order, near=near)
    evaluator = Evaluator(scene.doc, scene, None)
    delay = 10 - evaluator.stage.many(named(scene, "Bed"), scene.doc.find(plant), 10).rows.frames
    assert sorted(delay) == list(range(6))
    expected = {"index": range(6), "x": range(6), "grip": [5, 4, 3, 1, 0, 2]}.get(order)
    if expected is not None:
        assert list(delay) == list(expected)
    else:
        assert list(delay) != list(range(6))


def test_a_grip_rides_along_keeps_its_heading_or_stands_in_the_world(bed):
    scene, plant = bed
    grip = do.add_thing(scene, "grip", "Lean").id
    lean = do.add_layer(scene, plant, "bend", values={"grip": grip, "angle": 0.8}).id
    copies(scene, subject=plant, arrange="hand")
    spots = [(0.0, 0, 0, 0.0, 1.0), (3.0, 0, 0, np.pi / 2, 1.0), (6.0, 0, 0, np.pi, 0.5)]
    do.set_spots(scene, named(scene, "Bed").id, spots, "Spots")
    tips = lambda: shown(scene, 1).points()[:, 19 * 6 : 20 * 6].mean(axis=1) - np.array([s[:3] for s in spots])
    rides = tips()
    assert np.allclose(rides[1], Rotation.from_euler("Y", np.pi / 2).apply(rides[0]), atol=1e-9)
    assert np.allclose(rides[2], 0.5 * Rotation.from_euler("Y", np.pi).apply(rides[0]), atol=1e-9)
    do.set_value(scene, grip, "copies", "heading")
    heading = tips()
    assert (heading[:, 2] > 0.1).all(), "all lean the way of the wind, whatever way they are turned"
    do.set_value(scene, grip, "copies", "world")
    do.set_value(scene, grip, "x", 3.0)
    assert np.allclose(tips()[1], heading[1], atol=1e-9)
    do.set_value(scene, lean, "angle", 0.0)
    assert np.allclose(tips()[2], [0, 0.5, 0], atol=1e-9)


def test_identical_work_is_done_once(bed, monkeypatch):
    scene, plant = bed
    do.add_layer(scene, plant, "bend", values={"angle": 0.5})
    do.add_layer(scene, plant, "sway")
    copies(scene, subject=plant, count=40)
    rows = []
    real = Bend.apply
    monkeypatch.setattr(
        Bend, "apply", lambda self, points, v, now: (rows.append(len(points)), real(self, points, v, now))[1]
    )
    assert shown(scene, 3).alike and rows == [1], "forty copies in step share one shape"
    do.set_value(scene, named(scene, "Bed").id, "stagger", 1.0)
    assert not shown(scene, 4).alike and rows == [1], (
        "the bend reads the same in all of them: it is not worked out again"
    )
    assert len(shown(scene, 4).shape.points) == 40


def test_copies_of_a_solved_subject_show_its_frames_later(flag, tmp_path):
    store = FrameStore(tmp_path)
    subject = named(flag, "Flag")
    Evaluator(flag.doc, flag, store).solve_through(12)
    do.add_thing(flag, "copies", "Fleet", {"subject": subject.id, "count": 3, "step_x": 0.0, "stagger": 4.0})
    evaluator = Evaluator(flag.doc, flag, store)
    fleet = evaluator.copies(named(flag, "Fleet"), 11)
    for i, frame in enumerate((11, 7, 3)):
        assert np.allclose(fleet.points()[i], evaluator.subject(subject, frame).points, atol=1e-6)


def test_scatter_has_the_set_density_and_keeps_apart():
    ground = sheet(10, 8, 11, 9)
    for density in (0.5, 3.0, 12.0):
        at, up = scatter(ground, ground.points, density, 0.0, 3, 20_000)
        assert len(at) == round(80 * density) and np.allclose(up, [0, 1, 0])
        quarters = np.histogram2d(at[:, 0], at[:, 2], bins=2, range=[[0, 10], [0, 8]])[0]
        assert quarters.max() / quarters.min() < 1.6
    few, _ = scatter(ground, ground.points, 3.0, 0.0, 3, 20_000)
    many, _ = scatter(ground, ground.points, 3.5, 0.0, 3, 20_000)
    assert np.allclose(few, many[: len(few)]), "more plants come between those that are there"
    apart, _ = scatter(ground, ground.points, 6.0, 0.4, 3, 20_000)
    gaps = np.linalg.norm(apart[:, None] - apart[None], axis=2) + 9 * np.eye(len(apart))
    assert gaps.min() >= 0.4 and len(apart) > 100


def test_copies_scattered_and_then_by_hand_stand_where_they_stood(bed):
    scene, plant = bed
    ground = do.add_mesh(scene, sheet(4, 4, 5, 5), "Ground")
    copies(scene, subject=plant, arrange="scatter", ground=ground.id, density=2.0, spin=3.0, sizes=0.3)
    before = shown(scene, 1).points()
    assert len(before) == 32
    rig.by_hand(scene, named(scene, "Bed").id)
    assert np.allclose(shown(scene, 1).points(), before, atol=1e-9)
    do.add_thing(
        scene, "copies", "Too many", {"subject": plant, "arrange": "scatter", "ground": ground.id, "density": 1e9}
    )
    assert len(shown(scene, 1, "Too many").places.origin) == 20_000


def test_zones_scale_what_reads_them_and_are_combined(bed):
    scene, plant = bed
    do.add_layer(scene, plant, "offset", "Lift", {"x": 1.0, "y": 0.0})
    zone = do.add_thing(scene, "zone", "Ball", {"y": 1.0, "reach": 0.5, "soft": 0.0}).id
    other = do.add_thing(scene, "zone", "Below", {"shape": "half", "y": 0.3, "reach": 0.2, "soft": 0.0}).id
    do.set_value(scene, named(scene, "Lift").id, "zone", zone)
    rest = scene.mesh(scene.doc.find(plant).mesh).points
    moved = lambda: np.abs(scene.evaluate(1)["Plant"] - rest)[:, 0]
    inside = np.linalg.norm(rest - [0, 1, 0], axis=1) <= 0.5
    assert np.allclose(moved(), inside)
    do.set_values(scene, zone, {"other": other, "how": "add"})
    assert np.allclose(moved(), inside | (rest[:, 1] <= 0.3))
    do.set_value(scene, zone, "how", "multiply")
    assert not moved().any()
    do.set_values(scene, zone, {"other": None, "invert": True})
    assert np.allclose(moved(), ~inside)
    do.set_values(scene, zone, {"invert": False, "soft": 1.0})
    weights = moved()
    away = np.linalg.norm(rest - [0, 1, 0], axis=1)
    assert ((weights > 0) & (weights < 1)).any() and weights[away.argmin()] == weights.max()
    with pytest.raises(EstampaError, match="ring"):
        do.set_value(scene, other, "other", zone)
        do.set_value(scene, zone, "other", other)


def test_layers_that_change_topology_carry_maps_and_keep_the_order_of_the_others(bed):
    scene, plant = bed
    mesh = scene.mesh(scene.doc.find(plant).mesh)
    weights = do.add_map(scene, plant, (mesh.islands == 0).astype(float), "First")
    do.add_layer(scene, plant, "thicken", values={"thickness": 0.01})
    do.add_layer(scene, plant, "refine", values={"levels": 1})
    do.add_layer(scene, plant, "offset", "Lift", {"x": 1.0, "y": 0.0, "map": weights.id})
    points = scene.evaluate(1)["Plant"]
    subject = scene.doc.find(plant)
    evaluator = Evaluator(scene.doc, scene, None)
    finer = evaluator.mesh(subject)
    assert len(points) == finer.count > 4 * mesh.count
    carried = evaluator.topology.map_weights(subject, subject.maps[0])
    assert set(np.unique(carried)) == {0.0, 1.0} and carried.mean() == pytest.approx(0.5, abs=0.02)
    assert finer.open_edges == 0, "thickening closes the borders"


def test_morphs_add_up_and_another_mesh_is_refused(bed):
    scene, plant = bed
    rest = scene.mesh(scene.doc.find(plant).mesh).points
    up, out = (do.add_target(scene, plant, rest + by, n) for by, n in (([0, 1, 0], "Up"), ([1, 0, 0], "Out")))
    for target, weight in ((up, 0.5), (out, 0.25)):
        do.add_layer(scene, plant, "morph", values={"target": target.id, "weight": weight})
    assert np.allclose(scene.evaluate(1)["Plant"], rest + [0.25, 0.5, 0])
    with pytest.raises(EstampaError, match="has 5 vertices, and Plant has 240"):
        do.add_target(scene, plant, rest[:5], "Other")


def test_refining_too_much_says_the_memory_and_a_bad_mesh_its_edges(bed):
    scene, plant = bed
    wide = do.add_mesh(scene, sheet(1, 1, 150, 150), "Wide").id
    do.add_layer(scene, wide, "refine", values={"levels": 6})
    with pytest.raises(EstampaError, match=r"would make .* faces, which take about [\d.]+ GB"):
        Evaluator(scene.doc, scene, None).subject(scene.doc.find(wide), 1)
    fan = sheet(1, 1, 2, 2)
    crowded = joined([fan, fan, fan]).welded()
    bad = do.add_mesh(scene, crowded, "Fin").id
    do.add_layer(scene, bad, "refine")
    with pytest.raises(EstampaError, match="shared by more than two faces"):
        Evaluator(scene.doc, scene, None).subject(scene.doc.find(bad), 1)


def test_maps_by_island_keep_neighbours_apart_and_layers_differ_by_seed():
    scene = Scene()
    turn = 2 * np.pi * np.arange(9) / 9
    plant = do.add_mesh(
        scene,
        joined([box([np.sin(a) - 0.1, 0, np.cos(a) - 0.1], [np.sin(a) + 0.1, 1, np.cos(a) + 0.1]) for a in turn]),
        "Ring",
    )
    groups = rig.island_groups(scene.mesh(plant.mesh), 3)
    assert sorted(np.concatenate(groups)) == list(range(9)) and all(len(g) == 3 for g in groups)
    for group in groups:
        gaps = np.diff(sorted(turn[group]))
        assert (gaps > 1.9).all(), "islands of a map lie opposite each other"
    maps = rig.maps_by_island(scene, plant.id, 3)
    layers = rig.layer_by_map(scene, plant.id, "sway", [m.id for m in maps], None, {"angle": 0.1}, 0.5, 1)
    values = lambda name: [scene.doc.find(l.id).value(name) for l in layers]
    assert len(set(values("angle"))) == 3 and all(0.05 <= a <= 0.15 for a in values("angle"))
    before = values("phase")
    rig.make_different(scene, [l.id for l in layers], 0.5, 2)
    assert values("phase") != before
    scene.undo()
    assert values("phase") == before


@pytest.mark.parametrize("scheme", ["auto", "loop", "clark"])
def test_the_size_of_a_new_topology_is_known_without_making_it(scheme):
    scene = Scene()
    mat = do.add_mesh(scene, sheet(1, 1, 6, 5), "Mat")
    do.add_layer(scene, mat.id, "thicken", "Thick")
    do.add_layer(scene, mat.id, "refine", values={"levels": 2, "scheme": scheme})
    for edges in (True, False):
        do.set_value(scene, named(scene, "Thick").id, "edges", edges)
        subject = scene.doc.find(mat.id)
        made = Counts.of(Evaluator(scene.doc, scene, None).mesh(subject))
        printed = do.add_thing(scene, "vertex_cache")
        assert MESH.size(scene, scene.doc, printed, subject) == (made.vertices, made.triangles)


def test_copies_stand_in_a_ring_on_a_grid_and_along_a_path(bed):
    scene, plant = bed
    copies(scene, subject=plant, arrange="ring", count=8, radius=3.0, face=True)
    bed_id = named(scene, "Bed").id
    ring = shown(scene, 1).places
    assert np.allclose(np.linalg.norm(ring.origin, axis=1), 3) and np.allclose(ring.origin.mean(axis=0), 0)
    assert np.allclose(ring.axes[:, :, 2], ring.origin / 3), "each is turned to the outside"
    do.set_values(
        scene, bed_id, {"arrange": "grid", "count": 7, "columns": 3, "step_x": 2.0, "step_z": 1.5, "face": False}
    )
    grid = shown(scene, 1).places.origin
    assert np.allclose(grid[4], [2, 0, 1.5]) and np.allclose(grid[6], [0, 0, 3])
    way = do.add_thing(scene, "path", "Way", spots=((0, 0, 0), (4, 0, 0), (8, 0, 0)))
    do.set_values(scene, bed_id, {"arrange": "path", "count": 5, "path": way.id, "face": True})
    walk = shown(scene, 1).places
    assert np.allclose(walk.origin, [[x, 0, 0] for x in (0, 2, 4, 6, 8)], atol=1e-9)
    assert np.allclose(walk.axes[:, :, 2], [1, 0, 0])
    do.set_spots(scene, way.id, [(0, 0, 0), (0, 0, 0)], "No length")
    assert len(shown(scene, 1).places.origin) == 0


@pytest.mark.parametrize("shape", ["slab", "path"])
def test_a_zone_is_full_in_its_core_and_fades_to_its_edge(shape):
    scene = Scene()
    line = sheet(4, 1, 401, 2)
    subject = do.add_mesh(scene, line, "Line")
    way = do.add_thing(scene, "path", "Way", spots=((2, 0, -1), (2, 0, 2)))
    values = {"shape": shape, "reach": 1.0, "soft": 0.5, "path": way.id}
    values |= {"x": 2.0, "turn_z": np.pi / 2} if shape == "slab" else {}
    zone = do.add_thing(scene, "zone", "Zone", values)
    do.add_layer(scene, subject.id, "offset", values={"y": 1.0, "zone": zone.id})
    lifted = scene.evaluate(1)["Line"][:401, 1]
    away = np.abs(line.points[:401, 0] - 2)
    assert np.allclose(lifted[away <= 0.5], 1) and not lifted[away >= 1].any()
    edge = (away > 0.5) & (away < 1)
    assert (np.diff(lifted[edge & (line.points[:401, 0] > 2)]) < 0).all()
