"""Cloth in contact: the reference drop, judged by an exact test that is not ours, against vertex block descent.

`pip install newton` brings the reference; without it, only ours is told.
"""

import time

import ipctk
import numba
import numpy as np

from estampa.fields.force import Floor, Obstacle, World
from estampa.geometry.place import Place
from estampa.geometry.primitives import sheet
from estampa.motion.layer import Resolved
from estampa.solve.cloth.kind import Cloth
from estampa.solve.solver import Inputs

from .measure import Row, ms

SIDE, FRAMES, DT, BALL = 100, 48, 1 / 24, 0.15
WANTED = 10


def drop(frames=FRAMES):
    """(mean seconds a frame, frames with crossings, mean stretch, deepest in the ball m, thickness m) of a square metre
    that falls 0.2 m onto a ball and the ground, and meets itself."""
    mesh = sheet(1, 1, SIDE, SIDE)
    mesh = mesh.with_points(mesh.points - [0.5, -(2 * BALL + 0.2), 0.5])
    v = Resolved({n: c.default for n, c in Cloth.channels.items()})
    v.travel = {}
    v.update(drag=0.0, lift=0.0, itself=True, substeps=10)  # twice as many are taken, with coarser sheets
    at = Place.of({"x": 0.0, "y": BALL, "z": 0.0, "turn_x": 0.0, "turn_y": 0.0, "turn_z": 0.0, "size": 1.0})
    ball = Obstacle("ball", "sphere", (BALL, 0.0, 0.0), 0.3, (at, at))
    world = World(np.array([0, -9.80665, 0]), floors=[Floor(0.0, 0.3)], colliders=[ball])
    inputs = Inputs(mesh, mesh.points, mesh.points, v, world)
    triangles = mesh.triangles.astype(np.int32)
    edges = ipctk.edges(triangles)
    long = np.linalg.norm(mesh.points[edges[:, 1]] - mesh.points[edges[:, 0]], axis=1)
    state, taken, crossed, stretch, deepest = Cloth().start(inputs), [], 0, [], 0.0
    for _ in range(frames):
        begun = time.perf_counter()
        state = Cloth().step(state, inputs, DT)
        taken.append(time.perf_counter() - begun)
        x = state["points"]["position"].astype(float)
        crossed += bool(ipctk.has_intersections(ipctk.CollisionMesh(x, edges, triangles), x))
        now = np.linalg.norm(x[edges[:, 1]] - x[edges[:, 0]], axis=1)
        stretch.append(np.maximum(now / long - 1, 0).mean())
        deepest = max(deepest, BALL - np.linalg.norm(x - [0, BALL, 0], axis=1).min())
    return float(np.mean(taken[1:])), crossed, float(np.mean(stretch)), deepest, float(v.thickness)


def reference() -> float | None:
    """Seconds a frame of the `newton` library's vertex block descent on the same, once it lies; None where it is not
    installed."""
    try:
        import newton
        import warp as wp
    except ImportError:
        return None
    wp.config.quiet = True
    builder = newton.ModelBuilder()
    builder.add_cloth_grid(
        pos=wp.vec3(-0.5, -0.5, 2 * BALL + 0.2), rot=wp.quat_identity(), vel=wp.vec3(0.0, 0.0, 0.0), dim_x=SIDE - 1,
        dim_y=SIDE - 1, cell_x=1 / (SIDE - 1), cell_y=1 / (SIDE - 1), mass=0.2 / SIDE**2, tri_ke=2e3, tri_ka=2e3,
        tri_kd=1e-4,
        edge_ke=2e-5, edge_kd=1e-4, particle_radius=0.0015,
    )  # fmt: skip
    builder.add_shape_sphere(-1, xform=wp.transform(wp.vec3(0.0, 0.0, BALL), wp.quat_identity()), radius=BALL)
    builder.add_ground_plane()
    builder.color(include_bending=True)
    model = builder.finalize(device="cpu")
    solver = newton.solvers.SolverVBD(model, iterations=5, particle_enable_self_contact=True,
                                      particle_self_contact_radius=0.0015,
                                      particle_self_contact_margin=0.003)  # fmt: skip
    now, following, control = model.state(), model.state(), model.control()
    taken = []
    for _ in range(14):
        begun = time.perf_counter()
        for _ in range(10):
            now.clear_forces()
            solver.step(now, following, control, model.collide(now), DT / 10)
            now, following = following, now
        taken.append(time.perf_counter() - begun)
    return float(np.mean(taken[8:]))


def threads() -> float:
    """How much longer the drop takes on one thread than on two, while it folds."""
    whole = numba.get_num_threads()
    taken = []
    for count in (1, 2):
        numba.set_num_threads(min(count, whole))
        taken.append(drop(24)[0])
    numba.set_num_threads(whole)
    return taken[0] / taken[1]


def rows() -> list[Row]:
    drop_frame, crossed, stretch, deepest, thick = drop()
    good = crossed == 0 and stretch < 0.02 and deepest < thick / 10
    what = f"drop of {SIDE * SIDE:,} vertices: crossings in {FRAMES} frames, mean stretch, deepest in the ball"
    told = f"{crossed}, {100 * stretch:.2f} %, {1000 * deepest:.2f} mm"
    found = [Row(what, told, f"0, 2 %, {100 * thick:.2f} mm", float(crossed), "no crossing", good)]
    share = threads()
    found.append(Row("drop, one thread against two", f"{share:.2f}", "1", share, "≥ 1.6", share >= 1.6))
    vbd = reference()
    if vbd is None:
        return [*found, Row("drop, a frame", ms(drop_frame), "newton is not installed", 0.0)]
    ratio = vbd / drop_frame
    return [
        *found,
        Row("drop, a frame", ms(drop_frame), f"vertex block descent {ms(vbd)}", ratio, f"≥ {WANTED}", ratio >= WANTED),
    ]
