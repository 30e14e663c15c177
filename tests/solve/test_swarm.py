"""Swarms: births, guides and dress, against mechanics, distributions and reference packages."""

import numpy as np
import pytest
import trimesh
from scipy import stats
from scipy.integrate import solve_ivp
from scipy.spatial import cKDTree

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.evaluate.reader import Scope
from estampa.geometry.mesh import Mesh
from estampa.geometry.pose import facing
from estampa.geometry.primitives import box
from estampa.hashing import rand
from estampa.kinds.registry import kind_of
from estampa.motion.layer import Resolved
from estampa.scene.document import Document
from estampa.scene.ids import ids_of
from estampa.scene.scene import Scene
from estampa.solve.swarm import places
from estampa.solve.swarm.cells import sorted_cells
from estampa.solve.swarm.eddies import waves_of
from estampa.solve.swarm.grains import Grains, chance, salt
from estampa.solve.swarm.guides.turbulence import curl_noise

G, RATE = 9.80665, 24


@pytest.fixture(autouse=True)
def same_ids():
    """Numbers of grains come from their sources' ids: the same ones at every run, so that no test is a lottery."""
    with ids_of("swarms"):
        yield


def swarm(*layers, last=25, **values):
    """(scene, swarm) with layers (kind, values)."""
    scene = Scene(Document(start=1, end=last, frame_rate=RATE))
    made = do.add_thing(scene, "swarm", values=values)
    for kind, own in layers:
        do.add_layer(scene, made.id, kind, values=own)
    return scene, made.id


def solved(scene, store, last=None):
    """(evaluator, frames)."""
    evaluator, last = Evaluator(scene.doc, scene, store), last or scene.doc.end
    evaluator.solve_through(last)
    run = evaluator.runs.every()[0]
    return evaluator, [store.frame(evaluator.runs.key(run, f)) for f in range(1, last + 1)]


ONE = {"count": 1, "radius": 0.0}


# -- mechanics -----------------------------------------------------------------------------------------------
def test_a_thrown_grain_flies_a_parabola_and_nothing_falls_unless_it_is_wanted(store):
    throw = ("sow", ONE | {"speed_x": 2.0, "speed_y": 5.0})
    scene, _ = swarm(throw, ("grain_fall", {}))
    do.add_thing(scene, "gravity")
    t = 24 / RATE
    place = solved(scene, store)[1][-1]["grains"]["position"][0]
    assert place == pytest.approx([2 * t, 5 * t - G * t * t / 2, 0], abs=2e-5)
    scene, _ = swarm(throw)
    do.add_thing(scene, "gravity")
    assert solved(scene, store)[1][-1]["grains"]["position"][0] == pytest.approx([2 * t, 5 * t, 0], abs=2e-5)


def test_with_drag_it_comes_to_the_speed_of_gravity_over_drag_and_goes_with_the_wind(store):
    scene, _ = swarm(
        ("sow", ONE), ("grain_fall", {}), ("grain_drag", {"rate": 3.0, "varies": 0.0}), last=121, substeps=4
    )
    do.add_thing(scene, "gravity")
    wind = do.add_thing(scene, "grip", values={"turn_y": np.pi / 2})
    do.add_thing(scene, "wind", values={"grip": wind.id, "speed": 4.0, "gustiness": 0.0, "turbulence": 0.0})
    speed = solved(scene, store)[1][-1]["grains"]["velocity"][0]
    assert -speed[1] == pytest.approx(G / 3.0, rel=0.02)
    assert speed[0] == pytest.approx(4.0, rel=0.02)


def test_the_period_of_an_orbit_is_keplers(store):
    # a pull of a (r0 / r)^2: GM = a r0^2, and T = 2 pi sqrt(r^3 / GM)
    scene, _ = swarm(
        ("sow", {"where": "grid", "many_x": 1, "many_z": 1, "speed_z": np.sqrt(2.0)}),
        ("grain_pull", {"amount": 2.0, "reach": 1.0, "fades": 2.0, "core": 0.01}),
        last=121,
        substeps=8,
    )
    start = do.add_thing(scene, "grip", values={"x": 1.0})
    do.set_value(scene, scene.doc.things[0].stack[0].id, "around", start.id)
    at = np.array([f["grains"]["position"][0] for f in solved(scene, store)[1]])
    angle = np.unwrap(np.arctan2(at[:, 2], at[:, 0]))
    frames = np.interp(2 * np.pi, np.abs(angle), np.arange(121))
    assert frames / RATE == pytest.approx(2 * np.pi / np.sqrt(2.0), rel=2e-3)
    assert np.linalg.norm(at, axis=1) == pytest.approx(1.0, abs=0.01)


