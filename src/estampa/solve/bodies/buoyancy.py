"""Bodies in a liquid: they float by what they displace, and the liquid drags them along.

The liquid is as it was a frame ago, so that its level and its flow are told once a frame; how deep a body stands in it
is told anew at each small step. The level about a body is a plane through the highest grains around it. (Their pressure
was tried: a body that bobs changes it, and at some frames next to none is left in a liquid at rest.)
"""

import numpy as np

from ...fields.force import Pool, World
from ...geometry.inside import is_inside
from ...geometry.mesh import Mesh
from ...geometry.pose import turn_matrices
from ...lazy import spatial

CELLS = 7  # along the longest side, by which a body's volume is told
NEAR = 4.0  # of the spacing, how far about a body its liquid is looked at
FEW = 12  # grains, below which it only gets splashed
LEAST = 0.08  # of what would fill all the room about it: the same
AROUND = 8  # directions, half of which must have liquid at a height for a body to stand in it there
ADDED = 0.5  # of what it displaces, that has to be moved along with a body (a ball's: Lamb 1932, "Hydrodynamics")
AT_TOP = 0.57  # of the spacing, by which a surface lies above the highest grain of each square: of a column at rest
WAVES = 0.25  # of critical damping: what bobs at a surface loses by the waves that it makes (our choice)
FILLED = 0.6  # of the spacing, within which a hollow is taken by a grain


class Displaced:
    """What a body takes of the room, as cells about its centre: at (k, 3) m, room (k,) m3, tall m.

    It is the convex hull; where that is more than the mesh, as in a boat, only while no liquid is in there.
    """

    def __init__(self, points: np.ndarray, triangles: np.ndarray, centre: np.ndarray, volume: float):
        low, high = points.min(axis=0), points.max(axis=0)
        side = float((high - low).max()) / CELLS
        many = np.maximum(np.round((high - low) / max(side, 1e-9)), 2).astype(int)
        steps = (high - low) / many
        axes = [lo + (np.arange(n) + 0.5) * step for lo, n, step in zip(low, many, steps, strict=True)]
        at = np.stack(np.meshgrid(*axes, indexing="ij"), axis=-1).reshape(-1, 3)
        solid = is_inside(Mesh.from_triangles(points, triangles), at)
        held = solid | _in_hull(points, at)
        at, self.solid = at[held], solid[held]
        room = np.full(len(at), float(np.prod(steps)))
        if self.solid.any() and volume > 0:
            room[self.solid] = volume / self.solid.sum()
        self.at, self.room, self.steps = at - centre, room, steps
        self.radius = float(np.linalg.norm(points - centre, axis=1).max())


def _in_hull(points, at) -> np.ndarray:
    try:
        hull = spatial.ConvexHull(points).equations
    except spatial.QhullError:  # flat: it takes no room
        return np.zeros(len(at), bool)
    return (at @ hull[:, :3].T + hull[:, 3] < 1e-9).all(axis=1)


class Bath:
    """The liquid about one body over a frame: a plane of level, how fast it goes, and where it is all around."""

    def __init__(self, pool: Pool, near: np.ndarray, place, up):
        own = pool.position[near] - place
        height = own @ up
        self.sides = _sides(up)
        flat = (own - height[:, None] * up) @ self.sides.T
        self.place, self.up, self.speed = np.array(place), up, pool.velocity[near].mean(axis=0)
        turn = (np.arctan2(*flat.T) / (2 * np.pi) % 1 * AROUND).astype(int) % AROUND
        self.step = 1.5 * pool.spacing
        row = np.floor((height - height.min()) / self.step).astype(int)
        seen = np.zeros((row.max() + 1, AROUND), bool)
        seen[row, turn] = True
        self.low, self.around = float(height.min()), np.minimum(seen.sum(axis=1) / (AROUND / 2), 1.0)
        top = _topmost(flat, height, pool.spacing)
        x, level = np.column_stack([np.ones(len(top)), flat[top]]), height[top] + AT_TOP * pool.spacing
        ridge = np.diag([0.0, 1.0, 1.0]) * len(x) * pool.spacing**2  # a few grains tell no slope
        for _ in range(2):  # once more without the spray
            self.plane = np.linalg.solve(x.T @ x + ridge, x.T @ level)
            calm = np.abs(x @ self.plane - level) < 2 * pool.spacing
            if calm.all() or calm.sum() < FEW:
                break
            x, level = x[calm], level[calm]
        self.rises = float((pool.velocity[near[top]] @ up).mean())

    def share(self, at: np.ndarray, tall: float, later: float) -> np.ndarray:
        """(k,) how much of cells at (k, 3) m, so tall, is under the level and in the liquid, so many s later."""
        own = at - self.place
        height = own @ self.up
        level = self.plane[0] + self.rises * later + (own - height[:, None] * self.up) @ self.sides.T @ self.plane[1:]
        under = np.clip((level - height) / tall + 0.5, 0, 1)
        row = np.floor((height - self.low) / self.step).astype(int)
        # under the lowest grains there are those that it keeps off; above all of them there is none
        return under * self.around[np.clip(row, 0, len(self.around) - 1)] * (height > self.low - 2 * self.step)


