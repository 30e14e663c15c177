"""Liquids: pressure, volume, flow and drops against handbook formulas and a published experiment; fills and skins
against geometry packages."""

import numpy as np
import pytest
import trimesh
from scipy.optimize import curve_fit
from scipy.spatial import ConvexHull, cKDTree

from estampa import edits as do
from estampa.edits import liquids
from estampa.errors import EstampaError
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.evaluate.live import Live
from estampa.fields.force import Pool
from estampa.geometry.mesh import Mesh
from estampa.geometry.skin import LEVEL, covered, cut, smoothed
from estampa.scene.document import Document
from estampa.scene.ids import ids_of
from estampa.scene.scene import Scene
from estampa.solve.cloth.dipped import _borne
from estampa.solve.liquid import weights

G, RATE, S = 9.80665, 24, 0.02


@pytest.fixture(autouse=True)
def same_ids():
    with ids_of("liquids"):
        yield


def liquid(end=24, rate=RATE, **values):
    """(scene, liquid) with nothing in it."""
    scene = Scene(Document(start=1, end=end, frame_rate=rate))
    return scene, do.add_thing(scene, "liquid", values={"spacing": S} | values).id


def box(scene, liquid, size, at=(0, 0, 0), **values):
    """Fill a box about a place."""
    grip = do.add_thing(scene, "grip", values=dict(zip("xyz", map(float, at), strict=True)))
    own = dict(zip(("wide", "tall", "deep"), map(float, size), strict=True))
    return do.add_layer(scene, liquid, "fill", values={"where": "box", "around": grip.id} | own | values).id


def tank(scene, wide, deep):
    """Gravity, a floor at 0, and four walls about the middle."""
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground", values={"height": 0.0})
    for x, turn in ((-wide / 2, -np.pi / 2), (wide / 2, np.pi / 2)):
        do.add_thing(scene, "collider", values={"shape": "plane", "x": x, "turn_z": turn})
    for z, turn in ((-deep / 2, np.pi / 2), (deep / 2, -np.pi / 2)):
        do.add_thing(scene, "collider", values={"shape": "plane", "z": z, "turn_x": turn})


def solved(scene, store, last=None):
    evaluator, last = Evaluator(scene.doc, scene, store), last or scene.doc.end
    evaluator.solve_through(last)
    run = evaluator.runs.every()[0]
    return evaluator, [store.frame(evaluator.runs.key(run, f)) for f in range(1, last + 1)]


def test_the_weight_and_its_walls_hold_together():
    q = np.linspace(0, 1, 20001)
    assert np.trapezoid(weights.weight(q) * 4 * np.pi * q**2, q) == pytest.approx(1, abs=1e-6)
    assert np.gradient(weights.weight(q), q)[1:-1] == pytest.approx(weights.slope(q)[1:-1], abs=2e-3)
    beyond, slope = weights.walls().T
    assert beyond[0] == pytest.approx(0.5, abs=1e-6) and beyond[-1] == 0
    # by chance: the share of the weight beyond a plane, by points in the ball
    rng = np.random.default_rng(1)
    p = rng.uniform(-1, 1, (1_500_000, 3))
    w = weights.weight(np.linalg.norm(p, axis=1)) * (np.linalg.norm(p, axis=1) < 1)
    for k in (40, 128, 200):
        assert w[p[:, 0] > k / 256].sum() / w.sum() == pytest.approx(beyond[k], abs=0.006)
    assert np.gradient(beyond, 1 / 256)[5:-5] == pytest.approx(slope[5:-5], abs=5e-3)


@pytest.mark.slow
def test_a_column_stands_at_rest_under_the_pressure_of_its_height(store):
    scene, made = liquid(end=44)
    tank(scene, 0.24, 0.24)
    box(scene, made, (0.24, 0.5, 0.24), (0, 0.25, 0))
    _, found = solved(scene, store)
    grains, report = found[-1]["grains"], found[-1]["report"]
    place = grains["position"]
    top = np.sort(place[:, 1])[-144:].mean() + S / 2
    assert top == pytest.approx(0.5, rel=0.01), "its volume is kept"
    middle = (np.abs(place[:, 0]) < 0.06) & (np.abs(place[:, 2]) < 0.06)
    for low in np.arange(0.06, 0.4, 0.06):  # p = rho g h
        here = middle & (place[:, 1] >= low) & (place[:, 1] < low + 0.04)
        assert grains["pressure"][here].mean() == pytest.approx(1000 * G * (top - place[here, 1].mean()), rel=0.05)
    assert report["energy"][0] < 0.01 * 72 * G * 0.25 and report["escaped"][0] == 0


