"""Show: what grains look like: a subject in its cycle, sizes, colours, which way each faces."""

from contextlib import suppress
from typing import NamedTuple

import numpy as np

from ...errors import EstampaError
from ...geometry.place import Place
from ...geometry.pose import about_own_up, facing
from ...hashing import rand
from ...kinds.channels import choice, number, ref, switch, text, whole
from ...light import in_linear
from .attributes import Attributes, driven
from .layer import GrainLayer

COLOURS = 256  # steps of a ramp of colours


def check_colours(words: str) -> None:
    """Raises EstampaError where a list of colours names something else."""
    for word in filter(None, (w.strip() for w in words.replace(";", ",").split(","))):
        code = word.lstrip("#")
        if len(code) != 6 or any(c not in "0123456789abcdefABCDEF" for c in code):
            cause = f"hold “{word[:20]}”, which is none."
            raise EstampaError("The colours", cause, "Write them as #ff8800, with commas between.")


class Dressed(NamedTuple):
    """Of those grains that a layer shows: row (k,) which ones; stand -- Place of k rows; shape (k,) which of the shapes
    of its cycle each shows, by its beat, see `beat_of`; colours (k, 3) linear light, or None as the subject is."""

    row: np.ndarray
    stand: Place
    shape: np.ndarray
    colours: np.ndarray | None
    beat: tuple[np.ndarray, np.ndarray]


class Show(GrainLayer):
    """Shows grains as a subject, each at a size, in a colour and at a moment of its cycle of its own.

    Of several such layers each grain is shown by one, by their shares. The subject itself is hidden while grains show
    it. Without such a layer grains are drawn as small lumps.
    """

    kind, title = "grain_show", "Show as"
    shape_of = "subject"
    icon = "M8 3 L12 6 V10 L8 13 L4 10 V6 Z M2 3 h.01 M14 3 h.01 M2 13 h.01 M14 13 h.01"
    rank = 5
    version = 2
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
    texture = text(
        "", "A vertex animation texture that was printed of the subject (its .json): its frames are the cycle.",
        file="Vertex textures (*.json)", title="Or of a texture",
    )  # fmt: skip
    rate = number(1, "How fast it runs through its cycle.", unit="factor", soft=(0, 4), when=())
    rate_varies = number(
        0.2, "Quicker or slower, up to this share.", title="Rate varies by", unit="fraction", soft=(0, 1), hard=(0, 1)
    )
    rate_by, rate_from, rate_to, rate_ramp, rate_formula = driven("rate", "the slowest", "the quickest")
    phase_by, phase_from, phase_to, phase_ramp, phase_formula = driven("phase", "the cycle's first frame", "its last")
    smallest = number(
        0.8, "Size of the smallest, against the subject's own.", unit="factor", soft=(0, 2), hard=(0, None)
    )
    largest = number(1.2, "Size of the largest.", unit="factor", soft=(0, 2), hard=(0, None))
    size_by, size_from, size_to, size_ramp, size_formula = driven("size", "the smallest", "the largest")
    colours = text(
        "", "Colours as hex codes with commas between, from the first to the last; none keeps the subject's own.",
        empty="the subject's own", check=check_colours,
    )  # fmt: skip
    colour_by, colour_from, colour_to, colour_ramp, colour_formula = driven("colour", "the first one", "the last one")
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

    def dressed(
        self, of: Attributes, which: np.ndarray, shapes: int, seconds: float, rate: float, loop: float = 0.0
    ) -> Dressed:
        """Those grains whose rows were `which`, of which all attributes are known. shapes -- how many its cycle has;
        loop -- s of a loop range, or 0."""
        v, grains, seed = of.v, of.grains, of.seed
        size = v.smallest + (v.largest - v.smallest) * of.share("size")
        colours = read_colours(v.colours)
        if colours is not None:
            steps, share = len(colours), of.share("colour")
            if v.colour_by != "random":  # a ramp between them; by chance it is one of them
                at = np.linspace(0, steps - 1, COLOURS)
                colours = np.stack([np.interp(at, np.arange(steps), colours[:, j]) for j in range(3)], axis=1)
            colours = colours[np.minimum((share * len(colours)).astype(np.int64), len(colours) - 1)]
        stand = Place(grains["position"].astype(float), self._axes(grains, v), np.maximum(size, 1e-6))
        if v.spins:
            pace, first = spin_of(of.ids, v, seed, loop)
            stand = stand._replace(axes=about_own_up(stand.axes, 2 * np.pi * (pace * seconds + first)))
        beat = beat_of(of, max(shapes, 1))
        return Dressed(which, stand, phase(*beat, shapes, seconds, rate), colours, beat)

    def _axes(self, own, v) -> np.ndarray:
        """(k, 3, 3) columns X, Y, Z."""
        count = len(own["position"])
        if v.faces == "still":
            return np.repeat(np.eye(3)[None], count, axis=0)
        ahead = own["heading"].astype(float)
        if v.faces == "thing" and v.thing is not None:
            ahead = v.thing.origin[0] - own["position"]
        if v.faces == "level":
            ahead = ahead * [1, 0, 1]
        bank = own["bank"].astype(float) if v.leans and v.faces != "thing" else np.zeros(count)
        return facing(ahead, bank)


def phase(own: np.ndarray, first: np.ndarray, shapes: int, seconds: float, rate: float) -> np.ndarray:
    """(k,) floor(rate x time + phase) mod n: which frame of a cycle each shows; by its number, so that no two beat
    together. own, first -- see `beat_of`; seconds that have gone, at so many frames a second."""
    return np.floor(own * seconds * rate + first).astype(np.int64) % max(shapes, 1)


def beat_of(of: Attributes, shapes: int) -> tuple[np.ndarray, np.ndarray]:
    """((k,) factor of the rate, (k,) frames at the first one): how each goes through its cycle."""
    return of.v.rate * (1 + of.v.rate_varies * (2 * of.share("rate") - 1)), shapes * of.share("phase")


def spin_of(ids: np.ndarray, v, seed: int, loop: float = 0.0) -> tuple[np.ndarray, np.ndarray]:
    """((k,) 1/s, (k,) rounds at the first frame): how each spins; in a loop (s) whole rounds."""
    pace = v.spins * (1 + v.spins_vary * (2 * rand(seed, ids, "spin") - 1))
    return np.round(pace * loop) / loop if loop else pace, rand(seed, ids, "spun")


def read_colours(words: str) -> np.ndarray | None:
    """(c, 3) linear light of hex codes; None without any that can be read."""
    found = []
    for word in words.replace(";", ",").split(","):
        code = word.strip().lstrip("#")
        with suppress(ValueError):
            found += [[int(code[i : i + 2], 16) / 255 for i in (0, 2, 4)]] if len(code) == 6 else []
    if not found:
        return None
    return in_linear(np.array(found))