@pytest.mark.parametrize("ratio", [0.3, 1.0, 1.6])
def test_a_chase_answers_as_a_damped_oscillator(store, ratio):
    # SciPy's own solution of x'' + 2 zeta w x' + w^2 x = w^2 with w = -24 ln(1 - pull)
    scene, made = swarm(("sow", ONE), ("grain_goal", {"pull": 0.2, "ratio": ratio, "radius": 0.0, "varies": 0.0}))
    goal = do.add_thing(scene, "grip", values={"x": 1.0})
    do.set_value(scene, scene.doc.find(made).stack[1].id, "grip", goal.id)
    at = [f["grains"]["position"][0, 0] for f in solved(scene, store)[1]]
    w = -24 * np.log(0.8)
    exact = solve_ivp(
        lambda t, y: [y[1], w * w * (1 - y[0]) - 2 * ratio * w * y[1]],
        (0, 1),
        [0, 0],
        t_eval=np.arange(25) / RATE,
        rtol=1e-9,
        atol=1e-12,
    )
    assert at == pytest.approx(exact.y[0], abs=1e-5)


def test_at_a_pull_of_1_grains_sit_in_the_goal_and_none_lies_in_a_ring(store):
    scene, made = swarm(("sow", {"count": 3000}), ("grain_goal", {"pull": 1.0, "radius": 0.5}), last=12)
    goal = do.add_thing(scene, "grip")
    do.set_key(scene, goal.id, "x", 1, 0.0)
    do.set_key(scene, goal.id, "x", 12, 3.0)
    do.set_value(scene, scene.doc.find(made).stack[1].id, "grip", goal.id)
    at = solved(scene, store)[1][-1]["grains"]["position"] - np.array([3.0, 0, 0])
    # uniform in a ball: (r / R)^3 is even (Kolmogorov-Smirnov), and so is the height (Archimedes, of each shell)
    far = np.linalg.norm(at, axis=1)
    assert stats.kstest((far / 0.5) ** 3, "uniform").pvalue > 0.01
    assert stats.kstest(at[:, 1] / far / 2 + 0.5, "uniform").pvalue > 0.01


def test_eddies_have_neither_sources_nor_sinks():
    # finite differences of the field itself
    at = np.random.default_rng(1).uniform(-4, 4, (4000, 3))
    h = 1e-4
    field = lambda shift: curl_noise(at + shift, 5, 3, 0.7)
    slopes = [(field(h * e) - field(-h * e))[:, j] / (2 * h) for j, e in enumerate(np.eye(3))]
    size = np.sqrt((field(0) ** 2).sum(axis=1).mean())
    assert np.abs(sum(slopes)).max() < 1e-4 * size / h * 1e-1
    assert np.sqrt((np.array(slopes) ** 2).mean()) > 0.3


# -- neighbours ----------------------------------------------------------------------------------------------
def test_cells_hold_what_is_near_as_a_tree_finds_it():
    # SciPy's KD-tree
    place, reach = np.random.default_rng(0).uniform(0, 3, (2000, 3)), 0.3
    order, starts, low, cell, counts = sorted_cells(place, reach)
    which = np.minimum(((place - low) / cell).astype(int), counts - 1)
    assert sorted(order) == list(range(2000)) and starts[-1] == 2000
    for i, near in enumerate(cKDTree(place).query_ball_point(place, reach)):
        assert (np.abs(which[near] - which[i]) <= 1).all()


