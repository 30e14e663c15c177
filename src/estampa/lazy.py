"""Libraries that are loaded when they are first used: the window is there sooner, and few scenes need all of them."""

import importlib


class Lazy:
    """Stands for a module until something of it is asked for."""

    def __init__(self, name: str):
        self._name = name

    def __getattr__(self, attribute: str):
        return getattr(importlib.import_module(self._name), attribute)


optimize = Lazy("scipy.optimize")
sparse = Lazy("scipy.sparse")
csgraph = Lazy("scipy.sparse.csgraph")
sparse_linalg = Lazy("scipy.sparse.linalg")
spatial = Lazy("scipy.spatial")
transform = Lazy("scipy.spatial.transform")
