"""A stall's blind of striped cotton: three hoops shrink around it and gather it while its lower corners are drawn up.

Its last shape, and one filled by a strong wind, were captured; a second blind goes towards both by two controls, in
four clips. Run `python -m estampa.demo.blind` to make the scene file again.
"""

import numpy as np

from .. import edits as do
from ..edits import clips, joints
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, joined, ring, sheet
from ..scene.document import Document
from ..scene.file import load_scene, save_scene
from ..scene.scene import Scene
from ..store.frames import FrameStore
from . import DATA

WOOD, BRASS = ("Pier wood", (0.16, 0.10, 0.07)), ("Brass", (0.55, 0.40, 0.14))
STRAW, SEA = ("Straw cotton", (0.78, 0.62, 0.36)), ("Sea cotton", (0.14, 0.34, 0.36))
WIDE, LONG, HIGH = 0.9, 1.4, 2.1
COLUMNS, ROWS = 46, 57
PLEATS, DEEP = 5, 1.15  # pleats at first, and how far they turn aside, rad
HOOPS = (1.5, 1.25, 1.0)  # m, how high they stand
LAST, FULL = 72, 60  # frames of the shapes that were captured
APART = 1.8  # m, from the live blind to the one with controls


def blind_mesh() -> Mesh:
    """A sheet that hangs in the plane of X and Y, in stripes."""
    flat = sheet(WIDE, LONG, COLUMNS, ROWS)
    points = np.stack([flat.points[:, 0] - WIDE / 2, HIGH - flat.points[:, 2], np.zeros(flat.count)], axis=1)
    stripes = (np.arange(len(flat.face_counts)) % (COLUMNS - 1)) // 3 % 2
    return Mesh(points, flat.face_counts, flat.face_indices, flat.uv, [STRAW, SEA], stripes.astype(np.int32))


def pleated(mesh: Mesh) -> np.ndarray:
    """(n, 3) m: the sheet in soft pleats along it, as long as it was; the shape in which it starts."""
    along = np.linspace(0, WIDE, 1801)
    turn = DEEP * np.sin(2 * np.pi * PLEATS * along / WIDE)
    step = np.gradient(along)
    x, z = np.cumsum(np.cos(turn) * step), np.cumsum(np.sin(turn) * step)
    own = mesh.points[:, 0] + WIDE / 2
    middle = 0.5 * x[-1]
    return np.stack([np.interp(own, along, x) - middle, mesh.points[:, 1], np.interp(own, along, z - z.mean())], axis=1)


def hoop_mesh() -> Mesh:
    """A brass hoop that lies flat, about its own middle."""
    made = ring(0.42, 0.03, 40, 8)
    return coloured(made.with_points(made.points[:, [1, 0, 2]] * [1, 1, -1]), *BRASS)


def stall_mesh() -> Mesh:
    parts = []
    for x in (0.0, APART):
        parts += [box([x + s * 0.62 - 0.04, 0, -0.04], [x + s * 0.62 + 0.04, 2.25, 0.04]) for s in (-1, 1)]
        parts.append(box([x - 0.72, 2.12, -0.05], [x + 0.72, 2.25, 0.05]))
    parts += [box([-1.2 + 0.25 * k, -0.05, -1.2], [-0.98 + 0.25 * k, 0.0, 1.4]) for k in range(17)]
    return coloured(joined(parts), *WOOD)


def made() -> Scene:
    """The live blind: cloth, hoops and the grip that draws its corners up."""
    scene = Scene(Document(name="blind", frame_rate=24, start=1, end=LAST, run_up=24))
    do.add_mesh(scene, stall_mesh(), "Stall")
    blind = do.add_mesh(scene, blind_mesh(), "Blind")
    points = scene.mesh(blind.mesh).points
    rail = do.add_map(scene, blind.id, (points[:, 1] > HIGH - 1e-6).astype(float), "Rail")
    low = points[:, 1] < HIGH - LONG + 0.05
    corners = do.add_map(
        scene, blind.id, (low & (np.abs(points[:, 0]) > WIDE / 2 - 0.05)).astype(float), "Lower corners"
    )
    pleats = do.add_target(scene, blind.id, pleated(scene.mesh(blind.mesh)), "pleats")
    do.add_layer(scene, blind.id, "morph", "Pleats at first", {"target": pleats.id})
    values = {"pins": rail.id, "itself": True, "thickness": 0.004, "damping": 1.0}
    do.add_layer(scene, blind.id, "cloth", "Cotton", {**values, "density": 0.15, "warp": 1500.0, "weft": 1200.0,
                                                      "shear": 60.0, "bend": 1e-5})  # fmt: skip
    cord = do.add_thing(scene, "grip", "Cord", {"y": HIGH - LONG, "z": 0.25, "size": 0.3})
    for frame, y in ((24, HIGH - LONG), (66, HIGH - LONG + 0.36)):
        do.set_key(scene, cord.id, "y", frame, y)
    do.add_layer(scene, blind.id, "hold_to", "Corners on the cord", {"grip": cord.id, "map": corners.id})
    for k, height in enumerate(HOOPS, 1):
        hoop = do.add_mesh(scene, hoop_mesh(), f"Hoop {k}")
        do.set_value(scene, hoop.id, "y", height)
        for frame, size in ((6, 1.0), (60, 0.25)):
            do.set_key(scene, hoop.id, "size", frame, size)
        do.add_thing(scene, "collider", f"Hoop {k} is solid", {"shape": "mesh", "subject": hoop.id, "friction": 0.1})
    do.add_thing(scene, "gravity", "Gravity")
    toward = do.add_thing(scene, "grip", "Sea wind direction", {"x": -0.4, "y": 1.4, "z": -1.2, "size": 0.4})
    do.add_thing(scene, "wind", "Sea wind", {"grip": toward.id, "speed": 0.4, "gustiness": 0.3})
    return scene


