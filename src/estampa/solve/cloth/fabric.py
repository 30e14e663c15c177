"""What a cloth's constraints are on a mesh: yarns, links, hinges and tethers, from its rest shape and its stuff."""

from typing import NamedTuple

import numpy as np
from numba import njit
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import dijkstra

from ...geometry.mesh import Mesh
from . import kernels
from .schedule import Schedule, schedule, vertex_order


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
    hinge_gain: np.ndarray  # 1.5 |edge|^2 / area of the two triangles
    hinge_order: Schedule
    link_at: np.ndarray
    link_rest: np.ndarray
    link_gain: np.ndarray  # area / rest^2
    link_mix: np.ndarray  # (l, 3) shares of warp, weft and shear stiffness
    link_order: Schedule
    link_flat: np.ndarray  # (l,) m, as they are when what lies between is flat
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
        link_at, link_rest, link_gain, link_mix, link_flat = _links(mesh, t, area, shape)
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
            link_flat[link_turn],
            float(np.median(link_rest)) if len(link_rest) else 0.0,
        )

    def place_of(self, vertices: np.ndarray) -> np.ndarray:
        """Places of mesh vertices given per mesh vertex, in our order; -1 stays -1."""
        ours = vertices[self.order]
        return np.where(ours >= 0, self.place[ours], -1)

    def constraints(self, v: "Stuff") -> tuple[kernels.Strain, kernels.Links, kernels.Hinges]:
        return (
            self.strain(v) if "strain" in v.weave else self.no_strain,
            self.links(v) if "links" in v.weave else self.no_links,
            self.hinges(v) if np.max(v.bend) > 0 else self.no_hinges,
        )

    def strain(self, v) -> kernels.Strain:
        at = self.faces.at
        soft = [_compliance(_mean(k, at), self.triangle_area) for k in (v.warp, v.weft, v.shear)]
        shape = self.triangle_shape
        if v.taut is not None:  # a yarn that rests shorter is longer in its own measure
            shape = shape / np.tile(np.stack([_mean(v.taut[:, k], at) for k in (0, 1)], axis=1), (1, 2))
        return kernels.Strain(at, shape, np.stack(soft, axis=1), self.faces.order)

    def links(self, v) -> kernels.Links:
        parts = [self.link_mix[:, k] * _mean(f, self.link_at) for k, f in enumerate((v.warp, v.weft, v.shear))]
        stiffness = (parts[0] + parts[1] + parts[2]) * self.link_gain
        rest2 = self.link_rest**2
        if v.taut is not None:
            rest2 = rest2 * self._rests(v.taut) ** 2
        return kernels.Links(self.link_at, rest2, _compliance(1.0, stiffness) * rest2, self.link_order)

    def _rests(self, taut) -> np.ndarray:
        """(l,) how long links rest where yarns rest so long, (n, 2)."""
        along = [_mean(taut[:, k], self.link_at) for k in (0, 1)]
        warp, weft, slant = self.link_mix.T
        return warp * along[0] + weft * along[1] + slant * 0.5 * (along[0] + along[1])

    def lengths(self, limit: np.ndarray, taut: np.ndarray | None) -> kernels.Lengths:
        """How long everything may get where yarns give up to `limit` (n,), as a share. What is drawn taut may be as
        long as in the mesh."""
        rests = 1.0 if taut is None else np.maximum(self._rests(taut), 1.0)
        most = self.link_flat * rests * (1 + _mean(limit, self.link_at))
        return kernels.Lengths(self.link_at, most**2, self.link_order)

    def hinges(self, v) -> kernels.Hinges:
        soft = _compliance(_mean(v.bend, self.hinge_at), self.hinge_gain)
        return kernels.Hinges(self.hinge_at, self.hinge_rest, soft, self.hinge_order)

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


class Stuff(NamedTuple):
    """What cloth is made of: numbers, or (n,) of each vertex in the order of the parts.

    warp, weft, shear N/m; bend N m; weave -- words; taut (n, 2) how long warp and weft rest against the mesh, or None
    """

    weave: tuple[str, ...]
    warp: np.ndarray | float
    weft: np.ndarray | float
    shear: np.ndarray | float
    bend: np.ndarray | float
    taut: np.ndarray | None = None


def _mean(value, at):
    """A number as it is; of one for each vertex, the mean over those of each constraint."""
    return value if np.ndim(value) == 0 else value[at].mean(axis=1)


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
    # plate energy spread over hinges, after E. Grinspun and others 2003, "Discrete shells". Their 3 is twice as stiff
    # as a plate on a grid of right triangles (2.08 times, measured against the elastica, converged): half of it holds
    return rest, 1.5 * edge**2 / np.maximum(area, 1e-300)


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
    flat = np.concatenate([rest[: len(edge)], _unfolded(p[hinge])])
    return at[ok], rest[ok], gain[ok], mix[ok], flat[ok]


def _unfolded(corners: np.ndarray) -> np.ndarray:
    """(h,) m from a to d of triangles (a, b, c) and (d, c, b), (h, 4, 3) m, when they are laid flat."""
    a, b, c, d = (corners[:, k] for k in range(4))
    edge = np.linalg.norm(c - b, axis=1)
    way = (c - b) / np.maximum(edge, 1e-300)[:, None]
    along = [((q - b) * way).sum(axis=1) for q in (a, d)]
    off = [np.linalg.norm(q - b - s[:, None] * way, axis=1) for q, s in zip((a, d), along, strict=True)]
    return np.hypot(along[0] - along[1], off[0] + off[1])


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
