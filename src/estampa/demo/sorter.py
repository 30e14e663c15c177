"""The chestnut sorter of a roaster's stall on the Lantern Pier: a lifter goes up and down in a tray of chestnuts.

Its mesh is an STL in millimetres, split by islands. The chestnuts settled for some frames, and begin from there. Run
`python -m estampa.demo.sorter` to make the file again.
"""

import tempfile

import numpy as np

from .. import edits as do
from ..evaluate import starts
from ..evaluate.evaluator import Evaluator
from ..formats.meshfile import read_mesh
from ..geometry.mesh import Mesh
from ..geometry.primitives import coloured, joined
from ..scene.document import Document
from ..scene.scene import Scene
from ..store.frames import FrameStore
from . import DATA
from .boards import block, globe

CHESTNUTS, ACROSS = 24, 0.018  # m
INSIDE, WALL, TALL = (0.12, 0.10), 0.004, 0.022  # m, of the tray
SETTLED = 36  # frames
UP, WAIT, CYCLE = 0.016, 12, 60  # m; frames


def tray() -> Mesh:
    """An open box with walls that have a thickness: one closed surface, so that it is one island."""
    x, z, t, h = INSIDE[0] / 2, INSIDE[1] / 2, WALL, TALL
    outer = [(-x - t, -z - t), (x + t, -z - t), (x + t, z + t), (-x - t, z + t)]
    inner = [(-x, -z), (x, -z), (x, z), (-x, z)]
    at = lambda ring, y: [(a, y, b) for a, b in ring]
    points = np.array([*at(outer, -t), *at(outer, h), *at(inner, h), *at(inner, 0.0)])
    faces = [[0, 1, 2, 3]]
    for i in range(4):
        j = (i + 1) % 4
        faces += [[i, i + 4, j + 4, j], [i + 4, i + 8, j + 8, j + 4], [i + 8, i + 12, j + 12, j + 8]]
    faces.append([15, 14, 13, 12])
    return Mesh(points, [4] * len(faces), np.ravel(faces))


def sorter_mesh() -> Mesh:
    """Tray, lifter and chestnuts, in metres."""
    lifter = block((0.05, 0.012, 0.08), (0.0, -0.0115, 0.0))
    nuts = []
    for i in range(CHESTNUTS):
        column, row, layer = i % 4, (i // 4) % 3, i // 12
        at = (0.026 * (column - 1.5), 0.022 + 0.022 * layer, 0.026 * (row - 1) + 0.004 * layer)
        nut = globe(ACROSS / 2, (0, 0, 0), 8)
        nuts.append(nut.with_points(nut.points * [1.0, 0.82, 1.0] + at))
    whole = joined([tray(), lifter, *nuts])
    return whole.with_points(whole.points + [0, WALL, 0])


def build() -> Scene:
    scene = Scene(Document(name="sorter", frame_rate=24, start=1, end=500))
    whole = do.add_mesh(scene, read_mesh(DATA / "sorter.stl", unit="mm"), "Sorter", "sorter.stl")
    parts = do.split(scene, whole.id)
    inks = [("Tin", (0.55, 0.56, 0.56)), ("Brass", (0.62, 0.47, 0.20)), *[("Chestnut", (0.33, 0.14, 0.07))] * CHESTNUTS]
    for part, ink in zip(parts, inks, strict=True):
        ref = do.mesh_ref(scene, coloured(scene.mesh(part.mesh), *ink), "sorter.stl")
        scene.apply("Ink", scene.doc.replace(part.with_(mesh=ref)))
    metal = {"friction": 0.3, "bounce": 0.2}
    do.rename(scene, parts[0].id, "Tray")
    do.add_layer(scene, parts[0].id, "body", "Tray stands", {"moved": "still", "shape": "mesh"} | metal)
    do.rename(scene, parts[1].id, "Lifter")
    do.add_layer(scene, parts[1].id, "body", "Lifter drives", {"moved": "driven", "shape": "box"} | metal)
    half = CYCLE // 2
    for frame, height in ((1, 0.0), (1 + half - WAIT, UP), (1 + half, UP), (1 + CYCLE - WAIT, 0.0), (1 + CYCLE, 0.0)):
        do.set_key(scene, parts[1].id, "y", frame, height)
    do.set_extend(scene, parts[1].id, "y", "cycle", "cycle")
    for i, part in enumerate(parts[2:], 1):
        do.rename(scene, part.id, f"Chestnut {i}")
        values = {"density": 950.0, "friction": 0.4, "bounce": 0.25, "turn_damping": 0.5}
        do.add_layer(scene, part.id, "body", f"Body of chestnut {i}", values)
    do.add_thing(scene, "gravity", "Gravity")
    nuts = scene.doc.of_kind("bodies")[0]
    do.rename(scene, nuts.id, "Chestnuts and sorter")
    do.set_value(scene, nuts.id, "substeps", 16)
    _settle(scene, nuts.id)
    do.add_thing(scene, "piece_usd", "First chestnut", {"file": "chestnut", "subject": parts[2].id})
    return Scene(scene.doc, scene.arrays)


def _settle(scene: Scene, bodies_id: str) -> None:
    """Let the chestnuts come to rest with the lifter down, and begin from there."""
    lifter = next(s for s in scene.doc.subjects if s.name == "Lifter")
    still = scene.doc.replace(lifter.with_(values={}))
    with tempfile.TemporaryDirectory() as folder:
        evaluator = Evaluator(still, scene, FrameStore(folder))
        do.set_start(scene, bodies_id, starts.adopt(evaluator, bodies_id, SETTLED))


if __name__ == "__main__":
    import trimesh

    mesh = sorter_mesh()
    made = trimesh.Trimesh(1000 * mesh.points, mesh.triangles, process=False)
    (DATA / "sorter.stl").write_bytes(trimesh.exchange.stl.export_stl(made))