def _topmost(flat, height, spacing: float) -> np.ndarray:
    """Rows of the highest grain over each square of two spacings."""
    square = np.floor(flat / (2 * spacing)).astype(np.int64)
    key = square[:, 0] * 1_000_003 + square[:, 1]
    order = np.lexsort((-height, key))
    return order[np.r_[True, np.diff(key[order]) != 0]]


def _sides(up) -> np.ndarray:
    """(2, 3) two directions at right angles to one another and to `up`."""
    a = np.cross(up, np.eye(3)[np.abs(up).argmin()])
    a /= np.linalg.norm(a)
    return np.stack([a, np.cross(up, a)])


class Afloat:
    """Forces of liquids on bodies over a frame. base (b, 3) N -- what else pushes them."""

    def __init__(self, model, world: World, rows: np.ndarray, place: np.ndarray, turn: np.ndarray, base: np.ndarray):
        self.model, self.base, self.gravity = model, base, world.gravity
        self.went = 0.0  # s, of the frame
        self.baths: list[tuple[int, Displaced, np.ndarray, Bath, Pool]] = []
        pull = float(np.linalg.norm(world.gravity))
        for pool in world.pools if pull > 1e-6 and len(rows) else ():
            if not len(pool.position):
                continue
            tree = spatial.cKDTree(pool.position)
            for row in rows:
                shape = model.displaced(row)
                if not len(shape.at):
                    continue
                reach = shape.radius + NEAR * pool.spacing
                near = np.array(tree.query_ball_point(place[row], reach), int)
                around = (4.19 * reach**3 - shape.room.sum()) / pool.spacing**3
                if len(near) < max(FEW, LEAST * around):
                    continue
                at = place[row] + shape.at @ turn_matrices(turn[row][None])[0].T
                taken = ~shape.solid & (tree.query(at)[0] < FILLED * pool.spacing)
                bath = Bath(pool, near, place[row], -world.gravity / pull)
                self.baths.append((int(row), shape, ~taken, bath, pool))

    def push(self, engine, dt: float) -> None:
        """Set the forces of the next small step of dt s on what stands in a liquid."""
        for row, shape, dry, bath, pool in self.baths:
            model, (place, turn), (speed, spin) = self.model, engine.stand_of(row), engine.speed_of(row)
            axes = turn_matrices(turn[None])[0]
            arm = shape.at @ axes.T
            tall = float(np.abs(axes.T @ bath.up) @ shape.steps)
            share = bath.share(place + arm, tall, self.went + 0.5 * dt) * dry
            wet = float((share * shape.room).sum())
            base = self.base[row]
            if wet <= 0:
                engine.set_force(row, base, wakes=False)
                continue
            mass, added = model.mass[row], ADDED * pool.density * wet
            past = bath.speed - speed - np.cross(spin, arm)
            force = -pool.density * (share * shape.room)[:, None] * self.gravity
            # drag, spread over what is wet; never more than what stops it in a small step
            pull = 0.5 * pool.density * pool.drag * model.area[row] * np.linalg.norm(past, axis=1)
            sunk = min(wet / shape.room.sum(), 1.0)
            rocks = np.sqrt(np.linalg.norm(self.gravity) / np.cbrt(wet))
            pull += 4 * sunk * (1 - sunk) * 2 * WAVES * rocks * (mass + added)
            pull *= 1 / np.maximum(1, pull * dt / (mass + added))
            force += (pull * share * shape.room / shape.room.sum())[:, None] * past
            # what moves along is heavier by what it has to move: all that acts counts by so much less
            both, turned = force.sum(axis=0) + base, np.cross(arm, force).sum(axis=0)
            both -= added / (mass + added) * (both + mass * self.gravity)
            turned *= model.inertia[row] / (model.inertia[row] + added * shape.radius**2 / 5)
            stirs = float(np.abs(both + mass * self.gravity).max()) > 0.02 * mass * float(np.linalg.norm(self.gravity))
            engine.set_force(row, both, turned, stirs)
        self.went += dt
