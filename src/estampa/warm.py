"""Compiles the kernels and keeps them on disk, so that no first use stalls: python -m estampa.warm

Two processes share the work. The window does the same beside itself, once it has shown what was asked for.
"""

import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from . import disk, target
from . import edits as do
from .baking import keys
from .edits import joints as build
from .evaluate import outcome
from .formats import glb, usd
from .formats.asset import read_asset
from .geometry.mesh import Mesh
from .geometry.primitives import box, sheet, tube
from .hashing import digest
from .kinds.registry import kinds_in
from .scene.document import Document
from .scene.reduce import Tolerance
from .scene.scene import Scene
from .store.frames import FrameStore
from .worker_processes import HOME, isolated

SHARES = (("layers", "contact", "liquids"), ("skeletons", "cloth", "swarms", "assets"))  # one for each process
EVERY = tuple(part for share in SHARES for part in share)
NOTED = "prepared"


def warm(parts=EVERY) -> float:
    """Compile the kernels of those parts; returns the seconds it took."""
    begun = time.perf_counter()
    for part in parts:
        PARTS[part]()
    return time.perf_counter() - begun


def commands() -> list[list[str]]:
    """The programs that compile everything, to be run at the same time."""
    return [isolated("from estampa.warm import main; sys.exit(main(sys.argv[1:]))", *share) for share in SHARES]


def is_prepared() -> bool:
    """Whether all kernels of this very program were compiled for this target."""
    try:
        return (disk.state_folder() / NOTED).read_text() == _mark()
    except OSError:
        return False


def note_prepared() -> None:
    disk.write_whole(disk.state_folder() / NOTED, lambda part: part.write_text(_mark()))


def _mark() -> str:
    files = sorted(Path(__file__).parent.rglob("*.py"))
    stamps = [(f.name, f.stat().st_size, f.stat().st_mtime_ns) for f in files]
    return digest(target.name(), stamps).hex()


def warm_cloth() -> None:
    scene = Scene()
    for weave in ("strain", "links"):
        subject = do.add_mesh(scene, sheet(1, 1, 5, 5), weave)
        do.add_layer(scene, subject.id, "noise")
        do.add_layer(scene, subject.id, "cloth", values={"weave": weave})
    do.add_thing(scene, "wind")
    with tempfile.TemporaryDirectory() as folder:
        scene.evaluate(scene.doc.start + 1, FrameStore(folder))


def warm_contact() -> None:
    scene = Scene()
    subject = do.add_mesh(scene, sheet(1, 1, 5, 5), "Touching")
    do.add_layer(scene, subject.id, "cloth", values={"itself": True})
    do.add_thing(scene, "collider", values={"y": -0.3})
    with tempfile.TemporaryDirectory() as folder:
        scene.evaluate(scene.doc.start + 1, FrameStore(folder))


def warm_layers() -> None:
    """Every deformer, on a subject alone and on copies that differ, with and without a weight map and a zone."""
    scene = Scene(Document(loop=(1, 25)))
    subject = do.add_mesh(scene, sheet(1, 1, 4, 4), "Warm")
    grip = do.add_thing(scene, "grip", values={"copies": "world"}).id
    zone = do.add_thing(scene, "zone").id
    weights = do.add_map(scene, subject.id, np.linspace(0, 1, 16), "Half")
    target = do.add_target(scene, subject.id, scene.mesh(subject.mesh).points + 0.1)
    path = do.add_thing(scene, "path", spots=((0, 0, 0), (1, 0, 0), (1, 0, 1))).id
    for kind in kinds_in("layer"):
        if kind.memory or kind.remeshes or kind.moves != "points":
            continue
        values = {"grip": grip} if "grip" in kind.channels else {}
        values |= {"target": target.id if kind.kind == "morph" else grip} if "target" in kind.channels else {}
        values |= {"path": path} if "path" in kind.channels else {}
        for more in ({}, {"map": weights.id, "zone": zone, "strength": 0.5}):
            do.add_layer(scene, subject.id, kind.kind, values=values | more)
    for along in ("flow", "all", "axis"):
        do.add_layer(scene, subject.id, "noise", values={"along": along, "loops": True})
    shape = {"shape": "rings"}
    do.add_layer(scene, subject.id, "wave", values=shape)
    do.set_key(scene, subject.id, "x", 1, 0.0)
    do.set_key(scene, subject.id, "x", 9, 1.0)
    copies = do.add_thing(scene, "copies", values={"subject": subject.id, "count": 5, "stagger": 1.0})
    evaluator = scene.evaluator()
    evaluator.subject(scene.doc.find(subject.id), 3)
    found = evaluator.copies(scene.doc.find(copies.id), 3)
    found.mesh.normals(found.points())
    found.mesh.normals(found.shape.points[0])


