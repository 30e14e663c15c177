"""An ensemble of grains with a source, a lane and a start by hand, as a newcomer would write them: sparks that rise."""

import numpy as np

from estampa.hashing import rand
from estampa.kinds.channels import number, ref, whole
from estampa.kinds.lanes import ReportLane, at_most
from estampa.solve.swarm.births import Births
from estampa.solve.swarm.grains import COLUMNS, Grains
from estampa.solve.swarm.kind import COUNTS, SOURCES_TABLE, GrainThing


class Embers(GrainThing):
    """Sparks that rise as hot air does, ever more slowly, and go out."""

    kind, title = "embers", "Embers"
    icon = "M8 13 C5 11 6 8 8 6 C10 8 11 11 8 13 Z M4 5 h.01 M11 3 h.01"
    tables = {"grains": COLUMNS, "sources": SOURCES_TABLE, "report": COUNTS}
    lane = ReportLane("fastest", at_most("{:.2f} m/s"), lambda told: f"{told['living']:.0f} glow", beside=("living",))

    rise = number(2, "How hard hot air lifts them.", unit="m/s2", soft=(0, 10))
    drag = number(1, "How fast the air takes their speed.", unit="1/s", soft=(0, 5))

    @classmethod
    def start_stack(cls, grip, size):
        return (("sparks", {"around": grip, "radius": 0.2 * size, "count": 40}),)

    def advance(self, grains, inputs, dt):
        self.advance_born(grains, inputs, np.array([dt]))
        grains.age += dt

    def advance_born(self, grains, inputs, h):
        grains.velocity[:, 1] += inputs.v.rise * h
        grains.velocity *= np.exp(-inputs.v.drag * h)[:, None]
        grains.position += grains.velocity * h[:, None]


class Sparks(Births):
    """So many sparks at the first frame."""

    kind, title = "sparks", "Sparks"
    icon = "M8 13 V9 M5 12 L6.5 9.5 M11 12 L9.5 9.5"
    count = whole(50, "How many.", soft=(1, 500), hard=(0, 100_000))
    around = ref("grip", "The middle of the fire.")
    radius = number(0.1, "How far about it.", unit="m", soft=(0, 1), hard=(0, None))

    @classmethod
    def expected(cls, constant, seconds, spacing, room):
        return constant("count")

    def born(self, v, now, source):
        if now.frame > now.first:
            return None
        ids = source.number * 1_000_000 + np.arange(int(v.count))
        aside = np.stack([rand(now.seed, ids, word) - 0.5 for word in ("x", "y", "z")], axis=1)
        middle = v.around.origin[0] if v.around is not None else np.zeros(3)
        return Grains.born(ids, middle + 2 * float(v.radius) * aside, np.zeros((len(ids), 3)), 4.0)
