"""Cloth that meets things: the small steps of `kernels.advance`, with contact after each.

What is near is looked for along the ways that all went in a small step, with a margin for what contact itself and the
next steps will move. Where that is not enough it is looked for again. So no two elements pass each other unseen,
however fast they are.
"""

from typing import NamedTuple

import numpy as np
from numba import njit

from ..contact.find import near, near_ee, near_vt
from ..contact.respond import inside_out, push_ee, push_planes, push_vt, sides_ee, sides_vt
from .kernels import _blow_phase, _land, _solve_phase, count_of, predict
from .levels import coarse_masses, hold_close, hold_together

PASSES = 2  # over all that touches
MOST_PASSES = 24  # while something is through
CALM = 0.06  # of the difference of neighbours' speeds, at each contact
MOST_LOOKS = 3  # at a contact
FAR = 1e9  # m
MARGIN = 0.15  # of an edge: how much nearer than touching is looked
single = njit(cache=True, nogil=True, error_model="numpy")


class Ties(NamedTuple):
    """Vertices that are drawn to points, which may let them slide one way.

    at (k,) vertices; before, now (k, 3) m where they are drawn to; grip (k,) 1/s2, inf of those held fast
    along (k, 3) the way they slide freely, 0 for none
    """

    at: np.ndarray
    before: np.ndarray
    now: np.ndarray
    grip: np.ndarray
    along: np.ndarray

    @classmethod
    def none(cls) -> "Ties":
        return cls(np.zeros(0, np.int64), np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0), np.zeros((0, 3)))


class Bags(NamedTuple):
    """Closed triangles, bag by bag, that are blown up or keep their volume.

    at (t, 3) vertices, outwards; starts (b + 1,); pressure (b,) Pa; volume (b,) m3 to be kept, 0 for none
    lid (t,) bool: it closes a border, and is no cloth: what presses on it is not felt
    """

    at: np.ndarray
    starts: np.ndarray
    pressure: np.ndarray
    volume: np.ndarray
    lid: np.ndarray

    @classmethod
    def none(cls) -> "Bags":
        return cls(np.zeros((0, 3), np.int64), np.zeros(1, np.int64), np.zeros(0), np.zeros(0), np.zeros(0, np.bool_))


