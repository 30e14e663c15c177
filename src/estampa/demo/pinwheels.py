"""Fifty pinwheels along the railing of the Lantern Pier turn one after another, while a lost hoop rolls down the
boardwalk for ever, under a camera that rides along."""

import numpy as np

from .. import edits as do
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, ring, tube
from ..scene.curves import Curve, Key
from ..scene.document import Document
from ..scene.scene import Scene

RED, CREAM, WOOD, HOOP = (
    ("Red paper", (0.55, 0.06, 0.05)),
    ("Cream paper", (0.80, 0.70, 0.48)),
    ("Boardwalk", (0.20, 0.13, 0.08)),
    ("Hoop", (0.03, 0.22, 0.32)),
)
COUNT, APART, RADIUS = 50, 0.42, 0.16
HOOP_STEP = 6 * APART  # metres in a loop: six pinwheels further, and once round
THICK = 0.024
HOOP_RADIUS = HOOP_STEP / (2 * np.pi) - THICK
LOOP = (1, 97)


def wheel_mesh() -> Mesh:
    """Eight folded blades about the Z axis."""
    parts = []
    for k in range(8):
        a = 2 * np.pi * k / 8
        r = np.linspace(0.012, RADIUS, 9)
        rows = []
        for share, depth in ((0.0, 0.0), (0.5, 0.030), (1.0, 0.012)):
            angle = a + share * 0.62 * (r / RADIUS) ** 0.6
            rows.append(np.stack([r * np.cos(angle), r * np.sin(angle), depth * (r / RADIUS)], axis=1))
        points = np.stack(rows, axis=1).reshape(-1, 3)
        i, j = np.meshgrid(np.arange(8), np.arange(2), indexing="ij")
        at = i * 3 + j
        quads = np.stack([at, at + 1, at + 4, at + 3], axis=-1).reshape(-1, 4)
        parts.append(coloured(Mesh(points, np.full(len(quads), 4), quads.ravel()), *(RED if k % 2 else CREAM)))
    parts.append(coloured(tube([[0, 0, -0.01], [0, 0, 0.03], [0, 0, 0.04]], [0.016, 0.016, 0.008], 10), *CREAM))
    return joined(parts)


def stick_mesh() -> Mesh:
    return coloured(tube([[0, -0.62, -0.02], [0, -0.3, -0.02], [0, 0.02, -0.02]], [0.007, 0.007, 0.006], 6), *WOOD)


def railing_mesh() -> Mesh:
    long = COUNT * APART
    parts = [box([-0.4, y, -0.52], [long, y + 0.05, -0.46]) for y in (0.42, 0.78)]
    parts += [box([x - 0.04, 0, -0.53], [x + 0.04, 0.84, -0.45]) for x in np.arange(0, long, 4 * APART) - 0.2]
    return coloured(joined(parts), *WOOD)


def plank_mesh() -> Mesh:
    return coloured(box([-0.088, -0.045, -0.55], [0.088, -0.005, 1.15]), *WOOD)


def build() -> Scene:
    scene = Scene(Document(name="pinwheels", frame_rate=24, start=1, end=96, loop=LOOP))
    do.add_mesh(scene, railing_mesh(), "Railing")
    wheel = do.add_mesh(scene, wheel_mesh(), "Pinwheel")
    stick = do.add_mesh(scene, stick_mesh(), "Stick")
    plank = do.add_mesh(scene, plank_mesh(), "Plank")
    hoop = do.add_mesh(scene, coloured(ring(HOOP_RADIUS, THICK, 64, 10), *HOOP), "Lost hoop")

    # a gust runs down the railing: each wheel spins up, runs on and slows down again, a little later than the last
    for thing in (wheel, stick):
        do.set_values(scene, thing.id, {"y": 1.15, "z": -0.44})
    turn = Curve(
        keys=(
            Key(frame=1, value=0.0, tangent="smooth"),
            Key(frame=33, value=float(np.radians(90)), tangent="smooth"),
            Key(frame=65, value=float(np.radians(990)), tangent="smooth"),
            Key(frame=97, value=float(np.radians(1080)), tangent="smooth"),
        ),
        before="accumulate",
        after="accumulate",
    )
    do.set_curve(scene, wheel.id, "turn_z", turn, "Turn")
    line = {"arrange": "line", "count": COUNT, "step_x": APART}
    do.add_thing(scene, "copies", "Pinwheels", line | {"subject": wheel.id, "stagger": (LOOP[1] - LOOP[0]) / COUNT})
    do.add_thing(scene, "copies", "Sticks", line | {"subject": stick.id})
    planks = {"arrange": "line", "count": 116, "step_x": 0.182, "subject": plank.id}
    do.add_thing(scene, "copies", "Boardwalk", planks)

    do.add_layer(scene, hoop.id, "roll", "Roll", {"radius": HOOP_RADIUS + THICK, "about": "x"})
    do.set_values(scene, hoop.id, {"turn_y": float(np.pi / 2), "y": HOOP_RADIUS + THICK, "z": 0.35})
    run = Curve(
        keys=(Key(frame=1, value=0.6, segment="linear"), Key(frame=97, value=0.6 + HOOP_STEP, segment="linear")),
        before="accumulate",
        after="accumulate",
    )
    do.set_curve(scene, hoop.id, "x", run, "Run")
    wobble = do.add_layer(scene, hoop.id, "shear", "Wobble", {"low": -HOOP_RADIUS, "high": HOOP_RADIUS})
    do.set_formula(scene, wobble.id, "angle", "4 * sin(4 * pi * loop)")
    do.move_layer(scene, wobble.id, 1)

    carrier = do.add_thing(scene, "grip", "Carrier", {"y": 0.8, "z": 0.3, "size": 0.4})
    do.link(scene, carrier.id, "x", hoop.id, "x")
    do.add_thing(
        scene,
        "camera",
        "Riding camera",
        {
            "parent": carrier.id,
            "x": 1.9,
            "y": 0.62,
            "z": 3.6,
            "turn_x": -0.26,
            "turn_y": 0.42,
            "view": float(np.radians(42)),
        },
    )
    copies = next(t.id for t in scene.doc.things if t.name == "Pinwheels")
    do.add_thing(scene, "vertex_cache", "Pinwheels loop", {"copies": copies, "file": "pinwheels_loop", "loop": True})
    do.add_thing(scene, "vertex_cache", "Hoop cache", {"subject": hoop.id, "file": "hoop"})
    return Scene(scene.doc, scene.arrays)
