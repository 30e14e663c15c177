"""A cord of paper lanterns between two posts, and behind it a bead door that a hand truck pushes through.

The cord was solved and baked to keys, which can be edited; “Back to live” brings the solver back. The door is live. Run
`python -m estampa.demo.lanterns` to make the scene file again.
"""

import numpy as np

from .. import edits as do
from ..baking import keys
from ..edits import joints
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, tube
from ..scene.document import Document
from ..scene.file import load_scene, save_scene
from ..scene.reduce import Tolerance
from ..scene.scene import Scene
from ..store.frames import FrameStore
from . import DATA

WOOD, ROPE, IRON = ("Pier wood", (0.16, 0.10, 0.07)), ("Rope", (0.35, 0.26, 0.15)), ("Iron", (0.10, 0.11, 0.12))
PAPERS = [("Red paper", (0.62, 0.10, 0.06)), ("Straw paper", (0.80, 0.55, 0.22)), ("Sea paper", (0.10, 0.32, 0.36))]
SHELL, FLOAT = ("Shells", (0.72, 0.55, 0.42)), ("Net floats", (0.14, 0.34, 0.32))
TIN = ("Crate", (0.42, 0.28, 0.14))
SPAN, HIGH, SAG, LANTERNS, CORD = 4.0, 2.5, 0.42, 5, 18
STRINGS, BEADS, GAP, DROP = 22, 16, 0.07, 2.05


def cord_line(count: int = CORD) -> np.ndarray:
    x = np.linspace(-SPAN / 2, SPAN / 2, count + 1)
    return np.stack([x, HIGH - SAG * (1 - (2 * x / SPAN) ** 2), np.zeros(count + 1)], axis=1)


def lantern_mesh(size: float) -> Mesh:
    """A ribbed paper lantern that hangs from the origin."""
    t = np.linspace(0, 1, 15)
    swell = np.sin(np.pi * np.clip(0.09 + 0.82 * t, 0, 1)) ** 0.8 * (1 + 0.05 * np.cos(14 * np.pi * t))
    spine = np.stack([np.zeros(15), -0.07 - 1.25 * size * t, np.zeros(15)], axis=1)
    return tube(spine, size * 0.62 * swell, 18)


def posts_mesh() -> Mesh:
    parts = [tube([[x, 0, 0], [x, 1.3, 0], [x, HIGH + 0.12, 0]], [0.07, 0.06, 0.055], 10) for x in (-2.05, 2.05)]
    half = STRINGS * GAP / 2 + 0.06
    parts += [box([x - 0.05, 0, -1.65], [x + 0.05, 2.3, -1.55]) for x in (-half, half)]
    parts.append(box([-half - 0.05, 2.14, -1.66], [half + 0.05, 2.3, -1.54]))
    parts += [box([-2.6 + 0.26 * k, -0.05, -3.2], [-2.38 + 0.26 * k, 0.0, 1.2]) for k in range(20)]
    return coloured(joined(parts), *WOOD)


def door_mesh() -> Mesh:
    """Strings of shells, each with its point down, and every fourth a net float; each of them an island."""
    shells, floats = [], []
    long = DROP / BEADS
    for s in range(STRINGS):
        for b in range(BEADS):
            x, y = (s - (STRINGS - 1) / 2) * GAP, 2.12 - (b + 0.5) * long
            if (b + s) % 4 == 0:
                t = np.linspace(0.1, np.pi - 0.1, 7)
                spine = np.stack([np.full(7, x), y + 0.026 * np.cos(t), np.full(7, -1.6)], axis=1)
                floats.append(tube(spine, 0.027 * np.sin(t), 8))
            else:
                t = np.array([0.0, 0.15, 0.5, 1.0])
                spine = np.stack([np.full(4, x), y + 0.34 * long - 0.68 * long * t, np.full(4, -1.6)], axis=1)
                shells.append(tube(spine, [0.008, 0.021, 0.015, 0.002], 6))
    return joined([coloured(joined(shells), *SHELL), coloured(joined(floats), *FLOAT)])


def truck_mesh() -> Mesh:
    frame = [tube([[x, 0.12, -0.28], [x, 0.7, -0.34], [x, 1.15, -0.46]], [0.018] * 3, 8) for x in (-0.2, 0.2)]
    frame += [tube([[-0.2, y, z], [0, y, z], [0.2, y, z]], [0.014] * 3, 6) for y, z in ((0.45, -0.31), (0.95, -0.40))]
    frame.append(box([-0.24, 0.09, -0.3], [0.24, 0.11, 0.22]))
    hub = np.array([[0, 0.12, -0.32], [0.02, 0.12, -0.32], [0.05, 0.12, -0.32]])
    wheels = [tube(hub + [x, 0, 0], [0.12] * 3, 18) for x in (-0.3, 0.25)]
    load = [box([-0.23, 0.12, -0.26], [0.23, 0.52, 0.2]), box([-0.19, 0.53, -0.24], [0.17, 0.86, 0.14])]
    return joined([coloured(joined(frame + wheels), *IRON), coloured(joined(load), *TIN)])


