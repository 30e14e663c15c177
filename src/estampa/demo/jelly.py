"""A lantern-jellyfish kite over the pier: its bell follows a wavy path and pulses, its tails trail; it loops, in place.

Both skeletons were solved over two rounds and the second one baked to keys; the travel is kept on a grip, so that
others can move the kite. Run `python -m estampa.demo.jelly` to make the scene file again.
"""

import numpy as np

from .. import edits as do
from ..baking import keys
from ..edits import joints
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..geometry.primitives import coloured, joined, ribbon, tube
from ..inspect import closing
from ..scene.document import Document
from ..scene.file import load_scene, save_scene
from ..scene.reduce import Tolerance
from ..scene.scene import Scene
from ..store.frames import FrameStore
from . import DATA

SILK, RIB, TAIL = ("Silk", (0.75, 0.34, 0.20)), ("Ribs", (0.85, 0.72, 0.42)), ("Tails", (0.24, 0.42, 0.48))
LOOP = (97, 193)  # the second round: by then the tails have forgotten how they began
WAVE, TALL, TAILS, LINKS, LONG = 2.4, 0.22, 8, 12, 2.2
AHEAD = np.array([0.0, 0.0, 1.0])


def bell_mesh() -> Mesh:
    """A dome that opens backwards, with ribs; it flies along +Z."""
    t = np.linspace(0, 1, 14)
    radii = 0.4 * np.sin(np.pi * (0.012 + 0.53 * t)) ** 0.8
    spine = np.outer(0.45 - 0.62 * t**1.4, AHEAD)
    dome = tube(spine, radii, 32, closed_ends=False)
    ribs = []
    for k in range(TAILS):
        a = 2 * np.pi * k / TAILS
        out = np.array([np.cos(a), np.sin(a), 0])
        line = spine + radii[:, None] * out
        ribs.append(tube(line, np.full(14, 0.012), 5))
    return joined([coloured(dome, *SILK), coloured(joined(ribs), *RIB)])


def tail_lines() -> list[np.ndarray]:
    found = []
    for k in range(TAILS):
        a = 2 * np.pi * k / TAILS
        root = np.array([0.38 * np.cos(a), 0.38 * np.sin(a), -0.17])
        found.append(joints.straight(root, root - LONG * AHEAD + [0, -0.02, 0], LINKS))
    return found


def tails_mesh() -> Mesh:
    parts = []
    for k, line in enumerate(tail_lines()):
        t = np.linspace(0, 1, 29)
        spine = line[0] + (line[-1] - line[0]) * t[:, None]
        a = 2 * np.pi * k / TAILS
        widths = 0.11 * (1 - 0.75 * t) * (1 + 0.2 * np.sin(9 * t))
        parts.append(ribbon(spine, widths, [-np.sin(a), np.cos(a), 0]))
    return coloured(joined(parts), *TAIL)


def made() -> Scene:
    """The scene, live: nothing is baked yet."""
    scene = Scene(Document(name="jelly", frame_rate=24, start=1, end=193, loop=LOOP))
    bell, tails = do.add_mesh(scene, bell_mesh(), "Bell"), do.add_mesh(scene, tails_mesh(), "Tails")
    z = np.linspace(-1.0, 8 * WAVE, 120)
    wave = np.stack([0 * z, 2.2 + TALL * np.sin(2 * np.pi * z / WAVE), z], axis=1)
    path = do.add_thing(scene, "path", "Updraught", spots=wave)
    kite = joints.add_skeleton(scene, [np.array([0.45 * AHEAD, -0.17 * AHEAD])], "Kite", "Kite")
    root = kite.joints[0].id
    line = scene.evaluator().stage.sampled(scene.doc.find(path.id))
    at = lambda z: float(np.interp(z, line.points[:, 2], line.along))
    slide = do.add_layer(scene, kite.id, "along", "Along the updraught", {"path": path.id})
    first = WAVE  # one wave length a round, twice
    do.set_key(scene, slide.id, "slide", 1, at(first), "linear")
    do.set_key(scene, slide.id, "slide", LOOP[1], at(first + 2 * WAVE), "linear")
    for axis in ("x", "z"):
        for frame, size in ((1, 1.0), (13, 0.84), (25, 1.0)):
            do.set_key(scene, root, f"stretch_{axis}", frame, size)
        curve = scene.doc.find(root).curve(f"stretch_{axis}").with_extend("cycle", "cycle")
        do.set_curve(scene, root, f"stretch_{axis}", curve, "Pulse")
    strands = joints.add_skeleton(scene, tail_lines(), "Tail strands", "Tail")
    do.set_value(scene, strands.id, "parent", root)
    _stand_as_built(scene, strands.id, root)
    for subject, skeleton in ((bell, kite), (tails, strands)):
        joints.bind_skin(scene, subject.id, skeleton.id, "nearest")
    values = {"mass": 0.08, "tip_mass": 0.6, "bend": 0.02, "tip_bend": 0.3, "twist": 0.02, "radius": 0.03}
    do.add_layer(scene, strands.id, "chain", "Tails trail", {**values, "damping": 2.0, "drag": 1.3})
    do.add_thing(scene, "gravity", "Light as a kite", {"pull": 0.5})
    for subject in (bell, tails):
        do.add_thing(scene, "skinned_mesh", f"{subject.name} skin", {"subject": subject.id})
    do.add_thing(scene, "skinned_usd", "Tails USD", {"subject": tails.id})
    do.add_thing(scene, "joint_csv", "Tails table", {"skeleton": strands.id})
    return scene


def _stand_as_built(scene, skeleton_id, root):
    """Let the tails ride on the bell as both were built: their skeleton stands within the joint's rest."""
    bones = scene.values.bones(scene.doc.owner(root))
    own = Place.of_matrices(np.linalg.inv(bones.at_rest[bones.where[root]])[None])
    do.set_values(scene, skeleton_id, own.values)


def baked(scene: Scene, store: FrameStore) -> Scene:
    """Bake the second round, close its seam, and take the travel out."""
    for skeleton in [t.id for t in scene.doc.skeletons][::-1]:  # the tails ride on the bell, so they come first
        found = keys.bake(scene, skeleton, None, LOOP, Tolerance(0.003), store)
        keys.put(scene, found, "Drift", loops=True)
    kite = next(t for t in scene.doc.skeletons if t.name == "Kite")
    keys.in_place(scene, kite.id, "z")
    do.set_range(scene, LOOP[0], LOOP[1] - 1)
    closing.close(scene, [o for o in closing.offers(scene.doc, 20) if scene.doc.owner(o.thing) is not None])
    return scene


def build() -> Scene:
    scene = load_scene(DATA / "jelly.estampa")
    return Scene(scene.doc.with_(name="jelly"), scene.arrays)


if __name__ == "__main__":
    save_scene(baked(made(), FrameStore.default()), DATA / "jelly.estampa")
