"""Bodies: the ensemble that solves rigid bodies together."""

from functools import cached_property, partial

import numpy as np
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ...errors import EstampaError
from ...fields.force import AIR_DENSITY
from ...geometry import pose as turns
from ...geometry.bonds import bonds
from ...geometry.pieces import Pieces
from ...kinds.channels import whole
from ...units import format_length
from ..ensemble import Crowd, Ensemble, member_number
from ..frame import Column, Frame, Table
from .bonded import bonds_of
from .engine import Engine, level_builder, obstacle_builder, stand_of, unit_of
from .hinges import Hinges, limb_table
from .limits import Limits
from .limp import ANIMATED, INSTANT
from .shapes import collider, mass_properties

MANY, FEW_KEPT, OFTEN_KEPT = 300, 48, 12  # with so many bodies the engine's state is kept with fewer frames
SMALLEST = 1e-12  # m3, of a body
JOINTED = 8  # inner iterations where limbs are tied: with the engine's 4 hinges part by 9 mm in a fall from 2 m
REACHES = 0.6  # of the most that rough walls reach, by which hulls are drawn in (measured: let go in the air, none moves)
NEAR_GROUND = 0.005  # of a piece's size, within which it stands on a ground
WIDE, LEAST_WIDE = 12, 20.0  # how far a ground reaches: times all that stands on it, and m


