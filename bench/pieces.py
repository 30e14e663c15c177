"""Breaking, moving pieces, ragdolls: against the bare package, a plain transform of the vertices, the bare engine."""

import tempfile
import time

import manifold3d as m3
import numpy as np
import trimesh

from estampa import edits as do
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry import cells, cutting
from estampa.geometry.mesh import Mesh
from estampa.geometry.pieces import Pieces
from estampa.geometry.primitives import box
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore

from .measure import Row, in_turn, ms, seconds


def solid(made: trimesh.Trimesh, material=True) -> Mesh:
    """With a material and texture coordinates."""
    points, faces = np.asarray(made.vertices), np.asarray(made.faces)
    kinds = [("Glaze", (0.1, 0.3, 0.3))] if material else ()
    return Mesh(points, np.full(len(faces), 3), faces.ravel(), points[:, :2], kinds, np.zeros(len(faces), np.int32))


def broken(mesh: Mesh, count: int, store=None):
    """(evaluator, subject) of a mesh that is broken, planned."""
    scene = Scene(Document(start=1, end=24))
    subject = do.add_mesh(scene, mesh, "Thing")
    do.add_layer(scene, subject.id, "break", values={"count": count, "smallest": 0.0})
    evaluator = Evaluator(scene.doc, scene, store or FrameStore(tempfile.mkdtemp()))
    evaluator.mesh(scene.doc.find(subject.id))
    return scene, subject.id, evaluator


def letters() -> trimesh.Trimesh:
    """Five shapes with bevels and holes, as letters have."""
    found = []
    for k in range(5):
        ring = trimesh.creation.annulus(0.25 + 0.03 * k, 0.5, 0.2, sections=48)
        bar = trimesh.creation.capsule(0.8, 0.12, count=[24, 24])
        bar.apply_translation([0, 0.62, -0.4])
        for part in (ring, bar):
            part.apply_translation([1.3 * k, 0, 0])
            found.append(part)
    return trimesh.util.concatenate(found)


def _bare(mesh: Mesh, corners) -> float:
    """Seconds of the package alone, in one process: the same cuts of the bare surface."""
    made = m3.Manifold(m3.Mesh(mesh.points.astype(np.float32), mesh.triangles.astype(np.uint32)))
    begun = time.perf_counter()
    for one in corners:
        (made ^ m3.Manifold.hull_points(one)).to_mesh64()
    return time.perf_counter() - begun


def cuts() -> list[Row]:
    found = []
    for what, made, wanted in (
        ("cube", trimesh.creation.box((1, 1, 1)), 0.3),
        ("ball of 5,120 faces", trimesh.creation.icosphere(4), 1.5),
        ("five bevelled letters", letters(), 2.0),
        ("mesh of 81,920 faces", trimesh.creation.icosphere(6), 5.0),
    ):
        mesh = solid(made)
        at = cells.seeds(mesh, 500, 3, cells.Density())
        corners = cells.voronoi(at, *mesh.bounds)
        broken(mesh, 4)  # what is compiled and loaded
        ours = min(seconds(lambda mesh=mesh: broken(mesh, 500)) for _ in range(2))
        bare = _bare(mesh, corners)
        good = ours <= wanted and ours / bare <= 1.25
        found.append(Row(f"500 cells of a {what}, with materials and coordinates", f"{ours:.2f} s (≤ {wanted} s)",
                         f"{bare:.2f} s bare package, one process", ours / bare, "≤ 1.25", good))  # fmt: skip
    mesh = solid(trimesh.creation.icosphere(6))
    corners = cells.voronoi(cells.seeds(mesh, 500, 3, cells.Density()), *mesh.bounds)
    triangles = mesh.triangles.astype(np.int64)
    cutting.cut(mesh.points, triangles, corners[:8], 2)
    cut = lambda workers: min(seconds(lambda: cutting.cut(mesh.points, triangles, corners, workers)) for _ in range(2))
    one, two = cut(1), cut(2)
    found.append(Row("500 cells of 81,920 faces, two worker processes", f"{two:.2f} s", f"{one:.2f} s with one",
                     one / two, "≥ 1.6", one / two >= 1.6))  # fmt: skip
    return found