@pytest.mark.slow
def test_a_dam_breaks_as_in_the_experiment(store):
    """Martin and Moyce 1952, "An experimental study of the collapse of liquid columns on a rigid horizontal plane":
    the front of a column twice as high as wide (values from memory, of n^2 = 2)."""
    a, fine = 0.2, 0.0143
    scene, made = liquid(end=20, rate=48, spacing=fine)
    tank(scene, 2.0, 0.1)
    box(scene, made, (a, 2 * a, 0.1), (-1 + a / 2, a, 0))
    _, found = solved(scene, store)
    front = [(np.sort(f["grains"]["position"][:, 0])[-8:].mean() + fine / 2 + 1) / a for f in found]
    time = np.arange(20) / 48 * np.sqrt(2 * G / a)
    seen = np.array([[1.19, 1.44], [1.43, 1.67], [1.63, 1.89], [1.83, 2.11], [1.98, 2.33], [2.20, 2.56], [2.32, 2.78],
                     [2.51, 3.00], [2.65, 3.22], [2.83, 3.44]])  # fmt: skip
    assert np.interp(seen[:, 0], time, front) == pytest.approx(seen[:, 1], rel=0.1)


@pytest.mark.slow
def test_a_tank_sloshes_in_its_period(store):
    """Linear theory: w^2 = g k tanh(k h), k = pi / L, within what the height of the wave adds."""
    long, deep = 0.8, 0.24
    scene, made = liquid(end=72)
    tank(scene, long, 0.08)
    box(scene, made, (long, deep, 0.08), (0, deep / 2, 0))
    box(scene, made, (long / 2, 0.04, 0.08), (-long / 4, deep + 0.02, 0))
    _, found = solved(scene, store)
    middle = np.array([f["grains"]["position"][:, 0].mean() for f in found])
    k, t = np.pi / long, np.arange(72) / RATE
    period = 2 * np.pi / np.sqrt(G * k * np.tanh(k * (deep + 0.02)))
    wave = lambda t, a, w, d, c, p: a * np.exp(-d * t) * np.cos(w * t + p) + c
    fit, _ = curve_fit(wave, t[6:], middle[6:], [middle[0], 2 * np.pi / period, 0.3, 0, 0])
    assert 2 * np.pi / fit[1] == pytest.approx(period, rel=0.08)


def test_without_walls_momentum_is_kept_and_nothing_goes_faster(store):
    scene, made = liquid(end=16, spacing=0.03, tension=0.5, viscosity=0.05)
    box(scene, made, (0.3, 0.3, 0.3), (-0.25, 0, 0), speed_x=1.0)
    box(scene, made, (0.3, 0.3, 0.3), (0.25, 0, 0), speed_x=-0.5)
    _, found = solved(scene, store)
    for frame in found[::5]:
        assert frame["grains"]["velocity"].mean(axis=0) == pytest.approx([0.25, 0, 0], abs=2e-6)
    energy = [f["report"]["energy"][0] for f in found]
    assert energy[-1] < energy[0] and max(energy) < 1.02 * energy[0]
    assert found[-1]["report"]["volume"][0] == pytest.approx(2 * 0.3**3)


@pytest.mark.slow
def test_a_drop_is_round_and_swings_as_rayleigh_says(store):
    """Rayleigh 1879: the lowest mode of a drop, w^2 = 8 sigma / (rho R^3); and the drop ends round."""
    ball = trimesh.creation.icosphere(3, 0.12)
    shape = ball.vertices * [1.25, 1.25**-0.5, 1.25**-0.5]
    scene, made = liquid(end=130, tension=4.0, viscosity=0.0)
    egg = do.add_mesh(scene, Mesh.from_triangles(shape, ball.faces), "Egg")
    do.add_layer(scene, made, "fill", values={"on": egg.id})
    _, found = solved(scene, store)
    spread = np.array([f["grains"]["position"].astype(float).var(axis=0) for f in found])
    off = (spread[:, 0] - spread[:, 1:].mean(axis=1)) / spread.mean(axis=1)
    radius = (3 * len(found[0]["grains"]) * S**3 / 4 / np.pi) ** (1 / 3)
    period = 2 * np.pi / np.sqrt(8 * 4.0 / (1000 * radius**3))
    t = np.arange(130) / RATE
    wave = lambda t, a, w, d, c, p: a * np.exp(-d * t) * np.cos(w * t + p) + c
    fit, _ = curve_fit(wave, t[2:], off[2:], [off[0], 2 * np.pi / period, 1, 0, 0])
    assert 2 * np.pi / fit[1] == pytest.approx(period, rel=0.15)
    assert np.abs(off[-12:]).max() < 0.12 and off[0] > 0.6