# fmt: off
@single
def advance(x, v, inverse_mass, begin, end, substeps, dt, gravity, damping, holds, strain, links, hinges, faces, blocks,
            air, floor, friction, limit, levels, held_to, close_to, ties, bags, soup, tree, grown, planes):
    """As `kernels.advance`, for the soup's points: those of cloths first, then those of obstacles, which go from
    `begin` to `end` in a straight line.

    damping (n,) 1/s of each vertex of cloths
    levels, held_to, close_to -- coarser sheets, how many times their rest they may be as long, and edges near holds
    grown (N,) m that radii grew since the frame before; planes (k, 13)
    Returns (how often what is near was found, pairs that were watched, pairs that are through at the end).
    """
    meets = len(x) > soup.cloth or len(planes) > 0 or soup.cloths > 1 or not soup.alone[: soup.cloth].all()
    h = dt / substeps
    keep = np.exp(-damping * h)
    cloth, count = soup.cloth, len(x)
    start, seen, old, was = x.copy(), x.copy(), x.copy(), np.empty((cloth, 3))
    heavy = coarse_masses(inverse_mass[:cloth], levels)
    phases = faces.order.phases
    rest_span = len(blocks) - 1
    left = count_of(strain.order, rest_span) + count_of(links.order, rest_span) + count_of(hinges.order, rest_span)
    closing = 2 if left > 0 else 1
    empty, none, nowhere = np.zeros((0, 2), np.int32), np.zeros(0), np.zeros((0, 3))
    vt, vt_side, vt_gap, vt_most, vt_way = empty, nowhere, none, none, none
    ee, ee_side, ee_gap, ee_most, ee_way = empty, nowhere, none, none, none
    radius, way, pushed = soup.radius.copy(), np.zeros((count, 3)), np.empty((count, 3))
    margin, age = MARGIN * soup.edge, 0.0
    finds, watched, through = 0, 0, 0
    for s in range(substeps):
        t0, t = s / substeps, (s + 1) / substeps
        for i in range(count):
            radius[i] = soup.radius[i] - (1 - t) * grown[i]
            for j in range(3):
                start[i, j] = x[i, j]
        if air.density > 0:
            for phase in range(3 if count_of(faces.order, rest_span) > 0 else 2):
                _blow_phase(x, v, inverse_mass, faces.at, air.density, air.drag, air.lift, air.velocity, h,
                            faces.order.spans, phases[phase], phases[phase + 1])
        blow_up(x, v, inverse_mass, bags, h)
        predict(x, v, old, inverse_mass, begin, end, t, gravity, h, cloth)
        hold_together(x, was, inverse_mass, heavy, levels, held_to)
        for phase in range(closing + 1):
            _solve_phase(x, v, old, inverse_mass, begin, end, t, gravity, h, 1.0, False, phase == closing,
                         phases[phase], phases[phase + 1], blocks,
                         strain.at, strain.shape, strain.soft, strain.order.spans,
                         links.at, links.rest2, links.soft, links.order.spans,
                         hinges.at, hinges.rest, hinges.soft, hinges.order.spans,
                         holds.grip, holds.anchor, holds.reach, floor, friction, limit * limit)
        if len(levels.close_rest) + len(ties.at) + len(bags.volume) > 0:
            hold_close(x, inverse_mass, levels, close_to)
            keep_volume(x, inverse_mass, bags)
            draw(x, inverse_mass, ties, t, h)
            for i in range(cloth):
                if inverse_mass[i] > 0:
                    for j in range(3):
                        v[i, j] = (x[i, j] - old[i, j]) / h
        for i in range(cloth):
            for j in range(3):
                v[i, j] *= keep[i]
        for i in range(cloth, count):
            for j in range(3):
                x[i, j] = begin[i, j] + t * (end[i, j] - begin[i, j])
        if not meets:
            continue
        for i in range(cloth):
            for j in range(3):
                pushed[i, j] = x[i, j]
        age += h
        # what touched before most likely does so again: when it is pushed first, less strays from its way later
        push_planes(x, start, inverse_mass, cloth, radius, soup.rub, planes, t, t0)
        push_vt(x, start, inverse_mass, vt, vt_side, vt_gap, vt_most, vt_way, soup.triangles, radius, soup.rub, age,
        FAR)
        push_ee(x, start, inverse_mass, ee, ee_side, ee_gap, ee_most, ee_way, soup.edges, soup.sort, radius,
                soup.rub, age,
                FAR)
        looks, again, clean = 0, 0, 0
        while again < MOST_PASSES:
            slack = 2 * _astray(x, seen, way)
            if (finds == 0 or slack > margin) and looks < MOST_LOOKS:
                for i in range(count):
                    for j in range(3):
                        seen[i, j], way[i, j] = start[i, j], x[i, j] - start[i, j]
                age = h
                vt, ee = near(start, way, margin, soup, tree, radius)
                vt_side, vt_gap = sides_vt(start, vt, soup.triangles)
                inside_out(start, vt, vt_side, vt_gap, soup.triangles, soup.sort)
                ee_side, ee_gap = sides_ee(start, ee, soup.edges)
                vt_most, vt_way = near_vt(start, way, soup.rest, vt, soup.triangles, soup.owner)
                ee_most, ee_way = near_ee(start, way, soup.rest, ee, soup.edges, soup.owner)
                looks += 1
                finds += 1
                watched += len(vt) + len(ee)
                slack = 0.0
            push_planes(x, start, inverse_mass, cloth, radius, soup.rub, planes, t, t0)
            through = push_vt(x, start, inverse_mass, vt, vt_side, vt_gap, vt_most, vt_way, soup.triangles, radius,
                              soup.rub, age, slack)
            through += push_ee(x, start, inverse_mass, ee, ee_side, ee_gap, ee_most, ee_way, soup.edges, soup.sort,
                               radius, soup.rub, age, slack)
            again += 1
            clean = clean + 1 if through == 0 else 0
            # a push may put through what came before it in the same pass: only a second clean one tells
            if clean >= PASSES and (looks == MOST_LOOKS or 2 * _astray(x, seen, way) <= margin):
                break
        for i in range(cloth):
            if inverse_mass[i] > 0:
                if x[i, 1] < floor:
                    _land(x, start, i, floor, friction)
                if x[i, 0] != pushed[i, 0] or x[i, 1] != pushed[i, 1] or x[i, 2] != pushed[i, 2]:
                    for j in range(3):
                        v[i, j] = keep[i] * (x[i, j] - old[i, j]) / h
        calm(v, inverse_mass, soup.edges, cloth, CALM)
    return finds, watched, through
# fmt: on