def layers() -> list[Row]:
    """Six layers on 1,000 pieces of 200,000 vertices or so, and a zone that goes through 2,000."""
    scene, subject, evaluator = broken(solid(trimesh.creation.icosphere(5)), 1000)
    zone = do.add_thing(scene, "zone", values={"reach": 1.5, "soft": 1.0})
    do.set_key(scene, zone.id, "x", 1, -2.0)
    do.set_key(scene, zone.id, "x", 24, 2.0)
    for kind in ("toss", "step", "part", "shrink", "wobble", "toss"):
        do.add_layer(scene, subject, kind, values={"zone": zone.id})
    evaluator = Evaluator(scene.doc, scene, evaluator.store)
    thing, frame = scene.doc.find(subject), [1.0]
    mesh = evaluator.mesh(thing)
    pieces = Pieces.each(mesh)
    place = np.tile(np.eye(3), (pieces.count, 1, 1))

    def ours():
        frame[0] += 0.01
        evaluator.subject(thing, frame[0])

    def plain():
        np.einsum("nij,nj->ni", place[pieces.of_vertex], mesh.points) + 0.1

    a, b = in_turn(ours, plain)
    many = f"{pieces.count:,} pieces of {mesh.count:,} vertices"
    found = [Row(f"{many}, six layers", ms(a), f"{ms(b)} plain transform, NumPy", a / b, "≤ 5", a / b <= 5)]

    from estampa.app.model.looks import look

    scene, subject, evaluator = broken(solid(trimesh.creation.icosphere(6)), 2000)
    zone = do.add_thing(scene, "zone", values={"reach": 0.8, "soft": 1.0})
    do.set_key(scene, zone.id, "x", 1, -1.5)
    do.set_key(scene, zone.id, "x", 24, 1.5)
    do.add_layer(scene, subject, "toss", values={"zone": zone.id})
    evaluator = Evaluator(scene.doc, scene, evaluator.store)
    mesh, frame = evaluator.mesh(scene.doc.find(subject)), [8.0]

    def seen():
        frame[0] += 0.1
        look(evaluator, frame[0])

    seen()
    taken = in_turn(seen)[0]
    found.append(Row(f"a zone through 2,000 pieces of {len(mesh.triangles):,} triangles, without the drawing",
                     ms(taken), "20 pictures a second", taken * 20, "≤ 1", taken <= 0.05))  # fmt: skip
    return found


def _walled(count: int):
    """(scene, subject) of so many touching cells of a wall, as bodies."""
    scene = Scene(Document(start=1, end=25))
    side = round(count ** (1 / 2))
    wall = box([0, 0, 0], [side * 0.1, side * 0.1, 0.1])
    subject = do.add_mesh(scene, wall, "Wall")
    values = {"how": "bricks", "brick_x": 0.1, "brick_y": 0.1, "brick_z": 0.1, "jitter": 0.0, "smallest": 0.0}
    do.add_layer(scene, subject.id, "break", values=values)
    do.add_layer(scene, subject.id, "body", values={"each": "pieces"})
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    return scene, subject.id


def bodies() -> list[Row]:
    scene, subject = _walled(2000)
    store = FrameStore(tempfile.mkdtemp())
    evaluator = Evaluator(scene.doc, scene, store)
    begun = time.perf_counter()
    evaluator.solve_through(1)
    first = time.perf_counter() - begun
    ours = seconds(lambda: evaluator.solve_through(25)) / 24
    run = evaluator.runs.every()[0]
    rows = [store.frame(evaluator.runs.key(run, f))["bodies"] for f in (1, 25)]
    moved = rows[1]["position"] - rows[0]["position"]
    drift = float(np.sqrt((moved**2).sum(axis=1).mean()))
    found = [Row(f"{len(moved):,} touching hulls left at rest, rms drift in a second", f"{1000 * drift:.2f} mm",
                 "0.5 mm", drift / 0.0005, "≤ 1", drift < 0.0005)]  # fmt: skip
    found.append(Row(f"{len(moved):,} hulls at rest, a frame", ms(ours), f"{first:.1f} s to begin", ours / first))
    return found


def falling() -> list[Row]:
    """The same wall in the air, against the bare engine with the same bodies; each keeps its fastest frame of six."""
    from estampa.solve.bodies.model import Model

    scene, subject = _walled(2000)
    do.set_value(scene, subject, "y", 30.0)
    do.set_value(scene, scene.doc.find(subject).stack[-1].id, "speed_x", 0.01)
    evaluator = Evaluator(scene.doc, scene, FrameStore(tempfile.mkdtemp()))
    evaluator.solve_through(2)
    model = Model.of(evaluator.runs.inputs(evaluator.runs.every()[0], 1))
    world = model.build(evaluator.runs.inputs(evaluator.runs.every()[0], 1)).world
    world.integration_parameters.dt, world.gravity = 1 / 240, (0.0, -9.80665, 0.0)

    def bare():
        for _ in range(10):
            world.step()

    bare()
    pairs = [(seconds(lambda f=f: evaluator.solve_through(f)), seconds(bare)) for f in range(3, 9)]
    a, b = (min(column) for column in zip(*pairs, strict=True))
    good = a / b <= 1.15
    return [Row(f"{model.count:,} hulls that fall, a frame", ms(a), f"{ms(b)} bare engine", a / b, "≤ 1.15", good)]


def figures() -> list[Row]:
    """Twenty ragdolls of eleven limbs that fall together."""
    from tests.solve.test_limp import puppet

    scene, skeleton, _ = puppet(49, up=0.5)
    for k in range(19):
        copy = do.duplicate(scene, skeleton)
        do.set_values(scene, copy.id, {"x": 1.6 * ((k + 1) % 5), "z": 1.6 * ((k + 1) // 5)})
    evaluator = Evaluator(scene.doc, scene, FrameStore(tempfile.mkdtemp()))
    evaluator.solve_through(2)
    taken = seconds(lambda: evaluator.solve_through(49)) / 47
    good = taken * 24 <= 1
    return [Row("20 ragdolls of 11 limbs, a frame", ms(taken), "24 frames a second", taken * 24, "≤ 1", good)]


def rows() -> list[Row]:
    return [*cuts(), *layers(), *bodies(), *falling(), *figures()]
