"""What bodies are, from their shapes at first, and the engine's world that they make."""

from functools import cached_property

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ...errors import EstampaError
from ...fields.force import AIR_DENSITY
from ...geometry import pose as turns
from ...geometry.bonds import bonds
from ...geometry.pieces import Pieces
from ..ensemble import EnsembleInputs, member_number
from ..frame import Frame
from .bonded import bonds_of
from .buoyancy import Afloat, Displaced
from .engine import Engine, level_builder, obstacle_builder, stand_of
from .hinges import BodyHinges
from .limits import Limits
from .limp import ANIMATED, INSTANT
from .shapes import collider, mass_properties

SMALLEST = 1e-12  # m3, of a body
JOINTED = 8  # inner iterations where limbs are tied: with the engine's 4 hinges part by 9 mm in a fall from 2 m
REACHES = 0.6  # of the most that rough walls reach, by which hulls are drawn in: less, and they burst apart
NEAR_GROUND = 0.005  # of a piece's size, within which it stands on a ground
WIDE, LEAST_WIDE = 12, 20.0  # how far a ground reaches: times all that stands on it, and m


class Model:
    """What bodies are, from their shapes at first and their fixed channels: made once for the same."""

    def __init__(self, crowd: EnsembleInputs):
        self.members, self.spans, self.pieces = crowd.members, {}, []
        parts, count = [], 0
        for seen in crowd.members:
            pieces = Pieces.whole(seen.mesh) if seen.v.each == "whole" else Pieces.each(seen.mesh)
            self.pieces.append(pieces)
            self.spans[seen.id] = (count, count + pieces.count)
            count += pieces.count
            weights = seen.v.ballast if seen.v.moved == "solve" else None
            heavier = None if weights is None else 1 + (seen.v.heavier - 1) * weights.astype(float)
            parts += [(seen, pieces, i, mass) for i, mass in enumerate(pieces.masses(seen.first, heavier))]
        self.count, self.parts = count, parts
        number = lambda make: np.array([make(*p) for p in parts], float).reshape(len(parts), -1)
        self.ids = np.array([id_of(seen.id, i) for seen, _, i, _ in parts], np.int64)
        self.centre = number(lambda s, p, i, m: m.centre)
        self.mass = number(lambda s, p, i, m: s.v.mass or max(m.volume, SMALLEST) * s.v.density)[:, 0]
        self.inertia = number(lambda s, p, i, m: np.trace(m.inertia) / 3 / max(m.volume, SMALLEST))[:, 0] * self.mass
        self.speed = number(lambda s, p, i, m: (s.v.speed_x, s.v.speed_y, s.v.speed_z))
        self.spin = number(lambda s, p, i, m: (s.v.spin_x, s.v.spin_y, s.v.spin_z))
        self.drag = number(lambda s, p, i, m: s.v.drag if s.v.moved == "solve" else 0.0)[:, 0]
        self.solved = number(lambda s, p, i, m: s.v.moved == "solve")[:, 0].astype(bool)
        self.untouched = self.solved & number(lambda s, p, i, m: s.v.begins == "touched")[:, 0].astype(bool)
        begins = lambda s: {"frame": s.v.at, "zone": 10**9}.get(s.v.begins, -(10**9))
        self.begins = number(lambda s, p, i, m: begins(s) if s.v.moved == "solve" else 10**9)[:, 0]
        self.area = number(lambda s, p, i, m: _surface(s.first, p.triangles[i]))[:, 0] / 4
        every = np.concatenate([[s.first.min(axis=0), s.first.max(axis=0)] for s in crowd.members])
        low, high = every.min(axis=0), every.max(axis=0)
        self.middle, self.wide = (low + high) / 2, max(LEAST_WIDE, WIDE * float((high - low).max()))
        self.zoned = self.solved & number(lambda s, p, i, m: s.v.begins == "zone")[:, 0].astype(bool)
        self.bonds = bonds_of(crowd.members, self.pieces, self.spans, self.centre)
        self.hinges, self.ties = [], len(self.bonds.a)
        for seen in crowd.members:
            if seen.limbs is not None and len(seen.limbs.joint):
                self.hinges.append(BodyHinges(seen, self.spans[seen.id][0], self.centre, self.mass, self.ties))
                self.ties += 2 * len(self.hinges[-1].tied)
        self.limits = Limits.of(self.hinges, self.count) if self.hinges else None
        self._displaced: dict[int, Displaced] = {}
        self.smallest = min((_across(seen.first[p.vertices[i]]) for seen, p, i, _ in parts), default=1.0)

    @classmethod
    def of(cls, crowd: EnsembleInputs) -> "Model":
        if not crowd.members:
            raise EstampaError("Bodies", "have no body.", "Add a Body layer to a subject.")
        # kept by the first member's mesh, as all that is worked out of a mesh
        mesh = crowd.members[0].mesh
        kept = mesh.__dict__.get("bodies")
        if kept is None or not _is_same_crowd(kept.members, crowd.members):
            kept = mesh.__dict__["bodies"] = cls(crowd)
        return kept

    def held(self, crowd: EnsembleInputs, before: np.ndarray, place: np.ndarray) -> np.ndarray:
        """(b,) bool: which still follow the layers above, of those that did; place (b, 3) m, where they were."""
        held = before & (crowd.frame < self.begins)
        if (held & self.zoned).any():
            held &= ~self._reached(crowd, place)
        return held

    def held_at_first(self, crowd: EnsembleInputs) -> np.ndarray:
        return self.held(crowd, np.ones(self.count, bool), self.centre)

    def _reached(self, crowd: EnsembleInputs, place) -> np.ndarray:
        """(b,) bool: which are reached by the zone that lets go of them."""
        found = np.zeros(self.count, bool)
        for seen in crowd.members:
            first, last = self.spans[seen.id]
            if self.zoned[first:last].any() and seen.v.reached is not None:
                found[first:last] = seen.v.reached(np.ascontiguousarray(place[None, first:last]))[0] >= 0.5
        return found

    def whole(self, frame: Frame) -> np.ndarray:
        """(q,) u1, which bonds hold."""
        table = frame.tables.get("bonds")
        return np.ones(len(self.bonds.a), np.uint8) if table is None else table["whole"].copy()

    def limp(self, frame: Frame, held: np.ndarray, dt: float) -> np.ndarray:
        """(l,) s since each limb was let go."""
        if not self.hinges:
            return np.zeros(0)
        return np.where(held[self.limbs], 0.0, frame["limbs"]["limp"].astype(float) + dt)

    @cached_property
    def limbs(self) -> np.ndarray:
        """(l,) rows of the bodies that are limbs."""
        return np.concatenate([np.arange(h.span.start, h.span.stop) for h in self.hinges])

    def take_away(self, engine: Engine, crowd: EnsembleInputs, limp: np.ndarray, held: np.ndarray) -> None:
        """Take limbs out of the world that have been limp for as long as is wanted."""
        away = {s.id: float(s.v.away) for s in crowd.members if s.limbs is not None}
        after = np.concatenate([np.full(len(h.limbs.joint), away[h.id]) for h in self.hinges]) if self.hinges else limp
        for row in self.limbs[(after > 0) & (limp >= after - INSTANT)] if self.hinges else ():
            if engine.body(row).is_enabled:
                engine.body(row).is_enabled = False

    # -- the engine --------------------------------------------------------------------------------------------
    def build(self, crowd: EnsembleInputs) -> Engine:
        """The engine's world at the first frame."""
        import rapier3d as rp

        engine, held = Engine.of(self.count, self.smallest), self.held_at_first(crowd)
        for row, (seen, pieces, i, mass) in enumerate(self.parts):
            v, own = seen.v, pieces.vertices[i]
            what = seen.name if pieces.count == 1 else f"{seen.name}, piece {i + 1}"
            shape = v.shape
            if shape == "mesh" and v.moved == "solve":
                shape = "hulls"  # a moving mesh has no inside, and falls through others
            at, triangles = seen.first[own] - mass.centre, pieces.number[pieces.triangles[i]]
            made = collider(shape, at, triangles, what, _swing(seen))
            made = made.density(0.0).friction(float(v.friction)).restitution(float(v.bounce))
            if v.moved == "still":
                body = rp.RigidBody.fixed()
            elif held[row]:
                body = rp.RigidBody.kinematic_position_based()
            else:
                body = rp.RigidBody.dynamic()
                body = body.linvel(tuple(map(float, self.speed[row]))).angvel(tuple(map(float, self.spin[row])))
                body = body.sleeping(bool(self.untouched[row]))
            if v.moved == "solve":
                body = body.linear_damping(float(v.damping)).angular_damping(float(v.turn_damping))
                body = body.additional_mass_properties(mass_properties(mass, float(self.mass[row])))
            handle = engine.world.add_body(body.translation(tuple(map(float, self.centre[row]))), [made])
            engine.set_rest(handle, _across(seen.first[own]))
        if self.hinges:
            engine.world.integration_parameters.num_solver_iterations = JOINTED
        engine.world.gravity = tuple(map(float, crowd.world.gravity))
        self.bonds.tie(engine)
        for hinges in self.hinges:
            hinges.tie(engine)
        for height, friction in crowd.world.floors:
            ground = level_builder(rp, self.wide, (self.middle[0], height, self.middle[2]))
            engine.world.add_collider(ground.friction(float(friction)).restitution(0.0))
        for obstacle in solid_obstacles(crowd.world):
            place, turn = stand_of(obstacle.places[1])
            wide = self.wide + float(np.linalg.norm(place - self.middle))
            made = _mesh_collider(rp, obstacle, 1) if obstacle.shape == "mesh" else obstacle_builder(obstacle, rp, wide)
            engine.world.add_body(rp.RigidBody.kinematic_position_based(), [made])
            if obstacle.shape != "mesh":
                engine.put(self.count + engine.obstacles, place, turn)
            engine.obstacles += 1
        for hinges in self.hinges:
            hinges.hang(engine)
        return engine

    def rests(self, engine: Engine, crowd: EnsembleInputs) -> np.ndarray:
        """(b,) bool: pieces of what was broken that stand where they are as it begins, and are put to sleep until they
        are touched: those that hang together with one that stands on a ground or on what does not move.

        Awake, touching pieces press on one another and sag before anything has struck them.
        """
        quiet, found = np.zeros(self.count, bool), np.zeros(self.count, bool)
        pairs = []
        for seen, own in zip(crowd.members, self.pieces, strict=True):
            if seen.mesh.cut_from is None or own.count < 2 or seen.v.moved != "solve" or seen.v.begins != "first":
                continue
            first, last = self.spans[seen.id]
            quiet[first:last] = ~(self.speed[first:last].any(axis=1) | self.spin[first:last].any(axis=1))
            joined = bonds(seen.mesh)
            pairs.append(np.stack([joined.a, joined.b], axis=1) + first)
        if not quiet.any():
            return found
        stands = engine.on_what_stays(self.count)
        for (seen, own, i, _), row in zip(self.parts, range(self.count), strict=True):
            if quiet[row] and not stands[row]:
                points = seen.first[own.vertices[i]]
                low = points[:, 1].min()
                near = NEAR_GROUND * _across(points)
                stands[row] = any(abs(low - height) < near for height, _ in crowd.world.floors)
        links = np.concatenate(pairs)
        links = links[quiet[links].all(axis=1)]
        graph = coo_matrix((np.ones(len(links), np.int8), (links[:, 0], links[:, 1])), shape=(self.count, self.count))
        group = connected_components(graph, directed=False)[1]
        borne = np.zeros(group.max() + 1, bool)
        borne[group[stands & quiet]] = True
        found = quiet & borne[group]
        for row in np.flatnonzero(self.solved & ~self.held_at_first(crowd)):
            engine.put(row, self.centre[row], (0.0, 0.0, 0.0, 1.0))
            engine.set_speed(row, self.speed[row], self.spin[row])
            if found[row]:
                engine.body(row).sleep()
        return found

    def after_step(self, engine: Engine, whole_, pull, held) -> None:
        """What is looked after at each small step: bonds that part, limbs that keep within their limits."""
        if len(pull):
            self.bonds.part(engine, whole_, pull)
        if self.limits is not None:
            self.limits.hold(engine, held)

    def driven(self, crowd: EnsembleInputs, held: np.ndarray) -> dict[int, tuple]:
        """Row -> ((place, turn) before, (place, turn) now) of bodies that follow the layers above."""
        found = {}
        for seen, pieces in zip(crowd.members, self.pieces, strict=True):
            first, last = self.spans[seen.id]
            if seen.v.moved == "still" or not held[first:last].any():
                continue
            now = self._stand(first, last, pieces, seen.first, seen.now)
            rest = np.array_equal(seen.before, seen.now)
            before = now if rest else self._stand(first, last, pieces, seen.first, seen.before)
            for i in np.flatnonzero(held[first:last]):
                found[first + int(i)] = ((before[0][i], before[1][i]), (now[0][i], now[1][i]))
        return found

    def _stand(self, first_row, last_row, pieces, first, now):
        """(places (p, 3), turns (p, 4)) of a member's bodies, from where its points were at first and are now."""
        axes = pieces.turns(first, now)
        home, middle = pieces.middles(np.stack([first, now]))
        arm = self.centre[first_row:last_row] - home
        return middle + np.einsum("pij,pj->pi", axes, arm), turns.turns_of(axes)

    def let_go(self, engine: Engine, rows, crowd: EnsembleInputs, dt: float) -> None:
        """Bodies that the solve takes over go on as the layers above moved them, and with the speed that they are
        given."""
        import rapier3d as rp

        which = np.zeros(self.count, bool)
        which[rows] = True
        driven = self.driven(crowd, which) if len(rows) else {}
        for row in rows:
            body, ((p0, q0), (p1, q1)) = engine.body(row), driven[int(row)]
            body.body_type = rp.RigidBodyType.DYNAMIC
            speed = (p1 - p0) / dt + self.speed[row]
            spin = turns.turn_vectors(turns.product(q1[None], turns.inverse(q0[None])))[0] / dt + self.spin[row]
            body.linvel, body.angvel = tuple(map(float, speed)), tuple(map(float, spin))
            body.wake_up()

    def obstacles(self, engine: Engine, crowd: EnsembleInputs) -> dict[int, tuple]:
        """Row -> where an obstacle stood and stands; a mesh that changes its shape gets a new collider."""
        import rapier3d as rp

        found = {}
        for i, obstacle in enumerate(solid_obstacles(crowd.world)):
            row = self.count + i
            if i >= engine.obstacles:
                break
            if obstacle.shape != "mesh":
                found[row] = tuple(stand_of(p) for p in obstacle.places)
            elif not np.array_equal(*obstacle.points):
                body = engine.body(row)
                for handle in list(body.colliders):
                    engine.world.remove_collider(handle)
                handle = rp.RigidBodyHandle.from_raw_parts(row, 0)
                engine.world.add_collider(_mesh_collider(rp, obstacle, 1), handle)
        return found

    def displaced(self, row: int) -> Displaced:
        """What a body displaces, in its shape at first."""
        if row not in self._displaced:
            seen, pieces, i, mass = self.parts[row]
            own = pieces.vertices[i]
            points, triangles = seen.first[own], pieces.number[pieces.triangles[i]]
            self._displaced[row] = Displaced(points, triangles, self.centre[row], mass.volume if mass.closed else 0.0)
        return self._displaced[row]

    def push(self, engine: Engine, crowd: EnsembleInputs, place, turn, speed, held, asleep, dt: float) -> Afloat | None:
        """Wind and forces that are felt in places, as they are at the start of the frame. Drag never does more than
        take a body along, however light it is. Returns what pushes those that stand in a liquid, if any do."""
        world, force = crowd.world, np.zeros((self.count, 3))
        rows = np.flatnonzero(self.solved & ~held & (asleep == 0))
        windy = len(world.winds) > 0 and (self.drag > 0).any()
        afloat = None
        if world.pools:
            afloat = Afloat(self, world, np.flatnonzero(self.solved & ~held), place, turn, force)
            engine.pushed |= bool(afloat.baths)
        if not len(rows) or not (windy or world.pulls or engine.pushed):
            return afloat
        if world.pulls:
            force[rows] = self.mass[rows, None] * (world.acceleration(place[rows]) - world.gravity)
        if windy:
            past = world.air(np.ascontiguousarray(place[rows])) - speed[rows]
            pull = 0.5 * AIR_DENSITY * self.drag[rows] * self.area[rows] * np.linalg.norm(past, axis=1)
            force[rows] += (pull / np.maximum(1, pull * dt / self.mass[rows]))[:, None] * past
        for row in rows:
            body = engine.body(row)
            body.reset_forces(False)
            body.reset_torques(False)
            if force[row].any():
                body.add_force(tuple(map(float, force[row])), True)
        engine.pushed = bool(force.any() or (afloat is not None and afloat.baths))
        return afloat