def test_a_sheet_of_a_thousand_times_the_viscosity_sags_and_does_not_blow_up(store):
    last = {}
    for thick in (10.0, 10_000.0):
        scene, made = liquid(end=16, viscosity=thick)
        tank(scene, 1.0, 1.0)
        box(scene, made, (0.24, 0.3, 0.06), (0, 0.2, 0))
        _, found = solved(scene, store)
        last[thick] = found[-1]["grains"]["position"]
        assert found[-1]["report"]["fastest"][0] < 4
    assert np.ptp(last[10.0][:, 0]) > 0.4 and np.ptp(last[10_000.0][:, 0]) < 0.27
    assert last[10.0][:, 1].min() > 0 and last[10_000.0][:, 1].min() > 0


def test_viscosity_slows_a_shear_by_its_law(store):
    """A wave of speeds across a slab dies by exp(-nu k^2 t) (momentum diffusion)."""
    from estampa.solve.liquid.flow import stick
    from estampa.solve.liquid.near import listed, sorted_by_row
    from estampa.solve.liquid.pressure import constants, crowding, table

    n = 20
    at = np.stack([a.ravel() for a in np.meshgrid(*[(np.arange(n) + 0.5) * S] * 3, indexing="ij")], axis=1)
    c = constants(S)
    order, starts, along, low, cell, rows = sorted_by_row(at, float(c[0]))
    own = np.zeros((len(at), 4), np.float32)
    own[:, :3] = at[order] - low
    many, near = listed(own, starts, along, cell, rows, float(c[0]), 48)
    slope = np.zeros(near.shape, np.float32)
    rest = [np.empty(len(at), np.float32) for _ in range(3)]
    far, out = np.full((len(at), 1), 1e9, np.float32), np.zeros((len(at), 1, 3), np.float32)
    crowding(own, many, near, far, out, c, table(), slope, *rest[:2], np.empty((len(at), 3), np.float32), rest[2])
    k, nu, dt = np.pi / (n * S), 0.01, 0.02
    speed = np.zeros((len(at), 4), np.float32)
    speed[:, 0] = np.cos(k * at[order, 1])
    for _ in range(20):
        speed[:, :3] = stick(own, many, near, slope, speed, nu * dt, np.zeros(len(at)), float(np.abs(slope).max()))
    middle = (np.abs(at[order] - n * S / 2) < 0.12).all(axis=1)
    left = (speed[middle, 0] * np.cos(k * at[order][middle, 1])).sum() / (np.cos(k * at[order][middle, 1]) ** 2).sum()
    assert -np.log(left) / (nu * k * k * 20 * dt) == pytest.approx(1, abs=0.15)


@pytest.mark.parametrize("shape", ["ball", "pot"])
def test_a_fill_is_inside_and_as_many_as_there_is_room_for(store, shape):
    ball = trimesh.creation.icosphere(4, 0.3)
    faces = ball.faces if shape == "ball" else ball.faces[ball.triangles_center[:, 1] < 0.1]
    scene, made = liquid(end=2)
    vessel = do.add_mesh(scene, Mesh.from_triangles(ball.vertices, faces), "Vessel")
    do.add_layer(scene, made, "fill", values={"on": vessel.id})
    evaluator, found = solved(scene, store, 1)
    place = found[0]["grains"]["position"].astype(float)
    if shape == "ball":
        assert len(place) == pytest.approx(ball.volume / S**3, rel=0.01)
        assert evaluator.swarms.expected(scene.doc.find(made)) == pytest.approx(len(place), rel=0.01)
        planes = ConvexHull(ball.vertices).equations  # outwards: the distance to the outside of what is convex
        assert (place @ planes[:, :3].T + planes[:, 3]).max() < 0.03 * S
    else:  # up to its rim, as if it had a lid
        assert place[:, 1].max() < 0.1 + S and np.linalg.norm(place, axis=1).max() < 0.3 + 0.03 * S
        cap = np.pi * 0.2**2 * (0.9 - 0.2) / 3  # above 0.1 m
        assert len(place) == pytest.approx((ball.volume - cap) / S**3, rel=0.04)


