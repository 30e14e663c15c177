"""Cloth that meets things, against mechanics and an exact geometry test, not against itself."""

import ipctk
import numpy as np
import pytest
import trimesh
from scipy.spatial.transform import Rotation

from estampa.fields.force import Floor, Obstacle, World
from estampa.geometry.mesh import Mesh
from estampa.geometry.place import Place
from estampa.geometry.primitives import sheet
from estampa.kinds.registry import kind_of
from estampa.motion.layer import Resolved
from estampa.solve.aid import AidInputs
from estampa.solve.cloth.aids.pressure import Pressure
from estampa.solve.cloth.aids.tension import Tension
from estampa.solve.cloth.fabric import tethers
from estampa.solve.cloth.kind import Cloth, Cloths
from estampa.solve.cloth.levels import Levels
from estampa.solve.contact.closest import edge_edge, point_triangle
from estampa.solve.ensemble import EnsembleInputs, MemberInputs
from estampa.solve.solver import Inputs

G, RATE = 9.80665, 24


def channels(kind=Cloth, **more) -> Resolved:
    v = Resolved({name: c.default for name, c in kind.channels.items()})
    v.travel = {}
    if kind is Cloth:
        v.update(drag=0.0, lift=0.0)
    v.update(more)
    return v


def at(x=0.0, y=0.0, z=0.0, turn=0.0) -> Place:
    return Place.of({"x": x, "y": y, "z": z, "turn_x": 0.0, "turn_y": 0.0, "turn_z": turn, "size": 1.0})


def obstacle(shape, dims=(0, 0, 0), before=None, now=None, friction=0.3, **more) -> Obstacle:
    now = now or Place.still()
    return Obstacle(shape, shape, dims, friction, (before or now, now), **more)


def rolled(mesh, frames, v, world_at, now_at=None, aids=(), speed=None):
    """States of a cloth in worlds that a function of the frame gives."""
    stand = now_at or (lambda k: mesh.points)
    inputs = lambda k: Inputs(mesh, stand(max(k - 1, 0)), stand(k), v, world_at(k), stand(0), aids)
    state, kept = Cloth().start(inputs(0)), []
    if speed is not None:
        state["points"].columns["velocity"][:] = speed
    for k in range(1, frames + 1):
        state = Cloth().step(state, inputs(k), 1 / RATE)
        kept.append(state)
    return kept


def placed(state) -> np.ndarray:
    return state["points"]["position"].astype(float)


def flat_at(height, side=1.0, count=40) -> Mesh:
    mesh = sheet(side, side, count, count)
    return mesh.with_points(mesh.points - [side / 2, -height, side / 2])


def crossings(points, mesh, solids=()) -> int:
    """Whether triangles of a cloth cross each other, or those of closed solids: the exact test of ipctk."""
    points, triangles = [points], [mesh.triangles.astype(np.int32)]
    for p, t in solids:
        triangles.append(np.asarray(t, np.int32) + sum(map(len, points)))
        points.append(np.asarray(p, float))
    points, triangles = np.concatenate(points), np.concatenate(triangles)
    return int(ipctk.has_intersections(ipctk.CollisionMesh(points, ipctk.edges(triangles), triangles), points))


def ball(radius, centre=(0, 0, 0)):
    """(points, triangles) of a round thing, a little within a sphere: its flat faces lie inside."""
    made = trimesh.creation.icosphere(3, radius)
    return made.vertices + centre, made.faces


# -- closest points ------------------------------------------------------------------------------------------------
def test_closest_points_are_the_least_of_many():
    rng = np.random.default_rng(4)
    grid = np.linspace(0, 1, 60)
    for _ in range(40):
        p, a, b, c = rng.normal(size=(4, 3))
        u, v, w, _ = point_triangle(*p, *a, *b, *c)
        share = np.array([(i, j) for i in grid for j in grid if i + j <= 1])
        points = a + share[:, :1] * (b - a) + share[:, 1:] * (c - a)
        least = np.linalg.norm(points - p, axis=1).min()
        assert u + v + w == pytest.approx(1) and min(u, v, w) > -1e-12
        assert np.linalg.norm(u * a + v * b + w * c - p) <= least + 1e-9
        s, t, _ = edge_edge(*p, *a, *b, *c)
        every = (p + grid[:, None] * (a - p))[:, None] - (b + grid[:, None] * (c - b))[None]
        assert np.linalg.norm(p + s * (a - p) - b - t * (c - b)) <= np.linalg.norm(every, axis=2).min() + 1e-9


