"""Cloth against mechanics: handbook formulas and published methods, not against itself."""

import numba
import numpy as np
import pytest
from scipy.optimize import approx_fprime, brentq

from estampa.errors import EstampaError
from estampa.fields.force import AIR_DENSITY, Floor, World
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import sheet
from estampa.motion.layer import Resolved
from estampa.solve.cloth.fabric import Parts, tethers
from estampa.solve.cloth.kernels import dihedral
from estampa.solve.cloth.kind import Cloth
from estampa.solve.frame import Frame
from estampa.solve.solver import Inputs

G = 9.80665


def channels(**more):
    """Plain cloth: no air, no damping, no bending, no tether, unless asked for."""
    v = Resolved({name: c.default for name, c in Cloth.channels.items()})
    v.travel = {}
    v.update(
        drag=0.0,
        lift=0.0,
        damping=0.0,
        bend=0.0,
        tether=1e6,
        limit=1e3,
        excess=1.0,
        **{k: more.pop(k) for k in list(more) if k not in Cloth.channels},
    )
    v.update(more)
    return v


def solved(mesh, frames, v, now=None, gravity=G, floors=(), keep=lambda s: s, start=None, air=None):
    """(last state, what `keep` kept of each frame) of a cloth that follows `now`, at 24 frames a second."""
    now = mesh.points if now is None else now
    world = World(
        np.array([0, -gravity, 0.0]),
        [lambda p: np.broadcast_to(np.asarray(air, float), p.shape)] if air else [],
        list(floors),
    )
    inputs = Inputs(mesh, now, now, v, world)
    state, kept = start or Cloth().start(Inputs(mesh, mesh.points, mesh.points, v, world)), []
    for _ in range(frames):
        state = Cloth().step(state, inputs, 1 / 24)
        kept.append(keep(state))
    return state, np.array(kept) if kept and isinstance(kept[0], (float, np.ndarray)) else kept


def hanging(rows, columns=4, width=0.2):
    """A metre of cloth that hangs straight down."""
    flat = sheet(width, 1.0, columns, rows)
    return Mesh(flat.points[:, [0, 2, 1]] * [1, -1, 1], flat.face_counts, flat.face_indices, flat.uv)


def test_a_free_sheet_falls_as_a_stone():
    state, _ = solved(sheet(1, 1, 9, 9), 24, channels(substeps=40))
    # one second: g t^2 / 2, and the half substep that symplectic Euler adds
    assert state["points"]["position"][:, 1].mean() == pytest.approx(-G / 2, rel=2e-3)
    assert np.ptp(state["points"]["position"][:, 1]) < 1e-4


@pytest.mark.slow
@pytest.mark.parametrize(("weave", "substeps"), [("strain", 60), ("links", 100)])
def test_a_strip_hung_at_both_ends_is_a_catenary(weave, substeps):
    """A chain of length L between supports at one height: L = 2 a sinh(s / 2a), sag = a (cosh(s / 2a) - 1)."""
    length, span = 2.0, 1.6
    mesh = sheet(length, 0.02, 31, 2)
    ends = np.isin(mesh.points[:, 0], (0, length)).astype(np.float32)
    squeezed = mesh.points * [span / length, 1, 1]
    state, _ = solved(
        mesh,
        240,
        channels(pins=ends, warp=2e5, weft=2e5, shear=1e3, substeps=substeps, damping=3.0, weave=weave),
        squeezed,
    )
    a = brentq(lambda a: 2 * a * np.sinh(span / (2 * a)) - length, 0.05, 50)
    assert -state["points"]["position"][:, 1].min() == pytest.approx(a * (np.cosh(span / (2 * a)) - 1), rel=0.01)


@pytest.mark.slow
@pytest.mark.parametrize("rows", [11, 21, 41])
@pytest.mark.parametrize("stiffness", [40.0, 100.0])
def test_stretch_under_its_own_weight_follows_its_stiffness_at_any_density(rows, stiffness):
    """A hanging strip of area density s, length L and membrane stiffness k grows by s g L^2 / 2k (Hooke)."""
    mesh = hanging(rows)
    v = channels(
        pins=(mesh.points[:, 1] > -1e-9).astype(np.float32),
        warp=stiffness,
        weft=stiffness,
        shear=0.3 * stiffness,
        substeps=2 * rows,
        damping=4.0,
    )
    state, _ = solved(mesh, 200, v)
    assert -state["points"]["position"][:, 1].min() - 1 == pytest.approx(0.2 * G / (2 * stiffness), rel=0.13)