class Bodies(Ensemble):
    """Rigid bodies that are solved together, because they touch. Made by itself with the first body."""

    kind, title = "bodies", "Bodies"
    icon = "M2.5 13.5 V9.5 H6.5 V13.5 Z M8 13.5 V9.5 H12 V13.5 Z M5.2 9 V5 H9.2 V9 Z M2 14.5 H14"
    rank = 14
    tables = {
        "bodies": (
            Column("place", (3,), "m", "Where its centre of mass is."),
            Column("turn", (4,), "", "How it is turned since the first frame: a unit quaternion x, y, z, w."),
            Column("speed", (3,), "m/s", "How fast its centre goes."),
            Column("spin", (3,), "rad/s", "How fast it turns."),
            Column("centre", (3,), "m", "Where its centre of mass was at first.", keep="shown"),
            Column("held", (), "", "1 while it follows the layers above.", "u1"),
            Column("asleep", (), "", "1 while it rests.", "u1", keep="shown"),
        ),
        "bonds": (
            Column("whole", (), "", "1 until two pieces part.", "u1"),
            Column("pull", (), "Pa", "The hardest it was pulled in the frame.", keep="shown"),
        ),
        "limbs": (
            Column("joint", (), "", "Which joint of its skeleton a body is.", "i4", keep="shown"),
            Column("stood", (4,), "", "How that was turned at first: a unit quaternion x, y, z, w.", keep="shown"),
            Column("hinge", (3,), "m", "Where it was at first.", keep="shown"),
            Column("limp", (), "s", "How long ago it was let go."),
        ),
        "report": (
            Column("awake", (), "fraction", "Share of the bodies that move.", keep="shown"),
            Column("energy", (), "J", "Kinetic energy of all of them.", keep="shown"),
            Column("contacts", (), "", "Pairs that touch; -1 where there are too many to count.", keep="shown"),
            Column("deepest", (), "m", "The deepest overlap of two that touch.", keep="shown"),
            Column("unit", (), "m", "The engine's unit of length, chosen by the smallest body.", keep="shown"),
        ),
    }

    substeps = whole(
        10, "Small steps in each frame. More keep piles and joints stiffer, and small things out of one another.",
        soft=(4, 30), hard=(1, 400),
    )  # fmt: skip

    # -- frames ------------------------------------------------------------------------------------------------
    def start(self, crowd: Crowd) -> Frame:
        model = Model.of(crowd)
        engine = model.build(crowd)
        place, turn = model.centre.copy(), np.tile([0.0, 0, 0, 1], (model.count, 1))
        still = np.zeros((model.count, 3))
        held = model.held_at_first(crowd).astype(np.uint8)
        asleep = (model.untouched | model.rests(engine, crowd)).astype(np.uint8)
        speed, spin = (np.where((held | asleep)[:, None], still, part) for part in (model.speed, model.spin))
        return model.frame(engine, place, turn, speed, spin, held, asleep, keep=True)

    def step(self, frame: Frame, crowd: Crowd, dt: float) -> Frame:
        model, rows = Model.of(crowd), frame["bodies"]
        place, turn, speed, spin = (rows[n].astype(float) for n in ("place", "turn", "speed", "spin"))
        asleep = rows["asleep"].copy()
        engine = self._engine(frame, model, crowd)
        was_held = rows["held"].astype(bool)
        driven = model.driven(crowd, was_held)
        held = model.held(crowd, was_held, place)
        let_go = was_held & ~held
        model.let_go(engine, np.flatnonzero(let_go), crowd, dt)
        paths = {row: driven[row] for row in driven if not let_go[row]}
        paths |= model.obstacles(engine, crowd)
        for n, hinges in enumerate(model.hinges):
            paths |= hinges.spring(engine, crowd, model.ties + n, model.count + engine.obstacles + n)
        model.push(engine, crowd, place, speed, held, asleep, dt)
        if engine.pulls_otherwise(crowd.world.gravity):
            for row in np.flatnonzero(self._free(model, held) & (asleep > 0) & ~model.untouched):
                engine.body(row).wake_up(True)
        held = held.astype(np.uint8)
        limp = model.limp(frame, held, dt)
        model.take_away(engine, crowd, limp, held)
        whole_, pull = model.whole(frame), np.zeros(len(model.bonds.a))
        after = partial(model.after_step, engine, whole_, pull, held) if len(pull) or model.hinges else None
        engine.advance(int(crowd.v.substeps), dt, crowd.world.gravity, paths, after)
        engine.read(self._free(model, held), place, turn, speed, spin, asleep)
        for row, (_, (there, turned)) in driven.items():
            if held[row]:
                place[row], turn[row] = there, turned
        every = OFTEN_KEPT if model.count < MANY else FEW_KEPT
        keep = (crowd.frame - crowd.first) % every == 0
        return model.frame(engine, place, turn, speed, spin, held, asleep, keep, (whole_, pull), limp)

    @staticmethod
    def _free(model, held) -> np.ndarray:
        return model.solved & (held == 0)

    def resumed(self, frame: Frame, crowd: Crowd) -> Frame:
        model, rows = Model.of(crowd), frame["bodies"]
        engine, held = model.build(crowd), model.held_at_first(crowd)
        whole_ = model.whole(frame)
        for bond in np.flatnonzero(~whole_.astype(bool)):
            engine.part(bond)
        columns = {n: rows[n].astype(float) for n in ("place", "turn", "speed", "spin")}
        asleep = np.zeros(model.count, np.uint8)
        for row in np.flatnonzero(model.solved & ~held):
            engine.put(row, columns["place"][row], columns["turn"][row])
            engine.set_speed(row, columns["speed"][row], columns["spin"][row])
        for row in np.flatnonzero(held):  # what follows the layers above begins where they have it
            columns["place"][row], columns["turn"][row] = model.centre[row], (0, 0, 0, 1)
            columns["speed"][row] = columns["spin"][row] = 0
        told = (whole_, np.zeros(len(whole_)))
        return model.frame(engine, **columns, held=held.astype(np.uint8), asleep=asleep, keep=True, bonds=told)

    def goes_on(self, frame: Frame) -> bool:
        going = frame.going
        return bool(frame.blob) or (going is not None and going[0].at == going[1])

    def _engine(self, frame, model, crowd) -> Engine:
        if frame.going is not None and frame.going[0].at == frame.going[1]:
            return frame.going[0]
        return Engine.from_blob(frame.blob, model.count, len(_solid(crowd.world)), crowd.frame - crowd.first - 1)

    def facts(self, frame: Frame) -> list[tuple[str, str]]:
        """What is told of a solved frame beside the channels."""
        rows, report = frame["bodies"], {n: float(c[0]) for n, c in frame["report"].columns.items()}
        free = int((rows["held"] == 0).sum())
        awake = int(((rows["held"] == 0) & (rows["asleep"] == 0)).sum())
        touching = "too many to count" if report["contacts"] < 0 else f"{report['contacts']:.0f} pairs"
        bonds = frame.tables.get("bonds")
        held_by = [] if bonds is None else [("Bonds", f"{int(bonds['whole'].sum()):,} of {len(bonds):,} hold")]
        return [
            ("Bodies", f"{len(rows):,}, {free:,} of them moved by the solve"),
            ("Awake here", f"{awake:,}"),
            *held_by,
            ("Touching", touching),
            ("Deepest overlap", format_length(report["deepest"])),
            ("Margins", f"{format_length(0.001 * report['unit'])}, by the smallest body"),
            ("Kinetic energy", f"{report['energy']:.3g} J"),
        ]

    def rests(self, crowd: Crowd) -> dict[str, np.ndarray]:
        return {"bodies": Model.of(crowd).centre}

    def fits(self, frame: Frame, crowd: Crowd) -> bool:
        rows = frame["bodies"]
        spans = {s.id: s.mesh for s in crowd.members}
        return set(rows.spans) == set(spans) and len(rows) == Model.of(crowd).count


