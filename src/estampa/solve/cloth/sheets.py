"""A frame of one cloth, or of several that touch: what they read made into the numbers that the kernels take."""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from ...errors import EstampaError
from ...fields.force import AIR_DENSITY, Floor, World
from ...geometry.mesh import Mesh
from ...geometry.primitives import joined
from ...motion.layer import Resolved
from ..aid import AidInputs, eased
from ..contact.crossings import crossings
from ..contact.soup import Solid, edges_of, planes_of, solids_of, soup_of
from ..contact.tree import Tree
from . import kernels, touching
from .clock import seconds
from .cloth_aid import HARD, Holding
from .dipped import dip
from .fabric import Parts, Stuff, tethers
from .levels import Levels
from .pressure_volumes import Bags
from .schedule import block_vertices
from .ties import Ties
from .untangling import untangled

MOST_ADDED = 1000  # substeps that a load or a collider may ask for by itself
STEPS_OVER = 0.25  # edges of the cloth that a collider goes in a small step, at the most
COARSE_FROM = 2  # times the wanted small steps, from which coarser sheets hold the stretch instead
SHARE_OF_LOAD = 0.25  # of the stretch that it would make if all of it pulled at one end, away from what is held


@dataclass(frozen=True)
class ClothSheet:
    """One cloth over a frame, as it is read."""

    name: str  # for a person
    mesh: Mesh
    first: np.ndarray  # (n, 3) m, as it enters at the first frame
    before: np.ndarray  # (n, 3) m
    now: np.ndarray  # (n, 3) m
    v: Resolved
    aids: tuple[AidInputs, ...] = ()
    began: np.ndarray | None = None  # (n, 3) m, as it stood at the first frame, where that was adopted
    since: int = 0  # frames since the first that is solved


class Crossed(NamedTuple):
    """Where edges go through triangles at the end of a frame, of what is to meet at all.

    begin, end (c, 3) m of each edge; of (c, 2) which cloth or obstacle the edge and the triangle are of: cloths first
    """

    begin: np.ndarray
    end: np.ndarray
    of: np.ndarray

    @classmethod
    def none(cls) -> "Crossed":
        return cls(np.zeros((0, 3)), np.zeros((0, 3)), np.zeros((0, 2), np.int32))


class Report(NamedTuple):
    """What is told of a solved frame."""

    substeps: int
    stretch: float  # the longest yarn, over its rest, less 1
    touching: int  # pairs that are near each other
    crossed: Crossed  # what goes through what

    @classmethod
    def none(cls) -> "Report":
        return cls(0, 0.0, 0, Crossed.none())


class Solved(NamedTuple):
    """All vertices of cloths, one cloth after the other: place (n, 3) m, speed (n, 3) m/s, wet (n,), and aside (n, 3) m
    by which they are shown elsewhere since they were untangled, (0, 3) where they are not."""

    place: np.ndarray
    speed: np.ndarray
    wet: np.ndarray
    aside: np.ndarray
    report: Report

    @classmethod
    def at_rest(cls, place: np.ndarray) -> "Solved":
        return cls(place, np.zeros(place.shape), np.zeros(len(place)), np.zeros((0, 3)), Report.none())


@dataclass
class SheetSet:
    """What cloths are at rest: made once for the same meshes, and kept by the first of them."""

    meshes: tuple[Mesh, ...]
    mesh: Mesh
    parts: Parts
    spans: list[tuple[int, int]]
    triangles: np.ndarray  # (t, 3) int32, in the order of the parts
    edges: np.ndarray
    kept: dict = field(default_factory=dict)

    @classmethod
    def of(cls, sheets: list[ClothSheet]) -> "SheetSet":
        meshes = tuple(_at_rest(s) for s in sheets)
        home = sheets[0].mesh.__dict__
        found = home.get("cloths")
        if found is None or tuple(map(id, found.meshes)) != tuple(map(id, meshes)):
            mesh = meshes[0] if len(meshes) == 1 else joined(list(meshes))
            parts = mesh.cached("cloth", lambda: Parts.of(mesh))
            ends = np.cumsum([0, *(m.count for m in meshes)]).tolist()
            triangles = parts.faces.at.astype(np.int32)
            spans = list(zip(ends[:-1], ends[1:], strict=True))
            found = home["cloths"] = cls(meshes, mesh, parts, spans, triangles, edges_of(triangles))
        return found

    def cached(self, what, make, key=None):
        if what not in self.kept or self.kept[what][0] != key:
            self.kept[what] = (key, make())
        return self.kept[what][1]


