"""A cider barrel is tipped over crates: what it holds pours out, breaks on them and runs over the deck."""

import numpy as np

from .. import edits as do
from ..edits.things import add_mesh
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, ring
from ..scene.document import Document
from ..scene.scene import Scene

LAST, ROUND, WALL = 96, 36, 0.014
OAK, IRON, DECK = ("Oak", (0.30, 0.17, 0.07)), ("Iron", (0.08, 0.09, 0.10)), ("Deck", (0.20, 0.13, 0.08))
STAVE = ((0.17, 0.0), (0.205, 0.12), (0.22, 0.27), (0.205, 0.42), (0.17, 0.54))


def barrel(thick: float = 0.0) -> Mesh:
    """Staves in one surface, a bottom, no lid; drawn in by how thick they are, m."""
    heights = np.linspace(0, 0.54, 15)
    radius = np.interp(heights, [y for _, y in STAVE], [r for r, _ in STAVE]) - thick
    heights = thick + heights * (0.54 - thick) / 0.54
    a = 2 * np.pi * np.arange(ROUND) / ROUND
    points = np.stack([radius[:, None] * np.cos(a), np.repeat(heights[:, None], ROUND, axis=1),
                       radius[:, None] * np.sin(a)], axis=-1).reshape(-1, 3)  # fmt: skip
    i, j = np.meshgrid(np.arange(len(heights) - 1), np.arange(ROUND), indexing="ij")
    p, q = (i * ROUND + j).ravel(), (i * ROUND + (j + 1) % ROUND).ravel()
    k, low = np.arange(ROUND), len(points)
    faces = [np.stack([p, p + ROUND, q], axis=1), np.stack([q, p + ROUND, q + ROUND], axis=1),
             np.stack([np.full(ROUND, low), k, (k + 1) % ROUND], axis=1)]  # fmt: skip
    return coloured(Mesh.from_triangles(np.concatenate([points, [[0, heights[0], 0]]]), np.concatenate(faces)), *OAK)


def hoops() -> Mesh:
    made = []
    for height in (0.06, 0.2, 0.34, 0.48):
        hoop = ring(float(np.interp(height, [y for _, y in STAVE], [r for r, _ in STAVE])) + 0.004, 0.008, 36, 6)
        flat = int(np.argmin(np.ptp(hoop.points, axis=0)))
        made.append(hoop.with_points(np.roll(hoop.points, 1 - flat, axis=1) + [0, height, 0]))
    return coloured(joined(made), *IRON)


def build() -> Scene:
    scene = Scene(Document(name="barrel", frame_rate=24, start=1, end=LAST))
    boards = [box([-0.8, -0.04, -0.75 + 0.25 * k], [1.4, 0.0, -0.52 + 0.25 * k]) for k in range(6)]
    add_mesh(scene, coloured(joined(boards), *DECK), "Deck")
    crates = [box([0.35, 0.0, -0.22], [0.62, 0.2, 0.06]), box([0.66, 0.0, -0.08], [0.9, 0.16, 0.2]),
              box([-0.32, 0.0, -0.24], [0.1, 0.3, 0.24])]  # fmt: skip
    crates = [add_mesh(scene, coloured(c, *OAK), f"Crate {k + 1}") for k, c in enumerate(crates)]
    hold = do.add_thing(scene, "grip", "Barrel's edge", {"x": 0.06, "y": 0.3})
    cask, irons = add_mesh(scene, barrel(), "Barrel"), add_mesh(scene, hoops(), "Hoops")
    room = add_mesh(scene, barrel(WALL), "Room in the barrel")
    do.set_on(scene, room.id, False)  # only what it holds is seen
    for thing in (cask, irons, room):
        do.set_values(scene, thing.id, {"parent": hold.id, "x": -0.19})
    for frame, turn in ((1, 0.0), (20, 0.0), (52, -1.9), (LAST, -1.9)):
        do.set_key(scene, hold.id, "turn_z", frame, turn)
    for crate in crates:
        do.add_thing(scene, "collider", f"{crate.name} is solid", {"shape": "mesh", "subject": crate.id})
    vessel = {"shape": "mesh", "subject": room.id, "hollow": True}
    do.add_thing(scene, "collider", "Barrel holds", vessel)
    do.add_thing(scene, "ground", "Deck is solid")
    do.add_thing(scene, "gravity")
    values = {"spacing": 0.0215, "density": 1010.0, "viscosity": 0.05, "clings": 0.25}
    cider = do.add_thing(scene, "liquid", "Cider", values)
    do.add_layer(scene, cider.id, "fill", "In the barrel", {"on": room.id, "level": 0.8, "colour": "#d08a1e"})
    do.add_layer(scene, cider.id, "grain_skin", "Skin", {"cell": 0.5})
    do.add_thing(scene, "skin_usd", "Cider", {"swarm": cider.id, "file": "cider"})
    return scene
