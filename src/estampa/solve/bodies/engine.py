"""The world of a rigid body engine (rapier3d): bodies in the order of their ids, then what they run into.

The engine works in its own unit of length, the size of the smallest body that moves: it has thresholds and margins that
no setting reaches, and single precision. Here alone lengths are scaled; all else speaks SI. Poses are driven at every
step and not at every frame, so that what is driven pushes with the right speed. A body's origin is its centre of mass.
"""

from dataclasses import dataclass
from typing import Any

import numpy as np

from ...geometry import pose as turns
from ...geometry.pieces import Mass
from ...geometry.place import Place
from .shapes import principal, rotation

SOFT, STATIC_SOFT = (240.0, 10.0), (480.0, 10.0)  # Hz and damping ratio of contacts: stiff, as measured
# By what its margins are told, against the smallest body; they are thousandths of that. With 2 a driven body throws
# what it pushes 14 % too fast, with 8 nearly twice as fast; with 0.25 2 %.
REACH = 0.25
INSTANT = 1e-6  # s
ANY = 1e9  # a speed that nothing has
# Its units a second, at which what is within one another comes apart: by its own 3, against the least margins, pieces
# that were driven into one another as they landed stay there, four fifths of their size deep
PARTS = 25.0
FASTEST = 1e7  # of its unit a second: its own 400 hold a thing of 3 mm to 0.3 m/s


