"""Bonds between bodies that are pieces of one broken mesh: ties of the engine that part when pulled too hard."""

from dataclasses import dataclass

import numpy as np

from ...geometry.bonds import bonds
from ...hashing import rand
from ...lazy import spatial


@dataclass(frozen=True)
class BondTies:
    """a, b (q,) rows of two bodies; at_a, at_b (q, 3) m from their centres; area (q,) m2; strength (q,) Pa."""

    a: np.ndarray
    b: np.ndarray
    at_a: np.ndarray
    at_b: np.ndarray
    area: np.ndarray
    strength: np.ndarray

    def tie(self, engine) -> None:
        for k in range(len(self.a)):
            engine.tie(self.a[k], self.b[k], self.at_a[k], self.at_b[k])

    def part(self, engine, whole, pull) -> None:
        """Part what is pulled harder than it holds. whole (q,) u1 and pull (q,) Pa are changed.

        The pull on a bond is its force over its area, and the largest that bending adds at the edge of a round section
        of that area: M r / I with I = pi r^4 / 4 (Euler-Bernoulli).
        """
        if not engine.moves:
            return
        for k in np.flatnonzero(whole):
            force, moment = engine.load(k)
            area = self.area[k]
            radius = np.sqrt(area / np.pi)
            found = np.sqrt(force @ force) / area + 4 * np.sqrt(moment @ moment) / (area * radius)
            pull[k] = max(pull[k], found)
            if found > self.strength[k]:
                whole[k] = 0
                engine.part(k)


def bonds_of(members, pieces, spans, centre) -> BondTies:
    """Of all members whose pieces are held together by bonds; centre (b, 3) m of all bodies at first."""
    parts = []
    for seen, own in zip(members, pieces, strict=True):
        if seen.v.bonded != "bonds" or seen.v.each != "pieces" or seen.v.moved != "solve" or own.count < 2:
            continue
        found, first = bonds(seen.mesh), spans[seen.id][0]
        keep = found.area > 1e-4 * found.area.mean() if len(found.a) else np.zeros(0, bool)
        at = found.middles(seen.mesh, seen.first)[keep]
        a, b = found.a[keep], found.b[keep]
        strength = np.full(len(a), float(seen.v.strength))
        if seen.v.lumps > 0:
            lump = _lumps(centre[first : first + own.count], int(seen.v.lumps))
            strength[lump[a] == lump[b]] *= seen.v.tougher
        a, b = a + first, b + first
        parts.append((a, b, at - centre[a], at - centre[b], found.area[keep], strength))
    none = np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0), np.zeros(0)
    return BondTies(*(np.concatenate(x) for x in zip(*parts, strict=True))) if parts else BondTies(*none)


def _lumps(centre, count) -> np.ndarray:
    """(p,) which of so many lumps each piece is of: the nearest of as many pieces by chance."""
    chosen = np.argsort(rand(1, np.arange(len(centre)), "lumps"))[:count]
    return spatial.cKDTree(centre[chosen]).query(centre)[1]
