"""Cloth: a woven sheet that is held here and there and blown about."""

from typing import NamedTuple

import numpy as np
from numba import njit
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from ...errors import EstampaError
from ...fields.force import AIR_DENSITY
from ...geometry.mesh import Mesh
from ...kinds.channels import choice, number, ref, whole
from ..frame import Frame
from ..solver import Inputs, Solver
from . import kernels
from .schedule import Schedule, block_vertices, schedule, vertex_order

MOST_SUBSTEPS = 2000
MOST_ADDED = 400  # substeps that a load may ask for by itself
HARD = 0.999  # a weight from here on holds without give


class Cloth(Solver):
    """A woven sheet, held by a weight map: 1 follows the layers above exactly, less is a soft hold, 0 is free.

    Stretch along both yarns, shear between them, bending across edges, mass by area, drag and lift from the wind.
    """

    kind, title = "cloth", "Cloth"
    icon = "M2.5 4 C5 2.5 6.5 5.5 8.5 4 S12 3 13.5 4 V11.5 C11 13 9.5 10.5 7.5 12 S4 12.8 2.5 11.5 Z M5.5 4 V12 M10.5 4 V11.5"  # noqa: E501
    group = "fall"
    shortcut = "Ctrl+2"
    rank = 1
    version = 2  # small steps by the load, and a limit of the yarns
    presets = {
        "Awning canvas": {"density": 0.35, "warp": 4000.0, "weft": 3000.0, "shear": 500.0, "bend": 2e-4},
        "Cotton": {"density": 0.15, "warp": 1500.0, "weft": 1200.0, "shear": 60.0, "bend": 1e-5},
        "Silk": {"density": 0.06, "warp": 900.0, "weft": 800.0, "shear": 15.0, "bend": 1e-6},
        "Wool blanket": {"density": 0.45, "warp": 800.0, "weft": 700.0, "shear": 80.0, "bend": 1e-4},
        "Tarpaulin": {"density": 0.6, "warp": 9000.0, "weft": 9000.0, "shear": 2500.0, "bend": 1e-3},
    }

    pins = ref("map", "Weight map of what is held. 1 is held fast, a part-weight softly, 0 is free.", title="Held by")
    hold = number(
        2,
        "How fast a half-held vertex would swing back to its place.",
        title="Soft hold",
        unit="Hz",
        soft=(0, 12),
        hard=(0, None),
    )
    density = number(0.2, "Mass of a square metre.", unit="kg/m2", soft=(0.03, 1), hard=(1e-4, None))
    warp = number(
        2000,
        "Resistance to stretch along the first yarn (along the texture's U where there is one).",
        title="Warp stiffness",
        unit="N/m",
        soft=(50, 10000),
        hard=(0, None),
    )
    weft = number(
        2000, "Resistance to stretch across it.", title="Weft stiffness", unit="N/m", soft=(50, 10000), hard=(0, None)
    )
    shear = number(
        100,
        "Resistance to the yarns leaving their right angle.",
        title="Shear stiffness",
        unit="N/m",
        soft=(0, 3000),
        hard=(0, None),
    )
    bend = number(
        2e-5,
        "Resistance to folding. Limp silk is near 0, canvas is stiffer.",
        title="Bend stiffness",
        unit="N.m",
        soft=(0, 1e-3),
        hard=(0, None),
    )
    damping = number(
        0.3,
        "Share of its speed that the cloth loses each second to rubbing within.",
        unit="1/s",
        soft=(0, 5),
        hard=(0, None),
    )
    drag = number(
        1.2,
        "Drag of the cloth face-on to the air; a flat plate has about 1.2.",
        unit="factor",
        soft=(0, 2),
        hard=(0, None),
    )
    lift = number(
        0.6,
        "Lift of the cloth when the air comes at a slant. It makes cloth flutter.",
        unit="factor",
        soft=(0, 2),
        hard=(0, None),
    )
    tether = number(
        0.05,
        "Longest stretch away from the nearest held vertex; keeps a fine mesh from sagging like rubber.",
        unit="fraction",
        soft=(0, 0.5),
        hard=(0, None),
    )
    weave = choice(
        "strain",
        "How stretch is solved. Links are quicker and treat the yarns as springs along edges.",
        {"strain": "Strain of each face", "links": "Links (quick)"},
    )
    limit = number(
        0.1,
        "Longest stretch of a yarn; from there on it does not give, whatever pulls.",
        title="Yarns give up to",
        unit="fraction",
        soft=(0.01, 0.5),
        hard=(1e-3, None),
    )
    substeps = whole(
        20,
        "Small steps in each frame, at the least. More are stiffer and slower; the motion stays the same.",
        soft=(4, 60),
        hard=(1, MOST_SUBSTEPS),
    )
    excess = number(
        0.01,
        "How much more than its stiffness says the load may stretch it: small steps are added in wind until it holds.",
        title="Holds within",
        unit="fraction",
        soft=(0.005, 0.1),
        hard=(1e-3, 1),
    )

    def step(self, frame: Frame, inputs: Inputs, dt: float) -> Frame:
        v, world, mesh = inputs.v, inputs.world, inputs.mesh
        parts = mesh.cached("cloth", lambda: Parts.of(mesh))
        weights = v.pins if v.pins is not None else np.zeros(mesh.count, np.float32)
        held = weights >= HARD
        anchor, distance = mesh.cached("cloth tethers", lambda: tethers(mesh, held), held.tobytes())

        o = parts.order
        weight = weights[o].astype(np.float64)
        mass = v.density * parts.area
        free = (weight < HARD) & (mass > 0)
        inverse_mass = np.divide(1.0, mass, out=np.zeros(len(mass)), where=free)
        soft_hold = np.where(free, (2 * np.pi * v.hold) ** 2 * weight / np.maximum(1 - weight, 1e-9), 0.0)
        holds = kernels.Holds(soft_hold, parts.place_of(anchor), distance[o] * (1 + v.tether))
        x, velocity = (frame["points"][n][o].astype(np.float64) for n in ("place", "speed"))
        floor, friction = max(world.floors, default=(-1e30, 0.0))
        if v.drag + v.lift > 0:
            air = kernels.Air(AIR_DENSITY, float(v.drag), float(v.lift), np.ascontiguousarray(world.air(x)))
        else:  # what the air cannot move does not ask for the wind
            air = kernels.Air(0.0, 0.0, 0.0, np.zeros_like(x))
        reach = float(distance.max(initial=0.0)) or float(mesh.size.max())
        pull = loaded(world.acceleration(x), air.velocity - velocity if air.density > 0 else None, v)
        substeps = wanted_substeps(v, pull, reach, parts.step, dt)
        fabric = (v.weave, v.warp, v.weft, v.shear, v.bend)
        strain, links, hinges = mesh.cached("cloth fabric", lambda: parts.constraints(v), fabric)
        kernels.advance(
            x,
            velocity,
            inverse_mass,
            inputs.before[o],
            inputs.now[o],
            substeps,
            dt,
            world.acceleration(x),
            float(v.damping),
            holds,
            strain,
            links,
            hinges,
            parts.faces,
            block_vertices(mesh.count),
            air,
            floor,
            friction,
            1 + float(v.limit),
        )
        _check(x, velocity, v)
        points, speed = np.empty(x.shape, np.float32), np.empty(x.shape, np.float32)
        points[o], speed[o] = x, velocity
        return Frame.of(self.tables, "points", place=points, speed=speed)


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