def test_a_hollow_vessel_holds_it_and_a_solid_one_takes_the_room(store):
    ball, small = trimesh.creation.icosphere(4, 0.2), trimesh.creation.icosphere(4, 0.1)
    scene, made = liquid(end=16)
    do.add_thing(scene, "gravity")
    vessel = do.add_mesh(scene, Mesh.from_triangles(ball.vertices, ball.faces), "Barrel")
    holds = do.add_thing(scene, "collider", values={"shape": "mesh", "subject": vessel.id, "hollow": True})
    do.add_layer(scene, made, "fill", values={"on": vessel.id, "level": 0.6})
    _, found = solved(scene, store)
    assert (np.linalg.norm(found[-1]["grains"]["position"], axis=1) < 0.2).all()
    # the space between two meshes
    core = do.add_mesh(scene, Mesh.from_triangles(small.vertices, small.faces), "Core")
    do.set_value(scene, scene.doc.find(made).stack[0].id, "level", 1.0)
    do.add_thing(scene, "collider", values={"shape": "mesh", "subject": core.id})
    grains = solved(scene, store, 1)[1][0]["grains"]["position"]
    assert (np.linalg.norm(grains, axis=1) > 0.0995).all()
    assert len(grains) * S**3 == pytest.approx(ball.volume - small.volume, rel=0.03)
    do.set_value(scene, holds.id, "hollow", False)
    with pytest.raises(EstampaError, match="solid.*hollow"):
        solved(scene, store, 1)


def test_pouring_gives_its_area_times_its_speed_and_a_drain_takes_it_away(store):
    scene, made = liquid(end=24)
    grip = do.add_thing(scene, "grip", values={"y": 1.0})
    do.add_layer(scene, made, "pour", values={"around": grip.id, "radius": 0.07, "speed": 1.2})
    _, found = solved(scene, store)
    born = found[-1]["report"]["born"][0]
    assert born * S**3 == pytest.approx(np.pi * 0.07**2 * 1.2 * 23 / RATE, rel=0.06)
    zone = do.add_thing(scene, "zone", values={"y": 0.5, "shape": "sphere", "reach": 0.3})
    do.add_layer(scene, made, "grain_drain", values={"zone": zone.id})
    _, found = solved(scene, store)
    assert found[-1]["report"]["gone"][0] > 100 and found[-1]["grains"]["position"][:, 1].min() > 0.6


def test_warmth_lifts_colours_mix_and_what_all_hold_stays(store):
    scene, made = liquid(end=20, density=950.0, around=950.0, expands=0.004, warms=2e-4, mixes=2e-3, viscosity=0.05)
    do.add_thing(scene, "gravity")
    box(scene, made, (0.16, 0.16, 0.16), (-0.08, 0, 0), colour="#ff0000")
    box(scene, made, (0.16, 0.16, 0.16), (0.08, 0, 0), colour="#0000ff")
    zone = do.add_thing(scene, "zone", values={"x": -0.08, "y": 0, "shape": "sphere", "reach": 0.14})
    do.add_layer(scene, made, "grain_warm", values={"zone": zone.id, "to": 80.0, "half": 0.1})
    _, found = solved(scene, store)
    first, last = found[0]["grains"], found[-1]["grains"]
    assert last["dye"].sum(axis=0) == pytest.approx(first["dye"].sum(axis=0), rel=1e-3)
    assert 0.02 < last["dye"][:, 0].min() or (last["dye"][:, 0] > 0.05).sum() > (first["dye"][:, 0] > 0.05).sum()
    left = first["position"][:, 0] < 0
    rise = last["position"][:, 1].astype(float) - first["position"][:, 1]
    assert last["temperature"][left].mean() > 50 and rise[left].mean() > rise[~left].mean() + 0.05


