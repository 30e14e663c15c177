"""Bonds between bodies that are pieces of one broken mesh: ties of the engine that part when they bear too much."""

from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np

from ...geometry import pose as turns
from ...geometry.bonds import bonds
from ...hashing import rand
from ...lazy import csgraph, sparse, spatial
from .bond_loads import BondBeams, Sections, Strengths

STIFFER = 12  # more rounds of the engine for what is bonded: with its own four, walls swing under their own weight
CRACKS = 0.5  # of the hardest loaded, what parts with it in one small step: cracks grow, and shed what lies beyond
MOST_BORNE = 1e6  # times its own weight
EASED = 0.4  # s, in which what is let go while it hangs on what is held comes to its weight: at once, it would bounce


class Masses(NamedTuple):
    """mass (r,) kg; inertia (r, 3, 3) kg m2 about the centre, along the axes of the world at first."""

    mass: np.ndarray
    inertia: np.ndarray


@dataclass(frozen=True, eq=False)
class BondTies:
    """a, b (q,) rows of two bodies; at_a, at_b (q, 3) m from their centres; where and how they are bonded."""

    a: np.ndarray
    b: np.ndarray
    at_a: np.ndarray
    at_b: np.ndarray
    sections: Sections
    strengths: Strengths
    bodies: int

    def __len__(self) -> int:
        return len(self.a)

    @cached_property
    def beams(self) -> BondBeams:
        return BondBeams(self.a, self.b, self.at_a, self.at_b, self.sections, self.bodies)

    def tie(self, engine) -> None:
        for k in range(len(self)):
            engine.tie(self.a[k], self.b[k], self.at_a[k], self.at_b[k])
        for row in np.unique(np.concatenate([self.a, self.b])):
            engine.body(row).additional_solver_iterations = STIFFER

    def hangs(self, whole: np.ndarray, held: np.ndarray) -> np.ndarray:
        """(bodies,) bool, which hang together with one that is held (rows) by bonds that are whole (q,) bool, and are
        not held themselves."""
        ones = np.ones(int(whole.sum()), np.int8)
        graph = sparse.coo_matrix((ones, (self.a[whole], self.b[whole])), shape=(self.bodies, self.bodies))
        group = csgraph.connected_components(graph, directed=False)[1]
        found = np.isin(group, group[held])
        found[held] = False
        return found

    def bears(self, weight: np.ndarray, stands: dict[int, np.ndarray], held) -> tuple[float, float]:
        """(how many times its own weight it bears until the first bond parts, Pa the hardest pull of that weight).

        weight (bodies, 3) N of pieces that stand, or are held (rows). Zeros where nothing stays, or nothing weighs.
        """
        if not len(self) or not (stands or len(held)):
            return 0.0, 0.0
        pushed = np.zeros((len(self.beams.rows), 6))
        pushed[:, :3] = weight[self.beams.rows]
        found = self.sections.stresses(self.beams.loads(pushed, np.ones(len(self), bool), stands, held))
        most = float(found.used(self.strengths).max())
        return (min(1 / most, MOST_BORNE) if most > 0 else 0.0), max(float(found.pull.max()), 0.0)


