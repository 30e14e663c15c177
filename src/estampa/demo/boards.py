"""Signboards on the Lantern Pier, knocked over one after another by a dropped buoy; with heavy feet they only wobble.

Two rows of the same boards, and the same buoy for each. The boards of the second row have the same feet, made four
times as heavy by a ballast map: mass is the lesson.
"""

import numpy as np

from .. import edits as do
from ..geometry.mesh import Mesh
from ..geometry.primitives import coloured, joined
from ..scene.document import Document
from ..scene.scene import Scene

BOARDS, APART = 9, 0.52  # m between two boards
PANEL, FOOT = (0.04, 0.9, 0.5), (0.2, 0.06, 0.54)  # m: thick, tall, wide
INKS = [(0.62, 0.22, 0.16), (0.20, 0.36, 0.42), (0.70, 0.52, 0.20), (0.32, 0.40, 0.24)]


def block(size, at=(0.0, 0.0, 0.0)) -> Mesh:
    """A closed box of that size, standing on the height of `at`."""
    corners = np.array([[x, y, z] for x in (-0.5, 0.5) for y in (0, 1) for z in (-0.5, 0.5)])
    quads = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
    return Mesh(corners * size + at, [4] * 6, np.ravel(quads))


def globe(radius: float, at, rows: int = 14) -> Mesh:
    """A closed ball of quads and, at its poles, triangles."""
    tilt, turn = np.linspace(0, np.pi, rows + 1)[1:-1], np.linspace(0, 2 * np.pi, 2 * rows, endpoint=False)
    ring = np.stack([np.cos(turn), np.zeros_like(turn), np.sin(turn)], axis=1)
    points = [ring * np.sin(t) + [0, np.cos(t), 0] for t in tilt]
    points = np.concatenate([[[0, 1, 0]], *points, [[0, -1, 0]]]) * radius + at
    n, faces, counts = len(turn), [], []
    after = lambda i: (i + 1) % n
    for i in range(n):
        faces += [0, 1 + after(i), 1 + i]
        counts.append(3)
        for k in range(len(tilt) - 1):
            a, b = 1 + k * n, 1 + (k + 1) * n
            faces += [a + i, a + after(i), b + after(i), b + i]
            counts.append(4)
        last = 1 + (len(tilt) - 1) * n
        faces += [last + i, last + after(i), len(points) - 1]
        counts.append(3)
    return Mesh(points, counts, faces)


def build() -> Scene:
    scene = Scene(Document(name="boards", frame_rate=24, start=1, end=96))
    deck = [
        coloured(block((7.2, 0.05, 0.19), (1.9, -0.05, 0.2 * k - 1.3)), "Planks", (0.42, 0.34, 0.27)) for k in range(14)
    ]
    do.add_mesh(scene, joined(deck), "Deck")
    for row, (z, heavy) in enumerate(((0.55, False), (-0.55, True))):
        buoy = coloured(globe(0.2, (-0.75, 1.5, z)), "Buoy", (0.85, 0.35, 0.12))
        dropped = do.add_mesh(scene, buoy, "Buoy for the heavy feet" if heavy else "Buoy")
        thrown = {"shape": "ball", "density": 120.0, "bounce": 0.1, "friction": 0.6, "speed_x": 1.6}
        thrown |= {"damping": 0.4, "turn_damping": 2.0}
        do.add_layer(scene, dropped.id, "body", "Falling buoy" if row == 0 else "Falling buoy 2", thrown)
        for i in range(BOARDS):
            foot = coloured(block(FOOT, (APART * i, 0, z)), "Foot", (0.16, 0.15, 0.15))
            panel = coloured(block(PANEL, (APART * i, FOOT[1], z)), f"Ink {i % 4 + 1}", INKS[i % 4])
            kind = "Weighted board" if heavy else "Board"
            board = do.add_mesh(scene, joined([foot, panel]), f"{kind} {i + 1}")
            values = {"density": 450.0, "friction": 0.7, "bounce": 0.0}
            if heavy:
                feet = (np.arange(board_count(foot, panel)) < foot.count).astype(np.float32)
                values |= {"ballast": do.add_map(scene, board.id, feet, "Foot").id, "heavier": 4.0}
            do.add_layer(scene, board.id, "body", f"Body of {kind.lower()} {i + 1}", values)
    do.add_thing(scene, "gravity", "Gravity")
    do.add_thing(scene, "ground", "Deck boards", {"friction": 0.7})
    do.add_thing(scene, "piece_nodes", "Last board", {"file": "board", "subject": scene.doc.subjects[2].id})
    return Scene(scene.doc, scene.arrays)


def board_count(foot: Mesh, panel: Mesh) -> int:
    return foot.count + panel.count