def _check(x, velocity, v):
    if np.isfinite(x).all() and np.abs(x).max() < 1e7 and np.abs(velocity).max() < 1e5:
        return
    raise EstampaError(
        "Cloth",
        f"flew apart: {v.substeps} substeps are too few for its channels.",
        "Raise Substeps, or lower the channel that you changed last (stiffness or wind speed).",
    )


class Parts(NamedTuple):
    """What a cloth's constraints are on one mesh, before any channel is read. Vertices are in `order`."""

    order: np.ndarray  # (n,) mesh vertex at each place
    place: np.ndarray  # (n,) place of each mesh vertex
    area: np.ndarray  # (n,) a third of the faces around each, m2
    faces: kernels.Faces
    triangle_shape: np.ndarray
    triangle_area: np.ndarray
    hinge_at: np.ndarray
    hinge_rest: np.ndarray
    hinge_gain: np.ndarray  # 3 |edge|^2 / area of the two triangles
    hinge_order: Schedule
    link_at: np.ndarray
    link_rest: np.ndarray
    link_gain: np.ndarray  # area / rest^2
    link_mix: np.ndarray  # (l, 3) shares of warp, weft and shear stiffness
    link_order: Schedule
    step: float  # m, the usual length of a link

    @classmethod
    def of(cls, mesh: Mesh) -> "Parts":
        t = mesh.triangles
        p = mesh.points
        normal = np.cross(p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]])
        area = 0.5 * np.linalg.norm(normal, axis=1)
        good = area > 1e-12 * max(float(area.max(initial=0)), 1e-30)
        t, area, normal = t[good], area[good], normal[good]
        order = vertex_order(mesh.count, _sides(t))
        place = np.empty(mesh.count, np.int64)
        place[order] = np.arange(mesh.count)

        vertex_area = np.bincount(t.ravel(), np.repeat(area / 3, 3), minlength=mesh.count)[order]
        shape = _yarn_shape(mesh, t, normal, None if mesh.triangle_uv is None else mesh.triangle_uv[good])
        at = place[t]
        turn, plan = schedule(at, mesh.count)
        hinge_at, hinge_area = _hinges(t, area)
        x = p[order]
        hinge_at = place[hinge_at]
        rest, gain = _hinge_rest(x, hinge_at, hinge_area)
        hinge_turn, hinge_plan = schedule(hinge_at, mesh.count)
        link_at, link_rest, link_gain, link_mix = _links(mesh, t, area, shape)
        link_at = place[link_at]
        link_turn, link_plan = schedule(link_at, mesh.count)
        vertices = lambda at: np.ascontiguousarray(at, np.uint32)
        return cls(
            order,
            place,
            vertex_area,
            kernels.Faces(vertices(at[turn]), plan),
            shape[turn],
            area[turn],
            vertices(hinge_at[hinge_turn]),
            rest[hinge_turn],
            gain[hinge_turn],
            hinge_plan,
            vertices(link_at[link_turn]),
            link_rest[link_turn],
            link_gain[link_turn],
            link_mix[link_turn],
            link_plan,
            float(np.median(link_rest)) if len(link_rest) else 0.0,
        )

    def place_of(self, vertices: np.ndarray) -> np.ndarray:
        """Places of mesh vertices given per mesh vertex, in our order; -1 stays -1."""
        ours = vertices[self.order]
        return np.where(ours >= 0, self.place[ours], -1)

    def constraints(self, v) -> tuple[kernels.Strain, kernels.Links, kernels.Hinges]:
        return (
            self.strain(v) if v.weave == "strain" else self.no_strain,
            self.links(v) if v.weave == "links" else self.no_links,
            self.hinges(v) if v.bend > 0 else self.no_hinges,
        )

    def strain(self, v) -> kernels.Strain:
        soft = np.stack([_compliance(k, self.triangle_area) for k in (v.warp, v.weft, v.shear)], axis=1)
        return kernels.Strain(self.faces.at, self.triangle_shape, soft, self.faces.order)

    def links(self, v) -> kernels.Links:
        stiffness = self.link_mix @ np.array([v.warp, v.weft, v.shear]) * self.link_gain
        rest2 = self.link_rest**2
        return kernels.Links(self.link_at, rest2, _compliance(1.0, stiffness) * rest2, self.link_order)

    def hinges(self, v) -> kernels.Hinges:
        return kernels.Hinges(self.hinge_at, self.hinge_rest, _compliance(v.bend, self.hinge_gain), self.hinge_order)

    @property
    def idle(self) -> Schedule:
        """A schedule of the same phases with nothing to do in them."""
        return Schedule(np.zeros_like(self.faces.order.spans), self.faces.order.phases)

    @property
    def no_strain(self) -> kernels.Strain:
        return kernels.Strain(self.faces.at[:0], self.triangle_shape[:0], self.triangle_shape[:0, :3].copy(), self.idle)

    @property
    def no_links(self) -> kernels.Links:
        return kernels.Links(self.link_at[:0], self.link_rest[:0], self.link_rest[:0], self.idle)

    @property
    def no_hinges(self) -> kernels.Hinges:
        return kernels.Hinges(self.hinge_at[:0], self.hinge_rest[:0], self.hinge_rest[:0], self.idle)


