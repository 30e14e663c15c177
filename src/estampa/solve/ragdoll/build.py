"""The arrays of all figures of an ensemble, made once from how its limbs are tied, and what a frame puts into them."""

from typing import NamedTuple

import numpy as np

from ...fields.force import Obstacle, World
from ...geometry import pose as turns
from ...geometry.pieces import Mass
from ...geometry.triangle_grid import Grid
from .contacts import nearest
from .figures import Capsules, Figures, LimbBodies, LimbJoints, LimbMotion, Solids, Springs

# Of its inertia across, the least that a limb has about its own length: limits are passed by 24 degrees, else by 3
LEAST_ABOUT = 0.3
RUBS = ("mean", "larger", "product")  # as kernels number them
STEPS = 40  # small steps a frame of 1/24 s for a figure of 1.75 m; smaller ones fall through their height sooner
DRY = 2.0  # rad/s2 that a joint loses, for each 1/s of its loss


class Ragdolls(NamedTuple):
    """What all limbs of an ensemble are. rows (b,) -- which bodies they are among those of the ensemble."""

    rows: np.ndarray
    bodies: LimbBodies
    capsules: Capsules
    joints: LimbJoints
    axes: np.ndarray  # (b, 4) their own axes, in those that bodies have at first
    tall: np.ndarray  # (f,) m
    damping: np.ndarray  # (b, 2) 1/s

    @classmethod
    def of(cls, hinges: list, masses: list[Mass], mass: np.ndarray) -> "Ragdolls":
        """Of skeletons tied by `hinges` (BodyHinges); masses, mass (bodies,) kg -- of all bodies of the ensemble."""
        parts = [_figure(n, h, masses[h.span], mass[h.span]) for n, h in enumerate(hinges)]
        first = np.cumsum([0, *(len(h.limbs.joint) for h in hinges)])
        own = [p[0] for p in parts]
        bodies = LimbBodies(*(np.concatenate(x) for x in zip(*own, strict=True)))
        axes = np.concatenate([p[1] for p in parts])
        rows = np.concatenate([np.arange(h.span.start, h.span.stop) for h in hinges])
        capsules, starts, count = [], [], 0
        for p, at in zip(parts, first, strict=False):
            body, *shape, apart = p[2]
            capsules.append((body + at, *shape, apart))
            starts.append(count)
            count += len(apart)
        joined = [np.concatenate(x) for x in zip(*capsules, strict=True)]
        joints = [(p[3][0] + at, p[3][1] + at, *p[3][2:]) for p, at in zip(parts, first, strict=False)]
        return cls(
            rows, bodies, Capsules(*joined, np.array(starts, np.int64)),
            LimbJoints(*(np.concatenate(x) for x in zip(*joints, strict=True))), axes,
            np.array([h.size for h in hinges]), np.concatenate([p[4] for p in parts]),
        )  # fmt: skip

    def motion(self, place: np.ndarray, turn: np.ndarray, speed: np.ndarray, spin: np.ndarray) -> LimbMotion:
        """How limbs move, from columns (bodies, ..) of all bodies."""
        rows = self.rows
        q = turns.product(turn[rows], self.axes)
        return LimbMotion(place[rows].copy(), np.ascontiguousarray(q), speed[rows].copy(), spin[rows].copy())

    def read(self, motion: LimbMotion, place, turn, speed, spin) -> None:
        """Put how limbs move into columns (bodies, ..) of all bodies."""
        rows = self.rows
        place[rows], speed[rows], spin[rows] = motion.x, motion.v, motion.w
        turn[rows] = turns.product(motion.q, turns.inverse(self.axes))

    def steps(self, dt: float) -> int:
        """Small steps for dt seconds: more for small figures, whose time runs faster."""
        return max(1, int(np.ceil(STEPS * dt * 24 * np.sqrt(max(1.0, 1.75 / float(self.tall.min()))))))


def _figure(number: int, hinges, masses: list[Mass], mass: np.ndarray):
    """(rows of LimbBodies, (p, 4) axes, capsules with what may touch, joints, damping) of one skeleton."""
    limbs, count = hinges.limbs, len(hinges.limbs.joint)
    axes, inertia = np.empty((count, 3, 3)), np.empty((count, 3))
    for i, m in enumerate(masses):
        values, vectors = np.linalg.eigh(m.inertia * (mass[i] / m.volume))
        if np.linalg.det(vectors) < 0:
            vectors[:, 0] *= -1
        inertia[i], axes[i] = np.maximum(values, LEAST_ABOUT * values.max()), vectors
    turn = turns.turns_of(axes)
    into = lambda rows, v: np.einsum("pji,pj->pi", axes[rows], v)
    bodies = (1 / mass, 1 / inertia, np.full(count, number), np.full(count, hinges.friction))
    (a, b, radius), who = hinges.capsules, limbs.capsule_of
    middle = hinges.centre[who]
    capsules = who, into(who, a - middle), into(who, b - middle), radius, _apart(limbs.parent, who, a, b, radius)
    k, p = hinges.tied, limbs.parent[hinges.tied]
    back = turns.inverse(turn)
    joints = (
        k, p, into(p, hinges.at[k] - hinges.centre[p]), into(k, hinges.at[k] - hinges.centre[k]),
        turns.product(back[p], hinges.theirs), turns.product(back[k], hinges.own), limbs.cone[k], limbs.twist[k],
        np.full(len(k), hinges.joint_damping), np.full(len(k), DRY * hinges.joint_damping),
    )  # fmt: skip
    return bodies, turn, capsules, joints, np.tile(hinges.damping, (count, 1))