def test_a_flock_comes_to_go_one_way(store):
    # the order parameter |mean of v / |v||: from next to nothing to nearly one (Vicsek and others 1995)
    scene, _ = swarm(
        ("sow", {"count": 300, "radius": 0.8, "scatter": 1.0}),
        ("grain_flock", {"reach": 1.0, "align": 4.0, "gather": 1.0, "radius": 0.1, "top": 1.5}),
        last=73,
    )
    found = solved(scene, store)[1]
    way = [
        f["grains"]["velocity"] / np.linalg.norm(f["grains"]["velocity"], axis=1)[:, None]
        for f in (found[0], found[-1])
    ]
    order = [np.linalg.norm(w.mean(axis=0)) for w in way]
    assert order[0] < 0.2 and order[1] > 0.9
    assert np.linalg.norm(found[-1]["grains"]["velocity"], axis=1).max() < 1.501
    nearest = cKDTree(found[-1]["grains"]["position"]).query(found[-1]["grains"]["position"], k=2)[0][:, 1]
    assert np.median(nearest) > 0.06, "they keep apart"


def test_none_turns_tighter_than_its_radius(store):
    scene, _ = swarm(
        ("sow", {"count": 200, "radius": 0.5, "scatter": 1.0}),
        (
            "grain_flock",
            {"reach": 1.0, "align": 20.0, "gather": 20.0, "part": 0.0, "radius": 1.0, "slowest": 1.0, "top": 1.0},
        ),
        last=24,
    )
    found = solved(scene, store)[1]
    for a, b in zip(found[2:], found[3:], strict=False):
        u, v = a["grains"]["velocity"].astype(float), b["grains"]["velocity"].astype(float)
        turn = np.arccos(np.clip((u * v).sum(axis=1) / np.linalg.norm(u, axis=1) / np.linalg.norm(v, axis=1), -1, 1))
        assert turn.max() < 1.02 / RATE  # 1 m/s on a radius of 1 m


# -- births --------------------------------------------------------------------------------------------------
def test_births_are_exactly_the_integral_of_the_rate_and_happen_between_frames(store):
    scene, made = swarm(("emit", {"rate": 0.0, "radius": 0.0}), last=49)
    source = scene.doc.find(made).stack[0].id
    do.set_key(scene, source, "rate", 1, 0.0)
    do.set_key(scene, source, "rate", 49, 240.0)
    do.set_segment(scene, source, "rate", 1, "linear")
    found = solved(scene, store)[1]
    t = np.arange(49) / RATE
    assert [f["report"]["born"][0] for f in found] == pytest.approx(np.floor(240 / 2 * t**2 / 2 + 1e-6), abs=1)
    assert found[-1]["report"]["born"][0] == 240
    # ages at the end: the k-th is born at t = sqrt(k / 60)
    age = found[-1]["grains"]["age"]
    assert age == pytest.approx(2 - np.sqrt(np.arange(1, 241) / 60), abs=2e-3)
    ids = found[-1]["grains"].ids
    assert (np.diff(ids) > 0).all()
    earlier = found[30]["grains"].ids
    assert np.isin(earlier, ids).all(), "a number is for good"


def test_those_born_of_a_moving_source_start_where_it_was_and_take_its_speed_along(store):
    scene, made = swarm(("emit", {"rate": 240.0, "radius": 0.0, "inherits": 1.0}), last=25)
    source = do.add_thing(scene, "grip")
    do.set_key(scene, source.id, "x", 1, 0.0)
    do.set_key(scene, source.id, "x", 25, 2.0)
    do.set_segment(scene, source.id, "x", 1, "linear")
    do.set_value(scene, scene.doc.find(made).stack[0].id, "around", source.id)
    last = solved(scene, store)[1][-1]["grains"]
    assert last["velocity"] == pytest.approx(np.tile([2.0, 0, 0], (240, 1)), abs=1e-4)
    assert last["position"][:, 0] == pytest.approx(2.0, abs=1e-4), "born along its way, they go as it goes"


def test_what_chance_gives_a_grain_does_not_change_with_how_many_there_are(store):
    few, many = (solved(swarm(("sow", {"count": n, "scatter": 1.0}))[0], store)[1][-1]["grains"] for n in (50, 500))
    # layers of the two scenes have numbers of their own, so that only the sorts of chance are compared
    ids = np.arange(1000)
    assert (rand(1, ids[:50], "x") == rand(1, ids, "x")[:50]).all()
    assert len(few) == 50 and len(many) == 500
    mixed = salt(7, "y")
    assert [chance(i, mixed) for i in range(20)] == pytest.approx(rand(7, np.arange(20), "y"), abs=0)


