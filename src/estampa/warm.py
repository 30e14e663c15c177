"""Compiles the kernels and keeps them on disk, so that no first use stalls: python -m estampa.warm"""

import tempfile
import time

from .geometry.primitives import sheet
from .scene import commands as do
from .scene.scene import Scene
from .store.frames import FrameStore


def warm() -> float:
    """Compile every kernel; returns the seconds it took."""
    begun = time.perf_counter()
    scene = Scene()
    for weave in ("strain", "links"):
        subject = do.add_mesh(scene, sheet(1, 1, 5, 5), weave)
        do.add_layer(scene, subject.id, "noise")
        do.add_layer(scene, subject.id, "cloth", values={"weave": weave})
    do.add_thing(scene, "wind")
    with tempfile.TemporaryDirectory() as folder:
        scene.evaluate(scene.doc.start + 1, FrameStore(folder))
    return time.perf_counter() - begun


if __name__ == "__main__":
    print(f"Kernels are compiled ({warm():.1f} s)")