@dataclass
class Engine:
    """A world, and how many frames it has been taken on; it can only go on from where it is."""

    world: Any
    count: int  # bodies
    unit: float  # m, of the engine
    obstacles: int = 0
    at: int = 0
    _bodies: list | None = None
    pushed: bool = False  # whether forces were put on bodies, which stay until they are taken off

    @classmethod
    def of(cls, count: int, smallest: float) -> "Engine":
        import rapier3d as rp

        world = rp.PhysicsWorld(gravity=(0.0, 0.0, 0.0))
        world.set_num_threads(1)
        settings = world.integration_parameters
        settings.length_unit = REACH
        settings.normalized_max_linear_velocity = FASTEST
        settings.normalized_max_corrective_velocity = PARTS
        settings.contact_softness = rp.SpringCoefficients(*SOFT)
        settings.static_contact_softness = rp.SpringCoefficients(*STATIC_SOFT)
        return cls(world, count, unit_of(smallest))

    @classmethod
    def from_blob(cls, blob: bytes, count: int, smallest: float, obstacles: int, at: int) -> "Engine":
        import rapier3d as rp

        world = rp.PhysicsWorld.restore(blob)
        world.set_num_threads(1)
        return cls(world, count, unit_of(smallest), obstacles, at, pushed=True)

    # -- making it ---------------------------------------------------------------------------------------------
    def scaled(self, metres) -> np.ndarray:
        """Lengths, places or speeds in the engine's unit."""
        return np.asarray(metres, float) / self.unit

    def add(self, body, colliders: list, place=(0.0, 0.0, 0.0)):
        """Add a body of the engine's own builder, and colliders in its unit, at a place (3,) m; returns its handle."""
        return self.world.add_body(body.translation(_vector(self.scaled(place))), colliders)

    def mass_properties(self, mass: Mass, kilograms: float):
        """Of a body whose centre is its origin."""
        import rapier3d as rp

        values, axes = principal(mass.inertia * (kilograms / mass.volume) / self.unit**2)
        values = np.maximum(values, 1e-6 * values.max())
        return rp.MassProperties((0.0, 0.0, 0.0), kilograms, _vector(values), rotation(axes))

    def set_gravity(self, gravity) -> None:
        self.world.gravity = _vector(self.scaled(gravity))

    def set_rest(self, handle, across: float) -> None:
        """Say when a body of that size may fall asleep: when it goes less than a hundredth of what it would fall
        through its own size. The engine's own limit is a speed that small things may well move at."""
        body = self.world.rigid_bodies[handle]
        rest = body.activation
        speed = 0.01 * float(np.sqrt(2 * 9.81 * max(across, 1e-6)))
        rest.linear_threshold = speed / self.unit / self.world.integration_parameters.length_unit
        rest.angular_threshold = 2 * speed / max(across, 1e-6)
        body.activation = rest

    def let_rest(self, rows: np.ndarray) -> np.ndarray:
        """Have the engine put bodies to sleep itself, however they move: what is told to sleep from outside, it lets
        through what is awake. Returns (r,) bool, which do; touches that just began wait for the next time."""
        kept = []
        for row in rows:
            body = self.body(row)
            rest = body.activation
            kept.append((rest.linear_threshold, rest.angular_threshold, rest.time_until_sleep))
            rest.linear_threshold, rest.angular_threshold, rest.time_until_sleep = ANY, ANY, 0.0
            body.activation = rest
            body.linvel, body.angvel = (0.0, 0.0, 0.0), (0.0, 0.0, 0.0)
        for _ in range(3):
            self.look()
        for row, values in zip(rows, kept, strict=True):
            body = self.body(row)
            rest = body.activation
            rest.linear_threshold, rest.angular_threshold, rest.time_until_sleep = values
            body.activation = rest
        return np.array([self.body(row).is_sleeping for row in rows], bool)

    def body(self, row: int):
        return self.world.rigid_bodies[self._handle(row)]

    def pulls_otherwise(self, gravity) -> bool:
        """Whether gravity (3,) m/s2 is another than in the frame before, so that what rested may move."""
        return not np.array_equal(np.float32(self.scaled(gravity)), np.float32(tuple(self.world.gravity)))

    def put(self, row: int, place, turn) -> None:
        """Put a driven body somewhere at once."""
        body = self.body(row)
        body.translation, body.rotation = _vector(self.scaled(place)), _rotation(turn)

    def set_speed(self, row: int, speed, spin) -> None:
        body = self.body(row)
        body.linvel, body.angvel = _vector(self.scaled(speed)), _vector(spin)

    def speed_of(self, row: int) -> tuple[np.ndarray, np.ndarray]:
        """((3,) m/s, (3,) rad/s) of a body."""
        body = self.body(row)
        return np.array(body.linvel.to_tuple()) * self.unit, np.array(body.angvel.to_tuple())

    def stand_of(self, row: int) -> tuple[np.ndarray, np.ndarray]:
        """((3,) m, (4,) turn) of a body."""
        body = self.body(row)
        r = body.rotation
        return np.array(body.translation.to_tuple()) * self.unit, np.array([r.i, r.j, r.k, r.w])

    def set_force(self, row: int, force, torque=None, wakes: bool = True) -> None:
        """Put a force (3,) N and a torque (3,) N m on a body, in place of what it had; None and zeros are none."""
        body = self.body(row)
        body.reset_forces(False)
        body.reset_torques(False)
        if np.any(force):
            body.add_force(_vector(np.asarray(force) / self.unit), wakes)
        if torque is not None:
            body.add_torque(_vector(np.asarray(torque) / self.unit**2), wakes)

    def tie(self, a: int, b: int, at_a, at_b) -> None:
        """Tie two bodies to each other as they stand, at places (3,) m from their centres."""
        import rapier3d as rp

        at_a, at_b = _vector(self.scaled(at_a)), _vector(self.scaled(at_b))
        joint = rp.FixedJointBuilder().local_anchor1(at_a).local_anchor2(at_b).contacts_enabled(False)
        self.world.impulse_joints.insert(self._handle(a), self._handle(b), joint.build())

    def part(self, tie: int) -> None:
        self.world.impulse_joints.remove(self._tie_handle(tie), True)

    @staticmethod
    def _tie_handle(tie: int):
        import rapier3d as rp

        return rp.ImpulseJointHandle.from_raw_parts(int(tie), 0)

    @staticmethod
    def _handle(row: int):
        import rapier3d as rp

        return rp.RigidBodyHandle.from_raw_parts(int(row), 0)

    def advance(self, steps: int, dt: float, gravity, driven: dict[int, tuple], after=(), before=()) -> None:
        """So many steps of dt/steps. driven -- row -> ((place, turn) before, (place, turn) at the end), turns (4,);
        before, after -- called before and after each small step."""
        import rapier3d as rp

        world = self.world
        self.set_gravity(gravity)
        world.integration_parameters.dt = dt / steps
        moving = {row: path for row, path in driven.items() if not _is_same(*path)}
        for step in range(1, steps + 1):
            t = step / steps
            for row, ((p0, q0), (p1, q1)) in moving.items():
                place, turn = p0 + (p1 - p0) * t, turns.slerp(q0[None], q1[None], np.array([t]))[0]
                there = rp.Isometry3(translation=_vector(self.scaled(place)), rotation=_rotation(turn))
                self.body(row).set_next_kinematic_position(there)
            for act in before:
                act()
            world.step()
            for act in after:
                act()
        self.at += 1

    def touching(self) -> tuple[int, float]:
        """(pairs that touch, m the deepest overlap of two)."""
        found = [pair.find_deepest_contact() for pair in self.world.narrow_phase.contact_pairs()]
        apart = [contact.dist for contact in found if contact is not None]
        return len(apart), self.unit * max(0.0, -min(apart, default=0.0))

    def read(self, free, place, turn, speed, spin, asleep) -> None:
        """Read what moves into columns; free (b,) bool -- bodies that the solve moves. One that sleeps stays as it was,
        and is read once more as it falls asleep."""
        awake = np.zeros(self.count, bool)
        active = np.array([handle.index for handle in self.world.active_bodies()], np.int64)
        awake[active[active < self.count]] = True
        rows = np.flatnonzero(free & (awake | (asleep == 0)))
        if len(rows):
            bodies, found = self.bodies, np.empty((len(rows), 13))
            for i, row in enumerate(rows.tolist()):
                body = bodies[row]
                r = body.rotation
                found[i] = (
                    *body.translation.to_tuple(), r.i, r.j, r.k, r.w, *body.linvel.to_tuple(), *body.angvel.to_tuple(),
                )  # fmt: skip
            place[rows], turn[rows], speed[rows], spin[rows] = np.split(found, (3, 7, 10), axis=1)
            place[rows] *= self.unit
            speed[rows] *= self.unit
        asleep[free] = ~awake[free]
        speed[free & ~awake] = spin[free & ~awake] = 0

    def look(self) -> None:
        """Take a step of next to no time, so that what touches is known, and what may sleep sleeps: a touch that begins
        wakes what sleeps. `advance` sets the time of its own steps."""
        world = self.world
        gravity, world.gravity, world.integration_parameters.dt = world.gravity, (0.0, 0.0, 0.0), INSTANT
        world.step()
        world.gravity = gravity

    def on_what_stays(self) -> dict[int, np.ndarray]:
        """Row -> (3,) the way in which it is held, of the bodies that touch something that gravity does not move."""
        found = {}
        for pair in self.world.narrow_phase.contact_pairs():
            rows = self._free_rows(pair)
            if min(rows) < 0 <= max(rows) and pair.find_deepest_contact() is not None:
                normals = [np.array(m.data.normal.to_tuple()) for m in pair.manifolds if len(m.points)]
                if normals:
                    found[max(rows)] = normals[0] / max(float(np.linalg.norm(normals[0])), 1e-12)
        return found

    def _free_rows(self, pair) -> list[int]:
        """The rows of two that touch; -1 of what does not give way."""
        parents = [self.world.colliders[handle].parent for handle in (pair.collider1, pair.collider2)]
        is_free = lambda p: p is not None and p.index < self.count and self.world.rigid_bodies[p].is_dynamic
        return [p.index if is_free(p) else -1 for p in parents]

    def pushes(self) -> tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]:
        """(rows (k,), rows that push them (k,), (k, 3) N s what they got in the last step, (k, 3) m where) of bodies
        that were pushed by a touch, without its friction. A row is -1 where that does not give way."""
        world, rows, impulses, spots = self.world, [], [], []
        for pair in world.narrow_phase.contact_pairs():
            impulse = pair.total_impulse().to_tuple()
            if impulse == (0.0, 0.0, 0.0):
                continue
            place = world.colliders[pair.collider2].position
            points = [c for m in pair.manifolds for c in m.points]
            deepest = max(points, key=lambda c: c.impulse)
            rows.append(self._free_rows(pair))
            impulses.append(impulse)
            spots.append((place * deepest.local_p2).to_tuple())
        rows = np.array(rows, np.int64).reshape(-1, 2)
        impulses, spots = (np.array(x, float).reshape(-1, 3) * self.unit for x in (impulses, spots))
        both = np.concatenate([rows, rows[:, ::-1]])
        return both[:, 0], both[:, 1], np.concatenate([-impulses, impulses]), np.concatenate([spots, spots])

    def forces_on(self, row: int) -> tuple[np.ndarray, np.ndarray]:
        """((3,) N, (3,) N m) that were put on a body."""
        body = self.body(row)
        return np.array(body.user_force.to_tuple()) * self.unit, np.array(body.user_torque.to_tuple()) * self.unit**2

    @property
    def moves(self) -> bool:
        """Whether any body is awake."""
        return len(self.world.active_bodies()) > 0

    @property
    def bodies(self) -> list:
        """The engine's bodies in our order; they stay valid as long as none is added."""
        if self._bodies is None:
            self._bodies = [self.body(row) for row in range(self.count)]
        return self._bodies