def test_lives_end_and_their_lengths_are_even(store):
    scene, _ = swarm(("sow", {"count": 4000, "life": 1.0, "life_varies": 0.5}), last=49)
    living = np.array([f["report"]["living"][0] for f in solved(scene, store)[1]])
    t = np.arange(49) / RATE
    expected = 4000 * np.clip((1.5 - t) / 1.0, 0, 1)
    assert np.abs(living - expected).max() < 120  # 4 sigma of a binomial of 4,000 at a half
    assert living[0] == 4000 and living[-1] == 0


def test_places_are_even_by_area_and_by_volume():
    ids = np.arange(20_000)
    made = trimesh.creation.box((1, 2, 3))
    which, shares = places.on_surface(ids, 3, np.asarray(made.vertices), np.asarray(made.faces))
    counts = np.bincount(which, minlength=len(made.faces))
    assert stats.chisquare(counts, made.area_faces / made.area * len(ids)).pvalue > 0.01
    assert shares.min() >= 0 and shares.sum(axis=1) == pytest.approx(1.0)
    ball = trimesh.creation.icosphere(4)
    mesh = Mesh.from_triangles(ball.vertices, ball.faces)
    at = places.in_mesh(ids[:8000], 3, mesh, mesh.points)
    assert stats.kstest(np.linalg.norm(at, axis=1) ** 3, "uniform").pvalue > 0.01


# -- what is solid -------------------------------------------------------------------------------------------
def outside(shape, x, y, z):
    """(n,) m, by each shape's own formula."""
    if shape == "ground":
        return y
    if shape == "box":
        return np.max([np.abs(x) - 0.5, np.abs(y) - 0.3, np.abs(z) - 0.4], axis=0)
    if shape == "capsule":
        return np.sqrt(x**2 + (y - np.clip(y, -0.4, 0.4)) ** 2 + z**2) - 0.3
    return np.sqrt(x**2 + y**2 + z**2) - (0.5 if shape == "sphere" else 0.5 * 0.985)  # facets lie within the ball


@pytest.mark.parametrize("shape", ["sphere", "capsule", "box", "mesh", "ground"])
def test_no_grain_is_inside_what_is_solid(store, shape):
    scene, _ = swarm(
        ("sow", {"where": "grid", "many_x": 14, "many_z": 14, "apart": 0.1, "speed_y": -3.0}),
        ("grain_fall", {}),
        ("grain_avoid", {"ahead": 0.0, "keeps": 0.01}),
        last=30,
    )
    above = do.add_thing(scene, "grip", values={"y": 2.0})
    do.set_value(scene, scene.doc.things[0].stack[0].id, "around", above.id)
    do.add_thing(scene, "gravity")
    ball = trimesh.creation.icosphere(3, 0.5)
    if shape == "ground":
        do.add_thing(scene, "ground")
    elif shape == "mesh":
        held = do.add_mesh(scene, Mesh.from_triangles(ball.vertices, ball.faces), "Ball")
        do.add_thing(scene, "collider", values={"shape": "mesh", "subject": held.id})
    else:
        values = {"sphere": {"radius": 0.5}, "capsule": {"radius": 0.3, "reach": 0.4}}.get(
            shape, {"wide": 0.5, "tall": 0.3, "deep": 0.4}
        )
        do.add_thing(scene, "collider", values={"shape": shape} | values)
    for frame in solved(scene, store)[1]:
        assert outside(shape, *frame["grains"]["position"].astype(float).T).min() > -1e-5


def test_they_land_sit_and_leave_as_something_comes_near(store):
    scene, made = swarm(
        ("sow", {"count": 200, "radius": 0.3}),
        ("grain_fall", {"strength": 0.3}),
        ("grain_drag", {"rate": 3.0}),
        ("grain_settle", {"sits": 0.0, "slower": 3.0, "lifts": 0.0}),
        last=90,
    )
    above, truck = do.add_thing(scene, "grip", values={"y": 1.0}), do.add_thing(scene, "grip", values={"x": 30.0})
    do.set_key(scene, truck.id, "x", 70, 30.0)
    do.set_key(scene, truck.id, "x", 75, 0.0)
    do.set_value(scene, scene.doc.find(made).stack[0].id, "around", above.id)
    do.set_values(scene, scene.doc.find(made).stack[3].id, {"scared": truck.id, "fright": 1.0})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    found = solved(scene, store)[1]
    sat = found[66]["grains"]
    assert (sat["sits"] > 0).all() and np.abs(sat["position"][:, 1]).max() < 1e-6
    assert np.array_equal(sat["position"], found[68]["grains"]["position"]), "what sits stays"
    assert (found[77]["grains"]["sits"] > 0).mean() < 0.1 and found[77]["grains"]["position"][:, 1].mean() > 0.02