class Model:
    """What bodies are, from their shapes at first and their fixed channels: made once for the same."""

    def __init__(self, crowd: Crowd):
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
                self.hinges.append(Hinges(seen, self.spans[seen.id][0], self.centre, self.mass, self.ties))
                self.ties += 2 * len(self.hinges[-1].tied)
        self.limits = Limits.of(self.hinges, self.count) if self.hinges else None
        self.smallest = min((_across(seen.first[p.vertices[i]]) for seen, p, i, _ in parts), default=1.0)

    @classmethod
    def of(cls, crowd: Crowd) -> "Model":
        if not crowd.members:
            raise EstampaError("Bodies", "have no body.", "Add a Body layer to a subject.")
        # kept by the first member's mesh, as all that is worked out of a mesh
        mesh = crowd.members[0].mesh
        kept = mesh.__dict__.get("bodies")
        if kept is None or not _is_same_crowd(kept.members, crowd.members):
            kept = mesh.__dict__["bodies"] = cls(crowd)
        return kept

    def held(self, crowd: Crowd, before: np.ndarray, place: np.ndarray) -> np.ndarray:
        """(b,) bool: which still follow the layers above, of those that did; place (b, 3) m, where they were."""
        held = before & (crowd.frame < self.begins)
        if (held & self.zoned).any():
            held &= ~self._reached(crowd, place)
        return held

    def held_at_first(self, crowd: Crowd) -> np.ndarray:
        return self.held(crowd, np.ones(self.count, bool), self.centre)

    def _reached(self, crowd: Crowd, place) -> np.ndarray:
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

    def take_away(self, engine: Engine, crowd: Crowd, limp: np.ndarray, held: np.ndarray) -> None:
        """Take limbs out of the world that have been limp for as long as is wanted."""
        away = {s.id: float(s.v.away) for s in crowd.members if s.limbs is not None}
        after = np.concatenate([np.full(len(h.limbs.joint), away[h.id]) for h in self.hinges]) if self.hinges else limp
        for row in self.limbs[(after > 0) & (limp >= after - INSTANT)] if self.hinges else ():
            if engine.body(row).is_enabled:
                engine.body(row).is_enabled = False

    # -- the engine --------------------------------------------------------------------------------------------
    def build(self, crowd: Crowd) -> Engine:
        """The engine's world at the first frame."""
        import rapier3d as rp

        engine, held = Engine.of(self.count, self.smallest), self.held_at_first(crowd)
        for row, (seen, pieces, i, mass) in enumerate(self.parts):
            v, own = seen.v, pieces.vertices[i]
            what = seen.name if pieces.count == 1 else f"{seen.name}, piece {i + 1}"
            shape = v.shape
            if shape == "mesh" and v.moved == "solve":
                shape = "hulls"  # a moving mesh has no inside, and falls through others
            made = collider(shape, seen.first[own] - mass.centre, pieces.number[pieces.triangles[i]], what, _swing(seen))
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
        for obstacle in _solid(crowd.world):
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

    def rests(self, engine: Engine, crowd: Crowd) -> np.ndarray:
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

    def driven(self, crowd: Crowd, held: np.ndarray) -> dict[int, tuple]:
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

    def let_go(self, engine: Engine, rows, crowd: Crowd, dt: float) -> None:
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

    def obstacles(self, engine: Engine, crowd: Crowd) -> dict[int, tuple]:
        """Row -> where an obstacle stood and stands; a mesh that changes its shape gets a new collider."""
        import rapier3d as rp

        found = {}
        for i, obstacle in enumerate(_solid(crowd.world)):
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

    def push(self, engine: Engine, crowd: Crowd, place, speed, held, asleep, dt: float) -> None:
        """Wind and forces that are felt in places, as they are at the start of the frame. Drag never does more than
        take a body along, however light it is."""
        world = crowd.world
        rows = np.flatnonzero(self.solved & ~held & (asleep == 0))
        windy = len(world.winds) > 0 and (self.drag > 0).any()
        if not len(rows) or not (windy or world.pulls or engine.pushed):
            return
        force = np.zeros((self.count, 3))
        if world.pulls:
            force[rows] = self.mass[rows, None] * (world.acceleration(place[rows]) - world.gravity)
        if windy:
            past = world.air(np.ascontiguousarray(place[rows])) - speed[rows]
            pull = 0.5 * AIR_DENSITY * self.drag[rows] * self.area[rows] * np.linalg.norm(past, axis=1)
            force[rows] += (pull / np.maximum(1, pull * dt / self.mass[rows]))[:, None] * past
        for row in rows:
            body = engine.body(row)
            body.reset_forces(False)
            if force[row].any():
                body.add_force(tuple(map(float, force[row])), True)
        engine.pushed = bool(force.any())

    def frame(self, engine: Engine, place, turn, speed, spin, held, asleep, keep: bool, bonds=None, limp=None) -> Frame:
        columns = {
            "place": place, "turn": turn, "speed": speed, "spin": spin, "centre": self.centre, "held": held,
            "asleep": asleep,
        }  # fmt: skip
        made = {c.name: c.array(columns[c.name]) for c in Bodies.tables["bodies"]}
        free = held == 0
        awake = float((asleep[free] == 0).mean()) if free.any() else 0.0
        moving = 0.5 * (self.mass[free] * (speed[free] ** 2).sum(axis=1)).sum()
        moving += 0.5 * (self.inertia[free] * (spin[free] ** 2).sum(axis=1)).sum()
        contacts, deepest = engine.touching() if self.count <= MANY else (-1, 0.0)
        told = {"awake": [awake], "energy": [float(moving)], "contacts": [contacts], "deepest": [deepest]}
        told["unit"] = [unit_of(self.smallest)]
        report = {c.name: c.array(told[c.name]) for c in Bodies.tables["report"]}
        tables = {"bodies": Table(made, self.ids, self.spans), "report": Table(report)}
        if self.hinges:
            limp = np.zeros(len(self.limbs)) if limp is None else limp
            tables["limbs"] = limb_table(self.hinges, Bodies.tables["limbs"], limp)
        if len(self.bonds.a):
            whole_, pull = bonds or (np.ones(len(self.bonds.a), np.uint8), np.zeros(len(self.bonds.a)))
            columns = {"whole": whole_, "pull": pull}
            tables["bonds"] = Table({c.name: c.array(columns[c.name]) for c in Bodies.tables["bonds"]})
        blob = engine.world.snapshot() if keep else b""
        return Frame(tables, blob, (engine, engine.at))


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
    return REACHES * cut.swing * float(np.ptp(seen.first, axis=0).max() / max(np.ptp(seen.mesh.points, axis=0).max(), 1e-12))


def _solid(world):
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

