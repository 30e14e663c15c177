"""Cloth that meets things: the small steps of `kernels.advance`, with contact after each."""

import numpy as np
from numba import njit

from ..contact.watch import part, unwatched
from .kernels import _blow_phase, _land, _solve_phase, count_of, predict
from .levels import coarse_masses, hold_close, hold_together
from .pressure_volumes import blow_up, keep_volume
from .ties import draw

CALM = 0.06  # of the difference of neighbours' speeds, at each contact
single = njit(cache=True, nogil=True, error_model="numpy")


# fmt: off
@single
def advance(x, v, inverse_mass, begin, end, substeps, dt, gravity, damping, holds, strain, links, hinges, faces, blocks,
            air, floor, friction, limit, levels, held_to, close_to, ties, bags, soup, tree, grown, planes):
    """As `kernels.advance`, for the soup's points: those of cloths first, then those of obstacles, which go from
    `begin` to `end` in a straight line.

    damping (n,) 1/s of each vertex of cloths
    levels, held_to, close_to -- coarser sheets, how many times their rest they may be as long, and edges near holds
    grown (N,) m that radii grew since the frame before; planes (k, 13)
    Returns (how often it was looked, pairs that are near, pairs that are through at the end).
    """
    meets = len(x) > soup.cloth or len(planes) > 0 or soup.cloths > 1 or not soup.alone[: soup.cloth].all()
    h = dt / substeps
    keep = np.exp(-damping * h)
    cloth, count = soup.cloth, len(x)
    start, old, was = x.copy(), x.copy(), np.empty((cloth, 3))
    heavy = coarse_masses(inverse_mass[:cloth], levels)
    phases = faces.order.phases
    rest_span = len(blocks) - 1
    left = count_of(strain.order, rest_span) + count_of(links.order, rest_span) + count_of(hinges.order, rest_span)
    closing = 2 if left > 0 else 1
    radius, pushed = soup.radius.copy(), np.empty((cloth, 3))
    watch, looks, through = unwatched(count, tree), 0, 0
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
        watch, own, through = part(x, start, inverse_mass, watch, soup, tree, radius, planes, t0, t, s * h, (s + 1) * h)
        looks += own
        for i in range(cloth):
            if inverse_mass[i] > 0:
                if x[i, 1] < floor:
                    _land(x, start, i, floor, friction)
                if x[i, 0] != pushed[i, 0] or x[i, 1] != pushed[i, 1] or x[i, 2] != pushed[i, 2]:
                    for j in range(3):
                        v[i, j] = keep[i] * (x[i, j] - old[i, j]) / h
        calm(v, inverse_mass, soup.edges, cloth, CALM)
    return looks, len(watch.vt.at) + len(watch.ee.at), through
# fmt: on


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