# -- dress ---------------------------------------------------------------------------------------------------
def test_the_forward_axis_is_the_way_that_it_goes_and_it_leans_as_a_turn_wants(store):
    ahead = np.random.default_rng(2).normal(size=(100, 3))
    axes = facing(ahead, np.linspace(-1, 1, 100))
    assert axes[:, :, 2] == pytest.approx(ahead / np.linalg.norm(ahead, axis=1)[:, None], abs=1e-12)
    assert np.einsum("kji,kjl->kil", axes, axes) == pytest.approx(np.tile(np.eye(3), (100, 1, 1)), abs=1e-12)
    # on a ring of radius r at v: a coordinated turn banks by arctan(v^2 / (g r)) (any book of flight mechanics)
    scene, made = swarm(
        ("sow", ONE | {"speed_z": -2.0}),
        ("grain_orbit", {"radius": 1.5, "varies": 0.0, "speed": 2.0, "grips": 4.0}),
        last=121,
        substeps=4,
    )
    start = do.add_thing(scene, "grip", values={"x": 1.5})
    do.set_value(scene, scene.doc.find(made).stack[0].id, "around", start.id)
    last = solved(scene, store)[1][-1]["grains"]
    assert np.linalg.norm(last["position"][0]) == pytest.approx(1.5, rel=0.02)
    assert abs(last["bank"][0]) == pytest.approx(np.arctan(4 / (G * 1.5)), rel=0.03)
    centre = -last["position"][0] / np.linalg.norm(last["position"][0])
    up = facing(last["heading"].astype(float), last["bank"].astype(float))[0, :, 1]
    assert up @ centre > 0.1, "it leans inwards"


def test_sizes_colours_shares_and_phases_follow_their_laws(store):
    scene, made = swarm(("sow", {"count": 6000}), last=24)
    shown = [do.add_mesh(scene, box([-s, -s, -s], [s, s, s]), f"Box {s}") for s in (0.01, 0.02)]
    for k, share in ((0, 3.0), (1, 1.0)):
        do.add_layer(
            scene,
            made,
            "grain_show",
            values={
                "subject": shown[k].id,
                "share": share,
                "smallest": 0.5,
                "largest": 2.0,
                "colours": "#ff0000, #00ff00, #0000ff",
                "cycle": 10,
                "rate_varies": 0.4,
            },
        )
    evaluator, _ = solved(scene, store)
    parts = outcome.of(evaluator, scene.doc.find(made), 17).parts
    count = [sum(p.count for p in parts if p.mesh is evaluator.mesh(scene.doc.find(s.id))) for s in shown]
    assert stats.chisquare(count, [4500, 1500]).pvalue > 0.01
    size = np.concatenate([p.places.size for p in parts])
    assert stats.kstest((size - 0.5) / 1.5, "uniform").pvalue > 0.01
    many = np.unique(np.concatenate([p.tints for p in parts]), axis=0, return_counts=True)[1]
    assert len(many) == 3 and stats.chisquare(many).pvalue > 0.01
    ids = np.concatenate([p.ids for p in parts])
    assert len(np.unique(ids)) == 6000
    # floor(rate x time + phase) mod n
    seed, seconds = 1, 16 / RATE
    own = 1 + 0.4 * (2 * rand(seed, ids, "rate") - 1)
    frame = np.floor(own * seconds * RATE + 10 * rand(seed, ids, "phase")).astype(int) % 10
    assert stats.chisquare(np.bincount(frame, minlength=10)).pvalue > 0.01
    assert len(parts) == 2 and np.array_equal(frame, np.concatenate([p.shape for p in parts]))