# -- friction ------------------------------------------------------------------------------------------------------
@pytest.mark.parametrize(("degrees", "slides"), [(14, False), (21, True)])
def test_a_sheet_on_a_slope_sticks_up_to_the_angle_of_friction(degrees, slides):
    """Coulomb: it slides when tan(angle) > friction (0.3: 16.7 degrees), then at g (sin - friction cos)."""
    angle = np.radians(degrees)
    turn = Rotation.from_euler("z", -angle).as_matrix()
    mesh = sheet(0.3, 0.3, 12, 12)
    mesh = mesh.with_points((mesh.points + [0, 0.0016, 0]) @ turn.T)
    world = World(np.array([0, -G, 0.0]), colliders=[obstacle("plane", now=at(turn=-angle))])
    states = rolled(mesh, 24, channels(damping=0.0), lambda k: world)
    went = ((placed(states[-1]) - mesh.points) @ turn)[:, 0].mean()
    expected = 0.5 * G * (np.sin(angle) - 0.3 * np.cos(angle)) * (24 / RATE) ** 2
    assert went == pytest.approx(expected, rel=0.05) if slides else abs(went) < 0.002


@pytest.mark.slow
def test_a_band_round_a_post_is_held_by_the_exponential_of_its_angle():
    """Euler-Eytelwein (the capstan): pulled round half a post, tension grows by exp(friction x pi)."""
    radius, v = (
        0.1,
        channels(friction=0.3, damping=2.0, hold=6.0, warp=4000.0, weft=4000.0, substeps=40, bend=0.0, limit=0.5),
    )
    flat = sheet(0.02, 0.7, 3, 106)
    along, wide = flat.points[:, 2], flat.points[:, 0] - 0.01
    arc = np.pi * (radius + 0.0016)
    bow = np.clip(along - (0.7 - arc) / 2, 0, arc) / arc * np.pi
    low = np.minimum(along - (0.7 - arc) / 2, 0) + np.minimum((0.7 + arc) / 2 - along, 0)
    r = radius + 0.0016
    mesh = flat.with_points(np.stack([-r * np.cos(bow), r * np.sin(bow) + low, wide], axis=1))
    pins = np.zeros(mesh.count, np.float32)
    ends = along < 0.03, along > 0.67
    pins[ends[0] | ends[1]] = 0.9
    v["pins"] = pins
    post = obstacle(
        "capsule",
        (radius, 0.3, 0.0),
        now=Place.of(dict.fromkeys(("x", "y", "z", "turn_y", "turn_z"), 0.0) | {"turn_x": np.pi / 2, "size": 1.0}),
    )
    world = World(np.zeros(3), colliders=[post])

    def stand(k):
        points = mesh.points.copy()
        points[ends[0], 1] -= 0.02 * min(k / 12, 1) + 0.05 * max(k - 12, 0) / RATE
        points[ends[1], 1] -= 0.02 * min(k / 12, 1)
        return points

    states = rolled(mesh, 56, v, lambda k: world, stand)
    pulls = []
    for k in range(34, 56, 2):
        away = np.abs(placed(states[k]) - stand(k + 1))[:, 1]
        pulls.append([away[e].sum() for e in ends])
    slow, fast = np.mean([p[1] for p in pulls]), np.mean([p[0] for p in pulls])
    assert fast / slow == pytest.approx(np.exp(0.3 * np.pi), rel=0.05)


