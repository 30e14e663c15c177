"""Fill: grains on a lattice inside a mesh or a box, as many as there is room for."""

import numpy as np

from ....errors import EstampaError
from ....geometry.caps import lidded
from ....geometry.inside import is_inside
from ....geometry.pieces import is_closed
from ....kinds.channels import choice, number, ref, whole
from ..births import APART, COLOUR, WARMTH, Filling
from ..grains import Grains
from ..solids import solids

MOST = 10_000_000


class Fill(Filling):
    """Fills a mesh or a box with grains on a lattice. In a liquid they are as far apart as its grains are.

    A mesh that is open is filled as if it had a flat lid on each of its rims. What is solid within is left out, so that
    the space between two meshes is filled; with a zone, only what is in it.
    """

    kind, title = "fill", "Fill"
    icon = "M3 5 V13.5 H13 V5 M4.6 8 h.01 M7 8 h.01 M9.4 8 h.01 M11.6 8 h.01 M4.6 11 h.01 M7 11 h.01 M9.4 11 h.01 M11.6 11 h.01"  # noqa: E501
    rank = 3

    where = choice("inside", "What is filled.", {"inside": "Inside a subject", "box": "A box about a grip"})
    on = ref("subject", "The subject that is filled.", title="Subject", when=(("where", ("inside",)),))
    around = ref("grip", "The middle of the box.", when=(("where", ("box",)),))
    wide = number(0.5, "How wide the box is.", title="X", unit="m", soft=(0, 2), hard=(0, None), group="Box",
                  when=(("where", ("box",)),))  # fmt: skip
    tall = number(0.5, "How tall.", title="Y", unit="m", soft=(0, 2), hard=(0, None), group="Box",
                  when=(("where", ("box",)),))  # fmt: skip
    deep = number(0.5, "How deep.", title="Z", unit="m", soft=(0, 2), hard=(0, None), group="Box",
                  when=(("where", ("box",)),))  # fmt: skip
    level = number(1, "Up to which share of its height.", title="Up to", unit="fraction", soft=(0, 1), hard=(0, 1))
    apart = APART
    at = whole(1, "The frame at which they come; those before the first come at the first.", title="At frame",
               unit="frames", soft=(1, 100), fixed=True)  # fmt: skip
    warmth, colour = WARMTH, COLOUR

    @classmethod
    def expected(cls, constant, seconds, spacing, room):
        box = constant("wide") * constant("tall") * constant("deep")
        filled = box if constant("where") == "box" else room(constant("on"))
        return filled * constant("level") / spacing**3

    def born(self, v, now, source):
        if now.frame != max(int(v.at), now.first) or source.born:
            return None
        place = self._free(self._places(v, now), v, now)
        ids = source.ids(len(place))
        return Grains.born(ids, place, self.speeds(ids, v, now.seed), self.lives(ids, v, now.seed))

    def _free(self, place, v, now) -> np.ndarray:
        """Those that lie in nothing solid, and within the zone where there is one."""
        if v.zone is not None:
            place = place[self.felt_at(place, v) >= 0.5]
        kept = np.ones(len(place), bool)
        for solid in solids(now.world, self.spacing_of(v, now), 1.0, now.rate) if len(place) else ():
            kept &= solid(np.ascontiguousarray(place)).far > 0
        if len(place) and not kept.any():
            cure = "Make the vessel hollow, or move the collider out of it."
            raise EstampaError("Fill", "fills what is solid.", cure)
        return place[kept]

    def _places(self, v, now) -> np.ndarray:
        """(n, 3) m in the world."""
        spacing = self.spacing_of(v, now)
        if v.where == "box":
            size = np.array([v.wide, v.tall, v.deep], float)
            size[1] *= float(v.level)
            at = _lattice(-np.array([v.wide, v.tall, v.deep]) / 2, size, spacing, now.seed)
            return at if v.around is None else v.around.apply(at[None])[0]
        if v.on is None:
            raise EstampaError("Fill", "has no subject to fill.", "Choose one under “Subject”.")
        mesh = v.on.mesh.with_points(v.on.points[0])
        closed = mesh if is_closed(mesh.triangles) else lidded(mesh)
        low, high = closed.bounds
        size = high - low
        size[1] *= float(v.level)
        at = _lattice(low, size, spacing, now.seed)
        inside = at[is_inside(closed, at)] if len(at) else at
        if not len(inside):
            need = float(np.min(high - low)) / 4
            if need <= 0:
                raise EstampaError("Fill", "fills a subject of no volume.", "Choose one that has an inside.")
            cause = "finds no room in its subject for a single grain."
            raise EstampaError("Fill", cause, f"Let grains be at most {need:.2g} m apart, or choose a larger mesh.")
        return inside


def _lattice(low, size, spacing, seed) -> np.ndarray:
    """(n, 3) m: the middles of the cells that a box is filled with, centred in what is left over; each a little off."""
    counts = np.maximum(np.floor(size / spacing + 1e-6), 0).astype(np.int64)
    if float(np.prod(counts.astype(float))) > 8 * MOST:
        many = float(np.prod(counts.astype(float)))
        cause = f"would try {many:,.0f} places."
        raise EstampaError("Fill", cause, f"Let grains be further apart; {MOST:,} are the most.")
    slack = (size - counts * spacing) / 2
    slack[1] = 0.0  # it stands on its floor
    axes = [low[j] + slack[j] + (np.arange(counts[j]) + 0.5) * spacing for j in range(3)]
    at = np.stack([a.ravel() for a in np.meshgrid(*axes, indexing="ij")], axis=1)
    return at + Filling.off_lattice(spacing, seed, np.arange(len(at)), "lattice ")