def _compliance(stiffness: float, gain: np.ndarray) -> np.ndarray:
    """1 / (stiffness x gain); where there is no stiffness, so soft that nothing is felt."""
    return 1 / np.maximum(stiffness * gain, 1e-30)


def _yarn_shape(mesh: Mesh, t: np.ndarray, normal: np.ndarray, uv: np.ndarray | None) -> np.ndarray:
    """(t, 4) inverse rest edges in yarn coordinates. The warp runs along U of the texture, or else along the
    longest side of the mesh's bounds."""
    p = mesh.points
    e1, e2 = p[t[:, 1]] - p[t[:, 0]], p[t[:, 2]] - p[t[:, 0]]
    n = normal / np.linalg.norm(normal, axis=1, keepdims=True)
    axes = np.eye(3)[np.argsort(-mesh.size, kind="stable")]
    warp = np.broadcast_to(axes[0], e1.shape)
    if uv is not None:
        d = uv.astype(np.float64)
        d1, d2 = d[:, 1] - d[:, 0], d[:, 2] - d[:, 0]
        det = d1[:, 0] * d2[:, 1] - d1[:, 1] * d2[:, 0]
        along_u = e1 * d2[:, 1:] - e2 * d1[:, 1:]
        warp = np.where((np.abs(det) > 1e-20)[:, None], along_u * np.sign(det)[:, None], warp)
    warp = warp - (warp * n).sum(axis=1, keepdims=True) * n
    weak = np.linalg.norm(warp, axis=1) < 1e-6 * np.linalg.norm(e1, axis=1)
    spare = axes[1] - n * (n @ axes[1])[:, None]
    warp = np.where(weak[:, None], spare, warp)
    length = np.linalg.norm(warp, axis=1, keepdims=True)
    warp = np.where(length > 0, warp / np.maximum(length, 1e-300), e1 / np.linalg.norm(e1, axis=1, keepdims=True))
    weft = np.cross(n, warp)
    rest = np.stack([np.stack([(e * warp).sum(axis=1), (e * weft).sum(axis=1)], axis=1) for e in (e1, e2)], axis=1)
    # columns of F are the deformed yarns: F = [e1 e2] inverse([rest1 rest2]) with rests as columns
    return np.linalg.inv(np.swapaxes(rest, 1, 2)).reshape(-1, 4) if len(t) else np.zeros((0, 4))


