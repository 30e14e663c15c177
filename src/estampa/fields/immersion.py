"""Immersion: bodies and cloths feel a liquid that they stand in."""

from dataclasses import replace

from ..kinds.channels import number, ref
from ..kinds.fields import POOL
from .force import Force


class Immersion(Force):
    """Bodies float in a liquid by what they displace, and are dragged along; cloths get wet and heavy.

    They feel it as it was a frame ago. For the liquid to feel them, give their subjects a collider.
    """

    kind, title = "immersion", "Immersion"
    gives, goes_along = frozenset({POOL}), True
    icon = "M2 9 C4 7.5 6 10.5 8 9 S12 7.5 14 9 M2 13 C4 11.5 6 14.5 8 13 S12 11.5 14 13 M5 8 V3 H11 V8"
    group = "fall"
    shortcut = "Alt+8"
    rank = 14

    liquid = ref("liquid", "The liquid that they stand in.", title="In", lags=True)
    drag = number(
        1.0, "How hard it is to go through: a box has about 1, a ball 0.5, a slender hull 0.1.", unit="factor",
        soft=(0, 2), hard=(0, None),
    )  # fmt: skip
    soaks = number(
        0.2, "Water that a square metre of dipped cloth takes up.", title="Cloth soaks up", unit="kg/m2", soft=(0, 1),
        hard=(0, None),
    )  # fmt: skip
    dries = number(
        8, "Time in which a wet cloth loses half of it in air; 0 keeps it.", title="Half dried in", unit="s",
        soft=(0, 60), hard=(0, None),
    )  # fmt: skip

    def act(self, world, v):
        if v.liquid is not None:
            own = {name: float(v[name]) for name in ("drag", "soaks", "dries")}
            world.pools.append(replace(v.liquid, **own))
