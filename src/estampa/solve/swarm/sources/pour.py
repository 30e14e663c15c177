"""Pour: a round jet of grains, layer by layer, as close as a liquid's grains are."""

import numpy as np

from ....errors import EstampaError
from ....kinds.channels import number, ref
from ..births import APART, COLOUR, WARMTH, Filling
from ..grains import Grains

MOST_A_FRAME = 500_000


class Pour(Filling):
    """A round jet that comes out of a grip along its -Y, as fast as is said: as much as its width and speed give."""

    kind, title = "pour", "Pour"
    icon = "M5 2 H11 M8 2 V9 M6.6 3.5 V8 M9.4 3.5 V8 M3 13 C5 11.8 6.5 14.2 8 13 S11 11.8 13 13"
    rank = 4
    reads_before = True

    around = ref("grip", "Where it comes out, along its -Y.")
    radius = number(0.05, "Of the jet.", unit="m", soft=(0, 0.5), hard=(0, None))
    speed = number(1, "How fast it comes out.", unit="m/s", soft=(0, 5), hard=(0, None))
    apart = APART
    warmth, colour = WARMTH, COLOUR

    @classmethod
    def expected(cls, constant, seconds, spacing, room):
        lives = min(constant("life"), seconds) if constant("life") > 0 else seconds
        return len(_disc(constant("radius"), spacing)) * constant("speed") / spacing * lives

    def born(self, v, now, source):
        if now.frame <= now.first:
            return None
        spacing = self.spacing_of(v, now)
        a, b = float(now.before.speed) / now.rate / spacing, float(v.speed) / now.rate / spacing  # layers a frame
        total = source.due + (a + b) / 2
        layers = int(np.floor(total + 1e-9))
        disc = _disc(float(v.radius), spacing)
        if layers * len(disc) > MOST_A_FRAME:
            cause = f"would pour {layers * len(disc):,} grains in one frame."
            raise EstampaError("Pour", cause, f"Lower its speed or radius; {MOST_A_FRAME:,} are the most.")
        late = (total - np.arange(1, layers + 1)) / max((a + b) / 2, 1e-300)  # frames since each came out
        source.due = max(total - layers, 0.0)
        if not layers or not len(disc):
            return None
        ids = source.ids(layers * len(disc))
        own = np.tile(np.stack([disc[:, 0], np.zeros(len(disc)), disc[:, 1]], axis=1), (layers, 1))
        own += self.off_lattice(spacing, now.seed, ids)
        out = np.array([0.0, -1.0, 0.0])
        if v.around is not None:
            own, out = v.around.apply(own[None])[0], -v.around.axes[0, :, 1]
        flow = float(v.speed) * out + self.speeds(ids, v, now.seed)
        grains = Grains.born(ids, own, flow, self.lives(ids, v, now.seed))
        grains.age = np.repeat(late, len(disc)) / now.rate
        return grains


def _disc(radius: float, spacing: float) -> np.ndarray:
    """(n, 2) m: places on a square lattice within a disc; one where it is narrower than that."""
    k = np.arange(-int(radius / spacing) - 1, int(radius / spacing) + 2) * spacing
    at = np.stack([a.ravel() for a in np.meshgrid(k, k)], axis=1)
    return at[np.hypot(*at.T) <= radius + 1e-9]
