"""Settle: grains land, sit for a while, and leave."""

import numpy as np

from ....hashing import rand
from ....kinds.channels import number, ref
from ..layer import GrainLayer
from ..solids import solids, surface


class Settle(GrainLayer):
    """Grains that come near a surface land on it, sit for a while, and leave by themselves, or as something comes near.

    They land on grounds and solid things, and on a subject that is named; on one that moves they ride along.
    """

    kind, title = "grain_settle", "Settle"
    stops = True
    icon = "M2.5 12.5 H13.5 M8 2.5 V9 M5.5 6.8 L8 9.4 L10.5 6.8 M5 11 h.01 M11 11 h.01"
    rank = 21
    reads_before = True

    on = ref("subject", "A subject that they land on, besides what is solid.")
    near = number(0.05, "They land when they come nearer than this.", unit="m", soft=(0.005, 0.5), hard=(0, None))
    slower = number(
        1, "And are slower than this against it.", title="Slower than", unit="m/s", soft=(0, 5), hard=(0, None)
    )
    sits = number(4, "How long they sit; 0 for good.", unit="s", soft=(0, 20), hard=(0, None))
    varies = number(0.6, "Longer or shorter by chance, up to this share.", unit="fraction", soft=(0, 1), hard=(0, 1))
    lifts = number(
        0.01, "How far above the surface they sit.", title="Sit above it", unit="m", soft=(0, 0.1), hard=(0, None)
    )
    leaves = number(1, "How fast they leave.", unit="m/s", soft=(0, 5), hard=(0, None))
    scared = ref("placed", "They leave as this comes near.", title="Scared by")
    fright = number(0.6, "How near.", title="When nearer than", unit="m", soft=(0.05, 3), hard=(0, None))

    def bound(self, grains, v, now, h):
        if not len(grains):
            return
        reach = 2 * float(v.near) + float(v.lifts) + grains.fastest * float(h.max())
        found = solids(now.world, reach, now.share, now.rate)
        if v.on is not None:
            before = now.before.on.points[0] if now.before.on is not None else v.on.points[0]
            found.append(surface(before, v.on.points[0], v.on.mesh.triangles, reach, now.share, now.rate))
        if not found:
            return
        best = found[0](grains.position)
        for solid in found[1:]:
            other = solid(grains.position)
            nearer = other.far < best.far
            best = type(best)(
                *(np.where(nearer.reshape(-1, *[1] * (a.ndim - 1)), b, a) for a, b in zip(best, other, strict=True))
            )
        sitting = grains.sits > 0
        self._ride(grains, best, sitting, h)
        scared = np.zeros(len(grains), bool)
        if v.scared is not None:
            scared = np.linalg.norm(grains.position - v.scared.origin[0], axis=1) < v.fright * v.scared.size[0]
        against = grains.velocity - best.speed
        lands = ~sitting & (best.far < v.near) & (np.einsum("ij,ij->i", against, best.out) <= 0) & ~scared
        lands &= (np.linalg.norm(against, axis=1) < v.slower) & (
            np.broadcast_to(self.felt(grains, v), len(grains)) > 0.5
        )
        here = np.flatnonzero(lands)
        grains.position[here] += (v.lifts - best.far[here])[:, None] * best.out[here]
        grains.velocity[here] = best.speed[here]
        # how often it has sat is not kept: the age at which it lands makes each time another throw
        beat = (grains.age[here] * now.rate).astype(np.int64)
        chance = rand(now.seed, grains.ids[here] * 4096 + beat % 4096, "sits")
        grains.sits[here] = 1e9 if v.sits <= 0 else v.sits * (1 + v.varies * (2 * chance - 1)) + h.max()
        goes = np.flatnonzero(sitting & (scared | (grains.sits <= h)))
        away = best.out[goes]
        if v.scared is not None:  # away from what scares it, and off the surface
            off = grains.position[goes] - v.scared.origin[0]
            off /= np.maximum(np.linalg.norm(off, axis=1, keepdims=True), 1e-9)
            away = np.where(scared[goes][:, None], away + off, away)
            away = away / np.maximum(np.linalg.norm(away, axis=1, keepdims=True), 1e-9)
        grains.velocity[goes] = best.speed[goes] + v.leaves * away
        grains.position[goes] += 2 * v.near * best.out[goes]
        grains.sits[goes] = 0

    @staticmethod
    def _ride(grains, met, sitting, h):
        """Those that sit go with the surface."""
        grains.position[sitting] += (
            met.speed[sitting] * h.reshape(-1, 1) if len(h) == 1 else met.speed[sitting] * h[sitting][:, None]
        )
        grains.velocity[sitting] = met.speed[sitting]
