"""Warm: a place warms or cools a liquid."""

from ....kinds.channels import number
from ..layer import GrainLayer


class Warm(GrainLayer):
    """Warms or cools the grains of a liquid within its zone; with *Expands by* they rise or sink for it."""

    kind, title = "grain_warm", "Warm"
    icon = "M5 13.5 C3.5 11 6.5 9.5 5 7 M8 13.5 C6.5 11 9.5 9.5 8 7 M11 13.5 C9.5 11 12.5 9.5 11 7 M3 4 H13"
    rank = 23

    to = number(60, "The temperature that it brings them to.", title="To", unit="deg C", soft=(0, 100))
    half = number(1, "The time in which half of the way is made.", title="Half in", unit="s", soft=(0.1, 10),
                  hard=(1e-3, None))  # fmt: skip

    def guide(self, grains, v, now, h):
        heat = grains.more.get("temperature")
        if heat is not None:
            heat += (float(v.to) - heat) * (1 - 0.5 ** (self.felt(grains, v) * h / float(v.half)))