def test_dress_stales_nothing_and_threads_change_no_bit(store):
    import numba

    scene, made = swarm(("sow", {"count": 3000, "scatter": 1.0}), ("grain_flock", {}), ("grain_turbulence", {}), last=6)
    evaluator, found = solved(scene, store)
    run = evaluator.runs.every()[0]
    cube = do.add_mesh(scene, box([0, 0, 0], [1, 1, 1]), "Cube")
    show = do.add_layer(scene, made, "grain_show", values={"subject": cube.id})
    do.set_value(scene, show.id, "largest", 3.0)
    later = Evaluator(scene.doc, scene, store)
    assert later.runs.key(later.runs.every()[0], 6) == evaluator.runs.key(run, 6)
    before = numba.get_num_threads()
    numba.set_num_threads(1)
    try:
        inputs = later.runs.inputs(run, 2)
        one = run.thing.declared().step(found[0], inputs, 1 / RATE)
    finally:
        numba.set_num_threads(before)
    for name, column in one["grains"].columns.items():
        assert np.array_equal(column, found[1]["grains"][name]), name


# -- bad input -----------------------------------------------------------------------------------------------
def test_what_cannot_be_is_told_and_stops_nothing_else(store, tmp_path):
    scene, made = swarm(("sow", {"count": 0}), last=3)
    assert len(solved(scene, store)[1][-1]["grains"]) == 0, "none is a swarm too"
    layer = scene.doc.find(made).stack[0].id
    for values, words in (
        ({"where": "surface"}, "no mesh"),
        ({"where": "path"}, "no path"),
        ({"where": "file"}, "is not there"),
    ):
        do.set_values(scene, layer, {"count": 10} | values)
        with pytest.raises(EstampaError, match=words):
            solved(scene, store)
    listed = tmp_path / "points.csv"
    listed.write_text("x,y,z\n0,0,0\n1,nan,0\n")
    do.set_values(scene, layer, {"where": "file", "file": str(listed)})
    with pytest.raises(EstampaError, match="row 2"):
        solved(scene, store)
    listed.write_text("x;y;z\n0;0;0\n1;2;3\n")
    do.set_value(scene, layer, "file", f"{listed}")
    do.set_value(scene, layer, "seed", 2) if "seed" in scene.doc.find(layer).declared.channels else None
    assert solved(scene, store)[1][-1]["grains"]["position"][1] == pytest.approx([1, 2, 3])
    do.set_values(scene, layer, {"where": "ball", "speed_x": 1e6})
    assert np.isfinite(solved(scene, store)[1][-1]["grains"]["position"]).all()
    emit = do.add_layer(scene, made, "emit", values={"rate": 1e9})
    with pytest.raises(EstampaError, match="would bear .* grains in one frame|needs .* GB"):
        solved(scene, store)
    do.remove(scene, emit.id)
    do.add_layer(scene, made, "grain_goal")
    with pytest.raises(EstampaError, match="nothing to chase"):
        solved(scene, store)


# -- by formula ----------------------------------------------------------------------------------------------
def streamed(count=2000, loop=(1, 49)):
    scene = Scene(Document(start=1, end=48, loop=loop, frame_rate=RATE))
    made = do.add_thing(scene, "swarm", values={"by": "formula", "period": 3.0})
    do.add_layer(scene, made.id, "sow", values={"count": count, "radius": 2.0})
    return scene, made.id


def test_a_swarm_by_formula_needs_no_solve_and_loops(store):
    scene, made = streamed()
    way = do.add_thing(scene, "path", spots=((0, 0, 0), (1, 0, 0), (1, 0, 1), (0, 0, 1)), values={"closed": True})
    for kind, values in (("grain_circle", {}), ("grain_sway", {}), ("grain_ride", {"path": way.id, "strength": 0.5})):
        do.add_layer(scene, made, kind, values=values)
    evaluator = Evaluator(scene.doc, scene, store)
    assert evaluator.runs.every() == []
    swarm = scene.doc.find(made)
    at = lambda f: evaluator.swarms.by_formula(swarm, f)
    assert at(49)["position"] == pytest.approx(at(1)["position"], abs=1e-9)
    moved = np.linalg.norm(at(25)["position"] - at(1)["position"], axis=1)
    assert moved.max() > 0.5
    # the way that it goes is the derivative, by finite differences of another size
    wanted = (at(10.05)["position"] - at(9.95)["position"]) * RATE / 0.1
    close = np.linalg.norm(at(10)["velocity"] - wanted, axis=1) < 0.05 * np.linalg.norm(wanted, axis=1) + 0.02
    assert close.mean() > 0.97, "but where a round ends, or the path has a knot"
    assert np.linalg.norm(at(10)["velocity"], axis=1).max() < 60, "none is told to jump back"
    parts = outcome.of(evaluator, swarm, 12).parts
    assert sum(p.count for p in parts) == 2000