def _at_rest(sheet: ClothSheet) -> Mesh:
    """The mesh of a cloth, in the shape that it was told to rest in."""
    rest = sheet.v.get("rest")
    if rest is None or len(rest) != sheet.mesh.count:
        return sheet.mesh
    return sheet.mesh.cached("at rest", lambda: sheet.mesh.with_points(rest), rest.tobytes())


def advance(sheets: list[ClothSheet], begun: Solved, world: World, dt: float) -> Solved:
    """A frame of cloths that are solved together."""
    place, speed, wet, aside, _ = begun
    cloths = SheetSet.of(sheets)
    parts, o = cloths.parts, cloths.parts.order
    every = lambda make: np.concatenate([np.broadcast_to(make(s), (s.mesh.count,)) for s in sheets])[o].astype(float)
    x, velocity = place[o].astype(np.float64), speed[o].astype(np.float64)

    held_now, before, now, ties = _held(sheets, cloths, place)
    weight = held_now[o]
    held = held_now >= HARD
    anchor, distance = cloths.cached("tethers", lambda: tethers(cloths.mesh, held), held.tobytes())
    dry = every(lambda s: s.v.density)
    lift, soaked, water = 1.0, wet[o].astype(float), 0.0
    if world.pools:
        lift, velocity, soaked, water = dip(x, velocity, soaked, dry, cloths.mesh.normals(place)[o], world, dt)
    mass = (dry + water + _water(sheets)[o]) * parts.area
    free = (weight < HARD) & (mass > 0)
    inverse_mass = np.divide(1.0, mass, out=np.zeros(len(mass)), where=free)
    swing = (2 * np.pi * every(lambda s: s.v.hold)) ** 2
    soft_hold = np.where(free, swing * weight / np.maximum(1 - weight, 1e-9), 0.0)
    reach = distance[o] * (1 + every(lambda s: s.v.tether))
    holds = kernels.Holds(soft_hold, parts.place_of(anchor), reach)
    ground = max(world.floors, default=Floor(-1e30, 0.0))
    gravity = world.acceleration(x) * np.reshape(lift, (-1, 1))
    air = _air(sheets, cloths, world, x, every)
    taut = _taut(sheets, o)
    constraints = _constraints(cloths, _stuff(sheets, every, taut), sheets, taut)

    far = float(distance.max(initial=0.0)) or max(float(s.mesh.size.max()) for s in sheets)
    wind = air.velocity - velocity if air.density > 0 else None
    bags = _bags(sheets, cloths)
    pulls = [loaded(gravity, wind, s.v) + np.abs(bags.pressure).max(initial=0.0) / s.v.density for s in sheets]
    wanted = max(wanted_substeps(s.v, pull, far, parts.step, dt) for s, pull in zip(sheets, pulls, strict=True))
    least = max(int(s.v.substeps) for s in sheets)
    limit = 1 + min(float(s.v.limit) for s in sheets)
    if taut is not None:
        limit = max(limit, limit / float(taut.min()))
    given = [
        pull * s.v.density * far / max(min(s.v.warp, s.v.weft), 1e-9) for s, pull in zip(sheets, pulls, strict=True)
    ]
    slack = min(1 + float(sheets[0].v.excess) + SHARE_OF_LOAD * max(given), limit)
    close = min(1 + float(sheets[0].v.excess) + max(given), limit)
    solids = _solids(sheets, world, cloths)
    planes = planes_of(world.colliders) if any(s.v.meets for s in sheets) else np.zeros((0, 13))
    itself = any(s.v.itself for s in sheets) or len(sheets) > 1
    is_rich = itself or len(solids) or len(planes) or len(ties.at) or len(bags.pressure)
    is_draft = all(s.v.quality == "draft" for s in sheets)
    half = max(least // 2, 1)
    particles = kernels.Particles(x, velocity, inverse_mass, before[o], now[o])
    lengths = parts.lengths(every(lambda s: s.v.limit), taut)
    fabric = kernels.Fabric(holds, *constraints, parts.faces, block_vertices(len(x)), limit, lengths)
    surroundings = kernels.Surroundings(gravity, air, ground.height, ground.friction)
    if not is_rich and wanted <= (1 if is_draft else COARSE_FROM) * least:
        wanted = half if is_draft else wanted
        kernels.advance(particles, fabric, surroundings, wanted, dt, float(sheets[0].v.damping))
        found, aside = Report(wanted, *_stretch(cloths, x, taut), 0, Crossed.none()), np.zeros((0, 3))
    else:
        levels = Levels.none()
        struck = _by_colliders(solids, parts.step, least)
        if wanted > least or struck > least:  # what coarser sheets hold needs fewer small steps
            levels = _levels(cloths, taut, held)
            # a load that the yarns can only bear at their limit needs more than one they bear by their stiffness
            wanted = min(wanted, COARSE_FROM * least * (1 if max(given) < limit - 1 else 2))
        wanted = max(wanted, struck)
        wanted = half if is_draft else wanted
        contact, particles = _meeting(sheets, cloths, solids, planes, particles)
        by = _untangle(sheets, contact, particles, limit, aside[o] if len(aside) else np.zeros((len(x), 3)))
        taken, watched = touching.advance(
            particles, fabric, surroundings, touching.Coarse(levels, slack, close), ties, bags, contact, wanted, dt,
            every(lambda s: s.v.damping), _clock(sheets, solids),
        )  # fmt: skip
        x, velocity = particles.x[: len(x)], particles.v[: len(x)]
        seen = particles.x if by is None else np.concatenate([x + by, particles.x[len(x) :]])
        found = Report(taken, *_stretch(cloths, x, taut), watched, _crossed(seen, contact))
        aside = np.zeros((0, 3)) if by is None else by[parts.place]
    _check(x, velocity, sheets)
    points, speeds, wet = np.empty(x.shape), np.empty(x.shape), np.empty(len(x))
    points[o], speeds[o], wet[o] = x, velocity, soaked
    return Solved(points, speeds, wet, aside, found)


def begun(sheets: list[ClothSheet], world: World) -> Solved:
    """Cloths as they enter at the first frame, at rest; what crosses there is counted."""
    place = np.concatenate([s.now for s in sheets]).astype(np.float64)
    cloths, solved = SheetSet.of(sheets), Solved.at_rest(place)
    if not (any(s.v.itself or s.v.meets for s in sheets) or len(sheets) > 1):
        return solved
    o = cloths.parts.order
    solids = _solids(sheets, world, cloths)
    none = np.zeros((len(place), 3))
    particles = kernels.Particles(place[o], none, np.ones(len(place)), none, none)
    contact, particles = _meeting(sheets, cloths, solids, np.zeros((0, 13)), particles)
    return solved._replace(report=Report.none()._replace(crossed=_crossed(particles.x, contact)))


def _untangle(sheets, contact, particles, limit, aside) -> np.ndarray | None:
    """Undo what crosses where an aid says so: the points are moved, and shown where they were for a while. Returns
    (n, 3) m by which they are shown aside at the end of the frame, None where none is."""
    asked = [aid_inputs.aid().untangles(aid_inputs) for s in sheets for aid_inputs in s.aids]
    now, stays = any(acts for acts, _ in asked), max((share for _, share in asked), default=0.0)
    if now and contact.is_any:
        soup, x = contact.soup, particles.x
        rest = soup.rest[soup.edges[soup.edges[:, 1] < soup.cloth]]
        rest = np.linalg.norm(rest[:, 1] - rest[:, 0], axis=1)
        lengths = np.zeros(len(soup.edges))
        lengths[soup.edges[:, 1] < soup.cloth] = rest
        edges = np.linalg.norm(x[soup.edges[:, 1]] - x[soup.edges[:, 0]], axis=1)
        lengths = np.clip(edges, 0.9 * lengths, limit * lengths)
        found = untangled(x, soup, contact.tree, particles.inverse_mass, lengths)
        aside = aside + (x - found.x)[: soup.cloth]
        x[:] = found.x
    return aside * stays if stays > 0 and aside.any() else None


def _clock(sheets, solids):
    """What is called before each small step: it raises EstampaError when the frame takes longer than it may."""
    begun, most = seconds(), min(float(s.v.patience) for s in sheets)
    names = [s.name for s in sheets] + [s.name for s in solids]

    def on_step(watcher, share):
        if seconds() - begun < most:
            return
        met = watcher.met() if watcher else np.zeros(0, int)
        if met[len(sheets) :].any():
            met[: len(sheets)] = 0  # what it runs into is told before the cloth itself
        worst = names[int(met.argmax())] if met.any() else "itself"
        raise EstampaError(
            "Cloth",
            f"took longer than {most:g} s over one frame, where it meets {worst}.",
            f"Slow {worst} down, let go what is held against it, take a coarser mesh, or raise Most time a frame.",
            f"{100 * share:.0f} % of the frame was solved, with {watcher.near if watcher else 0:,} pairs near.",
        )

    return on_step


def _crossed(x, contact) -> Crossed:
    soup = contact.soup
    if not contact.is_any:
        return Crossed.none()
    found = crossings(x, soup, contact.tree, soup.radius)
    return Crossed(x[found.edge[:, 0]], x[found.edge[:, 1]], found.owners(soup))


def _meeting(sheets, cloths, solids, planes, particles) -> tuple[touching.Contact, kernels.Particles]:
    """What may touch, and the particles with the points of solids behind those of cloths."""
    soup, tree, was, here = _soup(sheets, cloths, solids)
    cloth = len(particles.x)
    grown = np.concatenate([np.zeros(cloth), *(np.full(len(s.now), s.grown) for s in solids)])
    none = np.zeros_like(was)
    ways = zip(particles, (was, none, none[:, 0], was, here), strict=True)
    return touching.Contact(soup, tree, grown, planes), kernels.Particles(*map(np.concatenate, ways))


# -- what is read ----------------------------------------------------------------------------------------------
def _held(sheets, cloths, place):
    """((n,) how strongly vertices are held, (n, 3) where they are drawn to before, and now, Ties of those that may
    slide), in the order of the meshes. A hold below the cloth wins over the cloth's own map, a later one over both."""
    every, ties = [], []
    for sheet, (first, last) in zip(sheets, cloths.spans, strict=True):
        v = sheet.v
        weight = np.zeros(sheet.mesh.count) if v.pins is None else v.pins.astype(float)
        entered = (*_eased_in(sheet), sheet.first if sheet.began is None else sheet.began, place[first:last])
        holding = Holding(weight, *entered, v.hold, {})
        for aid_inputs in sheet.aids:
            holding.surfaces = cloths.cached(aid_inputs.id, dict)
            aid_inputs.aid().hold(aid_inputs, holding)
        every.append(holding)
        ties += [(at + first, *more) for at, *more in holding.slides]
    tied = Ties.none()
    if ties:
        at, *more = (np.concatenate(c) for c in zip(*ties, strict=True))
        tied = Ties(cloths.parts.place[at], *more)
    return (*(np.concatenate([getattr(h, n) for h in every]) for n in ("weight", "before", "now")), tied)


def _eased_in(sheet) -> tuple[np.ndarray, np.ndarray]:
    """(before, now) (n, 3) m where what enters draws held vertices: from how they stood as they were adopted."""
    if sheet.began is None:
        return sheet.before.copy(), sheet.now.copy()
    off = sheet.began - sheet.first
    left = [1 - eased(sheet.v.ease, since) for since in (sheet.since - 1, sheet.since)]
    return sheet.before + left[0] * off, sheet.now + left[1] * off


def _water(sheets) -> np.ndarray:
    """(n,) kg/m2"""
    found = [np.zeros(s.mesh.count) for s in sheets]
    for own, sheet in zip(found, sheets, strict=True):
        for aid_inputs in sheet.aids:
            added = aid_inputs.aid().water(aid_inputs, sheet.now)
            own += 0.0 if added is None else added
    return np.concatenate(found)


def _taut(sheets, o) -> np.ndarray | None:
    """(n, 2) how long yarns rest against the mesh, in the order of the parts; None where all do as in the mesh."""
    found = [np.ones((s.mesh.count, 2)) for s in sheets]
    for own, sheet in zip(found, sheets, strict=True):
        for aid_inputs in sheet.aids:
            rests = aid_inputs.aid().rests(aid_inputs, sheet.now)
            own *= 1.0 if rests is None else rests
    taut = np.maximum(np.concatenate(found), 0.05)
    return None if (taut == 1).all() else taut[o]


def _bags(sheets, cloths) -> Bags:
    rows = []
    for sheet, mesh, (first, _) in zip(sheets, cloths.meshes, cloths.spans, strict=True):
        found = (aid_inputs.aid().holds_volume(aid_inputs, mesh) for aid_inputs in sheet.aids)
        rows += [v._replace(triangles=v.triangles + first) for v in found if v is not None]
    if not rows:
        return Bags.none()
    at, lid, pascals, volume = zip(*rows, strict=True)
    starts = np.cumsum([0, *map(len, at)]).astype(np.int64)
    return Bags(
        np.ascontiguousarray(cloths.parts.place[np.concatenate(at)]), starts, np.array(pascals, float),
        np.array(volume, float),
        np.concatenate(lid),
    )  # fmt: skip


def _air(sheets, cloths, world, x, every) -> kernels.Air:
    """The air as each vertex meets it; what it cannot move does not ask for the wind."""
    at = cloths.parts.faces.at
    drag, lift = (np.ascontiguousarray(every(lambda s, n=n: s.v[n])[at[:, 0]]) for n in ("drag", "lift"))
    if not (drag.any() or lift.any()):
        return kernels.Air(0.0, drag, lift, np.zeros_like(x))
    air = np.ascontiguousarray(world.air(x))
    place = cloths.parts.place
    helped = any(sheet.aids for sheet in sheets)
    shields = np.concatenate([np.zeros((0, 3)), *(_spread(o) for o in world.colliders)]) if helped else None
    for sheet, (first, last) in zip(sheets, cloths.spans, strict=True):
        for aid_inputs in sheet.aids:
            rows = place[first:last]
            felt = aid_inputs.aid().shelter(aid_inputs, x[rows], air[rows], shields)
            if felt is not None:
                air[rows] *= felt[:, None]
    return kernels.Air(AIR_DENSITY, drag, lift, air)


def _spread(obstacle) -> np.ndarray:
    """(m, 3) m, points all over an obstacle; a plane shields nothing."""
    if obstacle.shape == "plane":
        return np.zeros((0, 3))
    if obstacle.shape == "mesh":
        points = np.asarray(obstacle.points[1], float)
        return np.concatenate([points, points[obstacle.triangles].mean(axis=1)])
    turn = np.linspace(0, 2 * np.pi, 48, endpoint=False)
    up = np.linspace(-1, 1, 33)
    if obstacle.shape == "box":
        sides = np.stack(np.meshgrid(up, up, up), axis=-1).reshape(-1, 3)
        sides = sides[np.abs(sides).max(axis=1) >= 1] * np.array(obstacle.dims)
    else:
        ring = np.sqrt(1 - up**2)
        ball = np.stack(
            [np.outer(ring, np.cos(turn)), np.outer(up, np.ones(48)), np.outer(ring, np.sin(turn))], axis=-1
        )
        half = obstacle.dims[1] if obstacle.shape == "capsule" else 0.0
        sides = ball.reshape(-1, 3) * obstacle.dims[0]
        sides = np.concatenate([sides + [0, s * half, 0] for s in ((-1, -0.5, 0, 0.5, 1) if half else (0,))])
    return obstacle.places[1].apply(sides[None])[0]


def _stuff(sheets, every, taut) -> Stuff:
    if len(sheets) == 1:
        v = sheets[0].v
        return Stuff((v.weave,), v.warp, v.weft, v.shear, v.bend, taut)
    weave = tuple(sorted({s.v.weave for s in sheets}))
    return Stuff(weave, *(every(lambda s, n=n: s.v[n]) for n in ("warp", "weft", "shear", "bend")), taut)


def _constraints(cloths, stuff, sheets, taut):
    names = ("weave", "warp", "weft", "shear", "bend")
    key = (tuple(tuple(s.v[n] for n in names) for s in sheets), None if taut is None else taut.tobytes())
    return cloths.cached("fabric", lambda: cloths.parts.constraints(stuff), key)


def _levels(cloths, taut, held) -> Levels:
    mesh, o = cloths.mesh, cloths.parts.order

    def make():
        border = np.isin(np.arange(mesh.count), mesh.border)
        return Levels.of(mesh.points[o], mesh.normals()[o], cloths.edges.astype(np.int64), held[o], border[o])

    levels = cloths.cached("levels", make, held.tobytes())
    if taut is None:
        return levels
    along = taut.mean(axis=1)
    shorter = lambda rest, at: rest * along[at].mean(axis=1) if len(at) else rest
    return levels._replace(rest=shorter(levels.rest, levels.at), close_rest=shorter(levels.close_rest, levels.close))


# -- what is met -----------------------------------------------------------------------------------------------
def _solids(sheets, world, cloths) -> list[Solid]:
    if not any(s.v.meets for s in sheets):
        return []
    return solids_of(world.colliders, cloths.cached("solid meshes", dict))


def _soup(sheets, cloths, solids):
    """(soup, tree, (m, 3) m where the points of solids were, and are). The tree is kept while their topology stays."""
    p = cloths.mesh.points[cloths.parts.order]
    whose = np.concatenate([np.full(b - a, k) for k, (a, b) in enumerate(cloths.spans)])[cloths.parts.order]
    values = lambda make: np.array([make(s) for s in sheets], float)
    soup, was, here = soup_of(
        p, cloths.triangles, cloths.edges, whose, values(lambda s: s.v.thickness), values(lambda s: s.v.friction),
        np.array([not s.v.itself for s in sheets]), solids,
    )  # fmt: skip
    key = tuple((len(s.now), s.triangles.tobytes(), s.edges.tobytes()) for s in solids)
    make = lambda: Tree.of(np.concatenate([p, here]), soup.triangles, soup.edges, soup.owner)
    return soup, cloths.cached("tree", make, key), was, here


def _by_colliders(solids, step, least) -> int:
    """Small steps in a frame in which no collider goes further than a few edges of the cloth between contacts."""
    far = max((float(np.linalg.norm(s.now - s.before, axis=1).max()) + abs(s.grown) for s in solids), default=0.0)
    if far <= 0 or step <= 0:
        return least
    return int(min(max(least, np.ceil(far / (STEPS_OVER * step))), MOST_ADDED))


# -- what is asked of a frame ------------------------------------------------------------------------------------
def loaded(gravity: np.ndarray, wind: np.ndarray | None, v) -> float:
    """m/s2: how hard gravity (n, 3) and the wind past the cloth (n, 3) pull at it, in the mean."""
    pull = float(np.linalg.norm(gravity, axis=1).mean()) if len(gravity) else 0.0
    if wind is not None and len(wind):
        pull += 0.5 * AIR_DENSITY * (v.drag + v.lift) * float((wind**2).sum(axis=1).mean()) / v.density
    return pull


def wanted_substeps(v, pull: float, reach: float, step: float, dt: float) -> int:
    """Small steps in a frame that keep the stretch beyond what the stiffness says within `excess`.

    One step passes a pull on by about a row of vertices, so `rows` of them, `reach` = rows x step metres, stretch too
    far by about rows^2 / 2 x pull x h^2 / reach (docs/solver.md). Never fewer than the channel says.
    """
    if step <= 0 or reach <= 0 or v.excess >= 1:
        return int(v.substeps)
    rows = reach / step
    wanted = dt * np.sqrt(rows**2 * pull / (2 * v.excess * reach))
    return max(int(v.substeps), int(min(np.ceil(wanted), MOST_ADDED)))


def _stretch(cloths, x, taut) -> tuple[float]:
    """(the longest stretch of an edge,)"""
    e = cloths.edges
    if not len(e):
        return (0.0,)
    p = cloths.cached("edge lengths", lambda: _lengths(cloths.mesh.points[cloths.parts.order], e))
    rest = p if taut is None else p * taut.mean(axis=1)[e].mean(axis=1)
    return (float((_lengths(x, e) / np.maximum(rest, 1e-12)).max() - 1),)


def _lengths(x, e):
    return np.linalg.norm(x[e[:, 1]] - x[e[:, 0]], axis=1)


def _check(x, velocity, sheets):
    if np.isfinite(x).all() and np.abs(x).max() < 1e7 and np.abs(velocity).max() < 1e5:
        return
    raise EstampaError(
        "Cloth",
        f"flew apart: {max(int(s.v.substeps) for s in sheets)} substeps are too few for its channels.",
        "Raise Substeps, or lower the channel that you changed last (stiffness, pressure or wind speed).",
    )