class BondFrame:
    """The bonds over one frame of the engine: after each small step, what bears more than it holds parts."""

    def __init__(self, ties: BondTies, masses: Masses, engine, gravity, whole: np.ndarray, held: np.ndarray):
        """masses -- of the rows of `ties.beams`; gravity (3,) m/s2; whole (q,) u1 is changed; held (bodies,) bool"""
        self.ties, self.masses, self.engine, self.gravity, self.whole = ties, masses, engine, np.asarray(gravity), whole
        self.rows, self.number = ties.beams.rows.tolist(), ties.beams.number
        self.held = np.flatnonzero(held)
        self.pull, self.used = np.zeros((2, len(ties)))
        self.weighs = np.array([engine.body(row).gravity_scale for row in self.rows])

    def ease(self, let_go: np.ndarray, dt: float) -> None:
        """Give what hangs on what is held more of its weight; let_go (bodies,) bool -- what just was; dt -- s"""
        hangs = self.ties.hangs(self.whole.astype(bool), self.held)[self.rows]
        fresh = let_go[self.rows]
        weighs = np.where(hangs, np.where(fresh, 0.0, np.minimum(self.weighs + dt / EASED, 1.0)), 1.0)
        for n in np.flatnonzero(weighs != self.weighs):
            self.engine.body(self.rows[n]).gravity_scale = float(weighs[n])
        self.weighs = weighs

    @property
    def columns(self) -> dict[str, np.ndarray]:
        return {"whole": self.whole, "pull": self.pull, "used": self.used}

    @property
    def is_eased(self) -> bool:
        """Whether all of it has its whole weight."""
        return bool((self.weighs == 1.0).all())

    def before_step(self) -> None:
        self.was = np.zeros((len(self.rows), 6))
        if self.engine.moves:
            self.was[:] = [np.concatenate(self.engine.speed_of(row)) for row in self.rows]

    def after_step(self, dt: float) -> None:
        """dt -- s, of the small step"""
        engine, ties, whole = self.engine, self.ties, self.whole.astype(bool)
        if not engine.moves or not whole.any():
            return
        pushed, stands = self._pushed(dt)
        found = ties.sections.stresses(ties.beams.loads(pushed, whole, stands, self.held))
        now = np.where(whole, found.used(ties.strengths), 0.0)
        np.maximum(self.pull, np.where(whole, found.pull, 0.0), out=self.pull)
        np.maximum(self.used, np.minimum(now, 1e6), out=self.used)
        for k in np.flatnonzero(now > max(1.0, CRACKS * now.max())):
            self.whole[k] = 0
            engine.part(k)

    def _pushed(self, dt: float) -> tuple[np.ndarray, dict[int, np.ndarray]]:
        """What `BondBeams.loads` takes, along the axes of each piece as it was at first."""
        engine, masses = self.engine, self.masses
        now = np.array([np.concatenate(engine.speed_of(row)) for row in self.rows])
        stood = [engine.stand_of(row) for row in self.rows]
        place, turn = np.array([p for p, _ in stood]), np.array([q for _, q in stood])
        rates = (now - self.was) / dt
        force = masses.mass[:, None] * (self.weighs[:, None] * self.gravity - rates[:, :3])
        torque, stands = np.zeros_like(force), {}
        rows, others, impulse, at = engine.pushes()
        ours = (rows >= 0) & (self.number[rows] >= 0)
        n, others, impulse, at = self.number[rows[ours]], others[ours], impulse[ours], at[ours]
        free = others >= 0
        np.add.at(force, n[free], impulse[free] / dt)
        np.add.at(torque, n[free], np.cross(at[free] - place[n[free]], impulse[free]) / dt)
        for k in np.flatnonzero(~free):
            stands[self.rows[n[k]]] = impulse[k] / np.linalg.norm(impulse[k])
        if engine.pushed:
            for n, row in enumerate(self.rows):
                one, two = engine.forces_on(row)
                force[n] += one
                torque[n] += two
        back = turns.inverse(turn)
        own = lambda v: turns.turned(back, v)
        spin, rate = own(0.5 * (now[:, 3:] + self.was[:, 3:])), own(rates[:, 3:])
        carried = np.einsum("rij,rj->ri", masses.inertia, spin)
        torque = own(torque) - np.einsum("rij,rj->ri", masses.inertia, rate) - np.cross(spin, carried)  # Euler
        stands = {row: turns.turned(back[self.number[row]][None], way[None])[0] for row, way in stands.items()}
        return np.concatenate([own(force), torque], axis=1), stands


def bonds_of(members, pieces, spans, centre) -> BondTies:
    """Of all members whose pieces are held together by bonds; centre (b, 3) m of all bodies at first."""
    parts = []
    for seen, own in zip(members, pieces, strict=True):
        if seen.v.bonded != "bonds" or seen.v.each != "pieces" or seen.v.moved != "solve" or own.count < 2:
            continue
        found, first = bonds(seen.mesh), spans[seen.id][0]
        keep = found.area > 1e-4 * found.area.mean() if len(found.a) else np.zeros(0, bool)
        if not keep.any():
            continue
        at = found.middles(seen.mesh, seen.first)[keep]
        a, b, v = found.a[keep], found.b[keep], seen.v
        tougher = np.ones(len(a))
        if v.lumps > 0:
            lump = _lumps(centre[first : first + own.count], int(v.lumps))
            tougher[lump[a] == lump[b]] = v.tougher
        holds = np.array([[v.strength], [v.shear], [v.crush]]) * tougher
        a, b = a + first, b + first
        how = found.normals(seen.mesh, seen.first)[keep], found.second_moments(seen.mesh, seen.first)[keep]
        rubs = np.full(len(a), float(v.friction))
        parts.append((a, b, at - centre[a], at - centre[b], found.area[keep], *how, *holds, rubs))
    none, row = np.zeros(0, np.int64), np.zeros(0)
    if not parts:
        parts = [(none, none, *(np.zeros((0, 3)),) * 2, row, np.zeros((0, 3)), np.zeros((0, 3, 3)), *(row,) * 4)]
    a, b, at_a, at_b, area, normal, second, *holds = (np.concatenate(x) for x in zip(*parts, strict=True))
    return BondTies(a, b, at_a, at_b, Sections.of(area, normal, second), Strengths(*holds), len(centre))


def _lumps(centre, count) -> np.ndarray:
    """(p,) which of so many lumps each piece is of: the nearest of as many pieces by chance."""
    chosen = np.argsort(rand(1, np.arange(len(centre)), "lumps"))[:count]
    return spatial.cKDTree(centre[chosen]).query(centre)[1]