def test_what_comes_down_does_so_evenly_in_whole_rounds(store):
    scene, made = streamed(4000)
    rain = do.add_layer(scene, made, "grain_rain", values={"height": 5.0, "least": 1, "most": 3})
    evaluator, swarm = Evaluator(scene.doc, scene, store), scene.doc.find(made)
    sown = evaluator.swarms.by_formula(swarm, 1)["ids"]
    still = places.in_ball(sown, 1) * 2.0
    for frame in (1, 17, 40):
        gone = (still[:, 1] - evaluator.swarms.by_formula(swarm, frame)["position"][:, 1]) / 5.0
        assert stats.kstest(gone, "uniform").pvalue > 1e-3
    mixed = salt(1, rain.id)
    phase = np.array([chance(i, mixed) for i in sown[:200]])
    rounds = 1 + (3 * np.array([chance(i ^ 0x5A5A5A, mixed) for i in sown[:200]])).astype(int)
    gone = (still[:200, 1] - evaluator.swarms.by_formula(swarm, 17)["position"][:200, 1]) / 5.0
    assert gone == pytest.approx((phase + rounds * 16 / 48) % 1, abs=1e-9)


def test_a_swarm_begins_from_a_frame_that_was_adopted_with_its_grains_and_their_numbers(store):
    from estampa.evaluate import starts

    scene, made = swarm(("sow", {"count": 30, "scatter": 1.0, "life": 0.9}), ("emit", {"rate": 60.0}), last=24)
    evaluator, found = solved(scene, store)
    then = found[15]["grains"]
    do.set_start(scene, made, starts.adopt(evaluator, made, 16))
    later, again = solved(scene, store)
    assert np.array_equal(again[0]["grains"].ids, then.ids)
    for name, column in then.columns.items():
        assert np.array_equal(again[0]["grains"][name], column), name
    born = again[-1]["grains"].ids
    assert len(np.unique(born)) == len(born) and np.isin(born, found[-1]["grains"].ids).sum() > 0
    assert again[-1]["report"]["born"][0] > found[15]["report"]["born"][0]
    do.set_start(scene, made, None)
    assert np.array_equal(solved(scene, store)[1][0]["grains"].ids, found[0]["grains"].ids)


# -- eddies by formula, and what keeps apart -----------------------------------------------------------------
def test_eddies_have_no_divergence_carry_as_an_integrator_does_and_come_back(store):
    scene, made = streamed(300)
    layer = do.add_layer(scene, made, "grain_eddies", values={"flow": 0.8, "scale": 1.2, "least": 1, "most": 2})
    evaluator, swarm = Evaluator(scene.doc, scene, store), scene.doc.find(made)
    v = evaluator.reader.resolved(scene.doc.find(layer.id), Scope.world(1, swarm))
    waves, across, turns, phase = waves_of(v, 1, 1, 2)
    assert np.abs(np.einsum("mi,mi->m", waves, across)).max() < 1e-12, "each wave's speed lies across it"
    assert np.sqrt((across**2).sum() / 2) == pytest.approx(0.8), "the mean square of the flow"
    flow = lambda t, p: np.cos(waves @ p + phase + 2 * np.pi * turns * t / 2.0) @ across
    home = evaluator.swarms.by_formula(swarm, 1)["position"]
    frame, period = 4, 2.0
    share = (frame - 1) / 48
    w = share**2 * (3 - 2 * share)
    found = evaluator.swarms.by_formula(swarm, frame)
    for i in range(0, 300, 60):
        to = lambda a, b: solve_ivp(flow, (a, b), home[i], rtol=1e-9, atol=1e-11).y[:, -1]  # noqa: B023
        wanted = (1 - w) * to(0, share * period) + w * to(period, share * period)
        assert found["position"][i] == pytest.approx(wanted, abs=0.02 * 0.8 * period), "of its way in a period"
    assert evaluator.swarms.by_formula(swarm, 49)["position"] == pytest.approx(home, abs=1e-9)
    a, b = (evaluator.swarms.by_formula(swarm, f)["velocity"] for f in (1, 48.999))
    assert b == pytest.approx(a, abs=0.02), "without a seam in its speed"


