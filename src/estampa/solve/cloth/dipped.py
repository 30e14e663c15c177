"""Cloth in a liquid: it gets wet and heavy, is carried along, and dries in air."""

import numpy as np

from ...fields.force import World
from ...lazy import spatial

FIBRE = 1500.0  # kg/m3, of what cloth is made of: cotton 1540, silk 1340 (handbook values, from memory)
TOUCHED = 1.0  # of the spacing, within which a vertex touches a grain
FEW = 6  # grains by which it feels how the liquid goes


def dip(x, velocity, wet, density, world: World, dt: float):
    """(factor of gravity (n,), speed (n, 3) m/s, how wet (n,) of what it can hold, kg/m2 of water (n,)) of vertices at
    x (n, 3) m of a cloth of density (n,) kg/m2, over a frame of dt s.

    The water in it weighs nothing under water, and its fibres by how much heavier than water they are (Archimedes).
    Drag is that of a plate face-on, implicit, so that it never does more than take the cloth along.
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
    return lift, speed, wet, water
