"""Cloth in a liquid: it gets wet and heavy, is carried along, bears what stands on it, and dries in air."""

import numpy as np

from ...fields.force import World
from ...lazy import spatial

FIBRE = 1500.0  # kg/m3, of what cloth is made of: cotton 1540, silk 1340 (handbook values, from memory)
TOUCHED = 1.0  # of the spacing, within which a vertex touches a grain
FEW = 6  # grains by which it feels how the liquid goes
COLUMN = 2.0  # spacings around a vertex, over which what stands above it is weighed
GAP = 2.0  # spacings, from which on what is above falls and does not stand


def dip(x, velocity, wet, density, normals, world: World, dt: float):
    """(factor of gravity (n,), speed (n, 3) m/s, how wet (n,) of what it can hold, kg/m2 of water (n,)) of vertices at
    x (n, 3) m of a cloth of density (n,) kg/m2 and normals (n, 3), over a frame of dt s.

    The water in it weighs nothing under water, and its fibres by how much heavier than water they are (Archimedes).
    Drag is that of a plate face-on, implicit, so that it never does more than take the cloth along. Where there is
    liquid above the cloth and none below it, the cloth bears it: so much more mass, which the column above weighs.
    """
    lift, speed, water = np.ones(len(x)), velocity.copy(), np.zeros(len(x))
    for pool in world.pools:
        within = np.zeros(len(x), bool)
        if len(pool.position):
            few = min(FEW, len(pool.position))
            apart, nearest = spatial.cKDTree(pool.position).query(x, few)
            apart, nearest = apart.reshape(len(x), few), nearest.reshape(len(x), few)
            within = apart[:, 0] < TOUCHED * pool.spacing
        dries = 0.5 ** (dt / pool.dries) if pool.dries > 0 else 1.0
        wet = np.where(within, 1.0, wet * dries)
        water += wet * pool.soaks
        if within.any():
            goes = pool.velocity[nearest[within]].mean(axis=1)
            past = goes - speed[within]
            pull = 0.5 * pool.density * pool.drag * np.linalg.norm(past, axis=1) * dt
            total = density[within] + water[within]
            speed[within] += (pull / (total + pull))[:, None] * past
            lift[within] = density[within] / total * max(1 - pool.density / FIBRE, 0.0)
            borne = _borne(x, normals, within, nearest, pool)
            lift[borne > 0] = 1.0  # nothing below it lifts it
            water += borne
    return lift, speed, wet, water


def _borne(x, normals, within, nearest, pool) -> np.ndarray:
    """(n,) kg/m2 of liquid that stands on vertices: of grains in a cone-weighted column above each, up to the first
    gap, where there are grains on its upper side alone."""
    found, rows = np.zeros(len(x)), np.flatnonzero(within)
    near = pool.position[nearest[rows]]
    off = near - x[rows, None]
    close = np.linalg.norm(off, axis=2) < 1.5 * pool.spacing
    side = np.einsum("nfi,ni->nf", off, normals[rows])
    above = np.where(normals[rows, 1:2] >= 0, side, -side) > 0
    stands = (close & above).any(axis=1) & ~(close & ~above).any(axis=1)
    reach, each = COLUMN * pool.spacing, pool.density * pool.spacing**3
    flat = spatial.cKDTree(pool.position[:, ::2])
    for row in rows[stands]:
        over = np.array(flat.query_ball_point(x[row, ::2], reach), int)
        over = over[pool.position[over, 1] > x[row, 1] - 0.5 * pool.spacing]
        tall = pool.position[over, 1]
        order = np.argsort(tall, kind="stable")
        gaps = np.flatnonzero(np.diff(np.append(x[row, 1], tall[order])) > GAP * pool.spacing)
        over = over[order[: gaps[0]]] if len(gaps) else over
        away = np.linalg.norm(pool.position[over, ::2] - x[row, ::2], axis=1) / reach
        # a cone of volume 1, so that all that stands on a sheet weighs what it weighs
        found[row] = each * float((1 - away).sum()) * 3 / (np.pi * reach**2)
    return found * np.abs(normals[:, 1])
