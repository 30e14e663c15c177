"""Cloth that meets things: the small steps of `kernels.advance`, with contact after each."""

from typing import NamedTuple

import numpy as np
from numba import njit

from ..contact.soup import Soup
from ..contact.tree import Tree
from ..contact.watch import Times, Watcher
from .kernels import (
    ENOUGH,
    SWEEPS,
    SmallStep,
    _land,
    blow,
    finish,
    hold_lengths,
    last_phase,
    longest,
    predict,
    solve_phase,
)
from .levels import Levels, coarse_masses, hold_close, hold_together
from .pressure_volumes import blow_up, keep_volume
from .ties import draw

MOST_HALVED = 4  # times that a small step is halved, where it cannot be held and parted
IN_VAIN = 2  # times, in a frame in which that helped nothing
BETTER = 0.7  # of what it was too long by: what smaller steps leave above this they do not help
TOO_LONG = 0.03  # of a length beyond what it may be: then it is halved
MOST_TURNS = 6  # of holding lengths and parting, in a small step
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

    @property
    def is_any(self) -> bool:
        """Whether there is anything that cloths may touch."""
        soup = self.soup
        others = len(soup.owner) > soup.cloth or len(self.planes) > 0
        return others or soup.cloths > 1 or not soup.alone[: soup.cloth].all()


def advance(particles, fabric, surroundings, coarse, ties, bags, contact, substeps, dt, damping, on_step=None):
    """As `kernels.advance`, for all points of a contact: those of cloths first, then those of obstacles, which go from
    `begin` to `end` in a straight line. damping (n,) 1/s of each vertex of cloths. on_step(watcher, share of the frame)
    is called before each small step; what it raises ends the frame.

    Returns (small steps that were taken, pairs that are near at the end).
    """
    x, v, inverse_mass = particles.x, particles.v, particles.inverse_mass
    soup, levels, lengths = contact.soup, coarse.levels, fabric.lengths
    cloth = soup.cloth
    heavy = coarse_masses(inverse_mass[:cloth], levels)
    start, old, was, speed = np.empty_like(x), np.empty_like(x), np.empty((cloth, 3)), np.empty_like(v)
    watcher = Watcher(soup, contact.tree, contact.planes, inverse_mass) if contact.is_any else None

    def hold(t: float, h: float) -> bool:
        """Draw together what is too long, by coarser sheets where a few sweeps are too few; returns whether anything
        was."""
        far = longest(x, lengths)
        for turn in range(MOST_TURNS):
            if far <= 1 + ENOUGH:
                return turn > 0
            if turn > 0:
                hold_together(x, was, inverse_mass, heavy, levels, fabric.limit)
            far = hold_lengths(x, inverse_mass, lengths, SWEEPS, ENOUGH)
            draw(x, inverse_mass, ties, t, h)
        return True

    def small_step(t0: float, t: float) -> int:
        """From one share of the frame to another; returns pairs that are through at its end."""
        h, through = (t - t0) * dt, 0
        move(particles, old, was, heavy, fabric, surroundings, coarse, ties, bags, SmallStep(t, h, 1.0), cloth)
        hold(t, h)
        if watcher:
            times = Times(t0, t, t0 * dt, t * dt)
            watcher.begin(soup.radius - (1 - t) * contact.grown, (t - t0) * contact.grown)
            for turn in range(MOST_TURNS):
                watcher.part(x, start, times)
                land(x, start, inverse_mass, cloth, surroundings)
                if turn == MOST_TURNS - 1 or not hold(t, h):
                    break
            through = watcher.guard(x, start, times)
        close(particles, old, np.exp(-damping * h), h, cloth)
        if watcher:
            calm(v, inverse_mass, soup.edges, cloth, CALM)
        return through

    t, halved, good, taken = 0.0, 0, 0, 0
    before, in_vain = np.inf, False  # how long it was as it was taken back; whether smaller steps helped nothing
    while t < 1 - 1e-9:
        if on_step:
            on_step(watcher, t)
        start[:], speed[:] = x, v
        to = min(t + 0.5**halved / substeps, 1.0)
        through, taken = small_step(t, 1.0 if to > 1 - 1e-9 else to), taken + 1
        # what could not be held and parted at once is done again in smaller steps
        far = longest(x, lengths) if watcher else 1.0
        too_long = far > 1 + TOO_LONG
        if halved == MOST_HALVED and too_long:
            in_vain |= far > 1 + BETTER * (before - 1)
        if halved < MOST_HALVED and (through or (too_long and halved < (IN_VAIN if in_vain else MOST_HALVED))):
            before = far if halved == 0 else before
            x[:], v[:] = start, speed
            halved, good = halved + 1, 0
            watcher.forget()
            continue
        t, good = to, good + 1
        if halved and good >= 4:
            halved, good = halved - 1, 0
    return taken, watcher.near if watcher else 0


@single
def move(particles, old, was, heavy, fabric, surroundings, coarse, ties, bags, step, cloth):
    """What moves the vertices of cloths by themselves; points of obstacles go where they are at the end of the step."""
    x, v, inverse_mass, begin, end = particles.x, particles.v, particles.inverse_mass, particles.begin, particles.end
    levels, last = coarse.levels, last_phase(fabric)
    blow(particles, fabric, surroundings.air, step.h)
    blow_up(x, v, inverse_mass, bags, step.h)
    predict(particles, old, surroundings.gravity, step, cloth)
    hold_together(x, was, inverse_mass, heavy, levels, coarse.held_to)
    for phase in range(last + 1):
        solve_phase(particles, old, fabric, surroundings, step, phase, False)
    # always once, and before the floor's friction: what acts now and then makes what rests tremble and creep
    hold_lengths(x, inverse_mass, fabric.lengths, 1, ENOUGH)
    hold_close(x, inverse_mass, levels, coarse.close_to)
    keep_volume(x, inverse_mass, bags)
    draw(x, inverse_mass, ties, step.t, step.h)
    finish(particles, old, fabric, surroundings, step)
    for i in range(cloth, len(x)):
        for j in range(3):
            x[i, j] = begin[i, j] + step.t * (end[i, j] - begin[i, j])


@single
def land(x, start, inverse_mass, cloth, surroundings):
    """The floor bears what is below it."""
    for i in range(cloth):
        if inverse_mass[i] > 0 and x[i, 1] < surroundings.floor:
            _land(x, start, i, surroundings.floor, surroundings.friction)


@single
def close(particles, old, keep, h, cloth):
    """Speeds from what the small step moved, less what damping takes; keep (n,) is what is left."""
    x, v = particles.x, particles.v
    for i in range(cloth):
        for j in range(3):
            v[i, j] = (x[i, j] - old[i, j]) / h
            if particles.inverse_mass[i] > 0:
                v[i, j] *= keep[i]


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
