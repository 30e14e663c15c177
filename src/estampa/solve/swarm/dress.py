"""Show: what grains look like: a subject in its cycle, sizes, colours, which way each faces."""

from typing import NamedTuple

import numpy as np

from ...geometry.place import Place
from ...hashing import rand
from ...kinds.channels import choice, number, ref, switch, text, whole
from .layer import GrainLayer

COLOURS = 8  # by which a ramp is drawn
ATTRIBUTES = {
    "random": "Chance",
    "age": "Age, in seconds",
    "left": "Share of its life",
    "speed": "Speed",
    "distance": "Distance from a thing",
    "number": "Its number",
}


class Dressed(NamedTuple):
    """Of those grains that a layer shows: row (k,) which ones; stand -- Place of k rows; frame (k,) which of the frames
    of its cycle each shows; colour (k,) which of `colours` (c, 3) linear light, or None as the subject is."""

    row: np.ndarray
    stand: Place
    frame: np.ndarray
    colour: np.ndarray
    colours: np.ndarray | None


class Show(GrainLayer):
    """Shows grains as a subject, each at a size, in a colour and at a moment of its cycle of its own.

    Of several such layers each grain is shown by one, by their shares. The subject itself is hidden while grains show
    it. Without such a layer grains are drawn as small lumps.
    """

    kind, title = "grain_show", "Show as"
    icon = "M8 3 L12 6 V10 L8 13 L4 10 V6 Z M2 3 h.01 M14 3 h.01 M2 13 h.01 M14 13 h.01"
    rank = 5
    dresses = True

    subject = ref("subject", "What each grain shows.")
    share = number(
        1,
        "How many of them it shows, against the other layers that show some.",
        unit="factor",
        soft=(0, 1),
        hard=(0, None),
        fixed=True,
    )
    cycle = whole(
        0,
        "Frames of the subject's cycle, from the scene's first on; 0 shows it as it is at this frame. A cycle "
        "that shows frame 1 again at frame 11 has ten.",
        unit="frames",
        soft=(0, 24),
        hard=(0, 240),
        fixed=True,
    )
    rate = number(1, "How fast it runs through its cycle.", unit="factor", soft=(0, 4), when=())
    rate_varies = number(
        0.2,
        "Quicker or slower by chance, up to this share; their phase is by chance too.",
        title="Rate varies by",
        unit="fraction",
        soft=(0, 1),
        hard=(0, 1),
    )
    smallest = number(
        0.8, "Size of the smallest, against the subject's own.", unit="factor", soft=(0, 2), hard=(0, None)
    )
    largest = number(1.2, "Size of the largest.", unit="factor", soft=(0, 2), hard=(0, None))
    size_by = choice("random", "What decides the size.", ATTRIBUTES, title="Size by")
    colours = text(
        "", "Colours as hex codes with commas between, from the first to the last; none keeps the subject's own."
    )
    colour_by = choice("random", "What decides the colour.", ATTRIBUTES, title="Colour by")
    low = number(0, "Of what decides: the value at the smallest and the first colour.", title="From", soft=(0, 5))
    high = number(1, "The value at the largest and the last colour.", title="To", soft=(0, 5))
    thing = ref("placed", "The thing that distances are from, and that they may face.")
    faces = choice(
        "way",
        "Which way it faces, with its +Z.",
        {
            "way": "The way it goes",
            "level": "The way it goes, kept level",
            "thing": "The thing",
            "still": "As the subject stands",
        },
    )
    leans = switch(True, "It leans into its turns.")
    spins = number(
        0, "How fast it spins about its own upright, as a winged seed does; in a loop each goes round whole times.",
        unit="1/s", soft=(0, 5),
    )  # fmt: skip
    spins_vary = number(
        0.3, "Faster or slower by chance, up to this share.", title="Spin varies by", unit="fraction", soft=(0, 1),
        hard=(0, 1),
    )  # fmt: skip

    @classmethod
    def attribute(cls, name: str, grains, v, seed: int) -> np.ndarray:
        """(n,) a value of each grain."""
        return {
            "random": lambda: rand(seed, grains["ids"], "attribute"),
            "age": lambda: grains["age"],
            "left": lambda: grains["age"] / np.maximum(grains["life"], 1e-9),
            "speed": lambda: np.linalg.norm(grains["speed"], axis=1),
            "distance": lambda: np.linalg.norm(
                grains["place"] - (0.0 if v.thing is None else v.thing.origin[0]), axis=1
            ),
            "number": lambda: (grains["ids"] % (1 << 40)).astype(float),
        }[name]()

    def dressed(
        self, grains: dict, v, seed: int, seconds: float, rate: float, which: np.ndarray, loop: float = 0.0
    ) -> Dressed:
        """Of grains (columns by name, with their ids) those whose rows are `which`. loop -- s of a loop range, or 0."""
        own = {n: c[which] for n, c in grains.items()}
        ids, count = own["ids"], len(which)
        span = float(v.high - v.low) or 1.0
        ramp = lambda name: np.clip((self.attribute(name, own, v, seed) - v.low) / span, 0, 1)
        # chance of the size is not that of the colour
        by = lambda name, what: rand(seed, ids, what) if name == "random" else ramp(name)
        size = v.smallest + (v.largest - v.smallest) * by(v.size_by, "size")
        colours = read_colours(v.colours)
        colour = np.zeros(count, np.int64)
        if colours is not None:
            share = by(v.colour_by, "colour")
            if v.colour_by != "random":
                at = np.linspace(0, len(colours) - 1, COLOURS)
                colours = np.stack([np.interp(at, np.arange(len(colours)), colours[:, j]) for j in range(3)], axis=1)
            colour = np.minimum((share * len(colours)).astype(np.int64), len(colours) - 1)
        stand = Place(own["place"].astype(float), self._axes(own, v, count), np.maximum(size, 1e-6))
        if v.spins:
            stand = stand._replace(axes=spun(stand.axes, ids, v, seed, seconds, loop))
        return Dressed(which, stand, phase(ids, v, seed, seconds, rate), colour, colours)

    def _axes(self, own, v, count) -> np.ndarray:
        """(k, 3, 3) columns X, Y, Z."""
        if v.faces == "still":
            return np.repeat(np.eye(3)[None], count, axis=0)
        ahead = own["heading"].astype(float)
        if v.faces == "thing" and v.thing is not None:
            ahead = v.thing.origin[0] - own["place"]
        if v.faces == "level":
            ahead = ahead * [1, 0, 1]
        bank = own["bank"].astype(float) if v.leans and v.faces != "thing" else np.zeros(count)
        return facing(ahead, bank)