@pytest.mark.slow
def test_links_keep_their_stiffness_at_any_density_too():
    grown = []
    for rows in (11, 21, 41):
        mesh = hanging(rows, columns=max(3, rows // 5))
        v = channels(
            pins=(mesh.points[:, 1] > -1e-9).astype(np.float32),
            warp=60.0,
            weft=60.0,
            shear=20.0,
            substeps=2 * rows,
            damping=4.0,
            weave="links",
        )
        grown.append(-solved(mesh, 200, v)[0]["points"]["position"][:, 1].min() - 1)
    assert max(grown) / min(grown) < 1.3
    assert 0.5 < np.mean(grown) / (0.2 * G / 120) < 2  # springs along edges are an approximation (Van Gelder 1998)


@pytest.mark.parametrize(("density", "drag"), [(0.2, 1.2), (0.5, 0.8)])
def test_terminal_speed_of_a_falling_sheet(density, drag):
    """Drag = weight: v = sqrt(2 s g / (rho Cd)) for area density s, air density rho."""
    state, _ = solved(sheet(1, 1, 9, 9), 96, channels(density=density, drag=drag, bend=1e-3))
    assert -state["points"]["velocity"][:, 1].mean() == pytest.approx(
        np.sqrt(2 * density * G / (AIR_DENSITY * drag)), rel=0.01
    )


def test_lift_lies_across_the_wind_and_drag_along_it():
    """A plate at 45 degrees under the flat-plate law: drag ~ cos, lift ~ sin cos of the angle to the normal."""
    mesh = sheet(1, 1, 2, 2)
    gain = {}
    for name, v in {"drag": channels(drag=1.0, substeps=1), "lift": channels(lift=1.0, substeps=1)}.items():
        state, _ = solved(mesh, 1, v, gravity=0.0, air=(0, 1.0, 1.0))
        gain[name] = state["points"]["velocity"].mean(axis=0)
    force = 0.5 * AIR_DENSITY * 2 * np.cos(np.pi / 4) / 0.2 / 24  # 1/2 rho v^2 cos / s, over one step
    along, across = np.array([0, 1, 1]) / np.sqrt(2), np.array([0, 1, -1]) / np.sqrt(2)
    assert gain["drag"] @ along == pytest.approx(force, rel=0.2) and abs(gain["drag"] @ across) < 1e-3
    assert gain["lift"] @ across == pytest.approx(force * np.sin(np.pi / 4), rel=0.2)
    assert abs(gain["lift"] @ along) < 0.1 * gain["lift"] @ across


@pytest.mark.slow
def test_energy_never_grows_without_wind():
    """Kinetic plus potential energy of a sheet that swings from two corners never passes what it began with."""
    mesh = sheet(1, 1, 21, 21)
    corners = np.zeros(mesh.count, np.float32)
    corners[[0, 20]] = 1
    parts = Parts.of(mesh)
    mass = parts.area[parts.place] * 0.2
    energy = lambda s: float(
        (
            mass * (0.5 * (s["points"]["velocity"].astype(float) ** 2).sum(axis=1) + G * s["points"]["position"][:, 1])
        ).sum()
    )
    for substeps in (10, 40):
        _, kept = solved(mesh, 240, channels(pins=corners, bend=1e-5, substeps=substeps), keep=energy)
        assert max(kept) <= 1e-6
        assert np.isfinite(kept).all()


@pytest.mark.slow
def test_doubling_the_substeps_changes_little_and_ever_less():
    mesh = sheet(1, 1, 21, 21)
    edge = (mesh.points[:, 2] == 0).astype(np.float32)
    v = lambda n: channels(
        pins=edge, warp=800.0, weft=800.0, shear=80.0, bend=2e-5, damping=0.5, drag=1.2, lift=0.5, substeps=n
    )
    swings = {
        n: solved(mesh, 48, v(n), keep=lambda s: s["points"]["position"].copy())[1] for n in (10, 20, 40, 80, 160)
    }
    apart = [float(np.sqrt(((swings[2 * n] - swings[n]) ** 2).sum(axis=2).mean())) for n in (10, 20, 40, 80)]
    assert apart[1] < 0.01, "20 against 40 substeps: under a hundredth of the sheet's side"
    assert apart[0] > 2 * apart[1] > 4 * apart[2] > 8 * apart[3]  # at least first order


@pytest.mark.slow
def test_a_strip_droops_as_a_plate_does_at_any_density():
    """A cantilever under its own weight: tip deflection w L^4 / 8 D (small deflections, Euler-Bernoulli)."""
    for rows, columns, substeps in ((11, 4, 240), (21, 7, 960)):  # finer meshes need more steps to be as stiff
        mesh = sheet(0.1, 0.3, columns, rows)
        held = (mesh.points[:, 2] < 0.3 / (rows - 1) * 1.01).astype(np.float32)  # two rows: clamped, not hinged
        free = 0.3 - 0.3 / (rows - 1)
        droop = {}
        for bend in (3e-4, 3e-3, 3e-2) if rows == 11 else (3e-2,):
            v = channels(pins=held, bend=bend, warp=3000.0, weft=3000.0, shear=500.0, substeps=substeps, damping=4.0)
            droop[bend] = -float(solved(mesh, 160, v)[0]["points"]["position"][:, 1].min())
        assert droop[3e-2] == pytest.approx(0.2 * G * free**4 / (8 * 3e-2), rel=0.15)
        assert rows != 11 or droop[3e-4] > droop[3e-3] > 2 * droop[3e-2]


def test_dihedral_gradient_is_the_derivative_of_the_angle():
    rng = np.random.default_rng(3)
    for _ in range(20):
        x = np.array([[0, 0, 1.0], [0, 0, 0], [1, 0, 0], [0.5, 0, -1]]) + rng.uniform(-0.3, 0.3, (4, 3))
        found = dihedral(x, 0, 1, 2, 3)
        n1, n2, (s1b, s2b, s1c, s2c), e = np.array(found[2:5]), np.array(found[5:8]), found[8:], found[1]
        ours = np.array(
            [-e * n1, s1b * n1 + s2b * n2, s1c * n1 + s2c * n2, -e * n2]
        )  # downhill, as the solver takes it
        is_current = approx_fprime(x.ravel(), lambda p: dihedral(p.reshape(4, 3), 0, 1, 2, 3)[0], 1e-7).reshape(4, 3)
        assert np.allclose(ours, is_current, atol=1e-4)
    assert dihedral(np.array([[0, 0, 1.0], [0, 0, 0], [1, 0, 0], [0.5, 0, -1]]), 0, 1, 2, 3)[0] == 0


def test_part_weights_hold_softly_and_held_vertices_follow_exactly():
    mesh = sheet(1, 1, 9, 9)
    weights = np.zeros(mesh.count, np.float32)
    weights[:9], weights[-9:] = 1.0, 0.5
    shifted = mesh.points + [0.2, 0.1, 0]
    state, _ = solved(mesh, 72, channels(pins=weights, hold=2.0, damping=2.0), shifted)
    assert np.allclose(state["points"]["position"][:9], shifted[:9], atol=1e-6)
    sag = shifted[-9:, 1] - state["points"]["position"][-9:, 1]
    free, _ = solved(mesh, 72, channels(pins=weights * (weights == 1), damping=2.0), shifted)
    assert 0.005 < sag.mean() < 0.5 * (shifted[-9:, 1] - free["points"]["position"][-9:, 1]).mean()


def test_a_half_held_vertex_swings_at_the_set_frequency():
    """A soft hold is a spring: a particle let go from a distance d passes its place after a quarter of a period."""
    mesh = sheet(0.1, 0.1, 2, 2)
    v = channels(pins=np.full(4, 0.5, np.float32), hold=1.5, substeps=60)
    _, y = solved(
        mesh, 60, v, mesh.points + [0, 0.1, 0], gravity=0.0, keep=lambda s: float(s["points"]["position"][0, 1])
    )
    up = np.flatnonzero((y[:-1] < 0.1) & (y[1:] >= 0.1))[0]
    quarter = (up + 1 + (0.1 - y[up]) / (y[up + 1] - y[up])) / 24
    assert quarter == pytest.approx(1 / 1.5 / 4, rel=0.05)


def test_tethers_limit_the_stretch_and_measure_over_the_surface():
    mesh = hanging(41)
    held = mesh.points[:, 1] > -1e-9
    anchor, distance = tethers(mesh, held)
    assert distance.max() == pytest.approx(1.0, rel=1e-6) and (anchor[held] == -1).all() and (anchor[~held] >= 0).all()
    soft = channels(pins=held.astype(np.float32), warp=5.0, weft=5.0, substeps=10, damping=3.0)
    free, _ = solved(mesh, 96, soft)
    soft.update(tether=0.05)
    tied, _ = solved(mesh, 96, soft)
    assert -free["points"]["position"][:, 1].min() > 1.15 and -tied["points"]["position"][:, 1].min() <= 1.0501


def test_ground_stops_a_falling_sheet_and_friction_stops_its_slide():
    mesh = sheet(1, 1, 9, 9)
    begin = Cloth().start(Inputs(mesh, mesh.points, mesh.points + [0, 0.02, 0], channels(), World()))
    start = begin["points"]
    speed = start["velocity"] + np.float32([1.0, 0, 0])
    sliding = Frame.of(Cloth.tables, "points", position=start["position"], velocity=speed, wet=start["wet"])
    state, _ = solved(mesh, 48, channels(), floors=[Floor(0.0, 0.5)], start=sliding)
    assert state["points"]["position"][:, 1].min() >= -1e-6 and state["points"]["position"][:, 1].max() < 0.01
    # Coulomb: it flies for sqrt(2 h / g), landing at speed w takes mu w off its 1 m/s, then it slides v^2 / (2 mu g)
    flight = np.sqrt(2 * 0.02 / G)
    left = 1 - 0.5 * G * flight
    assert state["points"]["position"][:, 0].min() == pytest.approx(flight + left**2 / (2 * 0.5 * G), rel=0.03)
    icy, _ = solved(mesh, 48, channels(), floors=[Floor(0.0, 0.0)], start=sliding)
    assert icy["points"]["position"][:, 0].mean() - 0.5 == pytest.approx(2.0, rel=0.01)


def test_the_same_bits_whatever_the_threads():
    mesh = sheet(2, 2, 61, 61)
    v = channels(pins=(mesh.points[:, 0] == 0).astype(np.float32), drag=1.2, bend=1e-5)
    many = solved(mesh, 3, v, air=(2.0, 1.0, 5.0))[0]
    before = numba.get_num_threads()
    assert before >= 2, "conftest asks for two, whatever the processors"
    numba.set_num_threads(1)
    try:
        one = solved(mesh, 3, v, air=(2.0, 1.0, 5.0))[0]
    finally:
        numba.set_num_threads(before)
    assert np.array_equal(many["points"]["position"], one["points"]["position"]) and np.array_equal(
        many["points"]["velocity"], one["points"]["velocity"]
    )


def test_odd_meshes_do_no_harm():
    """Faces without area, loose points, a crowded edge, a storm and a cloth of no stiffness: no NaN."""
    mesh = Mesh(
        [[0, 0, 0], [1, 0, 0], [0, 0, 1], [0, 0, -1], [0, 1, 0], [5, 5, 5], [1, 0, 0]],
        [3] * 5,
        [0, 1, 2, 1, 0, 3, 0, 1, 4, 0, 1, 6, 2, 2, 2],
    )
    state, _ = solved(mesh, 24, channels(drag=1.2, lift=1.0, bend=1e-4), air=(0, 0, 60.0))
    assert np.isfinite(state["points"]["position"]).all() and np.array_equal(
        state["points"]["position"][5], np.float32([5, 5, 5])
    )
    state, _ = solved(sheet(1, 1, 5, 5), 24, channels(warp=0.0, weft=0.0, shear=0.0, drag=1.2), air=(0, 30.0, 0))
    assert np.isfinite(state["points"]["position"]).all()
    with pytest.raises(EstampaError, match="flew apart"):
        solved(sheet(1, 1, 5, 5), 3, channels(), gravity=1e7)


def stretched(substeps, **more):
    """(mean, largest) stretch of the yarns of a flag on two corners at 6 m/s, over its last frames."""
    flat = sheet(1.5, 1.1, 40, 30)
    mesh = Mesh(flat.points[:, [0, 2, 1]] * [1, -1, 1], flat.face_counts, flat.face_indices, flat.uv)
    top, sides = mesh.points[:, 1] > -1e-9, np.isin(mesh.points[:, 0], (0, 1.5))
    defaults = {n: Cloth.channels[n].default for n in ("drag", "lift", "damping", "bend", "tether", "limit", "excess")}
    v = channels(**{**defaults, "pins": (top & sides).astype(np.float32), "substeps": substeps, **more})
    parts = Parts.of(mesh)

    def yarns(state):
        corners = state["points"]["position"][parts.order].astype(float)[parts.faces.at]
        e = np.stack([corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]], axis=2)
        return np.linalg.norm(e @ parts.triangle_shape.reshape(-1, 2, 2), axis=1) - 1

    _, kept = solved(mesh, 36, v, air=(0.3, 0, 6.0), keep=yarns)
    late = np.array(kept)[12:]
    return np.maximum(late, 0).mean(), late.max()


@pytest.mark.slow
def test_stiffness_holds_in_the_wind_that_is_there():
    """Against 320 small steps, which are as good as all there could be; 20 alone stretch many times too far."""
    mean, largest = stretched(320, excess=1.0)
    few_mean, few_largest = stretched(20, excess=1.0, limit=1e3)
    ours_mean, ours_largest = stretched(20)
    assert few_largest > 3 * largest and few_mean > 5 * mean
    assert ours_mean < mean + 0.005 and ours_largest < largest + 0.03
    soft = {"warp": 60.0, "weft": 60.0}
    assert stretched(20, **soft)[1] < 0.2 < stretched(20, **soft, limit=1e3)[1], "yarns give up to their limit"
