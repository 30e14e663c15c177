"""Cloth: against the Bullet soft body with the same mesh and links, against itself at other sizes and threads."""

import numba
import numpy as np

from estampa.fields.force import World
from estampa.geometry.primitives import sheet
from estampa.motion.layer import Resolved
from estampa.solve.cloth import kernels
from estampa.solve.cloth.fabric import Parts
from estampa.solve.cloth.kind import Cloth
from estampa.solve.cloth.schedule import block_vertices, schedule
from estampa.solve.solver import Inputs

from .measure import Row, in_turn, ms

SIDE, SUBSTEPS, DT = 100, 20, 1 / 24
GRAVITY = np.array([0, -9.80665, 0])


def grid_links(side: int) -> np.ndarray:
    """Pairs of a square grid that Bullet makes: neighbours, and what is two links away (straight on and diagonal)."""
    index = np.arange(side * side).reshape(side, side)
    pairs = []
    for down, right in ((0, 1), (1, 0), (0, 2), (2, 0), (1, 1), (1, -1)):
        a = index[: side - down, max(0, -right) : side - max(0, right)]
        b = index[down:, max(0, right) : side + min(0, right)]
        pairs.append(np.stack([a.ravel(), b.ravel()], axis=1))
    return np.concatenate(pairs)


def bullet():
    """(advance one frame, nothing else) of a Bullet soft body: 100 x 100 nodes, two corners held, 20 iterations."""
    from panda3d.bullet import BulletSoftBodyNode, BulletWorld
    from panda3d.core import Point3, Vec3

    world = BulletWorld()
    world.setGravity(Vec3(*GRAVITY))
    info = world.getWorldInfo()
    info.setAirDensity(0)
    info.setWaterDensity(0)
    corners = Point3(0, 0, 0), Point3(1, 0, 0), Point3(0, 0, 1), Point3(1, 0, 1)
    node = BulletSoftBodyNode.makePatch(info, *corners, SIDE, SIDE, 3, False)
    node.generateBendingConstraints(2)
    node.getCfg().setPositionsSolverIterations(SUBSTEPS)
    node.getMaterial(0).setLinearStiffness(1.0)
    node.setTotalMass(0.2)
    world.attachSoftBody(node)
    return world, lambda: world.doPhysics(DT, 1, DT)


def ours():
    """The same with our solver: its own order of vertices, its schedule, its substeps."""
    mesh = sheet(1, 1, SIDE, SIDE)
    parts = Parts.of(mesh)
    links = parts.place[grid_links(SIDE)]
    turn, plan = schedule(links, mesh.count)
    at = np.ascontiguousarray(links[turn], np.uint32)
    x = mesh.points[parts.order].copy()
    rest2 = ((x[at[:, 0]] - x[at[:, 1]]) ** 2).sum(axis=1)
    constraints = kernels.Links(at, rest2, rest2 * 1e-6, plan)
    inverse_mass = 1 / (0.2 * parts.area)
    inverse_mass[parts.place[[0, SIDE - 1]]] = 0
    none = np.zeros(mesh.count)
    holds = kernels.Holds(none, np.full(mesh.count, -1), none)
    air = kernels.Air(0.0, np.zeros(len(parts.faces.at)), np.zeros(len(parts.faces.at)), np.zeros_like(x))
    v, begin, blocks = np.zeros_like(x), x.copy(), block_vertices(mesh.count)
    particles = kernels.Particles(x, v, inverse_mass, begin, begin)
    lengths = parts.lengths(np.full(len(x), 1e3), None)
    fabric = kernels.Fabric(holds, parts.no_strain, constraints, parts.no_hinges, parts.faces, blocks, 1e3, lengths)
    surroundings = kernels.Surroundings(np.tile(GRAVITY, (mesh.count, 1)), air, -1e30, 0.0)
    return len(at), lambda: kernels.advance(particles, fabric, surroundings, SUBSTEPS, DT, 0.0)


def whole_cloth(side: int, weave: str = "strain"):
    """One frame of the whole cloth layer: stretch, shear, bending, air, tether."""
    mesh = sheet(side / 100, side / 100, side, side)
    v = Resolved({n: c.default for n, c in Cloth.channels.items()})
    v.travel = {}
    v.update(excess=1.0, pins=(mesh.points[:, 2] == 0).astype(np.float32), weave=weave)
    world = World(GRAVITY, [lambda p: np.tile([0.5, 0.2, 4.0], (len(p), 1))])
    inputs = Inputs(mesh, mesh.points, mesh.points, v, world)
    solver = Cloth()
    held = {"state": solver.start(inputs)}

    def frame():
        held["state"] = solver.step(held["state"], inputs, DT)

    frame()
    return frame


def rows() -> list[Row]:
    count, frame = ours()
    world, reference = bullet()
    a, b = in_turn(frame, reference, times=25)
    what = f"cloth frame, 10,000 vertices, {count:,} links, 20 substeps"
    found = [Row(what, ms(a), f"Bullet soft body {ms(b)}", a / b, "≤ 0.7", a / b <= 0.7)]

    sizes = (50, 100, 200, 400)
    per_vertex = {side: in_turn(whole_cloth(side), times=5)[0] / side**2 for side in sizes}
    growth = max(per_vertex.values()) / per_vertex[50]
    text = ", ".join(f"{side**2:,}: {1e6 * per_vertex[side]:.2f} µs" for side in sizes[1:])
    reference = f"2,500: {1e6 * per_vertex[50]:.2f} µs"
    found.append(Row("whole cloth, time a vertex and frame", text, reference, growth, "≤ 1.5", growth <= 1.5))

    frame, most = whole_cloth(150), numba.get_num_threads()

    def on_one():
        numba.set_num_threads(1)
        frame()
        numba.set_num_threads(most)

    def on_two():
        numba.set_num_threads(2)
        frame()
        numba.set_num_threads(most)

    if most >= 2:
        one, two = in_turn(on_one, on_two, times=9)
        what = "whole cloth, 22,500 vertices, two threads"
        found.append(Row(what, ms(two), f"one thread {ms(one)}", one / two, "≥ 1.5", one / two >= 1.5))
    strain, links = in_turn(whole_cloth(100), whole_cloth(100, "links"), times=9)
    found.append(Row("whole cloth, 10,000 vertices, links", ms(links), f"strain {ms(strain)}", links / strain))
    return found
