"""Coloured oil in a tall jar of brine: it is warmed at the foot, rises in slow drops, cools and sinks again."""

import numpy as np

from .. import edits as do
from ..edits.things import add_mesh
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, ring
from ..scene.document import Document
from ..scene.scene import Scene

LAST, ROUND, LOOP = 288, 40, (168, 288)
BRASS, WOOD, GLASS = ("Brass", (0.45, 0.30, 0.10)), ("Wood", (0.16, 0.09, 0.05)), ("Glass", (0.4, 0.5, 0.5))
OUTLINE = ((0.0, 0.0), (0.085, 0.0), (0.105, 0.05), (0.11, 0.2), (0.10, 0.45), (0.085, 0.62), (0.08, 0.70), (0.0, 0.70))


def turned(outline, name) -> Mesh:
    """A closed surface of revolution about Y."""
    a = 2 * np.pi * np.arange(ROUND) / ROUND
    own = np.array(outline[1:-1])
    parts = [np.linspace(p, q, 6, endpoint=False) for p, q in zip(own[:-1], own[1:], strict=True)]
    fine = np.concatenate([*parts, own[-1:]])
    around = (fine[:, :1] * np.cos(a), np.repeat(fine[:, 1:], ROUND, axis=1), fine[:, :1] * np.sin(a))
    rows, points = len(fine), np.stack(around, axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(rows - 1), np.arange(ROUND), indexing="ij")
    p, q = (i * ROUND + j).ravel(), (i * ROUND + (j + 1) % ROUND).ravel()
    sides = np.concatenate([np.stack([p, p + ROUND, q], axis=1), np.stack([q, p + ROUND, q + ROUND], axis=1)])
    k, low, top = np.arange(ROUND), len(points), len(points) + 1
    last = (rows - 1) * ROUND
    caps = [np.stack([np.full(ROUND, low), k, (k + 1) % ROUND], axis=1),
            np.stack([np.full(ROUND, top), last + (k + 1) % ROUND, last + k], axis=1)]  # fmt: skip
    points = np.concatenate([points, [[0, outline[0][1], 0], [0, outline[-1][1], 0]]])
    return coloured(Mesh.from_triangles(points, np.concatenate([sides, *caps])), *name)


def frame() -> Mesh:
    """A foot, a lid, and three bars that hold the glass."""
    bars = [box([0.118 * np.cos(a) - 0.005, 0, 0.118 * np.sin(a) - 0.005],
                [0.118 * np.cos(a) + 0.005, 0.72, 0.118 * np.sin(a) + 0.005]) for a in (0.5, 2.6, 4.7)]  # fmt: skip
    lid = turned(((0, 0.71), (0.122, 0.71), (0.122, 0.735), (0.05, 0.77), (0, 0.77)), BRASS)
    foot = turned(((0, -0.1), (0.15, -0.1), (0.125, -0.03), (0.122, -0.005), (0, -0.005)), BRASS)
    hoop = ring(0.118, 0.006, 48, 8)
    flat = int(np.argmin(np.ptp(hoop.points, axis=0)))
    hoop = hoop.with_points(np.roll(hoop.points, 1 - flat, axis=1) + [0, 0.36, 0])
    return joined([coloured(joined([*bars, hoop]), *BRASS), lid, foot])


def build() -> Scene:
    scene = Scene(Document(name="tidejar", frame_rate=24, start=1, end=LAST, loop=LOOP))
    add_mesh(scene, coloured(box([-0.5, -0.14, -0.3], [0.5, -0.1, 0.3]), *WOOD), "Stall")
    add_mesh(scene, frame(), "Jar's frame")
    glass = add_mesh(scene, turned(OUTLINE, GLASS), "Glass")
    do.set_on(scene, glass.id, False)  # it would hide what it holds
    do.add_thing(scene, "collider", "Glass holds", {"shape": "mesh", "subject": glass.id, "hollow": True})
    do.add_thing(scene, "gravity")
    warm = do.add_thing(scene, "zone", "Warm foot", {"y": -0.02, "shape": "sphere", "reach": 0.095})
    oil = do.add_thing(scene, "liquid", "Oil", {
        "spacing": 0.0095, "density": 1016.0, "around": 1000.0, "expands": 0.0019, "viscosity": 0.05, "tension": 0.032,
        "slows": 0.4, "cools": 3.5, "warms": 1.5e-5, "mixes": 2e-5, "max_compression": 0.0003,
    })  # fmt: skip
    values = {"on": glass.id, "level": 0.24, "colour": "#e0701c", "warmth": 20.0}
    do.add_layer(scene, oil.id, "fill", "Oil in the jar", values)
    lamp = do.add_layer(scene, oil.id, "grain_warm", "Lamp below", {"zone": warm.id, "to": 95.0, "half": 0.5})
    do.set_formula(scene, lamp.id, "strength", "100 * smoothstep(0, 0.4, sin(2 * pi * t / 4))")  # it burns in breaths
    do.add_layer(scene, oil.id, "grain_skin", "Skin", {"cell": 0.55, "smooth": 8})
    do.add_thing(scene, "skin_usd", "Oil", {"swarm": oil.id, "file": "tidejar_oil"})
    around = {"swarm": oil.id, "file": "tidejar_loop", "form": "cache", "loop": True, "fade": 60}
    do.add_thing(scene, "skin_wrap", "Oil, round and round", around)
    return scene