def test_a_skin_is_closed_keeps_the_volume_and_does_not_flicker(store):
    grid = np.stack([a.ravel() for a in np.meshgrid(*[(np.arange(16) + 0.5) * S] * 3, indexing="ij")], axis=1)
    rng, volumes = np.random.default_rng(2), []
    for shift in (0.0, 0.0031, 0.0077, 0.0123):
        place = grid + shift + rng.normal(0, 0.1 * S, grid.shape)
        field = covered(place, S, 0.5 * S)
        points, triangles = cut(*field, LEVEL)
        mesh = trimesh.Trimesh(smoothed(points, triangles, 4), triangles, process=False)
        assert mesh.is_watertight and mesh.euler_number == 2
        volumes.append(mesh.volume)
    assert volumes == pytest.approx([len(grid) * S**3] * 4, rel=0.03)
    assert np.ptp(volumes) < 0.01 * np.mean(volumes)
    scene, made = liquid(end=4)
    box(scene, made, (0.2, 0.2, 0.2), speed_x=1.0, colour="#3366cc")
    do.add_layer(scene, made, "grain_skin")
    evaluator, _ = solved(scene, store)
    part = outcome.of(evaluator, scene.doc.find(made), 4).parts[0]
    assert part.velocity == pytest.approx(np.tile([1.0, 0, 0], (len(part.points), 1)), abs=0.3)
    assert part.inks[:, 2].mean() == pytest.approx(((0xCC / 255 + 0.055) / 1.055) ** 2.4, abs=0.01)


def test_threads_change_no_bit(store):
    import numba

    from estampa.store.frames import FrameStore

    scene, made = liquid(end=4, tension=0.2, viscosity=0.1)
    tank(scene, 0.3, 0.2)
    box(scene, made, (0.2, 0.2, 0.2), (0, 0.1, 0))
    _, many = solved(scene, store)
    numba.set_num_threads(1)
    try:
        _, one = solved(scene, FrameStore(store.root / "one"))
    finally:
        numba.set_num_threads(numba.config.NUMBA_NUM_THREADS)
    for name in ("position", "velocity", "pressure"):
        assert np.array_equal(many[-1]["grains"][name], one[-1]["grains"][name])


def test_what_is_set_badly_is_told_with_a_cure(store):
    scene, made = liquid(end=3)
    fill = do.add_layer(scene, made, "fill").id
    with pytest.raises(EstampaError, match="no subject"):
        solved(scene, store)
    do.set_values(scene, fill, {"where": "box", "wide": 40.0, "tall": 40.0, "deep": 40.0})
    with pytest.raises(EstampaError, match="takes? for its|places|needs|live at once"):
        solved(scene, store)
    thin = do.add_mesh(scene, Mesh.from_triangles([[0, 0, 0], [1, 0, 0], [0, 0, 1], [0, 0.001, 0]],
                                                  [[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]]), "Wafer")  # fmt: skip
    do.set_values(scene, fill, {"where": "inside", "on": thin.id})
    with pytest.raises(EstampaError, match="no room"):
        solved(scene, store)
    do.set_values(scene, fill, {"where": "box", "wide": 0.1, "tall": 0.1, "deep": 0.1})
    grip = do.add_thing(scene, "grip")
    do.add_layer(scene, made, "grain_pull", values={"grip": grip.id, "amount": 1e9})
    try:
        _, found = solved(scene, store)
        assert np.isfinite(found[-1]["grains"]["position"]).all()
    except EstampaError as err:
        assert "frame" in str(err) or "squeezed" in str(err)


def mesh_box(size):
    made = trimesh.creation.box(size)
    return Mesh.from_triangles(np.array(made.vertices), np.array(made.faces))


def afloat(scene, made, size, y, density):
    crate = do.add_mesh(scene, mesh_box(size), "Crate")
    do.set_value(scene, crate.id, "y", y)
    do.add_layer(scene, crate.id, "body", values={"density": density})
    liquids.immerse(scene, made)
    return crate.id


