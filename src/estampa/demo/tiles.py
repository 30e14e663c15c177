"""A tiled picture of a fish for the fishmonger's wall: its tiles fly in behind a moving zone, and settle."""

import numpy as np

from .. import edits as do
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined
from ..scene.document import Document
from ..scene.scene import Scene

SEA, FISH = ("Sea tile", (0.05, 0.16, 0.22)), ("Scale tile", (0.80, 0.36, 0.12))
FIN, EYE = ("Fin tile", (0.62, 0.14, 0.08)), ("Bone tile", (0.85, 0.80, 0.68))
PLASTER = ("Plaster", (0.52, 0.48, 0.42))
ACROSS, UP, SIDE, JOINT, THICK = 36, 22, 0.05, 0.004, 0.012  # tiles; m
LAST = 120


def ink_at(x: float, y: float) -> int:
    """Which of the inks a tile has, by where it is in a picture from -1 to 1 across."""
    body = (x / 0.62) ** 2 + (y / (0.30 - 0.10 * x)) ** 2 < 1
    tail = -0.92 < x < -0.5 and abs(y) < 0.62 * (-0.40 - x)
    if (x - 0.36) ** 2 + (y - 0.07) ** 2 < 0.0045:
        return 3
    if tail or (-0.25 < x < 0.15 and 0.24 < y < 0.40 - 0.4 * abs(x + 0.05)):
        return 2
    if body:
        return 2 if abs(np.hypot(x - 0.62, y) - 0.36) < 0.03 else 1
    wave = np.sin(9 * x + 2 * np.sin(3 * y)) * 0.5 + np.sin(14 * y)
    return 3 if wave > 1.28 else 0


def tiles() -> Mesh:
    """Tiles that stand on the X-Y plane, each an island."""
    found, inks = [], (SEA, FISH, FIN, EYE)
    for j in range(UP):
        for i in range(ACROSS):
            x, y = (i + 0.5 - ACROSS / 2) * SIDE, (j + 0.5) * SIDE
            half = (SIDE - JOINT) / 2
            ink = ink_at(2 * x / (ACROSS * SIDE), 2 * (y - UP * SIDE / 2) / (ACROSS * SIDE))
            found.append(coloured(box([x - half, y - half, 0.0], [x + half, y + half, THICK]), *inks[ink]))
    return joined(found)


def build() -> Scene:
    scene = Scene(Document(name="tiles", frame_rate=24, start=1, end=LAST))
    wide, tall = ACROSS * SIDE / 2, UP * SIDE
    wall = joined([box([-wide - 0.06, -0.06, -0.05], [wide + 0.06, tall + 0.06, 0.0]),
                   box([-wide - 0.3, -0.12, -0.3], [wide + 0.3, -0.06, 0.6])])  # fmt: skip
    do.add_mesh(scene, coloured(wall, *PLASTER), "Wall")
    picture = do.add_mesh(scene, tiles(), "Fish of tiles")
    front = do.add_thing(scene, "grip", "Front", {"y": tall / 2, "turn_z": np.pi / 2})
    for frame, x in ((1, -wide - 0.45), (96, wide + 0.15)):
        do.set_key(scene, front.id, "x", frame, x)
    zone = do.add_thing(scene, "zone", "Not laid yet", {"parent": front.id, "shape": "half", "reach": 0.9, "soft": 1.0})
    felt = {"zone": zone.id}
    do.add_layer(scene, picture.id, "toss", "Tumble", {
        "x": 0.25, "y": 0.45, "z": 0.35, "all_x": 0.3, "all_z": 0.75, "turn": 3.1, "seed": 3,
    } | felt)  # fmt: skip
    do.add_layer(scene, picture.id, "step", "Swing in", {"y": 0.25, "turn_y": 1.4} | felt)
    do.add_layer(scene, picture.id, "shrink", "Out of nothing", {"by": 0.92} | felt)
    do.add_layer(scene, picture.id, "wobble", "Flutter", {"far": 0.03, "turn": 0.4, "rate": 1.1} | felt)
    do.add_thing(scene, "piece_texture", "Tiles", {"file": "tiles", "subject": picture.id})
    return scene