def _is_same_crowd(a, b) -> bool:
    """Whether members are what they were: the same shapes at first, with the same channels, none of which animates."""
    if len(a) != len(b):
        return False
    is_same = lambda x, y: x is y if isinstance(x, np.ndarray) else callable(x) and callable(y) or x == y
    return all(
        p is q
        or (p.id == q.id and p.mesh is q.mesh and p.first is q.first)
        and all(n in ANIMATED or is_same(x, q.v[n]) for n, x in p.v.items())
        for p, q in zip(a, b, strict=True)
    )


def id_of(member: str, piece: int) -> int:
    """A body's number for good: its member's, and which piece it is."""
    return (member_number(member) << 23) + piece


def _swing(seen) -> float:
    """m in the world, by which the rough walls of its pieces reach into one another."""
    cut = seen.mesh.cut_from
    if cut is None or not cut.swing:
        return 0.0
    return REACHES * cut.swing * _across(seen.first) / max(_across(seen.mesh.points), 1e-12)


def solid_obstacles(world):
    return [o for o in world.colliders if o.shape != "mesh" or o.points is not None]


def _mesh_collider(rp, obstacle, when: int):
    points = obstacle.points[when].astype(np.float32)
    made = rp.Collider.trimesh(points, obstacle.triangles.astype(np.uint32))
    return made.friction(float(obstacle.friction)).restitution(0.0)


def _surface(points, triangles) -> float:
    """m2. The mean area that a convex thing shows is a quarter of it (Cauchy)."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return float(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())


def _across(points) -> float:
    return float((points.max(axis=0) - points.min(axis=0)).max(initial=0.0))