@pytest.mark.slow
def test_a_box_floats_at_its_draught(store):
    """Archimedes: it displaces its own weight. The level is that of all the water and what the box displaces of it."""
    fine, wide, (side, tall), density = 0.03, 0.6, (0.28, 0.16), 700
    scene, made = liquid(end=110, spacing=fine)
    tank(scene, wide, wide)
    box(scene, made, (wide, 0.3, wide), (0, 0.15, 0))
    afloat(scene, made, (side, tall, side), 0.30, density)
    evaluator, _ = solved(scene, store)
    bodies, water = evaluator.runs.every()
    frames = [store.frame(evaluator.runs.key(bodies, f))["bodies"] for f in range(75, 111)]
    bottom = np.mean([f["position"][0, 1] for f in frames]) - tall / 2
    draught = density / 1000 * tall
    grains = store.frame(evaluator.runs.key(water, 110))["grains"]
    level = (len(grains) * fine**3 + draught * side**2) / wide**2
    assert level - bottom == pytest.approx(draught, rel=0.03)
    assert np.ptp([f["position"][0, 1] for f in frames]) < 0.02, "it has come to rest"
    assert np.abs(frames[-1]["turn"][0, :3]).max() < 0.05, "wide and flat, it lies level"


def test_what_is_heavier_sinks_and_what_is_light_rises_whatever_asks_first(store):
    """And its keys are the same whether the bodies or the liquid are asked first, though each needs the other."""

    def tub(density):
        scene, made = liquid(end=14, spacing=0.04)
        tank(scene, 0.4, 0.4)
        box(scene, made, (0.4, 0.4, 0.4), (0, 0.2, 0))
        return scene, afloat(scene, made, (0.16, 0.16, 0.16), 0.2, density)

    found = {}
    for density in (300, 2500):
        scene, crate = tub(density)
        evaluator, _ = solved(scene, store)
        found[density] = evaluator.subject(scene.doc.find(crate), 14).points[:, 1].mean()
    assert found[2500] < 0.12 < 0.22 < found[300]
    keys = []
    for first in (0, 1):
        evaluator = Evaluator(scene.doc, scene, store)
        runs = evaluator.runs.every()
        evaluator.runs.key(runs[first], 14)
        keys.append([evaluator.runs.key(r, f) for r in runs for f in range(1, 15)])
    assert keys[0] == keys[1] and len(set(keys[0])) == 28
    assert not Evaluator(scene.doc, scene, store).solve_through(14), "all of it is kept"
    do.set_value(scene, next(t.id for t in scene.doc.things if t.kind == "liquid"), "density", 900)
    assert Evaluator(scene.doc, scene, store).solve_through(14), "the bodies feel another liquid"


def test_a_dipped_cloth_gets_wet_and_dries(store):
    scene, made = liquid(end=30, spacing=0.03)
    tank(scene, 0.3, 0.3)
    box(scene, made, (0.3, 0.15, 0.3), (0, 0.075, 0))
    cloth = do.add_mesh(scene, Mesh.from_triangles(*grid_of(0.2, 9)), "Rag")
    do.set_value(scene, cloth.id, "y", 0.4)
    do.add_layer(scene, cloth.id, "cloth", values={"density": 0.2})
    force = liquids.immerse(scene, made)
    do.set_value(scene, force.id, "dries", 0.25)
    evaluator, _ = solved(scene, store, 1)
    rag = next(r for r in evaluator.runs.every() if r.thing.kind == "cloth")
    evaluator.solve_through(30)
    rows = [store.frame(evaluator.runs.key(rag, f))["points"] for f in range(1, 31)]
    wet, height = [r["wet"].mean() for r in rows], [r["position"][:, 1].mean() for r in rows]
    assert wet[0] == 0 and height[2] > 0.25 and wet[2] == 0 and max(wet) > 0.9
    # in water it falls as drag lets it: fibres by what they are heavier than water, on a plate of Cd 1 both sides
    in_water = [i for i, w in enumerate(wet) if w > 0.99]
    fall = -np.diff(height)[in_water[3] : in_water[3] + 4].mean() * RATE
    assert fall < 2.5 * np.sqrt(2 * 0.2 * G * (1 - 1000 / 1500) / 1000) + 0.1, "it sinks slowly"


