"""The pier's barrel organ, one mesh of many islands, in an exploded view: its parts come apart until none touches."""

import numpy as np

from .. import edits as do
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, tube
from ..scene.document import Document
from ..scene.scene import Scene

LACQUER, WALNUT = ("Red lacquer", (0.45, 0.06, 0.05)), ("Walnut", (0.20, 0.10, 0.05))
BRASS, TIN = ("Brass", (0.62, 0.47, 0.20)), ("Tin", (0.50, 0.52, 0.53))
LEATHER = ("Leather", (0.30, 0.17, 0.09))
PIPES, PINS, BELLOWS = 11, 40, 7
APART, TOGETHER, LAST = (12, 60), (84, 120), 132


def _case() -> list[Mesh]:
    w, h, d, t = 0.36, 0.42, 0.24, 0.018
    sides = [box([-w, 0.32, -d], [-w + t, 0.32 + h, d]), box([w - t, 0.32, -d], [w, 0.32 + h, d])]
    floor = box([-w + t, 0.32, -d], [w - t, 0.32 + t, d])
    back = box([-w + t, 0.32 + t, -d], [w - t, 0.32 + h, -d + t])
    front = box([-w + t, 0.32 + t, d - t], [w - t, 0.52, d])
    top = box([-w - 0.02, 0.32 + h, -d - 0.02], [w + 0.02, 0.32 + h + t, d + 0.02])
    legs = [box([x - 0.02, 0.0, z - 0.02], [x + 0.02, 0.32, z + 0.02]) for x in (-0.32, 0.32) for z in (-0.2, 0.2)]
    lacquer = [coloured(m, *LACQUER) for m in (*sides, back, front, top)]
    return lacquer + [coloured(m, *WALNUT) for m in (floor, *legs)]


def _works() -> list[Mesh]:
    found = []
    for k in range(PIPES):
        x, long = -0.28 + 0.056 * k, 0.16 + 0.012 * abs(k - PIPES // 2) ** 1.4
        found.append(coloured(tube([[x, 0.56, 0.13], [x, 0.56 + long, 0.13]], [0.02, 0.02], 12), *TIN))
        found.append(coloured(tube([[x, 0.53, 0.13], [x, 0.558, 0.13]], [0.008, 0.018], 12), *BRASS))
    barrel = tube([[-0.26, 0.46, -0.06], [0.26, 0.46, -0.06]], [0.075, 0.075], 32)
    found.append(coloured(barrel, *WALNUT))
    for k in range(PINS):
        x, a = -0.24 + 0.48 * ((k * 0.618) % 1.0), 2 * np.pi * ((k * 0.377) % 1.0)
        way = np.array([0.0, np.cos(a), np.sin(a)])
        at = np.array([x, 0.46, -0.06])
        found.append(coloured(tube([at + 0.0752 * way, at + 0.088 * way], [0.004, 0.003], 6), *BRASS))
    for k in range(BELLOWS):
        y = 0.345 + 0.012 * k
        found.append(coloured(box([-0.2, y, 0.02], [0.2, y + 0.010, 0.2]), *LEATHER))
    axle = tube([[0.262, 0.46, -0.06], [0.42, 0.46, -0.06]], [0.012, 0.012], 12)
    arm = tube([[0.425, 0.46, -0.06], [0.425, 0.34, -0.06]], [0.010, 0.010], 10)
    knob = tube([[0.437, 0.345, -0.06], [0.50, 0.345, -0.06]], [0.016, 0.02], 12)
    return [*found, *(coloured(m, *BRASS) for m in (axle, arm)), coloured(knob, *WALNUT)]


def organ() -> Mesh:
    return joined([*_case(), *_works()])


def build() -> Scene:
    scene = Scene(Document(name="organ", frame_rate=24, start=1, end=LAST))
    made = do.add_mesh(scene, organ(), "Barrel organ")
    middle = do.add_thing(scene, "grip", "Middle of the works", {"y": 0.5})
    parted = do.add_layer(scene, made.id, "part", "Exploded", {
        "by": "clear", "room": 0.06, "grip": middle.id, "order": "grip", "other_way": True, "overlap": 0.6,
    })  # fmt: skip
    turned = do.add_layer(scene, made.id, "step", "A little to the side", {
        "y": 0.0, "turn_y": 0.35, "order": "grip", "from_grip": middle.id, "other_way": True, "overlap": 0.6,
    })  # fmt: skip
    do.set_value(scene, parted.id, "from_grip", middle.id)
    for layer in (parted, turned):
        for frame, share in zip((*APART, *TOGETHER), (0.0, 1.0, 1.0, 0.0), strict=True):
            do.set_key(scene, layer.id, "strength", frame, share)
    do.add_thing(scene, "piece_nodes", "Exploded organ", {"file": "organ", "subject": made.id})
    return scene
