"""A bed of forty reeds and lilies in the shallows under the Lantern Pier: three controls play them all, and the motion
loops in 96 frames with a closed seam."""

import numpy as np

from .. import edits as do
from ..edits import rig
from ..geometry.mesh import Mesh
from ..geometry.primitives import box, coloured, disc, joined, ribbon, sheet, tube
from ..hashing import rand
from ..inspect import closing
from ..painted import blade
from ..scene.document import Document
from ..scene.scene import Scene

STEM, HEAD = ("Stem", (0.20, 0.24, 0.06)), ("Reed head", (0.11, 0.05, 0.02))
PAD, PETAL, HEART = ("Pad", (0.04, 0.17, 0.07)), ("Petal", (0.85, 0.62, 0.70)), ("Heart", (0.85, 0.50, 0.05))
WOOD, SAND = ("Pier wood", (0.15, 0.10, 0.07)), ("Sand", (0.40, 0.33, 0.21))
STEMS, LEAVES = 6, 8
FLOAT = 0.07  # metres that the pads float above the sand
LOOP = (1, 97)  # frame 97 is frame 1 again


def reed_mesh(seed: int = 3) -> Mesh:
    """A clump: every stem with its head is one island, every leaf another."""
    parts = []
    for k in range(STEMS):
        angle, tall = 2 * np.pi * k / STEMS, 1.15 + 0.45 * rand(seed, k, "tall")
        away = 0.06 + 0.05 * rand(seed, k, "away")
        root = np.array([away * np.sin(angle), 0, away * np.cos(angle)])
        t = np.linspace(0, 1, 22)
        lean = 0.10 + 0.10 * rand(seed, k, "lean")
        spine = root + np.stack([lean * t**2 * np.sin(angle), tall * t, lean * t**2 * np.cos(angle)], axis=1)
        radii = np.interp(t, [0, 0.70, 0.72, 0.74, 0.90, 0.93, 1], [0.009, 0.006, 0.010, 0.021, 0.021, 0.006, 0.003])
        stem = tube(spine, radii, 8)
        heights = stem.points[stem.face_indices][np.cumsum(stem.face_counts) - 1, 1]
        brown = (heights > tall * 0.72) & (heights < tall * 0.94)
        uv, of = np.zeros((stem.count, 2)), brown.astype(np.int32)
        parts.append(Mesh(stem.points, stem.face_counts, stem.face_indices, uv, [STEM, HEAD], of))
    for k in range(LEAVES):
        angle, long = 2 * np.pi * (k + 0.5) / LEAVES, 0.75 + 0.45 * rand(seed, k, "long")
        t = np.linspace(0, 1, 18)
        out = 0.28 + 0.22 * rand(seed, k, "out")
        reach = 0.04 + out * t**1.6
        spine = np.stack([reach * np.sin(angle), long * (t - 0.22 * t**4), reach * np.cos(angle)], axis=1)
        widths = 0.034 * np.sin(np.pi * np.clip(0.14 + 0.86 * t, 0, 1)) ** 0.7 + 0.002
        across = np.array([np.cos(angle), 0, -np.sin(angle)])
        leaf = ribbon(spine, widths, across)
        uv = np.stack([np.tile([0.0, 0.5, 1.0], len(t)), np.repeat(t, 3)], axis=1)
        leaf = Mesh(leaf.points, leaf.face_counts, leaf.face_indices, uv)
        parts.append(coloured(leaf, "Leaf", (1.0, 1.0, 1.0), picture=blade(), alpha="mask"))
    return joined(parts)


def lily_mesh(seed: int = 5) -> Mesh:
    """Three floating pads and a flower; each pad is an island, the flower's petals are others."""
    parts = []
    for k, (angle, away, radius) in enumerate(((0.4, 0.16, 0.19), (2.6, 0.24, 0.15), (4.5, 0.20, 0.17))):
        pad = disc(radius, 5, 30)
        away_ = np.linalg.norm(pad.points, axis=1) / radius
        rim = pad.points + np.outer(0.014 * away_**6, [0, 1, 0])
        parts.append(coloured(pad.with_points(rim + [away * np.sin(angle), 0.004 * k, away * np.cos(angle)]), *PAD))
    for circle, (count, tilt, long) in enumerate(((8, 0.55, 0.10), (6, 1.0, 0.08))):
        for k in range(count):
            angle = 2 * np.pi * (k + 0.5 * circle) / count
            t = np.linspace(0, 1, 8)
            reach, rise = long * np.cos(tilt) * t + 0.012, long * np.sin(tilt) * t**1.3 + 0.012
            spine = np.stack([reach * np.sin(angle), rise, reach * np.cos(angle)], axis=1)
            widths = 0.042 * np.sin(np.pi * np.clip(0.18 + 0.82 * t, 0, 1)) + 0.001
            parts.append(coloured(ribbon(spine, widths, [np.cos(angle), 0, -np.sin(angle)]), *PETAL))
    parts.append(coloured(tube([[0, 0.01, 0], [0, 0.035, 0], [0, 0.045, 0]], [0.016, 0.018, 0.006], 10), *HEART))
    floating = joined(parts)
    return floating.with_points(floating.points + [0, FLOAT, 0])


