"""Bodies: our whole frame against the bare engine stepped from Python with the same bodies and settings."""

import tempfile

import numpy as np
import trimesh

from estampa import edits as do
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import joined
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.solve.bodies.engine import PARTS, REACH, SOFT, STATIC_SOFT, level_builder, unit_of
from estampa.store.frames import FrameStore

from .measure import Row, in_turn, ms

STEPS, FRAMES = 10, 12


def pyramid(rows: int) -> list[np.ndarray]:
    """Places of boxes of 0.5 m in a pyramid of square layers, apart, so that they fall and stay awake."""
    found = []
    for layer in range(rows):
        side = rows - layer
        for i in range(side):
            for j in range(side):
                found.append(np.array([0.52 * (i - side / 2), 0.3 + 0.62 * layer, 0.52 * (j - side / 2)]))
    return found


def heap(count: int) -> list[np.ndarray]:
    """Places of hulls that fall on one another."""
    side = int(np.ceil(count ** (1 / 3)))
    grid = np.array([[i, j, k] for j in range(side) for i in range(side) for k in range(side)], float)[:count]
    return list(grid * [0.56, 0.56, 0.56] + [0, 0.4, 0] + 0.03 * np.sin(np.arange(3 * count)).reshape(-1, 3))


def ours(shapes, kind: str):
    """A function that solves so many further frames of a scene, each time from where it was."""
    scene = Scene(Document(start=1, end=400))
    subject = do.add_mesh(scene, joined(shapes), "Heap")
    do.add_layer(scene, subject.id, "body", values={"each": "pieces", "shape": kind, "friction": 0.5})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground", values={"friction": 0.5})
    evaluator = Evaluator(scene.doc, scene, FrameStore(tempfile.mkdtemp()))
    state = {"frame": 2}
    evaluator.solve_through(2)

    def run():
        state["frame"] += FRAMES
        evaluator.solve_through(state["frame"])

    return run


def bare(shapes, kind: str):
    """The same in the engine alone."""
    import rapier3d as rp

    world = rp.PhysicsWorld(gravity=(0.0, -9.80665, 0.0))
    world.set_num_threads(1)
    settings = world.integration_parameters
    across = min(float(np.ptp(s.points, axis=0).max()) for s in shapes)
    settings.length_unit, settings.dt = REACH * unit_of(across), 1 / 24 / STEPS
    settings.normalized_max_corrective_velocity = PARTS
    settings.contact_softness = rp.SpringCoefficients(*SOFT)
    settings.static_contact_softness = rp.SpringCoefficients(*STATIC_SOFT)
    world.add_collider(level_builder(rp, 100.0).friction(0.5))
    handles = []
    for shape in shapes:
        middle = shape.points.mean(axis=0)
        local = (shape.points - middle).astype(np.float32)
        half = np.ptp(local, axis=0) / 2
        made = (
            rp.Collider.cuboid(*map(float, half))
            if kind == "box"
            else rp.Collider.convex_hull(local * np.float32(0.999))
        )
        body = rp.RigidBody.dynamic().translation(tuple(map(float, middle)))
        handles.append(world.add_body(body, [made.density(600.0).friction(0.5)]))

    def run():
        for _ in range(FRAMES):
            for _ in range(STEPS):
                world.step()
            found = np.empty((len(handles), 7))
            for i, handle in enumerate(handles):
                b = world.rigid_bodies[handle]
                r = b.rotation
                found[i] = (*b.translation.to_tuple(), r.i, r.j, r.k, r.w)

    return run


def row(what: str, shapes, kind: str) -> Row:
    mine, theirs = in_turn(ours(shapes, kind), bare(shapes, kind), times=3)
    ratio = mine / theirs
    words = f"the engine alone, stepped and read from Python, {ms(theirs / FRAMES)}"
    return Row(f"{what}, a whole frame", ms(mine / FRAMES), words, ratio, "≤ 1.15", ratio <= 1.15)


def rows() -> list[Row]:
    box = trimesh.creation.box((0.5, 0.5, 0.5))
    boxes = [Mesh.from_triangles(box.vertices + p, box.faces) for p in pyramid(11)]
    nut = trimesh.creation.icosphere(1, 0.25)
    nuts = [Mesh.from_triangles(nut.vertices * [1, 0.8, 1.1] + p, nut.faces) for p in heap(2000)]
    return [row(f"{len(boxes)} boxes in a pyramid", boxes, "box"), row("2,000 hulls", nuts, "hull")]
