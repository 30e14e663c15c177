"""What a layer of a swarm is: a source of grains, a guide of their speed, a bound on their place, or their dress."""

from dataclasses import dataclass

import numpy as np

from ...fields.force import World
from ...kinds.channels import number, ref
from ...motion.layer import Layer, Resolved
from .grains import Grains


@dataclass(frozen=True)
class GrainMoment:
    """When and where a layer works: the frame, s since the first one at the step's start, the seed of the swarm, what
    acts in the world, and how the layer stood a frame before."""

    frame: int
    first: int
    rate: float
    seed: int
    world: World
    before: Resolved
    of: Resolved | None = None  # the channels of the swarm or liquid itself
    share: float = 1.0  # how far into the step it is

    @property
    def seconds(self) -> float:
        return (self.frame - self.first - 1 + self.share) / self.rate


class GrainLayer(Layer):
    """Base of the layers in a swarm's stack. Each is felt as much as its strength says, in its zone."""

    moves = "grains"
    group = "swarm"
    by_formula = False  # True: it says where grains are from their number and the time alone
    sows = False  # True: it bears so many at once, at the first frame, whom a formula may move from there
    pulls = False  # True: it pulls grains down
    stops = False  # True: it keeps them out of what is solid
    dresses = False  # True: it is only how grains look, and stales nothing
    skins = False  # True: it makes one surface around all of them
    social = False  # True: it reads the other grains; those that were born within the step feel it from the next one on
    reads_before = False  # True: it reads what it names at the frame before too

    strength = number(1, "How much of it is felt.", unit="fraction", soft=(0, 1), hard=(0, None))
    zone = ref("zone", "Only within this zone.")

    def born(self, v: Resolved, now: GrainMoment, source: "GrainSource") -> Grains | None:
        """Those that come in the step to this frame, or at the first one; `age` is how long before its end."""
        return None

    @classmethod
    def is_source(cls) -> bool:
        """Whether grains are born of it."""
        return cls.born is not GrainLayer.born

    def guide(self, grains: Grains, v: Resolved, now: GrainMoment, h: np.ndarray) -> None:
        """Change the grains' speed over h (n or 1,) s."""

    def bound(self, grains: Grains, v: Resolved, now: GrainMoment, h: np.ndarray) -> None:
        """Change where grains are after they went on for h (n or 1,) s."""

    @classmethod
    def expected(cls, constant, seconds: float, spacing: float, room) -> float:
        """About how many grains of it live at once: constant(name) -> its channels; over so many seconds; where they
        are `spacing` m apart; room(id) -> m3 inside a subject."""
        return 0

    @classmethod
    def felt(cls, grains: Grains, v: Resolved) -> np.ndarray:
        """(n or 1,) how much of the layer each grain feels."""
        return cls.felt_at(grains.position, v)

    @staticmethod
    def felt_at(place: np.ndarray, v: Resolved) -> np.ndarray:
        """(n or 1,) how much of it is felt at places (n, 3) m."""
        share = np.array([float(v.strength)])
        if v.zone is None or not len(place):
            return share
        return share * v.zone(np.ascontiguousarray(place[None]))[0]


@dataclass
class GrainSource:
    """How far a source has come: how many it gave, and what is due of the next one; number of the layer for ids."""

    number: int
    born: float = 0.0
    due: float = 0.0

    def ids(self, count: int) -> np.ndarray:
        """Numbers of the next so many, never used again."""
        found = (self.number << 40) + np.arange(int(self.born), int(self.born) + count)
        self.born += count
        return found