def warm_skeletons() -> None:
    """Skins, cages, binding, every layer of a skeleton, and what a bake to keys needs."""
    scene = Scene(Document(end=4, loop=(1, 5)))
    line = np.stack([np.zeros(6), np.linspace(0, 1, 6), np.zeros(6)], axis=1)
    subject, cage = (do.add_mesh(scene, tube(line, np.full(6, r), 6), "Warm") for r in (0.1, 0.2))
    strands = [build.straight([x, 0, 0], [x, 1, 0], 3) for x in (0, 0.02)]
    skeleton = build.add_skeleton(scene, strands)
    for method in ("linear", "dual"):
        build.bind_skin(scene, subject.id, skeleton.id, method=method)
    build.bind_cage(scene, subject.id, cage.id)
    grip = do.add_thing(scene, "grip", values={"x": 1.0}).id
    path = do.add_thing(scene, "path", spots=((0, 0, 0), (2, 0, 0), (2, 0, 2))).id
    last = scene.doc.find(skeleton.id).joints[2].id
    for kind in kinds_in("layer"):
        if kind.moves == "joints":
            values = {n: v for n, v in (("target", grip), ("path", path), ("last", last)) if n in kind.channels}
            do.add_layer(scene, skeleton.id, kind.kind, values=values)
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "wind")
    for shape in ("sphere", "mesh"):
        do.add_thing(scene, "collider", values={"shape": shape, "subject": cage.id})
    with tempfile.TemporaryDirectory() as folder:
        store = FrameStore(folder)
        scene.evaluate(3, store)
        keys.bake(scene, skeleton.id, tolerance=Tolerance(), store=store)


BOX = {"where": "box", "wide": 0.1, "tall": 0.1, "deep": 0.1}


def warm_swarms() -> None:
    """Every layer of a swarm, over something that is solid."""
    scene = Scene(Document(end=4))
    swarm = do.add_thing(scene, "swarm")
    grip = do.add_thing(scene, "grip", values={"y": 0.5}).id
    path = do.add_thing(scene, "path", spots=((0, 0, 0), (2, 0, 0), (2, 0, 2))).id
    subject = do.add_mesh(scene, sheet(1, 1, 3, 3), "Warm")
    do.add_layer(scene, swarm.id, "sow", values={"count": 20})
    for kind in kinds_in("layer"):
        if kind.moves == "grains" and kind.kind != "sow":
            named = (("grip", grip), ("path", path), ("subject", subject.id), ("around", grip))
            values = {n: v for n, v in named if n in kind.channels} | (BOX if kind.kind == "fill" else {})
            do.add_layer(scene, swarm.id, kind.kind, values=values)
    for kind in ("gravity", "ground", "wind"):
        do.add_thing(scene, kind)
    for shape in ("sphere", "mesh"):
        do.add_thing(scene, "collider", values={"shape": shape, "subject": subject.id, "y": -2.0})
    with tempfile.TemporaryDirectory() as folder:
        scene.evaluate(3, FrameStore(folder))


def warm_liquids() -> None:
    """A liquid with all that it can do, over something that is solid, and what goes by formula."""
    scene = Scene(Document(end=3))
    ball = do.add_mesh(scene, box([-0.2] * 3, [0.2] * 3), "Warm")
    liquid = do.add_thing(scene, "liquid", values={
        "viscosity": 0.1, "tension": 0.1, "warms": 1e-4, "mixes": 1e-4, "clings": 0.5, "slows": 1.0, "expands": 0.001,
    })  # fmt: skip
    for kind, values in (("fill", {"on": ball.id, "colour": "#336699"}), ("pour", {}), ("grain_warm", {}),
                         ("grain_skin", {})):  # fmt: skip
        do.add_layer(scene, liquid.id, kind, values=values)
    for kind, values in (("gravity", {}), ("ground", {"height": -0.2}),
                         ("collider", {"shape": "mesh", "subject": ball.id, "hollow": True})):  # fmt: skip
        do.add_thing(scene, kind, values=values)
    swarm = do.add_thing(scene, "swarm", values={"by": "formula"})
    do.add_layer(scene, swarm.id, "sow", values={"count": 20})
    do.add_layer(scene, swarm.id, "grain_eddies")
    with tempfile.TemporaryDirectory() as folder:
        store = FrameStore(folder)
        scene.evaluate(2, store)
        evaluator = scene.evaluator(store)
        for thing in (liquid, swarm):
            outcome.of(evaluator, scene.doc.find(thing.id), 2)


def warm_assets() -> None:
    """A mesh with a seam, out and in again."""
    flat = sheet(1, 1, 3, 3)
    seam = np.random.default_rng(0).random((len(flat.face_indices), 2))
    corners = {"uv": seam, "normal": np.tile([0, 1, 0], (len(seam), 1))}
    mesh = Mesh(flat.points, flat.face_counts, flat.face_indices, corners=corners)
    with tempfile.TemporaryDirectory() as folder:
        path, stage, parted = Path(folder) / "warm.glb", Path(folder) / "warm.usdc", mesh.parted()[0]
        glb.write_mesh(path, "Warm", parted.points, parted.normals(), parted, glb.coordinates(parted), {})
        usd.write_cache(stage, "Warm", mesh, [1], 24.0, lambda f: mesh.points, False, lambda *a: None)
        for file in (path, stage):
            read_asset(file)


PARTS = {
    "layers": warm_layers, "skeletons": warm_skeletons, "cloth": warm_cloth, "contact": warm_contact,
    "swarms": warm_swarms, "liquids": warm_liquids, "assets": warm_assets,
}  # fmt: skip


def main(parts: list[str]) -> int:
    if parts:
        warm(parts)
        return 0
    begun = time.perf_counter()
    running = [subprocess.Popen(command, cwd=HOME) for command in commands()]
    if any(process.wait() for process in running):
        return 1
    note_prepared()
    print(f"Kernels are compiled ({time.perf_counter() - begun:.1f} s)")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