# -- pressure and tension ------------------------------------------------------------------------------------------
@pytest.mark.slow
def test_a_balloon_is_as_tight_as_laplace_says():
    """Tension of a round membrane: pressure x radius / 2 (Laplace)."""
    made = trimesh.creation.icosphere(3, 0.2)
    mesh = Mesh.from_triangles(made.vertices, made.faces)
    stiff, pascals = 200.0, 60.0
    v = channels(warp=stiff, weft=stiff, shear=stiff / 2, bend=0.0, damping=8.0, substeps=160, limit=0.5, excess=1.0)
    told = AidInputs("p", "Pressure", Pressure, channels(Pressure, strength=1.0, map=None, zone=None, pressure=pascals))
    states = rolled(mesh, 72, v, lambda k: World(np.zeros(3)), aids=(told,))
    radius = np.linalg.norm(placed(states[-1]), axis=1).mean()
    stretch = radius / 0.2
    tension = stiff * 0.5 * (stretch**2 - 1)  # Green strain, force over the length at rest
    assert tension == pytest.approx(pascals * radius * stretch / 2, rel=0.03)  # that length has grown


def test_kept_volume_is_kept_whatever_presses_on_it():
    made = trimesh.creation.icosphere(2, 0.1)
    mesh = Mesh.from_triangles(made.vertices + [0, 0.11, 0], made.faces)
    v = channels(warp=300.0, weft=300.0, damping=2.0)
    told = AidInputs("p", "Pressure", Pressure, channels(Pressure, strength=1.0, map=None, zone=None, keeps="volume"))
    world = World(np.array([0, -G, 0.0]), floors=[Floor(0.0, 0.5)])
    last = placed(rolled(mesh, 48, v, lambda k: world, aids=(told,))[-1])
    assert trimesh.Trimesh(last, made.faces).volume == pytest.approx(made.volume, rel=0.01)
    assert np.ptp(last[:, 1]) < 0.199, "it sags on the ground"


@pytest.mark.parametrize("rest", [0.95, 0.9])
def test_a_shrunk_strip_pulls_at_its_clamps(rest):
    """Hooke: stiffness x strain x width, read from the soft holds that bear it."""
    mesh, v = (
        sheet(0.5, 0.1, 26, 6),
        channels(warp=60.0, weft=60.0, bend=0.0, damping=6.0, substeps=240, hold=20.0, limit=1.0),
    )
    ends = mesh.points[:, 0] < 1e-9, mesh.points[:, 0] > 0.5 - 1e-9
    v["pins"] = np.where(ends[0] | ends[1], 0.9, 0).astype(np.float32)
    told = AidInputs("t", "Tension", Tension, channels(Tension, strength=1.0, map=None, zone=None, warp=rest, weft=1.0))
    last = placed(rolled(mesh, 60, v, lambda k: World(np.zeros(3)), aids=(told,))[-1])
    area = 0.02 * 0.02 / 2 * np.array([np.isin(mesh.triangles, i).any(axis=1).sum() for i in range(mesh.count)]) / 3
    grip = v.density * area * (2 * np.pi * 20) ** 2 * 0.9 / 0.1
    away = last[:, 0] - mesh.points[:, 0]
    pull = float((grip * away)[ends[0]].sum())
    middle = last.reshape(6, 26, 3)[:, 8:19, 0]  # at the clamps it cannot narrow
    stretch = np.diff(middle, axis=1).mean() / (0.02 * rest)
    green = 0.5 * (stretch**2 - 1) * stretch / rest * 60.0 * 0.1  # of the strain that the yarns are measured by
    assert pull == pytest.approx(green, rel=0.04)
    assert -float((grip * away)[ends[1]].sum()) == pytest.approx(pull, rel=0.02)


def test_a_strip_bends_as_the_bending_length_test_says():
    """BS 3356, ASTM D1388 (from memory): a strip that overhangs by twice its bending length (stiffness / weight)^(1/3)
    droops until a line from the edge to its tip falls by 41.5 degrees."""
    stiff, density = 3e-3, 0.2
    overhang = 2 * (stiff / (density * G)) ** (1 / 3)
    step = overhang / 12
    mesh = sheet(overhang + 2 * step, 4 * step, 15, 5)
    held = (mesh.points[:, 0] < 2 * step * 1.01).astype(np.float32)
    v = channels(bend=stiff, density=density, damping=4.0, substeps=120, tether=1e6, pins=held)
    tip = placed(rolled(mesh, 96, v, lambda k: World(np.array([0, -G, 0.0])))[-1])[
        mesh.points[:, 0] > overhang + 1.99 * step
    ].mean(axis=0)
    angle = np.degrees(np.arctan2(-tip[1], tip[0] - 2 * step))
    assert angle == pytest.approx(41.5, abs=2.5)