@pytest.mark.slow
def test_a_sheet_bears_what_stands_on_it(store):
    """Hydrostatics: a sheet at rest bears the weight of the liquid above it; a membrane sags as its load asks."""
    scene, made = liquid(end=36, spacing=0.03)
    do.add_thing(scene, "gravity")
    sheet_ = do.add_mesh(scene, Mesh.from_triangles(*grid_of(0.8, 21)), "Sheet")
    points = scene.mesh(sheet_.mesh).points
    do.set_value(scene, sheet_.id, "y", 0.6)
    rim = (np.abs(points[:, [0, 2]]).max(axis=1) > 0.399).astype(float)
    held = do.add_map(scene, sheet_.id, rim, "Rim")
    values = {"density": 0.3, "pins": held.id, "warp": 2000.0, "weft": 2000.0, "damping": 2.0}
    cloth = do.add_layer(scene, sheet_.id, "cloth", "Sheet", values)
    box(scene, made, (0.24, 0.06, 0.24), (0, 0.65, 0))
    wall = do.add_thing(scene, "collider", "Sheet", {"shape": "mesh", "subject": sheet_.id, "margin": 0.015})
    force = liquids.immerse(scene, made)
    do.set_value(scene, force.id, "soaks", 0.0)
    evaluator, _ = solved(scene, store, 36)
    run = next(r for r in evaluator.runs.every() if r.thing.kind == "liquid")
    at = evaluator.subject(scene.doc.find(sheet_.id), 36).points
    grains = store.frame(evaluator.runs.key(run, 36))["grains"]
    place = grains["position"].astype(float)
    on = place[place[:, 1] > at[:, 1].min() - 0.1]
    weighs = 1000 * 0.03**3 * len(on)
    assert weighs > 3, "most of it stays on the sheet"
    mesh = scene.mesh(sheet_.mesh)
    apart, nearest = cKDTree(place).query(at, 6)
    pool = Pool(place, grains["velocity"].astype(float), 0.03, 1000.0)
    borne = _borne(at, mesh.normals(at), apart[:, 0] < 0.03, nearest, pool)
    corners = at[mesh.triangles]
    area = 0.5 * np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    own = np.zeros(len(at))
    np.add.at(own, mesh.triangles, np.repeat(area[:, None] / 3, 3, axis=1))
    assert (borne * own).sum() == pytest.approx(weighs, rel=0.1)
    # the same sheet with so much more mass where it bears it hangs as low
    do.set_on(scene, force.id, False)
    dry, _ = solved(scene, store, 36)
    sags = lambda e: 0.6 - e.subject(scene.doc.find(sheet_.id), 36).points[:, 1].min()
    assert 0.6 - at[:, 1].min() > 1.5 * sags(dry)
    do.set_on(scene, wall.id, False)
    heavy = Mesh.from_triangles(*grid_of(0.8, 21))
    lump = do.add_mesh(scene, heavy, "Heavy")
    do.set_value(scene, lump.id, "y", 0.6)
    held = do.add_map(scene, lump.id, rim, "Rim")
    wet = do.add_map(scene, lump.id, np.clip(borne / borne.max(), 0, 1).astype(np.float32), "Wet")
    do.add_layer(scene, lump.id, "cloth", "Heavy", {**cloth.values, "pins": held.id})
    do.add_layer(scene, lump.id, "wetness", values={"map": wet.id, "adds": float(borne.max())})
    loaded, _ = solved(scene, store, 36)
    low = 0.6 - loaded.subject(scene.doc.find(lump.id), 36).points[:, 1].min()
    assert 0.6 - at[:, 1].min() == pytest.approx(low, rel=0.15)


def grid_of(side, n):
    at = (np.arange(n) / (n - 1) - 0.5) * side
    points = np.stack(np.meshgrid(at, [0.0], at, indexing="ij"), axis=-1).reshape(-1, 3)
    i = np.arange(n * n).reshape(n, n)
    a, b, c, d = (q.ravel() for q in (i[:-1, :-1], i[:-1, 1:], i[1:, 1:], i[1:, :-1]))
    return points, np.concatenate([np.stack([a, b, c], 1), np.stack([a, c, d], 1)])


