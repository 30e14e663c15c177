"""Estampa: secondary and environmental motion, from a mesh to baked files. See docs/python.md.

The core is complete without a window; only `estampa.app` draws.
"""

import os
import sys

# How long a thread of a kernel spins before it sleeps. The default spins for long, and where the window, a solve and
# other programs want the same processors, a kernel then waits for a thread that does not run: some steps took 30 times
# as long. Read when the OpenMP library is loaded, so it is set before anything else.
os.environ.setdefault("GOMP_SPINCOUNT", "4000")

from . import target

target.settle()
target.forget_stale_kernels()

# Things ride on one another and channels read one another up to limits.MOST_DEEP deep, some calls for each.
sys.setrecursionlimit(max(sys.getrecursionlimit(), 6000))

from .errors import Cancelled, EstampaError
from .scene.file import load_scene as open_scene
from .scene.file import save_scene
from .scene.scene import Scene

__version__ = "0.1.0"
__all__ = ["Cancelled", "EstampaError", "Scene", "bake", "open_scene", "save_scene"]


def bake(scene: Scene, out, print_name: str | None = None, progress=None):
    """Bake the scene's prints, or the one of that name, into folder `out`; see estampa.press.run.run."""
    from .press.run import bake_scene

    return bake_scene(scene, out, print_name, progress)
