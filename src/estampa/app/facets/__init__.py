"""What the window knows of our kinds beside their channels, a file for each or for a family of them."""

import importlib
import pkgutil

from ...kinds.facets import Facet
from ...kinds.facets import facet_of as known_facet
from ...kinds.registry import Kind, load_kinds


def facet_of(declared: type[Kind] | None) -> Facet:
    """The facet of a kind; those of plug-ins come with their kinds."""
    if not _loaded:
        _loaded.append(True)
        for module in pkgutil.iter_modules(__path__):
            importlib.import_module(f"{__name__}.{module.name}")
        load_kinds()
    return known_facet(declared)


_loaded: list[bool] = []