def made() -> Scene:
    """The scene, built and baked anew."""
    scene = Scene(Document(name="lanterns", frame_rate=24, start=1, end=120))
    do.add_mesh(scene, posts_mesh(), "Posts")
    _cord(scene)
    _door(scene)
    do.add_thing(scene, "gravity", "Gravity")
    grip = do.add_thing(scene, "grip", "Breeze direction", {"x": 0.0, "y": 1.2, "z": -4.2, "size": 0.6})
    gusts = {"gustiness": 0.7, "gust_length": 4.5, "turbulence": 0.3, "eddy_length": 0.6}
    do.add_thing(scene, "wind", "Evening breeze", {"grip": grip.id, "speed": 2.2, **gusts})
    cord = next(t for t in scene.doc.skeletons if t.name == "Cord")
    item = {"subject": next(t for t in scene.doc.subjects if t.name == "Lantern cord").id}
    do.add_thing(scene, "skinned_mesh", "Lantern cord skin", {**item, "file": "lantern_cord"})
    do.add_thing(scene, "joint_bvh", "Lantern cord joints", {"skeleton": cord.id, "file": "lantern_cord"})
    return scene


def _cord(scene):
    line = cord_line()
    parts = [coloured(tube(line, np.full(len(line), 0.012), 6), *ROPE)]
    at = [3 + 3 * k for k in range(LANTERNS)]
    for k, joint in enumerate(at):
        hung = lantern_mesh(0.22 + 0.03 * (k % 2))
        parts.append(coloured(hung.with_points(hung.points + line[joint]), *PAPERS[k % 3]))
    subject = do.add_mesh(scene, joined(parts), "Lantern cord")
    skeleton = joints.add_skeleton(scene, [line], "Cord", "Cord")
    for k, joint in enumerate(at):
        below = line[joint] + [0, -0.07, 0]
        end = below + [0, -1.25 * (0.22 + 0.03 * (k % 2)), 0]
        holder = scene.doc.find(skeleton.id).joints[joint - 1]
        joints.extend(scene, holder.id, skeleton.id, np.array([line[joint], below, end]), "Lantern")
        do.set_value(scene, holder.id, "mass", 7.0)  # a lantern hangs on it
        do.set_value(scene, scene.doc.find(skeleton.id).joints[-1].id, "area", 6.0)  # and catches the wind
    mesh = scene.mesh(subject.mesh)
    bones = scene.values.bones(scene.doc.find(skeleton.id))
    dense, _ = joints.worked_out(scene, subject.id, skeleton.id, "nearest")
    for k in range(LANTERNS):  # a lantern is stiff: all of it follows its own joint
        own = next(i for i, j in enumerate(bones.joints) if j.name == f"Lantern {2 * k + 2}")
        dense[mesh.islands == k + 1] = np.eye(len(bones))[own]
    joints.put_skin(scene, subject.id, skeleton.id, dense)
    values = {"held": "both", "clamp": False, "mass": 0.25, "bend": 0.001, "radius": 0.014, "damping": 0.25}
    do.add_layer(scene, skeleton.id, "chain", "Cord swings", {**values, "touch": False, "drag": 0.9})


def _door(scene):
    door = do.add_mesh(scene, door_mesh(), "Shell curtain")
    strings = joints.from_beads(scene, door.id)
    chain = scene.doc.find(strings.id).stack[0]
    do.rename(scene, strings.id, "Curtain strings")
    do.rename(scene, chain.id, "Strings swing")
    do.set_values(scene, chain.id, {"mass": 0.22, "damping": 0.7, "drag": 0.7})
    truck = do.add_mesh(scene, truck_mesh(), "Hand truck")
    for frame, z in ((1, -3.0), (20, -2.7), (75, -0.75), (100, -0.45)):
        do.set_key(scene, truck.id, "z", frame, z)
    load = {"shape": "box", "y": 0.48, "z": -0.05, "wide": 0.24, "tall": 0.4, "deep": 0.25}
    handles = {"shape": "capsule", "y": 0.9, "z": -0.4, "turn_z": np.pi / 2, "reach": 0.2, "radius": 0.03}
    for name, values in (("Load is solid", load), ("Handles are solid", handles)):
        do.add_thing(scene, "collider", name, {**values, "parent": truck.id})


def baked(scene: Scene, store: FrameStore) -> Scene:
    cord = next(t for t in scene.doc.skeletons if t.name == "Cord")
    keys.put(scene, keys.bake(scene, cord.id, tolerance=Tolerance(0.004), store=store), "Swing")
    return scene


def build() -> Scene:
    scene = load_scene(DATA / "lanterns.estampa")
    return Scene(scene.doc.with_(name="lanterns"), scene.arrays)


if __name__ == "__main__":
    save_scene(baked(made(), FrameStore.default()), DATA / "lanterns.estampa")
