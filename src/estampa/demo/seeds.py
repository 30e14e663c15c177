"""A million winged seeds spin down past the lanterns; those near by land, until a hand truck blows them up again."""

import numpy as np

from .. import edits as do
from ..edits.things import add_mesh
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, ring
from ..scene.document import Document
from ..scene.scene import Scene
from .dragonflies import lanterns, pier

LAST, FAR = 192, 1_000_000
NUT, WING, IRON = ("Nut", (0.16, 0.08, 0.03)), ("Wing", (0.62, 0.42, 0.16)), ("Iron", (0.08, 0.10, 0.12))


def seed() -> Mesh:
    """A nut with one wing, 5 cm long, flat: it spins about its Y."""
    nut = np.array([[-0.006, 0, 0], [0.006, 0, 0], [0, 0.004, 0], [0, -0.004, 0], [0, 0, -0.008]])
    around = np.array([[0, 2, 4], [2, 1, 4], [1, 3, 4], [3, 0, 4], [0, 3, 2], [1, 2, 3]])
    wing = np.array(
        [[-0.003, 0, 0.0], [0.004, 0, 0.0], [0.011, 0.002, 0.026], [0.002, 0.004, 0.043], [-0.006, 0.001, 0.03]]
    )
    leaf = np.array([[0, 1, 2], [0, 2, 3], [0, 3, 4]])
    made = lambda points, faces, ink: coloured(Mesh(points, np.full(len(faces), 3), faces.ravel()), *ink)
    return joined([made(nut, around, NUT), made(wing, leaf, WING)])


def truck() -> Mesh:
    frame = [box([-0.25, 0.2, -0.2], [0.25, 0.24, 0.2]), box([-0.27, 0.2, -0.2], [-0.24, 1.15, -0.16]),
             box([-0.27, 0.2, 0.16], [-0.24, 1.15, 0.2]), box([-0.27, 1.1, -0.2], [-0.24, 1.15, 0.2]),
             box([-0.18, 0.24, -0.16], [0.2, 0.62, 0.16])]  # fmt: skip
    wheels = []
    for z in (-0.22, 0.22):
        wheel = ring(0.1, 0.02, 20, 6)
        flat = int(np.argmin(np.ptp(wheel.points, axis=0)))
        turned = np.roll(wheel.points, 2 - flat, axis=1)
        wheels.append(wheel.with_points(turned + [0, 0.12, z]))
    return coloured(joined([*frame, *wheels]), *IRON)


def build() -> Scene:
    scene = Scene(Document(name="seeds", frame_rate=24, start=1, end=LAST, loop=(1, LAST + 1)))
    add_mesh(scene, pier(), "Pier")
    add_mesh(scene, lanterns(), "Lanterns")
    cart, member = add_mesh(scene, truck(), "Hand truck"), add_mesh(scene, seed(), "Seed")
    way = do.add_thing(scene, "grip", "Truck's way", {"y": 0.0})
    for frame, x in ((1, -5.5), (96, -5.5), (168, 5.5)):
        do.set_key(scene, way.id, "x", frame, x)
    do.set_value(scene, cart.id, "parent", way.id)
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground", "Deck")
    above = do.add_thing(scene, "grip", "Above the deck", {"y": 3.4, "size": 1.0})
    sky = do.add_thing(scene, "grip", "Over the bay", {"y": 9.0, "z": -16.0})
    dress = {"subject": member.id, "faces": "still", "smallest": 0.8, "largest": 1.5, "spins": 2.5}
    near = do.add_thing(scene, "swarm", "Seeds near by", {"seed": 3})
    for kind, name, values in (
        ("sow", "There at first", {"around": above.id, "radius": 2.2, "count": 500}),
        ("emit", "And more", {"around": above.id, "radius": 1.8, "rate": 70.0}),
        ("grain_show", "As a seed", dress),
        ("grain_fall", "Fall", {"strength": 0.4}),
        ("grain_drag", "Air", {"rate": 4.5, "varies": 0.4}),
        ("grain_turbulence", "Draught", {"amount": 2.2, "scale": 1.1, "pace": 0.4}),
        ("grain_settle", "Land on the deck", {"sits": 0.0, "slower": 3.0, "near": 0.04, "lifts": 0.006, "leaves": 2.6,
                                              "scared": way.id, "fright": 0.75}),
    ):  # fmt: skip
        do.add_layer(scene, near.id, kind, name, values)
    far = do.add_thing(scene, "swarm", "Seeds over the bay", {"by": "formula", "seed": 8})
    for kind, name, values in (
        ("sow", "Over the bay", {"around": sky.id, "radius": 14.0, "count": FAR}),
        ("grain_show", "As a seed", dress),
        ("grain_rain", "Come down", {"height": 16.0, "least": 1, "most": 2}),
        ("grain_sway", "Sway", {"wide": 0.35, "high": 0.1, "least": 1, "most": 4}),
    ):
        do.add_layer(scene, far.id, kind, name, values)
    do.add_thing(scene, "swarm_usd", "Seeds near by", {"swarm": near.id, "file": "seeds_near"})
    return scene