def _sides(t: np.ndarray) -> np.ndarray:
    """(3 t, 2) vertices of each triangle's sides: all first sides, then all second, then all third."""
    return np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])


def _hinges(t: np.ndarray, area: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((h, 4) vertices a, b, c, d of (a, b, c) and (d, c, b); (h,) area of both) for edges with two triangles."""
    corner = np.arange(3 * len(t))
    tri, k = corner // 3, corner % 3
    a, b, c = t[tri, k], t[tri, (k + 1) % 3], t[tri, (k + 2) % 3]
    low, high = np.minimum(b, c).astype(np.int64), np.maximum(b, c)
    code = low * (int(t.max(initial=0)) + 1) + high
    order = np.argsort(code, kind="stable")
    code = code[order]
    _, first, uses = np.unique(code, return_index=True, return_counts=True)
    one, two = order[first[uses == 2]], order[first[uses == 2] + 1]
    return np.stack([a[one], b[one], c[one], a[two]], axis=1).astype(np.int64), area[tri[one]] + area[tri[two]]


def _hinge_rest(x, at, area):
    rest, edge = _rest_angles(np.ascontiguousarray(x), np.ascontiguousarray(at))
    # plate energy spread over hinges: E. Grinspun and others 2003, "Discrete shells"
    return rest, 3 * edge**2 / np.maximum(area, 1e-300)


@njit(cache=True)
def _rest_angles(x, at):
    rest, edge = np.zeros(len(at)), np.zeros(len(at))
    for k in range(len(at)):
        found = kernels.dihedral(x, at[k, 0], at[k, 1], at[k, 2], at[k, 3])
        rest[k], edge[k] = found[0], found[1]
    return rest, edge


def _links(mesh: Mesh, t, area, shape):
    """Links along the edges of the triangles, and across each hinge.

    An edge is as stiff as the cloth around it: stiffness x area / length^2 (A. Van Gelder 1998, "Approximate simulation
    of elastic membranes by triangulated spring meshes"). Edges along a yarn take its stiffness, slanted ones and
    those across hinges the shear's.
    """
    p = mesh.points
    pairs = _sides(t).astype(np.int64)
    pairs.sort(axis=1)
    code, first, where = np.unique(pairs[:, 0] * mesh.count + pairs[:, 1], return_index=True, return_inverse=True)
    edge = pairs[first]
    edge_area = np.bincount(where.ravel(), np.tile(area / 3, 3), minlength=len(edge)) * 3 / 2
    hinge, hinge_area = _hinges(t, area)
    across = hinge[:, [0, 3]]
    # share of each yarn in the edge's direction, from the first triangle that has it
    tri = first % len(t)
    d = p[edge[:, 1]] - p[edge[:, 0]]
    corners = p[t[tri]]
    columns = shape[tri].reshape(-1, 2, 2)
    yarns = np.einsum(
        "nik,nij->njk", np.stack([corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]], axis=1), columns
    )
    d /= np.maximum(np.linalg.norm(d, axis=1, keepdims=True), 1e-300)
    cos2 = np.clip((d * yarns[:, 0]).sum(axis=1) ** 2, 0, 1)
    slant = 4 * cos2 * (1 - cos2)
    mix = np.stack([cos2 * (1 - slant), (1 - cos2) * (1 - slant), slant], axis=1)
    at = np.concatenate([edge, across])
    mix = np.concatenate([mix, np.tile([0.0, 0.0, 1.0], (len(across), 1))])
    rest = np.linalg.norm(p[at[:, 1]] - p[at[:, 0]], axis=1)
    ok = rest > 0
    gain = np.concatenate([edge_area, hinge_area]) / np.maximum(rest, 1e-300) ** 2
    return at[ok], rest[ok], gain[ok], mix[ok]


def tethers(mesh: Mesh, held: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """(nearest held vertex or -1 (n,), distance to it over the surface (n,) m).

    Long-range attachments: T.-Y. Kim, N. Chentanez, M. Mueller 2012.
    """
    anchor, distance = np.full(mesh.count, -1), np.full(mesh.count, np.inf)
    if held.any():
        pairs = _sides(mesh.triangles)
        hinge, _ = _hinges(mesh.triangles, np.ones(len(mesh.triangles)))
        pairs = np.unique(np.sort(np.concatenate([pairs, hinge[:, [0, 3]]]), axis=1), axis=0)
        length = np.linalg.norm(mesh.points[pairs[:, 1]] - mesh.points[pairs[:, 0]], axis=1)
        graph = coo_matrix(
            (np.maximum(length, 1e-12), (pairs[:, 0], pairs[:, 1])), shape=(mesh.count, mesh.count)
        ).tocsr()
        distance, _, anchor = dijkstra(
            graph, directed=False, indices=np.flatnonzero(held), min_only=True, return_predecessors=True
        )
        anchor = np.where(np.isfinite(distance) & ~held, anchor, -1)
    return anchor.astype(np.int64), np.where(np.isfinite(distance), distance, 0.0)
