"""The awning of a noodle stall on the Lantern Pier, in an onshore wind.

Run `python -m estampa.demo.awning` to make its mesh files again.
"""

import numpy as np

from .. import edits as do
from ..formats.meshfile import read_mesh
from ..formats.obj import write_obj
from ..geometry.maps import gradient
from ..geometry.mesh import Mesh
from ..geometry.primitives import coloured, joined, sheet
from ..painted import canvas
from ..scene.document import Document
from ..scene.scene import Scene
from . import DATA

WIDTH, BACK, FRONT = 3.2, (2.62, 0.0), (2.24, 1.7)  # metres; (height, distance from the back wall)
VALANCE, SCALLOPS, LASHINGS = 0.34, 8, 5
COLUMNS, ROOF_ROWS, VALANCE_ROWS = 97, 49, 12


def awning_mesh() -> Mesh:
    """A slack roof between two rails, and a scalloped valance that hangs from the front one."""
    rows = ROOF_ROWS + VALANCE_ROWS - 1
    mesh = sheet(1, 1, COLUMNS, rows)
    u = mesh.points[:, 0]
    row = np.repeat(np.arange(rows), COLUMNS)
    s = np.clip(row / (ROOF_ROWS - 1), 0, 1)
    drop = np.clip((row - ROOF_ROWS + 1) / (VALANCE_ROWS - 1), 0, 1)
    slack = 0.07 * np.sin(np.pi * s) * (1 - 0.25 * np.cos(2 * np.pi * u * (LASHINGS - 1)))
    length = VALANCE * (0.78 + 0.22 * np.abs(np.sin(np.pi * SCALLOPS * u)))
    y = BACK[0] + (FRONT[0] - BACK[0]) * s - slack - drop * length
    z = BACK[1] + (FRONT[1] - BACK[1]) * s + 0.03 * drop
    points = np.stack([(u - 0.5) * WIDTH, y, z], axis=1)
    along = np.hypot(FRONT[0] - BACK[0], FRONT[1] - BACK[1])
    uv = np.stack([u * WIDTH, s * along + drop * length], axis=1) / WIDTH
    return Mesh(points, mesh.face_counts, mesh.face_indices.reshape(-1, 4)[:, ::-1].ravel(), uv)


def stall_mesh() -> Mesh:
    """Posts, rails, a counter and a back wall; a thing to see the awning against."""
    half, (top, _), (low, front) = WIDTH / 2, BACK, FRONT
    boxes = [
        ((-half - 0.04, 0, front - 0.03), (0.06, low, 0.06)),
        ((half - 0.02, 0, front - 0.03), (0.06, low, 0.06)),
        ((-half - 0.04, 0, -0.06), (0.06, top + 0.05, 0.06)),
        ((half - 0.02, 0, -0.06), (0.06, top + 0.05, 0.06)),
        ((-half - 0.04, low - 0.03, front - 0.02), (WIDTH + 0.08, 0.04, 0.03)),
        ((-half - 0.04, top - 0.02, -0.06), (WIDTH + 0.08, 0.05, 0.05)),
        ((-half + 0.12, 0, 1.05), (WIDTH - 0.24, 0.92, 0.42)),
        ((-half + 0.02, 0.921, 1.0), (WIDTH - 0.04, 0.05, 0.52)),
        ((-half + 0.05, 0, -0.05), (WIDTH - 0.1, 2.1, 0.03)),
    ]
    return joined([_box(np.array(at), np.array(size)) for at, size in boxes])


def _box(low, size) -> Mesh:
    """A box whose sides share no corners, so that its edges are sharp."""
    corners = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], float)
    quads = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
    return Mesh((low + corners * size)[np.ravel(quads)], [4] * 6, np.arange(24))


def holds(points: np.ndarray) -> np.ndarray:
    """What is held: the back rail fast, the front rail fast at its lashings and softly between them."""
    row = np.arange(len(points)) // COLUMNS
    column = np.arange(len(points)) % COLUMNS
    step = (COLUMNS - 1) // (LASHINGS - 1)
    weights = np.zeros(len(points), np.float32)
    weights[row == 0] = 1
    front = row == ROOF_ROWS - 1
    weights[front] = 0.6
    weights[front & (column % step <= 1)] = 1
    weights[front & (column % step == step - 1)] = 1
    return weights


def build() -> Scene:
    scene = Scene(Document(name="awning", frame_rate=24, start=1, end=120))
    do.add_mesh(scene, read_mesh(DATA / "stall.obj"), "Stall", "stall.obj")
    cloth = coloured(read_mesh(DATA / "awning.obj"), "Canvas", (1.0, 1.0, 1.0), picture=canvas())
    awning = do.add_mesh(scene, cloth, "Awning", "awning.obj")
    points = scene.arrays.get(awning.mesh.points)
    held = do.add_map(scene, awning.id, holds(points), "Rails and lashings")
    hem = do.add_map(
        scene,
        awning.id,
        gradient(points, (0, FRONT[0], FRONT[1]), (0, FRONT[0] - VALANCE, FRONT[1])) * (points[:, 2] > FRONT[1] - 0.01),
        "Valance",
    )
    sway = do.add_layer(
        scene,
        awning.id,
        "bend",
        "Post sway",
        {"angle": 0.0, "low": 0.0, "high": 2.6},
        grip={"x": 0.0, "y": 0.0, "z": 0.85},
    )
    for frame, degrees in ((1, 0), (40, -1.2), (70, -2.2), (100, -1.0), (120, -1.6)):
        do.set_key(scene, sway.id, "angle", frame, float(np.radians(degrees)))
    do.add_layer(
        scene,
        awning.id,
        "cloth",
        "Canvas",
        {
            "pins": held.id,
            "density": 0.5,
            "warp": 4000.0,
            "weft": 3000.0,
            "shear": 250.0,
            "bend": 1.5e-4,
            "drag": 1.0,
            "damping": 0.4,
            "hold": 6.0,
            "substeps": 30,
        },
    )
    do.add_layer(
        scene,
        awning.id,
        "noise",
        "Hem ripple",
        {"map": hem.id, "height": 0.02, "scale": 0.22, "speed": 1.4, "along": "normals", "seed": 7},
    )
    do.add_thing(scene, "gravity", "Gravity")
    sea = do.add_thing(
        scene,
        "grip",
        "Sea breeze direction",
        {"x": 0.0, "y": 1.4, "z": 3.4, "turn_x": np.radians(10), "turn_y": np.radians(152), "size": 0.6},
    )
    wind = do.add_thing(
        scene,
        "wind",
        "Onshore wind",
        {"grip": sea.id, "gustiness": 0.45, "gust_length": 5.0, "turbulence": 0.25, "eddy_length": 0.9},
    )
    for frame, speed in ((1, 1.2), (48, 4.6), (80, 2.8)):
        do.set_key(scene, wind.id, "speed", frame, speed)
    do.add_thing(scene, "vertex_cache", "Awning cache", {"subject": awning.id, "file": "awning_cache"})
    do.add_thing(scene, "vertex_texture", "Awning texture", {"subject": awning.id, "file": "awning_texture"})
    return Scene(scene.doc, scene.arrays)  # a fresh history: the demo begins here


if __name__ == "__main__":
    write_obj(DATA / "awning.obj", awning_mesh(), "Awning of a stall on the Lantern Pier, metres")
    write_obj(DATA / "stall.obj", stall_mesh(), "A stall on the Lantern Pier, metres")
