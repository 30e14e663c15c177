"""Cloth that meets things: the small steps of `kernels.advance`, with contact after each."""

from typing import NamedTuple

import numpy as np
from numba import njit

from ..contact.soup import Soup
from ..contact.tree import Tree
from ..contact.watch import part, unwatched
from .kernels import SmallStep, _land, blow, last_phase, predict, solve_phase
from .levels import Levels, coarse_masses, hold_close, hold_together
from .pressure_volumes import blow_up, keep_volume
from .ties import draw

CALM = 0.06  # of the difference of neighbours' speeds, at each contact
single = njit(cache=True, nogil=True, error_model="numpy")


class Coarse(NamedTuple):
    """Coarser sheets that hold the stretch, where small steps alone would not."""

    levels: Levels
    held_to: float  # how many times their rest they may be as long
    close_to: float  # the same of edges near holds


class Contact(NamedTuple):
    """What may touch over a frame."""

    soup: Soup  # all points, those of cloths first
    tree: Tree
    grown: np.ndarray  # (N,) m that radii grew since the frame before
    planes: np.ndarray  # (k, 13)


@single
def advance(particles, fabric, surroundings, coarse, ties, bags, contact, substeps, dt, damping):
    """As `kernels.advance`, for all points of a contact: those of cloths first, then those of obstacles, which go from
    `begin` to `end` in a straight line. damping (n,) 1/s of each vertex of cloths.

    Returns (how often it was looked, pairs that are near, pairs that are through at the end).
    """
    x, v, inverse_mass, begin, end = particles.x, particles.v, particles.inverse_mass, particles.begin, particles.end
    soup, levels = contact.soup, coarse.levels
    cloth, count = soup.cloth, len(x)
    meets = count > cloth or len(contact.planes) > 0 or soup.cloths > 1 or not soup.alone[:cloth].all()
    more = len(levels.close_rest) + len(ties.at) + len(bags.volume) > 0
    h = dt / substeps
    keep = np.exp(-damping * h)
    start, old, was = x.copy(), x.copy(), np.empty((cloth, 3))
    heavy = coarse_masses(inverse_mass[:cloth], levels)
    last = last_phase(fabric)
    radius, pushed = soup.radius.copy(), np.empty((cloth, 3))
    watch, looks, through = unwatched(count, contact.tree), 0, 0
    for s in range(substeps):
        t0, t = s / substeps, (s + 1) / substeps
        step = SmallStep(t, h, 1.0)
        for i in range(count):
            radius[i] = soup.radius[i] - (1 - t) * contact.grown[i]
            for j in range(3):
                start[i, j] = x[i, j]
        blow(particles, fabric, surroundings.air, h)
        blow_up(x, v, inverse_mass, bags, h)
        predict(particles, old, surroundings.gravity, step, cloth)
        hold_together(x, was, inverse_mass, heavy, levels, coarse.held_to)
        for phase in range(last + 1):
            solve_phase(particles, old, fabric, surroundings, step, phase, False, phase == last)
        if more:
            hold_close(x, inverse_mass, levels, coarse.close_to)
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
        watch, own, through = part(
            x, start, inverse_mass, watch, soup, contact.tree, radius, contact.planes, t0, t, s * h, (s + 1) * h
        )  # fmt: skip
        looks += own
        for i in range(cloth):
            if inverse_mass[i] > 0:
                if x[i, 1] < surroundings.floor:
                    _land(x, start, i, surroundings.floor, surroundings.friction)
                if x[i, 0] != pushed[i, 0] or x[i, 1] != pushed[i, 1] or x[i, 2] != pushed[i, 2]:
                    for j in range(3):
                        v[i, j] = keep[i] * (x[i, j] - old[i, j]) / h
        calm(v, inverse_mass, soup.edges, cloth, CALM)
    return looks, len(watch.vt.at) + len(watch.ee.at), through


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