@single
def blow_up(x, v, inverse_mass, bags, h):
    """Press on the faces of bags for a small step: area x pressure along the normal, a third to each corner."""
    for b in range(len(bags.pressure)):
        if bags.pressure[b] == 0:
            continue
        for t in range(bags.starts[b], bags.starts[b + 1]):
            if bags.lid[t]:
                continue
            i, j, k = bags.at[t, 0], bags.at[t, 1], bags.at[t, 2]
            nx, ny, nz = _twice_area(x, i, j, k)
            s = h * bags.pressure[b] / 6
            for c in range(3):
                q = (i, j, k)[c]
                v[q, 0] += s * inverse_mass[q] * nx
                v[q, 1] += s * inverse_mass[q] * ny
                v[q, 2] += s * inverse_mass[q] * nz


@single
def keep_volume(x, inverse_mass, bags):
    """Give bags that keep it their volume back, moving each vertex along the area around it. After M. Mueller and
    others 2007, "Position based dynamics", section 4.3."""
    push, met = np.zeros((len(inverse_mass), 3)), np.zeros(len(inverse_mass), np.int64)
    for b in range(len(bags.volume)):
        if bags.volume[b] <= 0:
            continue
        first, last, volume = bags.starts[b], bags.starts[b + 1], 0.0
        for t in range(first, last):
            i, j, k = bags.at[t, 0], bags.at[t, 1], bags.at[t, 2]
            nx, ny, nz = _twice_area(x, i, j, k)
            volume += (x[i, 0] * nx + x[i, 1] * ny + x[i, 2] * nz) / 6
            for c in range(3):
                q = (i, j, k)[c]
                push[q, 0] += nx / 6
                push[q, 1] += ny / 6
                push[q, 2] += nz / 6
        low = 0.0
        for t in range(first, last):
            for c in range(3):
                q = bags.at[t, c]
                if met[q] != b + 1:  # each vertex once
                    met[q] = b + 1
                    low += inverse_mass[q] * (push[q, 0] ** 2 + push[q, 1] ** 2 + push[q, 2] ** 2)
        for t in range(first, last):
            for c in range(3):
                q = bags.at[t, c]
                if push[q, 0] == 0 and push[q, 1] == 0 and push[q, 2] == 0:
                    continue
                if low > 0:
                    s = inverse_mass[q] * (bags.volume[b] - volume) / low
                    x[q, 0] += s * push[q, 0]
                    x[q, 1] += s * push[q, 1]
                    x[q, 2] += s * push[q, 2]
                push[q, 0], push[q, 1], push[q, 2] = 0.0, 0.0, 0.0


@single
def _twice_area(x, i, j, k):
    ux, uy, uz = x[j, 0] - x[i, 0], x[j, 1] - x[i, 1], x[j, 2] - x[i, 2]
    vx, vy, vz = x[k, 0] - x[i, 0], x[k, 1] - x[i, 1], x[k, 2] - x[i, 2]
    return uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx


@single
def draw(x, inverse_mass, ties, t, h):
    """Draw tied vertices to where they are tied, across the way that they may slide."""
    for k in range(len(ties.at)):
        i = ties.at[k]
        if inverse_mass[i] <= 0:
            continue
        pull = 1 / (1 + 1 / (ties.grip[k] * h * h))
        dx = ties.before[k, 0] + t * (ties.now[k, 0] - ties.before[k, 0]) - x[i, 0]
        dy = ties.before[k, 1] + t * (ties.now[k, 1] - ties.before[k, 1]) - x[i, 1]
        dz = ties.before[k, 2] + t * (ties.now[k, 2] - ties.before[k, 2]) - x[i, 2]
        free = dx * ties.along[k, 0] + dy * ties.along[k, 1] + dz * ties.along[k, 2]
        x[i, 0] += pull * (dx - free * ties.along[k, 0])
        x[i, 1] += pull * (dy - free * ties.along[k, 1])
        x[i, 2] += pull * (dz - free * ties.along[k, 2])


@single
def calm(v, inverse_mass, edges, count, share):
    """Take a share of the difference between neighbours' speeds: yarns rub on each other. Their momentum stays."""
    for e in range(len(edges)):
        i, j = edges[e, 0], edges[e, 1]
        if i >= count or j >= count:
            break
        wi, wj = inverse_mass[i], inverse_mass[j]
        if wi + wj == 0:
            continue
        s = share / (wi + wj)
        for k in range(3):
            d = s * (v[j, k] - v[i, k])
            v[i, k] += wi * d
            v[j, k] -= wj * d


@single
def _astray(x, seen, way):
    """m that something is off the way that it was seen to go, at the most."""
    most = 0.0
    for i in range(len(x)):
        d = 0.0
        for j in range(3):
            d += (x[i, j] - seen[i, j] - way[i, j]) ** 2
        most = max(most, d)
    return np.sqrt(most)
