"""What a liquid meets: up to three flat walls near each grain."""

import numpy as np
from numba import njit, prange

from ..swarm.solids import FAR, solids

WALLS = 3
EDGE = 0.5  # of the reach, within which a second wall is looked for
REACH = 2.5  # of the spacing, within which walls count
STALE = 0.35  # of the spacing, that a grain goes before its walls are found anew
SAME = 0.8  # cosine, above which two walls of one mesh are the same one


def walls_of(place: np.ndarray, met, reach: float, order: np.ndarray):
    """((n, 3) m how far each grain is from its walls, (n, 3, 3) the ways out of them, (n, 3) m/s how fast they come),
    float32, in an order: the three nearest of what is solid, far away where there are fewer. met -- functions of
    solids.solids

    A mesh is asked again from further out along the wall that was found, so that the other side of an edge or corner is
    found as well.
    """
    n, place = len(place), place[order]
    far = np.full((n, WALLS), FAR, np.float32)
    out, run = np.zeros((n, WALLS, 3), np.float32), np.zeros((n, WALLS), np.float32)
    for solid in met:
        found = solid(place)
        _put(far, out, run, found.far, found.out, found.speed, np.flatnonzero(found.far < reach))
        if not getattr(solid, "has_edges", False):
            continue
        near = np.flatnonzero(found.far < EDGE * reach)
        ways = [found.out[near]]
        for _ in range(WALLS - 1):
            if not len(near):
                break
            aside = place[near] + 0.5 * reach * sum(ways)
            again = solid(aside)
            own = again.far - np.einsum("ij,ij->i", aside - place[near], again.out)
            new = (own < reach) & (own > -reach)
            for way in ways:
                new &= np.einsum("ij,ij->i", way, again.out) < SAME
            _put(far, out, run, own, again.out, again.speed, np.flatnonzero(new), near)
            ways = [w[new] for w in ways] + [again.out[new]]
            near = near[new]
    return far, out, run


def _put(far, out, run, own, ways, speeds, which, rows=None) -> None:
    """Keep a wall for those rows where it is nearer than the farthest that is kept."""
    row = which if rows is None else rows[which]
    if not len(row):
        return
    slot = far[row].argmax(axis=1)
    better = own[which] < far[row, slot]
    row, slot, which = row[better], slot[better], which[better]
    far[row, slot], out[row, slot] = own[which], ways[which]
    run[row, slot] = np.einsum("ij,ij->i", speeds[which], ways[which])


@njit(parallel=True, cache=True, nogil=True)
def bounded(going, far, out, run, order, numbers, place, speed):
    """Move grains, which go at `going` (n, 4) m/s by the order, so that none comes nearer to a wall than it may:
    place and speed (n, 3) are changed. numbers -- s, m that they stay off, m that a wall moves one at the most, m
    within which walls count."""
    h, clear, most, reach = numbers[0], numbers[1], numbers[2], numbers[3]
    for i in prange(len(going)):
        u, v, w = np.float64(going[i, 0]), np.float64(going[i, 1]), np.float64(going[i, 2])
        x, y, z = h * u, h * v, h * w
        for k in range(far.shape[1]):
            if far[i, k] >= reach:
                continue
            a, b, c = np.float64(out[i, k, 0]), np.float64(out[i, k, 1]), np.float64(out[i, k, 2])
            lacks = clear - (far[i, k] + a * x + b * y + c * z - h * run[i, k])
            if lacks > 0:
                lacks = min(lacks, most)
                x, y, z = x + lacks * a, y + lacks * b, z + lacks * c
                into = max(run[i, k] - (a * u + b * v + c * w), 0.0)
                u, v, w = u + into * a, v + into * b, w + into * c
        g = order[i]
        place[g, 0], place[g, 1], place[g, 2] = place[g, 0] + x, place[g, 1] + y, place[g, 2] + z
        speed[g, 0], speed[g, 1], speed[g, 2] = u, v, w


class Walls:
    """The walls of grains over the small steps of a frame. Where nothing solid moves they are found anew only once a
    grain has gone far enough for it to matter: until then they are the same planes."""

    def __init__(self, world, spacing: float, rate: float):
        self.solids, self.spacing, self.found = WallSolids(world, (REACH + STALE) * spacing, rate), spacing, None

    def of(self, place: np.ndarray, order: np.ndarray, share: float):
        """See walls_of: of grains at (n, 3) m, in an order, so far into the frame."""
        reach = REACH * self.spacing
        if not self.solids.still:
            return walls_of(place, self.solids.at(share), reach, order)
        if self.found is not None:
            far, out, run, was = self.found
            gone = place - was
            if (gone**2).sum(axis=1).max(initial=0.0) < (STALE * self.spacing) ** 2:
                moved = far + np.einsum("nkj,nj->nk", out, gone.astype(np.float32))
                return np.where(far < FAR, moved, far)[order], out[order], run[order]
        kept = np.arange(len(place))
        self.found = (*walls_of(place, self.solids.at(share), reach + STALE * self.spacing, kept), place.copy())
        return tuple(part[order] for part in self.found[:3])


class WallSolids:
    """What is solid in a frame, made once where it stands still."""

    def __init__(self, world, reach: float, rate: float):
        self.world, self.reach, self.rate = world, reach, rate
        still = lambda o: all(np.array_equal(a, b) for a, b in zip(*o.places, strict=True))
        same = lambda o: o.points is None or np.array_equal(*o.points)
        self._still = solids(world, reach, 1.0, rate) if all(still(o) and same(o) for o in world.colliders) else None
        self.still = self._still is not None

    def at(self, share: float) -> list:
        """Functions (n, 3) m -> Met, so far into the frame."""
        return self._still or solids(self.world, self.reach, share, self.rate)
