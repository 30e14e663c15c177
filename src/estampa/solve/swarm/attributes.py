"""What of a grain can decide how it looks: by chance, measured, or by a formula, and through a ramp."""

import numpy as np

from ... import formula
from ...hashing import rand
from ...kinds.channels import Channel, choice, number, text
from ...kinds.ramps import ramp_at, read_ramp

MEASURED = {
    "age": "Age, in seconds",
    "left": "Share of its life",
    "speed": "Speed, in m/s",
    "distance": "Distance from a thing, in m",
    "number": "Its number",
    "warmth": "Temperature of a liquid, in deg C",
    "pressure": "Pressure of a liquid, in Pa",
}
BY = {"random": "Chance"} | MEASURED | {"formula": "A formula"}
NAMES = (*MEASURED, "random")  # known in formulas, beside those that all formulas know


def check_formula(words: str) -> None:
    """Raises EstampaError where a formula of grains cannot be read."""
    if words.strip():
        try:
            formula.read(words, NAMES)
        except formula.Refused as err:
            raise formula.refusal(err, "The formula") from None


def driven(what: str, least: str, most: str) -> tuple[Channel, ...]:
    """Five channels by which something of the grains is driven: what decides it, the values at both ends, a ramp, a
    formula."""
    title = what.capitalize()
    by = f"{what}_by"
    over = f"{title} over"
    measured = ((by, tuple(MEASURED)),)
    return (
        choice("random", f"What decides the {what}.", BY, title=f"{title} by"),
        number(0, f"The value at {least}.", title="From", soft=(0, 5), when=measured, group=over),
        number(1, f"The value at {most}.", title="To", soft=(0, 5), when=measured, group=over),
        text(
            "", f"How the {what} rises from {least} to {most}; drag its knots.", title=f"{title} ramp",
            ramp=True, check=read_ramp, when=((by, ("random", *MEASURED)),),
        ),
        text(
            "", f"A share of 0 for {least} to 1 for {most}, by age, left (of its life), speed, distance, number, "
            "random and what all formulas know: smoothstep(0, 2, speed).",
            title=f"{title} formula", check=check_formula, when=((by, ("formula",)),),
        ),
    )  # fmt: skip


class Attributes:
    """Of n grains: columns by name with their ids, values of the layer that reads them, the swarm's seed, the moment.

    Each attribute is worked out when it is first asked for."""

    def __init__(self, grains: dict, v, seed: int, seconds: float, frame: float, loop: float = 0.0):
        self.grains, self.v, self.seed, self.ids = grains, v, seed, grains["ids"]
        self._when = {"t": seconds, "frame": float(frame), "n": float(len(self.ids))}
        self._when["loop"] = seconds / loop if loop else 0.0

    def __getitem__(self, name: str):
        """(n,) an attribute; a number where it is the same of all."""
        if name in self._when:
            return self._when[name]
        g = self.grains
        match name:
            case "random":
                return rand(self.seed, self.ids, "attribute")
            case "age":
                return g["age"].astype(float)
            case "left":
                return g["age"] / np.maximum(g["life"], 1e-9)
            case "speed":
                return np.linalg.norm(g["velocity"], axis=1)
            case "distance":
                middle = 0.0 if self.v.thing is None else self.v.thing.origin[0]
                return np.linalg.norm(g["position"] - middle, axis=1)
            case "warmth" | "pressure":
                own = g.get({"warmth": "temperature", "pressure": "pressure"}[name])
                return np.zeros(len(self.ids)) if own is None else own.astype(float)
        return (self.ids % (1 << 40)).astype(float)  # number, and i

    def entering(self, what: str) -> np.ndarray:
        """(n,) in 0 to 1, what goes into the ramp of size, colour, rate or phase; of a formula what it gives."""
        v, by = self.v, self.v[f"{what}_by"]
        if by == "random":  # the chance of one is not that of another
            return rand(self.seed, self.ids, what)
        if by == "formula":
            words = v[f"{what}_formula"]
            given = formula.work_out(words, self, NAMES) if words.strip() else 0.0
            return np.clip(np.nan_to_num(np.broadcast_to(np.asarray(given, float), len(self.ids))), 0, 1)
        low, high = float(v[f"{what}_from"]), float(v[f"{what}_to"])
        return np.clip((self[by] - low) / ((high - low) or 1.0), 0, 1)

    def share(self, what: str) -> np.ndarray:
        """(n,) in 0 to 1, how far the grain is from the one end to the other."""
        entering = self.entering(what)
        if self.v[f"{what}_by"] == "formula":
            return entering
        return np.clip(ramp_at(self.v[f"{what}_ramp"], entering), 0, 1)
