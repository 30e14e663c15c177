"""Compiles the kernels and keeps them on disk, so that no first use stalls: python -m estampa.warm"""

import tempfile
import time

import numpy as np

from .baking import keys
from .baking.reduce import Tolerance
from .geometry.primitives import sheet, tube
from .scene import commands as do
from .scene import joints as build
from .scene.channels import kinds_in
from .scene.document import Document
from .scene.scene import Scene
from .store.frames import FrameStore


def warm() -> float:
    """Compile every kernel; returns the seconds it took."""
    begun = time.perf_counter()
    warm_layers()
    warm_skeletons()
    scene = Scene()
    for weave in ("strain", "links"):
        subject = do.add_mesh(scene, sheet(1, 1, 5, 5), weave)
        do.add_layer(scene, subject.id, "noise")
        do.add_layer(scene, subject.id, "cloth", values={"weave": weave})
    do.add_thing(scene, "wind")
    with tempfile.TemporaryDirectory() as folder:
        scene.evaluate(scene.doc.start + 1, FrameStore(folder))
    return time.perf_counter() - begun


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
        if kind.memory or kind.remeshes or kind.moves == "joints":
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


if __name__ == "__main__":
    print(f"Kernels are compiled ({warm():.1f} s)")
