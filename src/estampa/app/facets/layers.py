"""Layers that show more of themselves: bends along their grip, and how fast stems sway."""

import numpy as np

from ...errors import EstampaError
from ...geometry.place import Place
from ...geometry.pose import turn_matrices
from ...kinds.facets import Facet, Facts
from ...solve.stems.kind import parts_of
from ..view.handles import draw_bend

MOST_PARTS = 12  # joints whose frequencies are listed


class AlongFacet(Facet):
    """What works between two heights of its grip."""

    kinds = ("bend", "twist", "taper", "shear")

    def draw_selected(self, canvas, thing):
        pane, grip = canvas.pane, canvas.pane.active_grip()
        values = pane.grip_values(grip) if grip is not None else Place.still().values
        angle = pane.value(thing, "angle") if self.curves(thing) else 0.0
        draw_bend(canvas.painter, canvas.view, values, pane.value(thing, "low"), pane.value(thing, "high"), angle)

    def curves(self, thing) -> bool:
        """Whether the line along it is bent as it bends."""
        return False


class BendFacet(AlongFacet):
    kinds = ("bend",)

    def curves(self, thing):
        return True


class StemsFacet(Facet):
    kinds = ("stems",)

    def facts(self, session, thing):
        """Natural frequency and period of each part, which is what people judge by eye."""
        owner, rate = session.doc.owner(thing.id), session.doc.frame_rate
        try:
            evaluator = session.work.evaluator("window")
            bones, chain, parts = parts_of(evaluator, owner, thing, session.player.frame)
        except EstampaError:
            return Facts([])
        found = list(zip(chain, parts.frequencies(), strict=True))
        named = []
        if 0 < len(chain) <= 120:
            frame = np.tile(np.eye(3), (len(chain), 1, 1))
            rest = turn_matrices(bones.rest.turn[chain])
            lowest = float(parts.modes(rest, frame, np.zeros((len(chain), 3)), 1)[0])
            named.append(("Sways as a whole", lowest))
        named += [(bones.joints[i].name, float(f)) for i, f in found[:MOST_PARTS]]
        rows = [(name, f"{f:.2f} Hz, {rate / f:.0f} frames" if f > 1e-6 else "hangs loose") for name, f in named]
        if len(found) > MOST_PARTS:
            rows.append(("", f"and {len(found) - MOST_PARTS} more joints"))
        return Facts(rows)
