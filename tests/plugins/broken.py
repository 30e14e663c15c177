"""A plug-in that is broken on purpose, after it has entered itself everywhere: nothing of it may stay."""

from estampa.inspect.remarks.remark import Remark, check
from estampa.kinds.facets import Facet
from estampa.kinds.panels import Panel
from estampa.motion.layer import Deformer


class HalfLayer(Deformer):
    """Never there."""

    kind, title = "half_layer", "Half a layer"


class HalfFacet(Facet):
    kinds = ("bend",)

    def hint(self, thing):
        return "never said"


class HalfPanel(Panel):
    word, title = "half_panel", "Half a panel"


@check()
def half_a_check(scene):
    yield Remark("error", "", "Never remarked upon.", "", "")


raise RuntimeError("left half-way")
