"""A layer with a handle in the view, as a newcomer would write one."""

import numpy as np

from estampa import edits as do
from estampa.kinds.channels import number
from estampa.kinds.facets import Facet, Facts, Spots
from estampa.motion.layer import Deformer


class Lift(Deformer):
    """Raises the subject."""

    kind, title = "lift", "Lift"
    icon = "M8 13 V3 M4 7 L8 3 L12 7"
    group, shortcut, rank = "bend", "Ctrl+Alt+9", 51

    height = number(0.1, "How far it is raised.", unit="m", soft=(0, 2))

    def apply(self, points, v, now):
        return points + [0, 1, 0] * v.height[:, None, None]


class LiftFacet(Facet):
    """A dot above the foot of the subject, as high as it is raised, to take hold of."""

    kinds = ("lift",)

    def foot(self, pane, thing):
        return pane.place(pane.session.doc.owner(thing.id)).origin[0]

    def spots(self, pane, thing):
        at = self.foot(pane, thing) + [0, pane.value(thing, "height"), 0]
        return Spots(at[None], thing)

    def draw_selected(self, canvas, thing):
        at = self.spots(canvas.pane, thing).points[0]
        canvas.line(np.stack([self.foot(canvas.pane, thing), at]))
        canvas.dot(at, 5, strong=True)

    def move_spot(self, pane, thing, index, to):
        height = float(to[1] - self.foot(pane, thing)[1])
        do.set_values(pane.session.scene, thing.id, {"height": height}, None, f"lift {thing.id}", "Raise by hand")

    def hint(self, thing):
        return "drag the dot to raise it"

    def facts(self, session, thing):
        return Facts([("Raised by", f"{thing.constant('height'):.2f} m")])