@pytest.mark.slow
def test_it_runs_out_of_a_hole_as_fast_as_it_would_fall_from_the_level(store):
    """Torricelli: sqrt(2 g h), from the level to where the jet is measured."""
    fine, wide, hole, n = 0.02, 0.36, 0.1, 19
    scene, made = liquid(end=16, spacing=fine)
    tank(scene, wide, wide)
    do.set_value(scene, next(t.id for t in scene.doc.things if t.kind == "ground"), "height", -2.0)
    points, faces = grid_of(wide + 0.04, n)
    middle = points[faces].mean(axis=1)
    faces = faces[(np.abs(middle[:, [0, 2]]) > hole / 2).any(axis=1)]
    floor = do.add_mesh(scene, Mesh.from_triangles(points, faces), "Floor with a hole")
    do.add_thing(scene, "collider", values={"shape": "mesh", "subject": floor.id, "hollow": True})
    box(scene, made, (wide, 0.3, wide), (0, 0.155, 0))
    _, found = solved(scene, store)
    ratios = []
    for frame in found[9:]:
        place, speed = frame["grains"]["position"], frame["grains"]["velocity"]
        level = np.sort(place[:, 1])[-150:].mean() + fine / 2
        jet = (place[:, 1] < -0.08) & (place[:, 1] > -0.14)
        ratios.append(-speed[jet, 1].mean() / np.sqrt(2 * G * (level - place[jet, 1].mean())))
    assert np.mean(ratios) == pytest.approx(1, abs=0.1)


def crossings(points, triangles):
    """How many edges of a mesh go through triangles that they do not touch: segment against triangle (Moeller and
    Trumbore 1997, "Fast, minimum storage ray/triangle intersection")."""
    edges = np.unique(np.sort(triangles[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1), axis=0)
    middle, reach = points[triangles].mean(axis=1), 2.5 * np.linalg.norm(np.diff(points[edges], axis=1), axis=2).max()
    near = cKDTree(middle).query_ball_point(points[edges].mean(axis=1), reach)
    e = np.repeat(np.arange(len(edges)), [len(n) for n in near])
    t = np.concatenate([np.array(n, int) for n in near])
    apart = ~(triangles[t][:, :, None] == edges[e][:, None, :]).any(axis=(1, 2))
    e, t = e[apart], t[apart]
    a, b, c = (points[triangles[t, k]] for k in range(3))
    o, d = points[edges[e, 0]], points[edges[e, 1]] - points[edges[e, 0]]
    p = np.cross(d, c - a)
    det = np.einsum("ij,ij->i", b - a, p)
    det = np.where(np.abs(det) < 1e-18, np.nan, det)
    u = np.einsum("ij,ij->i", o - a, p) / det
    q = np.cross(o - a, b - a)
    v, s = np.einsum("ij,ij->i", d, q) / det, np.einsum("ij,ij->i", c - a, q) / det
    return int(((u > 0) & (v > 0) & (u + v < 1) & (s > 0) & (s < 1)).sum())


def test_skins_do_not_cross_themselves():
    torus = trimesh.creation.torus(0.2, 0.08)
    assert crossings(np.array(torus.vertices), torus.faces) == 0
    assert crossings(np.concatenate([torus.vertices, torus.vertices + [0.1, 0, 0]]),
                     np.concatenate([torus.faces, torus.faces + len(torus.vertices)])) > 0  # fmt: skip
    rng = np.random.default_rng(3)
    pool = np.stack(np.meshgrid(*[np.arange(n) * S for n in (12, 5, 12)], indexing="ij"), axis=-1).reshape(-1, 3)
    drops = rng.uniform([-0.1, 0.1, -0.1], [0.3, 0.35, 0.3], (150, 3))
    sheet = np.stack(np.meshgrid(np.arange(12) * S, [0.4], np.arange(12) * S, indexing="ij"), axis=-1).reshape(-1, 3)
    at = np.concatenate([pool + rng.normal(0, 0.2 * S, pool.shape), drops, sheet])
    for rounds in (0, 4, 12):
        points, triangles = cut(*covered(at, S, 0.5 * S), LEVEL)
        points = smoothed(points, triangles, rounds)
        assert trimesh.Trimesh(points, triangles, process=False).is_watertight
        assert crossings(points, triangles) == 0, rounds


def test_live_play_of_what_floats_is_the_stored_solve(store):
    scene, made = liquid(end=5, spacing=0.05)
    tank(scene, 0.4, 0.4)
    box(scene, made, (0.4, 0.3, 0.4), (0, 0.15, 0))
    afloat(scene, made, (0.16, 0.16, 0.16), 0.3, 500)
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(5)
    live = Live(Evaluator(scene.doc, scene, store), 2)
    for frame in (3, 4, 5):
        shown = live.step(scene.doc)
        for run, table in zip(evaluator.runs.every(), ("bodies", "grains"), strict=True):
            kept = store.frame(evaluator.runs.key(run, frame))[table]["position"]
            assert np.array_equal(shown.live[run.id].now[table]["position"], kept), (frame, table)