def test_what_keeps_apart_is_nowhere_nearer(store):
    scene, made = swarm(("sow", {"count": 1500, "radius": 0.3, "scatter": 0.3}), ("grain_apart", {"apart": 0.04}))
    _, found = solved(scene, store)
    near = lambda f: cKDTree(f["grains"]["position"]).query(f["grains"]["position"], 2)[0][:, 1].min()
    assert near(found[0]) < 0.005 and near(found[-1]) > 0.97 * 0.04
    # two that meet head on bounce off each other, and keep their momentum (for equal masses the handbook's restitution)
    place, speed = np.array([[-0.04, 0, 0], [0.04, 0, 0]]), np.array([[1.0, 0, 0], [-1, 0, 0]])
    grains = Grains.born(np.array([1, 2]), place, speed, 9)
    declared = kind_of("grain_apart")
    v = Resolved({n: c.default for n, c in declared.channels.items()} | {"apart": 0.1, "bounce": 0.5, "passes": 1})
    declared().bound(grains, v, None, np.array([0.04]))
    assert grains.velocity[:, 0] == pytest.approx([-0.5, 0.5]) and grains.position[:, 0] == pytest.approx([-0.05, 0.05])


# -- attributes ----------------------------------------------------------------------------------------------
def test_any_attribute_drives_any_of_the_looks_through_a_ramp_or_a_formula(store):
    scene, made = swarm(("sow", {"count": 400, "scatter": 2.0}), ("grain_fall", {}), last=6)
    shown = do.add_mesh(scene, box([-0.01] * 3, [0.01] * 3), "Box")
    show = do.add_layer(scene, made, "grain_show", values={
        "subject": shown.id, "smallest": 1.0, "largest": 3.0, "size_by": "speed", "size_from": 0.5, "size_to": 2.5,
        "size_ramp": "0 1, 0.5 0, 1 1", "colours": "#000000, #ffffff", "colour_by": "formula",
        "colour_formula": "smoothstep(0, 1, speed - 1)",
    }).id  # fmt: skip
    evaluator, found = solved(scene, store)
    part = outcome.of(evaluator, scene.doc.find(made), 6).parts[0]
    speed = np.linalg.norm(found[-1]["grains"]["velocity"], axis=1)
    share = np.clip((speed - 0.5) / 2.0, 0, 1)
    assert part.places.size == pytest.approx(1 + 2 * np.abs(2 * share - 1), abs=1e-6)
    t = np.clip(speed - 1, 0, 1)
    assert part.tints[:, 0] == pytest.approx(t * t * (3 - 2 * t), abs=1 / 128)
    entering = evaluator.dressing.spread(scene.doc.find(made), scene.doc.find(show), "size", 6)
    assert np.sort(entering) == pytest.approx(np.sort(share))
    for name, words, said in (
        ("size_ramp", "0 0, up 1", "cannot be read"), ("colour_formula", "open('x')", "unknown here"),
        ("colours", "red, #00", "which is none"),
    ):  # fmt: skip
        with pytest.raises(EstampaError, match=said):
            do.set_value(scene, show, name, words)


def test_a_pull_takes_hold_of_a_part_of_the_grains_always_the_same(store):
    scene, made = swarm(
        ("sow", {"count": 2000, "radius": 0.2}), ("grain_pull", {"amount": 4.0, "part": 0.3, "way": "along"}), last=6
    )
    _, found = solved(scene, store)
    moved = [np.linalg.norm(f["grains"]["velocity"], axis=1) > 1e-6 for f in found[1:]]
    assert stats.binomtest(int(moved[0].sum()), 2000, 0.3).pvalue > 0.001
    assert all(np.array_equal(m, moved[0]) for m in moved)
