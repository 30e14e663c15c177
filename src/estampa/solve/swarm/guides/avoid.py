"""Avoid: grains turn away from what is solid, and never go through it."""

import numpy as np

from ....kinds.channels import number
from ..layer import GrainLayer
from ..solids import solids


class Avoid(GrainLayer):
    """Grains look ahead and turn away from grounds and solid things; they bounce off or slide along what they hit."""

    kind, title = "grain_avoid", "Avoid what is solid"
    stops = True
    icon = "M9.5 3 V13 M2.5 8 H6 C8 8 7.5 3.5 5 3.5 M5 3.5 L6.8 2.4 M5 3.5 L6.6 5"
    rank = 19

    ahead = number(0.5, "How far ahead they look.", unit="s", soft=(0, 2), hard=(0, None))
    turns = number(8, "How hard they turn away at the most.", unit="m/s2", soft=(0, 30), hard=(0, None))
    keeps = number(
        0.02, "How far off they stay: their own radius.", title="Keep off by", unit="m", soft=(0, 0.5), hard=(0, None)
    )
    bounce = number(0.2, "Share of their speed that they bounce off with.", unit="fraction", soft=(0, 1), hard=(0, 1))
    rubs = number(
        0.1,
        "Share of their speed along it that they lose as they run into it.",
        title="Rubs off",
        unit="fraction",
        soft=(0, 1),
        hard=(0, 1),
    )

    def guide(self, grains, v, now, h):
        if v.ahead <= 0 or v.turns <= 0:
            return
        felt = self.felt(grains, v) * (grains.sits <= 0)
        for solid in solids(now.world, float(v.keeps) + grains.fastest * float(v.ahead), now.share, now.rate):
            met = solid(grains.position)
            closing = -np.einsum("ij,ij->i", grains.velocity - met.speed, met.out)
            room = np.maximum(met.far - v.keeps, 1e-4)
            soon = (closing > 0) & (room < closing * v.ahead)
            push = np.where(soon, np.minimum(closing**2 / (2 * room), v.turns), 0.0)
            grains.velocity += (push * felt * h)[:, None] * met.out

    def bound(self, grains, v, now, h):
        for solid in solids(now.world, float(v.keeps) + 2 * grains.fastest * float(h.max()), now.share, now.rate):
            met = solid(grains.position)
            within = np.flatnonzero((met.far < v.keeps) & (grains.sits <= 0))
            if not len(within):
                continue
            out, against = met.out[within], grains.velocity[within] - met.speed[within]
            grains.position[within] += (v.keeps - met.far[within])[:, None] * out
            into = np.minimum(np.einsum("ij,ij->i", against, out), 0)[:, None] * out
            along = against - into
            against = np.where(into.any(axis=1)[:, None], along * (1 - v.rubs) - v.bounce * into, against)
            grains.velocity[within] = against + met.speed[within]