def named(scene: Scene, name: str):
    return next(t for t, _ in scene.doc.everything() if t.name == name)


def shapes(scene: Scene, store: FrameStore) -> tuple[np.ndarray, np.ndarray]:
    """(rolled, full): the last frame, and one without hoops and cord in a strong wind, (n, 3) m each."""

    def at(other: Scene, frame: int) -> np.ndarray:
        evaluator = other.evaluator(store)
        evaluator.solve_through(frame)
        blind = named(other, "Blind")
        return evaluator.rows(blind, evaluator.layers(blind), evaluator.stage.one(blind, frame)).points[0]

    rolled = at(scene, LAST)
    windy = Scene(scene.doc, scene.arrays)
    for name in ("Corners on the cord", *(f"Hoop {k} is solid" for k in (1, 2, 3))):
        do.set_on(windy, named(windy, name).id, False)
    do.set_value(windy, named(windy, "Sea wind").id, "speed", 7.0)
    return rolled, at(windy, FULL)


def with_controls(scene: Scene, rolled: np.ndarray, full: np.ndarray) -> Scene:
    """A second blind beside the live one, that goes towards both shapes by two controls, in four clips."""
    rig = do.add_mesh(scene, blind_mesh(), "Blind with controls")
    do.set_value(scene, rig.id, "x", APART)
    targets = [do.add_target(scene, rig.id, shape, name) for shape, name in ((rolled, "rolled"), (full, "full"))]
    lines = [np.array([[APART + x, 1.2, 0.35], [APART + x, 1.35, 0.35]]) for x in (0.0, -0.25, 0.25)]
    skeleton = joints.add_skeleton(scene, lines, "Blind controls", "Control")
    root, roll, fill = scene.doc.find(skeleton.id).joints
    for joint, name, look in ((root, "Blind root", "hidden"), (roll, "Roll", "arrow"), (fill, "Fill", "ring")):
        do.rename(scene, joint.id, name)
        do.set_values(
            scene, joint.id, {"look": look, "look_size": 0.22, "look_ink": "plum" if name == "Fill" else "amber"}
        )
    for target, joint in zip(targets, (roll, fill), strict=True):
        layer = do.add_layer(scene, rig.id, "morph", f"Towards {target.name}", {"target": target.id})
        do.link(scene, layer.id, "weight", joint.id, "y", span=(0.0, 0.6), to=(0.0, 1.0))
    count = len(rolled)
    skin = joints.put_skin(scene, rig.id, skeleton.id, np.eye(3)[np.zeros(count, int)])
    do.move_layer(scene, skin.id, 2)  # a file carries the shapes that stand above the skin
    for name, joint, reverse in (("roll up", roll, "roll down"), ("fill", fill, "empty")):
        clip = clips.new_clip(scene, skeleton.id, name, 1, 48)
        for other in (roll, fill):
            do.set_key(scene, other.id, "y", 1, 0.0)
            do.set_key(scene, other.id, "y", 48, 0.6 if other is joint else 0.0)
        backwards = clips.reverse_clip(scene, skeleton.id, clip.id)
        clips.set_clip(scene, skeleton.id, backwards.id, name=reverse)
    do.add_thing(scene, "skinned_mesh", "Blind, skinned", {"subject": rig.id, "file": "blind"})
    return scene


def build() -> Scene:
    scene = load_scene(DATA / "blind.estampa")
    return Scene(scene.doc.with_(name="blind"), scene.arrays)


if __name__ == "__main__":
    scene = made()
    save_scene(with_controls(scene, *shapes(scene, FrameStore.default())), DATA / "blind.estampa")
