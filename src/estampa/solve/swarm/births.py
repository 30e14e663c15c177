"""What all sources of grains have: how fast their grains go at first, and how long they live."""

import numpy as np

from ...hashing import rand
from ...kinds.channels import number, text
from .dress import check_colours, read_colours
from .grains import FOREVER
from .layer import GrainLayer
from .places import in_ball

_SPEED = {"unit": "m/s", "soft": (-5, 5), "group": "Speed"}


class Births(GrainLayer):
    """Base of the sources."""

    speed_x = number(0, "How fast they go at first, along X.", title="X", **_SPEED)
    speed_y = number(0, "The same along Y.", title="Y", **_SPEED)
    speed_z = number(0, "The same along Z.", title="Z", **_SPEED)
    scatter = number(
        0, "And by chance in any direction, up to this.", title="Any way", unit="m/s", soft=(0, 2), hard=(0, None)
    )
    life = number(0, "How long they live; 0 for ever.", unit="s", soft=(0, 20), hard=(0, None))
    life_varies = number(
        0.2,
        "Shorter or longer by chance, up to this share.",
        title="Life varies by",
        unit="fraction",
        soft=(0, 1),
        hard=(0, 1),
    )

    @staticmethod
    def speeds(ids: np.ndarray, v, seed: int) -> np.ndarray:
        """(n, 3) m/s, from the channels."""
        plain = np.array([v.speed_x, v.speed_y, v.speed_z], float)
        return plain + float(v.scatter) * in_ball(ids, seed + 1)

    @staticmethod
    def lives(ids: np.ndarray, v, seed: int) -> np.ndarray:
        """(n,) s."""
        if v.life <= 0:
            return np.full(len(ids), FOREVER)
        return v.life * (1 + v.life_varies * (2 * rand(seed, ids, "life") - 1))


# what the sources that fill room have besides
SHAKE = 0.02  # of the spacing, by which grains are off their lattice, so that none stands exactly on another
APART = number(
    0.02, "How far apart grains are, in a swarm; a liquid's are as far apart as it says.", unit="m",
    soft=(0.005, 0.2), hard=(1e-4, None),
)  # fmt: skip
WARMTH = number(20, "How warm it is, in a liquid.", unit="deg C", soft=(0, 100))
COLOUR = text("", "Its colour in a liquid, as a hex code.", empty="the liquid's own", check=check_colours)


class Filling(Births):
    """Base of the sources whose grains are as close as those of a liquid. Subclasses place APART, WARMTH and COLOUR
    among their channels."""

    @staticmethod
    def colour_of(v) -> np.ndarray | None:
        """(3,) linear light."""
        found = read_colours(v.colour)
        return None if found is None else found[0]

    @staticmethod
    def spacing_of(v, now) -> float:
        """m, how far apart grains are: as the liquid says, or the layer in a swarm."""
        return float(now.of.get("spacing", v.apart)) if now.of is not None else float(v.apart)

    @staticmethod
    def off_lattice(spacing: float, seed: int, numbers: np.ndarray, what: str = "") -> np.ndarray:
        """(n, 3) m, a little off, by chance of each number."""
        return SHAKE * spacing * (np.stack([rand(seed, numbers, what + axis) for axis in "xyz"], axis=1) - 0.5)