# -- several cloths --------------------------------------------------------------------------------------------------
def crowd(meshes, vs, place, world, k=1):
    seen = tuple(
        MemberInputs(f"c{i}", f"Cloth {i}", m, m.points, m.points, m.points, v)
        for i, (m, v) in enumerate(zip(meshes, vs, strict=True))
    )
    return EnsembleInputs(seen, channels(Cloths), world, k, 0)


def test_cloths_that_meet_keep_their_momentum_and_do_not_cross():
    """Newton's third law: what one gains the other loses."""
    meshes = [flat_at(0.0, 0.4, 20), flat_at(0.03, 0.3, 17)]
    vs = [channels(damping=0.0), channels(damping=0.0, density=0.4)]
    both = crowd(meshes, vs, None, World(np.zeros(3)))
    state = Cloths().start(both)
    first, last = state["points"].spans["c1"]
    state["points"].columns["velocity"][first:last] = [0.3, -1.0, 0.0]
    mass = lambda m, v: (
        v.density
        * np.bincount(
            m.triangles.ravel(),
            np.repeat(trimesh.Trimesh(m.points, m.triangles, process=False).area_faces / 3, 3),
            minlength=m.count,
        )
    )
    masses = np.concatenate([mass(m, v) for m, v in zip(meshes, vs, strict=True)])
    before = masses @ state["points"]["velocity"].astype(float)
    for _ in range(12):
        state = Cloths().step(state, both, 1 / RATE)
        points = placed(state)
        solids = [(points[first:last], meshes[1].triangles)]
        assert crossings(points[:first], meshes[0], solids) == 0
    after = masses @ state["points"]["velocity"].astype(float)
    assert np.abs(after - before).max() < 0.01 * np.abs(before).max()
    gained = masses[:first] @ state["points"]["velocity"][:first].astype(float)
    assert gained[1] < 0.2 * before[1], "they did meet"


# -- nothing passes --------------------------------------------------------------------------------------------------
@pytest.mark.slow
def test_a_sheet_falls_on_a_ball_folds_and_comes_to_rest():
    mesh = flat_at(0.34, 0.7, 40)
    world = World(
        np.array([0, -G, 0.0]), floors=[Floor(0.0, 0.3)], colliders=[obstacle("sphere", (0.15, 0, 0), now=at(y=0.15))]
    )
    states = rolled(mesh, 84, channels(itself=True), lambda k: world)
    for state in states[::3]:
        points = placed(state)
        assert crossings(points, mesh, [ball(0.1498, (0, 0.15, 0))]) == 0
        assert np.linalg.norm(points - [0, 0.15, 0], axis=1).min() > 0.15 + 0.0015 - 0.0003
    rest = np.linalg.norm(placed(states[-1]) - placed(states[-13]), axis=1).mean() / (12 / RATE)
    assert rest < 0.001, "a settled drape moves by less than a millimetre a second"


@pytest.mark.slow
@pytest.mark.parametrize("shape", ["sphere", "box", "mesh"])
def test_a_collider_that_plunges_at_20_metres_a_second_does_not_pass(shape):
    mesh = flat_at(0.0, 0.6, 25)
    border = np.isin(mesh.points[:, [0, 2]], [-0.3, 0.3]).any(axis=1)
    v = channels(itself=True, pins=border.astype(np.float32), warp=300.0, weft=300.0, limit=3.0, tether=5.0)
    points, triangles = ball(0.1)

    def world(k):
        before, now = (at(y=0.9 - 20 / RATE * min(j, 1)) for j in (k - 1, k))
        if shape == "mesh":
            solid = obstacle(
                "mesh", now=now, points=tuple(p.apply(points[None])[0] for p in (before, now)), triangles=triangles
            )
        else:
            solid = obstacle(shape, (0.1, 0.1, 0.1), before, now)
        return World(np.array([0, -G, 0.0]), colliders=[solid])

    height = 0.9 - 20 / RATE
    for state in rolled(mesh, 8, v, world):
        last = placed(state)
        solid = (points * 0.998 + [0, height, 0], triangles)
        assert np.isfinite(last).all() and crossings(last, mesh, [solid] if shape != "box" else []) == 0
        under = np.linalg.norm(last[:, [0, 2]], axis=1) < 0.05
        assert (last[under, 1] < height - 0.05).all(), "all that was below it still is"