def _apart(parent: np.ndarray, of: np.ndarray, a: np.ndarray, b: np.ndarray, radius: np.ndarray) -> np.ndarray:
    """(p * p,) bool, whether every two limbs may touch: those that hang on one another, or stand in one another as
    they begin, may not. of (c,) the limb of each capsule"""
    count = len(parent)
    found, siblings = np.ones((count, count), bool), (parent[:, None] == parent) & (parent >= 0)
    found &= ~(siblings | np.eye(count, dtype=bool))
    for i in np.flatnonzero(parent >= 0):
        found[i, parent[i]] = found[parent[i], i] = False
    for m in range(len(of)):
        for n in range(m):
            i, j = of[m], of[n]
            if not found[i, j]:
                continue
            s, t = nearest(tuple(a[m]), tuple(b[m]), tuple(a[n]), tuple(b[n]))
            far = np.linalg.norm(a[m] + s * (b[m] - a[m]) - a[n] - t * (b[n] - a[n]))
            found[i, j] = found[j, i] = far > radius[m] + radius[n]
    return found.ravel()


def no_springs(ragdolls: Ragdolls) -> Springs:
    joints, figures = len(ragdolls.joints.own), len(ragdolls.tall)
    pose = np.tile([0.0, 0, 0, 1], (joints, 1))
    first = np.array([np.argmax(ragdolls.bodies.figure == f) for f in range(figures)], np.int64)
    none, place = np.zeros(figures), np.tile([0.0, 0, 0, 0, 0, 0, 1], (figures, 1))
    still = np.zeros(joints)
    return Springs(pose, still, still, first, none, none, none, none, place, place, none, none, still, pose)


def rested(ragdolls: Ragdolls) -> Figures:
    """What is remembered of figures as they begin."""
    f, j = len(ragdolls.tall), len(ragdolls.joints.own)
    return Figures(ragdolls.tall, np.zeros(f), np.zeros(f, bool), np.full((j, 2), np.pi))


def solids_of(world: World, bodies: list[tuple], rubs: str = "mean") -> Solids:
    """What does not give way: of a world, and of bodies as (shape of `bodies.shapes.solid_shape`, ((place, turn)
    before, (place, turn) now), friction)."""
    planes = [(floor.friction, [[0, floor.height, 0, 0, 1, 0]] * 2) for floor in world.floors]
    boxes, rails, triangles, friction = [], [], [np.zeros((0, 2, 3, 3))], [np.zeros(0)]
    for o in world.colliders:
        if o.shape == "plane":
            planes.append((o.friction, [[*p.origin[0], *p.axes[0][:, 1]] for p in o.places]))
        elif o.shape == "box":
            stands = [[*p.origin[0], *turns.turns_of(p.axes[:1])[0], *(np.array(d) * p.size[0])] for p, d in _sized(o)]
            boxes.append((o.friction, stands))
        elif o.shape != "mesh":
            rails.append((o.friction, [_rail(o.shape, p, d) for p, d in _sized(o)]))
        elif o.points is not None and len(o.triangles):
            triangles.append(np.stack([p[o.triangles] for p in o.points], axis=1))
            friction.append(np.full(len(o.triangles), o.friction))
    for shape, stands, rub in bodies:
        axes = [turns.turn_matrices(turn[None])[0] for _, turn in stands]
        moved = lambda v, stands=stands, axes=axes: [v @ a.T + p for (p, _), a in zip(stands, axes, strict=True)]
        if hasattr(shape, "radius"):
            ends = moved(shape.middle + np.outer([-shape.half, shape.half], shape.way))
            rails.append((rub, [[*e.ravel(), shape.radius] for e in ends]))
        elif hasattr(shape, "axes"):
            own = turns.turns_of(np.stack([a @ shape.axes for a in axes]))
            boxes.append((rub, [[*m, *q, *shape.half] for m, q in zip(moved(shape.middle), own, strict=True)]))
        else:
            points, faces = shape
            triangles.append(np.stack([p[faces] for p in moved(points)], axis=1))
            friction.append(np.full(len(faces), rub))
    rows = lambda found, wide: np.array([stands for _, stands in found], float).reshape(-1, 2, wide)
    rub = lambda found: np.array([f for f, _ in found], float)
    corners = np.ascontiguousarray(np.concatenate(triangles), float)
    return Solids(
        rows(planes, 6), rub(planes), rows(boxes, 10), rub(boxes), rows(rails, 7), rub(rails), corners,
        np.concatenate(friction), *_grid(corners), RUBS.index(rubs),
    )  # fmt: skip


def _sized(obstacle: Obstacle):
    return zip(obstacle.places, (obstacle.dims_before or obstacle.dims, obstacle.dims), strict=True)


def _rail(shape: str, place, dims) -> list[float]:
    radius, half = dims[0] * place.size[0], (dims[1] if shape == "capsule" else 0.0) * place.size[0]
    up = place.axes[0][:, 1] * half
    return [*(place.origin[0] - up), *(place.origin[0] + up), radius]


def _grid(triangles: np.ndarray) -> tuple:
    """(low, cell, counts, starts, members) of a grid that finds each triangle wherever it is in a frame."""
    if not len(triangles):
        return np.zeros(3), 1.0, np.zeros(3, np.int64), np.zeros(1, np.int64), np.zeros(0, np.int64)
    # each triangle as the three corners of a box around both of its places: what the grid sorts by
    low, high = triangles.min(axis=(1, 2)), triangles.max(axis=(1, 2))
    points = np.stack([low, high, low], axis=1).reshape(-1, 3)
    grid = Grid(points, np.arange(len(points)).reshape(-1, 3))
    return grid.low, float(grid.cell), grid.counts, *grid.cells