def phase(ids: np.ndarray, v, seed: int, seconds: float, rate: float) -> np.ndarray:
    """(k,) floor(rate x time + phase) mod n: which frame of a cycle each shows; by its number, so that no two beat
    together."""
    n = max(int(v.cycle), 1)
    own = v.rate * (1 + v.rate_varies * (2 * rand(seed, ids, "rate") - 1))
    return np.floor(own * seconds * rate + n * rand(seed, ids, "phase")).astype(np.int64) % n


def spun(axes: np.ndarray, ids: np.ndarray, v, seed: int, seconds: float, loop: float) -> np.ndarray:
    """(k, 3, 3) axes, turned about their own Y."""
    pace = v.spins * (1 + v.spins_vary * (2 * rand(seed, ids, "spin") - 1))
    if loop:
        pace = np.round(pace * loop) / loop
    angle = 2 * np.pi * (pace * seconds + rand(seed, ids, "spun"))
    c, s = np.cos(angle)[:, None], np.sin(angle)[:, None]
    x, y, z = axes.transpose(2, 0, 1)
    return np.stack([c * x - s * z, y, s * x + c * z], axis=2)


def facing(ahead: np.ndarray, bank: np.ndarray) -> np.ndarray:
    """(k, 3, 3) axes whose +Z is along `ahead` (k, 3) and whose +Y is upright but for a lean (k,) rad about it."""
    z = ahead / np.maximum(np.linalg.norm(ahead, axis=1, keepdims=True), 1e-12)
    z = np.where(np.abs(z).sum(axis=1, keepdims=True) > 0.5, z, [0.0, 0, 1])
    x = np.cross(np.where(np.abs(z[:, 1:2]) > 0.9999, [0.0, 0, 1], [0.0, 1, 0]), z)
    x /= np.linalg.norm(x, axis=1, keepdims=True)
    y = np.cross(z, x)
    c, s = np.cos(bank)[:, None], np.sin(bank)[:, None]
    return np.stack([c * x - s * y, s * x + c * y, z], axis=2)


def read_colours(words: str) -> np.ndarray | None:
    """(c, 3) linear light of hex codes; None without any that can be read."""
    found = []
    for word in words.replace(";", ",").split(","):
        code = word.strip().lstrip("#")
        if len(code) == 6:
            try:
                found.append([int(code[i : i + 2], 16) / 255 for i in (0, 2, 4)])
            except ValueError:
                continue
    if not found:
        return None
    s = np.array(found)
    return np.where(s <= 0.04045, s / 12.92, ((s + 0.055) / 1.055) ** 2.4)  # IEC 61966-2-1