def test_what_starts_tangled_is_not_thrown_apart():
    """A collider that starts within the cloth's sheet, and a sheet that starts through itself."""
    mesh = flat_at(0.1, 0.4, 20)
    world = World(
        np.array([0, -G, 0.0]), floors=[Floor(0.0, 0.3)], colliders=[obstacle("sphere", (0.08, 0, 0), now=at(y=0.1))]
    )
    fast = max(
        np.linalg.norm(s["points"]["velocity"], axis=1).max() for s in rolled(mesh, 24, channels(), lambda k: world)
    )
    assert fast < 3.0
    folded = mesh.points.copy()
    folded[:, 1] += 0.02 * np.sign(folded[:, 0]) * (np.abs(folded[:, 0]) < 0.02)
    states = rolled(mesh.with_points(folded), 12, channels(itself=True), lambda k: World(np.zeros(3)))
    assert max(np.linalg.norm(s["points"]["velocity"], axis=1).max() for s in states) < 3.0


def test_shrinking_and_inside_out_colliders_do_no_harm():
    mesh, (points, triangles) = flat_at(0.22, 0.3, 16), ball(0.1, (0, 0.1, 0))
    gravity = np.array([0, -G, 0.0])
    inverted = obstacle("mesh", points=(points, points), triangles=triangles[:, ::-1])
    world = World(gravity, floors=[Floor(0.0, 0.3)], colliders=[inverted])
    last = placed(rolled(mesh, 30, channels(), lambda k: world)[-1])
    assert np.linalg.norm(last - [0, 0.1, 0], axis=1).min() > 0.097 and last[:, 1].max() > 0.19
    size = lambda k: Place.of(
        {"x": 0.0, "y": 0.1, "z": 0.0, "turn_x": 0.0, "turn_y": 0.0, "turn_z": 0.0, "size": max(1 - k / 12, 0)}
    )
    shrinks = lambda k: World(
        gravity, floors=[Floor(0.0, 0.3)], colliders=[obstacle("sphere", (0.1, 0, 0), size(k - 1), size(k))]
    )
    last = placed(rolled(mesh, 40, channels(), shrinks)[-1])
    assert np.isfinite(last).all() and last[:, 1].max() < 0.08, "it falls as what bore it goes"


def test_contact_has_the_same_bits_whatever_the_threads():
    import numba

    mesh = flat_at(0.2, 0.4, 26)
    world = World(
        np.array([0, -G, 0.0]),
        floors=[Floor(0.0, 0.3)],
        colliders=[obstacle("capsule", (0.05, 0.1, 0), now=at(y=0.1, turn=1.2))],
    )
    found = []
    for threads in (1, 2):
        numba.set_num_threads(min(threads, numba.config.NUMBA_NUM_THREADS))
        found.append(placed(rolled(mesh, 16, channels(itself=True), lambda k: world)[-1]))
    assert np.array_equal(*found)


# -- coarse to fine ----------------------------------------------------------------------------------------------------
def test_coarser_sheets_keep_what_is_held_and_measure_over_the_surface():
    mesh = sheet(1.0, 1.0, 21, 21)
    held = np.zeros(mesh.count, bool)
    held[[0, 20]] = True
    levels = Levels.of(mesh.points, mesh.normals(), mesh.edges, held)
    assert len(levels.spans) > 2 and np.isin([0, 20], levels.at).all()
    straight = np.linalg.norm(mesh.points[levels.at[:, 1]] - mesh.points[levels.at[:, 0]], axis=1)
    assert np.allclose(levels.rest, straight), "on a flat sheet the way over the surface is straight"
    assert np.allclose(levels.share.sum(axis=1), 1)
    assert tethers(mesh, held)[1].max() == pytest.approx(np.sqrt(1 + 0.25), rel=0.06)


def test_every_aid_stands_below_a_cloth():
    for word in ("hold_to", "tension", "pressure", "wind_shadow", "wetness"):
        assert kind_of(word).helps == "cloth" and kind_of(word).summary()
