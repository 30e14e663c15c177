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
from ..ragdoll.build import Ragdolls, solids_of
from ..ragdoll.figures import Solids
from .bonded import Masses, bonds_of
from .buoyancy import Afloat, Displaced
from .engine import Engine, level_builder, obstacle_builder, stand_of, surfaced
from .hinges import BodyHinges
from .limp import ANIMATED, INSTANT
from .shapes import collider, solid_shape

SMALLEST = 1e-12  # m3, of a body
FINE, FINEST = 0.011, 8  # m, below which small steps are made shorter with the size, and by how much at the most
AHEAD = 1.0  # of the smallest body, how far ahead of a body touches are looked for
REACHES = 0.6  # of the most that rough walls reach, by which hulls are drawn in: less, and they burst apart
NEAR_GROUND = 0.005  # of a piece's size, within which it stands on a ground
# how far a ground reaches: times all that stands on it; m at least, or of small things times the smallest of them
WIDE, LEAST_WIDE, LEAST_UNITS = 12, 20.0, 4000


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
            of_limbs = seen.limbs is not None
            masses = seen.limbs.masses(seen.stood[0]) if of_limbs else pieces.masses(seen.first, heavier)
            parts += [(seen, pieces, i, mass) for i, mass in enumerate(masses)]
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
        self.middle, self.wide = (low + high) / 2, WIDE * float((high - low).max())
        self.zoned = self.solved & number(lambda s, p, i, m: s.v.begins == "zone")[:, 0].astype(bool)
        self.bonds = bonds_of(crowd.members, self.pieces, self.spans, self.centre)
        self.hinges = [
            BodyHinges(seen, self.spans[seen.id][0], self.centre, self.mass)
            for seen in crowd.members
            if seen.limbs is not None and len(seen.limbs.joint)
        ]
        masses = [mass for *_, mass in parts]
        self.ragdolls = Ragdolls.of(self.hinges, masses, self.mass) if self.hinges else None
        self._displaced: dict[int, Displaced] = {}
        self._axes: dict[str, np.ndarray] = {}
        self._solid: dict[int, object] = {}
        sizes = np.array([_across(seen.first[p.vertices[i]]) for seen, p, i, _ in parts])
        moves = sizes[self.solved] if self.solved.any() else sizes
        self.smallest, self.largest = float(moves.min(initial=1e9)), float(moves.max(initial=0.0))
        # a ball of 3 mm that rolls at a metre a second turns by 3 rad in a step: by ten steps a frame it is 44 % behind
        self.finer = int(np.clip(np.ceil(FINE / self.smallest - 1e-6), 1, FINEST))
        self.wide = max(self.wide, min(LEAST_WIDE, LEAST_UNITS * self.smallest))

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
        return np.ones(len(self.bonds), np.uint8) if table is None else table["whole"].copy()

    def limp(self, frame: Frame, held: np.ndarray, dt: float) -> np.ndarray:
        """(l,) s since each limb was let go."""
        if not self.hinges:
            return np.zeros(0)
        return np.where(held[self.limbs], 0.0, frame["limbs"]["limp"].astype(float) + dt)

    @cached_property
    def limbs(self) -> np.ndarray:
        """(l,) rows of the bodies that are limbs."""
        return np.concatenate([np.zeros(0, np.int64), *(np.arange(h.span.start, h.span.stop) for h in self.hinges)])

    def gone(self, crowd: EnsembleInputs, limp: np.ndarray) -> np.ndarray:
        """(l,) bool, which limbs have been limp for so long (l,) s that they are away."""
        away = {s.id: float(s.v.away) for s in crowd.members if s.limbs is not None}
        after = np.concatenate([np.zeros(0), *(np.full(len(h.limbs.joint), away[h.id]) for h in self.hinges)])
        return (after > 0) & (limp >= after - INSTANT)

    def own_axes(self, seen) -> np.ndarray:
        """(3, 3) in columns: how the axes of a member's mesh are turned in the world at first."""
        if seen.id not in self._axes:
            plain = seen.v.shape in ("box", "capsule", "cylinder")
            turned = Pieces.whole(seen.mesh).turns(seen.mesh.points, seen.first) if plain else np.eye(3)[None]
            self._axes[seen.id] = turned[0]
        return self._axes[seen.id]

    @cached_property
    def bonded_masses(self) -> Masses:
        rows = self.bonds.beams.rows
        own = [m.inertia / max(m.volume, SMALLEST) for *_, m in (self.parts[row] for row in rows)]
        return Masses(self.mass[rows], self.mass[rows, None, None] * np.array(own, float).reshape(-1, 3, 3))

    @cached_property
    def by_engine(self) -> np.ndarray:
        """(b,) bool, what the engine moves: all that is solved but limbs."""
        found = self.solved.copy()
        found[self.limbs] = False
        return found

    @cached_property
    def corners(self) -> np.ndarray:
        """(b, 8, 3) m of the box around each body as it is at first, from its centre."""
        boxes = []
        for seen, pieces, i, mass in self.parts:
            points = seen.first[pieces.vertices[i]] - mass.centre
            low, high = points.min(axis=0), points.max(axis=0)
            boxes.append([[(low, high)[k >> a & 1][a] for a in range(3)] for k in range(8)])
        return np.array(boxes, float).reshape(-1, 8, 3)

    @cached_property
    def across(self) -> np.ndarray:
        """(b,) m, the longest side of that box."""
        return np.ptp(self.corners, axis=1).max(axis=1)

    def bounds(self, rows: np.ndarray, place: np.ndarray, turn: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((r, 3), (r, 3)) m, the boxes around bodies as they stand."""
        axes = turns.turn_matrices(turn[rows])
        corners = np.einsum("rij,rkj->rki", axes, self.corners[rows]) + place[rows][:, None]
        return corners.min(axis=1), corners.max(axis=1)

    def solids(self, crowd: EnsembleInputs, driven: dict[int, tuple]) -> Solids:
        """What limbs run into that does not give way: of the world, and bodies that are driven or still."""
        limbs, found = set(self.limbs.tolist()), []
        for row, (seen, pieces, i, mass) in enumerate(self.parts):
            still = seen.v.moved == "still"
            if row in limbs or not (still or row in driven):
                continue
            stays = (self.centre[row], np.array([0.0, 0, 0, 1]))
            if row not in self._solid:  # a hull or a fitted box is worked out once, and not at every frame
                points, triangles = seen.first[pieces.vertices[i]] - mass.centre, pieces.number[pieces.triangles[i]]
                self._solid[row] = solid_shape(seen.v.shape, points, triangles, self.own_axes(seen))
            found.append((self._solid[row], (stays, stays) if still else driven[row], float(seen.v.friction)))
        return solids_of(crowd.world, found, crowd.v.rubs)

    # -- the engine --------------------------------------------------------------------------------------------
    def build(self, crowd: EnsembleInputs) -> Engine:
        """The engine's world at the first frame."""
        import rapier3d as rp

        engine, held = Engine.of(self.count, self.smallest), self.held_at_first(crowd)
        limbs = set(self.limbs.tolist())
        for row, (seen, pieces, i, mass) in enumerate(self.parts):
            v, own = seen.v, pieces.vertices[i]
            what = seen.name if pieces.count == 1 else f"{seen.name}, piece {i + 1}"
            shape = v.shape
            if shape == "mesh" and v.moved == "solve":
                shape = "hulls"  # a moving mesh has no inside, and falls through others
            at, triangles = seen.first[own] - mass.centre, pieces.number[pieces.triangles[i]]
            swing = _swing(seen) / engine.unit
            made = collider(shape, engine.scaled(at), triangles, what, self.own_axes(seen), swing, pieces.count > 1)
            made = surfaced(made.density(0.0), v.friction, v.bounce, crowd.v)
            if v.moved == "still":
                body = rp.RigidBody.fixed()
            elif held[row]:
                body = rp.RigidBody.kinematic_position_based()
            else:
                body = rp.RigidBody.dynamic()
                speed = tuple(engine.scaled(self.speed[row]).tolist())
                body = body.linvel(speed).angvel(tuple(map(float, self.spin[row])))
                body = body.sleeping(bool(self.untouched[row]))
            if v.moved == "solve":
                # small things spin fast, and go far in a step against their size: touches are looked for ahead
                body = body.allow_fast_rotation(True).soft_ccd_prediction(AHEAD)
                body = body.linear_damping(float(v.damping)).angular_damping(float(v.turn_damping))
                body = body.additional_mass_properties(engine.mass_properties(mass, float(self.mass[row])))
            if row in limbs:  # in the world only while it meets a body
                made = made.collision_groups(rp.InteractionGroups(rp.Group.GROUP_2, ~rp.Group.GROUP_2))
                body = body.gravity_scale(0.0).enabled(bool(held[row]))
            handle = engine.add(body, [made], self.centre[row])
            engine.set_rest(handle, _across(seen.first[own]))
        engine.set_gravity(crowd.world.gravity)
        for floor in crowd.world.floors:
            at = engine.scaled((self.middle[0], floor.height, self.middle[2]))
            ground = level_builder(rp, self.wide / engine.unit, at)
            engine.world.add_collider(surfaced(ground, floor.friction, floor.bounce, crowd.v))
        for obstacle in solid_obstacles(crowd.world):
            place, turn = stand_of(obstacle.places[1])
            wide = self.wide + float(np.linalg.norm(place - self.middle))
            is_mesh, wide = obstacle.shape == "mesh", wide / engine.unit
            made = _mesh_collider(engine, obstacle) if is_mesh else obstacle_builder(obstacle, rp, wide, engine.unit)
            made = surfaced(made, obstacle.friction, obstacle.bounce, crowd.v)
            engine.add(rp.RigidBody.kinematic_position_based(), [made])
            if obstacle.shape != "mesh":
                engine.put(self.count + engine.obstacles, place, turn)
            engine.obstacles += 1
        return engine

    def rests(self, engine: Engine, crowd: EnsembleInputs) -> tuple[np.ndarray, dict[int, np.ndarray]]:
        """((b,) bool: pieces of what was broken that stand where they are as it begins, and are put to sleep until they
        are touched: those that hang together with one that stands on a ground or on what does not move; row of each
        that stands so -> (3,) the way in which that holds it).

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
            return found, {}
        engine.look()
        ways = engine.on_what_stays()
        stands = np.isin(np.arange(self.count), list(ways))
        for (seen, own, i, _), row in zip(self.parts, range(self.count), strict=True):
            if quiet[row] and not stands[row]:
                points = seen.first[own.vertices[i]]
                low = points[:, 1].min()
                near = NEAR_GROUND * _across(points)
                stands[row] = any(abs(low - floor.height) < near for floor in crowd.world.floors)
                if stands[row]:
                    ways[row] = np.array([0.0, 1.0, 0.0])
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
        return found, ways

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

    def let_go(self, engine: Engine, rows, crowd: EnsembleInputs, speed, spin, dt: float) -> None:
        """Bodies that the solve takes over go on as the layers above moved them, and with the speed that they are
        given. Their rows of speed and spin (b, 3) are changed."""
        import rapier3d as rp

        which, limbs = np.zeros(self.count, bool), set(self.limbs.tolist())
        which[rows] = True
        driven = self.driven(crowd, which) if len(rows) else {}
        for row in rows.tolist():
            body, ((p0, q0), (p1, q1)) = engine.body(row), driven[row]
            body.body_type = rp.RigidBodyType.DYNAMIC
            speed[row] = (p1 - p0) / dt + self.speed[row]
            turn = turns.turn_vectors(turns.product(q1[None], turns.inverse(q0[None])))[0]
            spin[row] = turn / dt + self.spin[row]
            engine.set_speed(row, speed[row], spin[row])
            if row in limbs:
                body.is_enabled = False
            else:
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
                made = surfaced(_mesh_collider(engine, obstacle), obstacle.friction, obstacle.bounce, crowd.v)
                engine.world.add_collider(made, handle)
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
        rows = np.flatnonzero(self.by_engine & ~held & (asleep == 0))
        windy = len(world.winds) > 0 and (self.drag > 0).any()
        afloat = None
        if world.pools:
            afloat = Afloat(self, world, np.flatnonzero(self.by_engine & ~held), place, turn, force)
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
            engine.set_force(row, force[row])
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


def _mesh_collider(engine: Engine, obstacle):
    import rapier3d as rp

    points = engine.scaled(obstacle.points[1]).astype(np.float32)
    return rp.Collider.trimesh(points, obstacle.triangles.astype(np.uint32))


def _surface(points, triangles) -> float:
    """m2. The mean area that a convex thing shows is a quarter of it (Cauchy)."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return float(0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum())


def _across(points) -> float:
    return float((points.max(axis=0) - points.min(axis=0)).max(initial=0.0))