def unit_of(smallest: float) -> float:
    """m: the engine's unit of length for a smallest body of that size across."""
    return float(np.clip(smallest, 1e-5, 1e4))


def level_builder(rp, wide: float, at=(0.0, 0.0, 0.0)):
    """The collider of a plane across Y through a place, as a slab below it that reaches so many metres. The engine's
    own half-space lets hulls of many corners sink in (measured: 6 of 20 cells of a ball, by up to a tenth of a metre).
    """
    deep = 0.2 * wide
    return rp.Collider.cuboid(wide, deep, wide).translation((float(at[0]), float(at[1]) - deep, float(at[2])))


def obstacle_builder(obstacle, rp, wide: float, unit: float):
    """The collider of an obstacle that is no mesh, about its own place; wide -- how far a plane reaches, in units of
    the engine (m)."""
    size = float(obstacle.places[1].size[0]) / unit
    a, b, c = (float(d) * size for d in obstacle.dims)
    return {
        "sphere": lambda: rp.Collider.ball(a),
        "capsule": lambda: rp.Collider.capsule_y(b, a),
        "box": lambda: rp.Collider.cuboid(a, b, c),
        "plane": lambda: level_builder(rp, wide),
    }[obstacle.shape]()


def surfaced(collider, friction: float, bounce: float, v):
    """A collider with its friction and bounce, and how those of two that touch are taken together: `rubs`, `bounces` of
    the ensemble's channels."""
    import rapier3d as rp

    rule = rp.CoefficientCombineRule
    rules = {"mean": rule.AVERAGE, "larger": rule.MAX, "product": rule.MULTIPLY}
    collider = collider.friction(float(friction)).friction_combine_rule(rules[v.rubs])
    return collider.restitution(float(bounce)).restitution_combine_rule(rules[v.bounces])


def stand_of(place: Place) -> tuple[np.ndarray, np.ndarray]:
    """(place (3,), turn (4,)) of a Place's first row."""
    return place.origin[0], turns.turns_of(place.axes[:1])[0]


def _is_same(a, b) -> bool:
    return bool(np.array_equal(a[0], b[0]) and np.array_equal(a[1], b[1]))


def _vector(v):
    return (float(v[0]), float(v[1]), float(v[2]))


def _rotation(q):
    import rapier3d as rp

    return rp.Rotation3(float(q[3]), float(q[0]), float(q[1]), float(q[2]))