def pier_mesh() -> Mesh:
    parts = []
    for x in (-2.4, -0.8, 0.8, 2.4):
        for z in (-2.1, -1.1):
            parts.append(tube([[x, -0.3, z], [x, 1.2, z], [x, 2.3, z]], [0.11, 0.10, 0.10], 10))
    for z in (-2.1, -1.1):
        parts.append(box([-2.9, 2.3, z - 0.08], [2.9, 2.46, z + 0.08]))
    for k in range(29):
        parts.append(box([-2.9 + 0.2 * k, 2.46, -2.5], [-2.72 + 0.2 * k, 2.52, -0.7]))
    return coloured(joined(parts), *WOOD)


def shallows_mesh() -> Mesh:
    sand = sheet(5.4, 3.0, 28, 16)
    x, z = sand.points[:, 0] - 2.7, sand.points[:, 2] - 1.2
    y = 0.05 * np.sin(1.9 * x + 0.6) * np.cos(2.3 * z) - 0.035 * z
    return coloured(sand.with_points(np.stack([x, y, z], axis=1)), *SAND)


def build() -> Scene:
    scene = Scene(Document(name="reeds", frame_rate=24, start=1, end=96, loop=LOOP))
    do.add_mesh(scene, pier_mesh(), "Pier")
    ground = do.add_mesh(scene, shallows_mesh(), "Shallows")
    reed = do.add_mesh(scene, reed_mesh(), "Reed")
    lily = do.add_mesh(scene, lily_mesh(), "Lily")

    breeze = _control(
        scene, "Breeze", {"x": -0.9, "y": 0.42, "z": 1.9, "copies": "heading", "size": 0.5}, free=("y", "turn_y")
    )
    ripple = _control(scene, "Ripple", {"x": 0.0, "y": 0.5, "z": 1.9, "copies": "world", "size": 0.5}, free=("x", "y"))
    lean = _control(
        scene, "Lean", {"x": 0.9, "y": 0.2, "z": 1.9, "copies": "heading", "size": 0.5}, free=("y", "turn_y")
    )

    for plant, every in ((reed, 2), (lily, 6)):
        maps = rig.maps_by_island(scene, plant.id, every)
        angle = np.radians(5) if plant is reed else np.radians(3)
        layers = rig.layer_by_map(
            scene, plant.id, "sway", [m.id for m in maps], breeze, {"angle": angle, "rate": 0.5}, different=0.6, seed=4
        )
        for layer in layers:
            base = scene.doc.find(layer.id).value("angle")
            # raising the breeze from 0 to 1 m takes the swing from nothing to twice its own
            do.link(scene, layer.id, "angle", breeze, "y", (0.0, 1.0), (0.0, 2.4 * base), hold=False)
        tips = None
        if plant is reed:  # the leaves ripple, the stems only sway
            islands = scene.mesh(reed.mesh).islands
            tips = do.add_map(scene, reed.id, (islands >= STEMS).astype(np.float32), "Leaves").id
        flutter = do.add_layer(
            scene,
            plant.id,
            "noise",
            f"{plant.name} ripple",
            {"grip": ripple, "scale": 0.35, "octaves": 2, "speed": 0.25, "along": "all", "loops": True, "map": tips},
        )
        do.link(scene, flutter.id, "height", ripple, "y", (0.0, 1.0), (0.0, 0.09 if plant is reed else 0.03))
    bend = do.add_layer(scene, reed.id, "bend", "Wind lean", {"grip": lean, "low": -0.3, "high": 1.5})
    do.link(scene, bend.id, "angle", lean, "y", (0.0, 1.0), (0.0, float(np.radians(60))))
    drift = do.add_layer(
        scene, lily.id, "wave", "Swell", {"grip": ripple, "height": 0.02, "wavelength": 1.6, "rate": 0.25}
    )
    do.set_formula(scene, drift.id, "height", "0.012 + 0.02 * a", {"a": (ripple, "y")})

    common = {"ground": ground.id, "arrange": "scatter", "spin": float(np.pi), "order": "seed"}
    reeds = {"density": 1.9, "apart": 0.2, "sizes": 0.22, "seed": 3, "timing_seed": 3}
    lilies = {"density": 1.0, "apart": 0.45, "sizes": 0.25, "seed": 8, "timing_seed": 8}
    _bed(scene, "Reed bed", reed.id, common | reeds, 28)
    _bed(scene, "Lily bed", lily.id, common | lilies, 12)
    closing.close(scene)
    do.add_thing(
        scene, "vertex_cache", "Reeds loop", {"copies": _named(scene, "Reed bed"), "file": "reeds_loop", "loop": True}
    )
    do.add_thing(
        scene, "pose_strip", "Reed strip", {"subject": reed.id, "file": "reed_strip", "loop": True, "poses": 12}
    )
    return Scene(scene.doc, scene.arrays)


def _named(scene, name) -> str:
    return next(t.id for t, _ in scene.doc.everything() if t.name == name)


def _control(scene, name, values, free) -> str:
    """A grip whose channels are locked, but for those that it is there for."""
    grip = do.add_thing(scene, "grip", name, values)
    for channel in ("x", "y", "z", "turn_x", "turn_y", "turn_z", "size"):
        if channel not in free:
            do.set_locked(scene, grip.id, channel, True)
    return grip.id


def _bed(scene, name, subject, values, count):
    """A scattered bed, thinned to a number of plants and then placed by hand, so that each can be moved."""
    bed = do.add_thing(scene, "copies", name, values | {"subject": subject, "stagger": (LOOP[1] - LOOP[0]) / count})
    rig.by_hand(scene, bed.id)
    spots = scene.doc.find(bed.id).spots
    if len(spots) < count:
        raise ValueError(f"{name} has only {len(spots)} places")
    do.set_spots(scene, bed.id, spots[:count], f"Thin {name}")
