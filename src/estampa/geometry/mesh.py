"""A polygon mesh as arrays, and what can be known from its topology alone."""

from functools import cached_property
from typing import NamedTuple

import numpy as np
from numba import njit, prange
from scipy.sparse import coo_matrix
from scipy.sparse.csgraph import connected_components

from ..errors import EstampaError
from .material import Material


class Creased(NamedTuple):
    """A mesh parted along its creases. Its vertices are those of the mesh, and behind them copies of those named."""

    extra: np.ndarray  # (m,) vertices that have a copy
    mesh: "Mesh"

    def of(self, values: np.ndarray) -> np.ndarray:
        """(n + m, ...) values of vertices, for the parted mesh."""
        return np.concatenate([values, values[self.extra]]) if len(self.extra) else values


def crossed(corners: np.ndarray) -> np.ndarray:
    """(..., 3) normals of triangles (..., 3, 3), twice as long as they are large."""
    first = corners[..., 0, :]
    return np.cross(corners[..., 1, :] - first, corners[..., 2, :] - first)


class CutFrom(NamedTuple):
    """Of a mesh that was broken: the whole mesh; of each of its own triangles the triangle of the whole that it is a
    part of (t,), -1 for what was bared, where its corners are in that (t, 3, 3), and the cell (t,) that it is of; how
    far rough walls reach into one another's cells, m; the points that cells were cut around (s, 3) m."""

    whole: "Mesh"
    face: np.ndarray
    share: np.ndarray
    cell: np.ndarray
    swing: float = 0.0
    seeds: np.ndarray | None = None


class Mesh:
    """Points and faces. The arrays are never changed; derived values are made once.

    points       -- (n, 3) float64, metres
    face_counts  -- (f,) int32, corners of each face
    face_indices -- (sum of face_counts,) int32, vertex of each corner
    uv           -- (n, 2) float32 or None
    materials    -- a Material each; a pair (name, (r, g, b)) becomes one
    face_materials -- (f,) int32, which material each face has, or None
    pieces       -- (n,) int32, which piece each vertex belongs to where it was cut into pieces, or None
    corners      -- name -> (sum of face_counts, k) float32: what each corner of a face has by itself, as texture
                    coordinates ("uv", "uv1", ...) where they have seams, colours ("colour",
                    linear, with an opacity) or normals ("normal")
    vertices     -- name -> (n, k) float32: what vertices have of the same sorts, where it is one all round each
    faces        -- name -> (f, k) float32: what faces have, by any name
    cut_from     -- what it was before it was broken, or None
    """

    def __init__(
        self,
        points,
        face_counts,
        face_indices,
        uv=None,
        materials=(),
        face_materials=None,
        pieces=None,
        corners=None,
        cut_from=None,
        vertices=None,
        faces=None,
    ):
        self.points = np.ascontiguousarray(points, np.float64)
        self.face_counts = np.ascontiguousarray(face_counts, np.int32)
        self.face_indices = np.ascontiguousarray(face_indices, np.int32)
        self.uv = None if uv is None else np.ascontiguousarray(uv, np.float32)
        self.materials = tuple(m if type(m) is Material else Material(*m) for m in materials)
        self.face_materials = None if face_materials is None else np.ascontiguousarray(face_materials, np.int32)
        self.pieces = None if pieces is None else np.ascontiguousarray(pieces, np.int32)
        narrow = lambda held: {n: np.ascontiguousarray(v, np.float32) for n, v in (held or {}).items()}
        self.corners, self.vertices, self.faces = narrow(corners), narrow(vertices), narrow(faces)
        self.cut_from = cut_from

    def freeze(self) -> None:
        """Its arrays are kept elsewhere too, and must not change there."""
        own = (self.points, self.face_counts, self.face_indices, self.uv, self.face_materials)
        for array in (*own, *self.corners.values(), *self.vertices.values(), *self.faces.values()):
            if array is not None:
                array.flags.writeable = False

    @classmethod
    def from_triangles(cls, points, triangles, uv=None) -> "Mesh":
        triangles = np.asarray(triangles)
        return cls(points, np.full(len(triangles), 3), triangles.ravel(), uv)

    def with_points(self, points) -> "Mesh":
        """The same topology with other points; what is known of the topology stays known."""
        moved = Mesh(
            points,
            self.face_counts,
            self.face_indices,
            self.uv,
            self.materials,
            self.face_materials,
            self.pieces,
            self.corners,
            self.cut_from,
            self.vertices,
            self.faces,
        )
        for name in ("triangles", "triangle_faces", "_edge_uses", "islands", "_corners"):
            if name in self.__dict__:
                moved.__dict__[name] = self.__dict__[name]
        return moved

    def within(self, vertices: np.ndarray) -> np.ndarray:
        """(f,) bool, faces whose corners are all among these vertices (n,) bool."""
        corners = np.repeat(np.arange(len(self.face_counts)), self.face_counts)
        return np.bincount(corners, vertices[self.face_indices], len(self.face_counts)) == self.face_counts

    def only(self, vertices: np.ndarray, faces: np.ndarray | None = None) -> "Mesh":
        """The part of a mesh that has these vertices (n,) bool, with the faces within it, or with those faces (f,) bool
        of them."""
        corners = np.repeat(np.arange(len(self.face_counts)), self.face_counts)
        inside = self.within(vertices) if faces is None else faces
        number = np.cumsum(vertices) - 1
        pick = lambda values, chosen: None if values is None else values[chosen]
        return Mesh(
            self.points[vertices],
            self.face_counts[inside],
            number[self.face_indices[inside[corners]]],
            pick(self.uv, vertices),
            self.materials,
            pick(self.face_materials, inside),
            pick(self.pieces, vertices),
            {n: v[inside[corners]] for n, v in self.corners.items()},
            None,
            {n: v[vertices] for n, v in self.vertices.items()},
            {n: v[inside] for n, v in self.faces.items()},
        )

    def of_corners(self, name: str) -> np.ndarray | None:
        """(sum of face_counts, k) what corners have of a name, by themselves or by their vertices; None without it."""
        if name in self.corners:
            return self.corners[name]
        own = self.uv if name == "uv" else self.vertices.get(name)
        return None if own is None else own[self.face_indices]

    @cached_property
    def triangle_corners(self) -> np.ndarray:
        """(t, 3) which corner of a face each corner of a triangle is."""
        counts, face = self.face_counts, self.triangle_faces
        fans = counts - 2
        first = (np.cumsum(counts) - counts)[face]
        k = np.arange(len(face)) - np.repeat(np.cumsum(fans) - fans, fans)
        return np.stack([first, first + k + 1, first + k + 2], axis=1)

    @property
    def triangle_uv(self) -> np.ndarray | None:
        """(t, 3, 2) texture coordinates of each triangle's corners, with seams or without."""
        seams = self.corners.get("uv")
        if seams is not None:
            return seams[self.triangle_corners]
        return None if self.uv is None else self.uv[self.triangles]

    def parted(self) -> tuple["Mesh", np.ndarray | None]:
        """(a mesh whose vertices are parted where texture coordinates have seams or corners have normals of their own,
        which vertex each was), for files that have them by vertex; the mesh itself, and None, where there are none."""
        if not self.corners:
            return self, None
        return self.cached("parted", self._parted)

    def _parted(self):
        own = [self.corners[n].astype(np.float64) for n in sorted(self.corners)]
        rows = np.column_stack([self.face_indices.astype(np.float64), *own])
        unique, first, where = np.unique(rows, axis=0, return_index=True, return_inverse=True)
        origin = unique[:, 0].astype(np.int64)
        left = np.setdiff1d(np.arange(self.count), origin)  # what no face has stays
        uv = None if self.uv is None else self.uv[np.concatenate([origin, left])]
        if "uv" in self.corners:
            uv = np.concatenate([self.corners["uv"][first], np.zeros((len(left), 2))])
        origin = np.concatenate([origin, left])
        pieces = None if self.pieces is None else self.pieces[origin]
        rest = {n: v for n, v in self.corners.items() if n != "uv"}
        made = (self.face_counts, where.ravel(), uv, self.materials, self.face_materials, pieces, rest, None)
        return Mesh(self.points[origin], *made, {n: v[origin] for n, v in self.vertices.items()}, self.faces), origin

    @cached_property
    def by_vertex(self) -> dict[str, np.ndarray]:
        """Name -> (n, k) what vertices have, and corners by vertex: of a parted mesh, whose corners agree."""
        found = dict(self.vertices)
        for name, values in self.corners.items():
            found[name] = np.zeros((self.count, values.shape[1]), np.float32)
            found[name][self.face_indices] = values
        return found

    @property
    def rest_normals(self) -> np.ndarray:
        """(n, 3) unit normals of the vertices at rest: those that their corners have, or else those of the faces."""
        given = self.corners.get("normal")
        if given is None:
            return self.vertices["normal"].astype(float) if "normal" in self.vertices else self.normals()
        found = np.zeros((self.count, 3))
        found[self.face_indices] = given
        return found

    def check(self, what: str) -> None:
        """Raises EstampaError when the arrays do not make a mesh that can be worked on."""
        n = len(self.points)
        if self.points.ndim != 2 or self.points.shape[1:] != (3,) or n == 0:
            raise EstampaError(what, "has no points.", "Export it again with its geometry.")
        if not np.isfinite(self.points).all():
            bad = ~np.isfinite(self.points).all(axis=1)
            raise EstampaError(
                what,
                f"has {bad.sum()} point(s) that are not finite numbers (the first is vertex {int(np.argmax(bad))}).",
                "Repair those vertices where the mesh was made, then import again.",
            )
        if max(self.points.max(), -self.points.min()) > 1e9:
            raise EstampaError(
                what, "has points further than a million kilometres away.", "Check the file and its unit."
            )
        if len(self.face_counts) == 0:
            raise EstampaError(
                what, f"has {n} point(s) but no faces.", "Export it as a surface, not as points or curves."
            )
        if self.face_counts.min() < 3 or int(self.face_counts.sum()) != len(self.face_indices):
            raise EstampaError(what, "has a face with fewer than 3 corners.", "It may be cut short; export it again.")
        if self.face_indices.min() < 0 or self.face_indices.max() >= n:
            wrong = (self.face_indices < 0) | (self.face_indices >= n)
            face = int(np.searchsorted(np.cumsum(self.face_counts), int(np.argmax(wrong)), side="right"))
            raise EstampaError(
                what,
                f"has a face (number {face + 1}) that names vertex "
                f"{int(self.face_indices[np.argmax(wrong)]) + 1}, but there are only {n}.",
                "The file is cut short or damaged; export it again.",
            )
        if self.uv is not None and len(self.uv) != n:
            raise EstampaError(what, "has texture coordinates that do not match its points.", "Export it again.")

    @cached_property
    def rest(self) -> np.ndarray:
        """(n, 3) the points in an array that may be written to: kernels are compiled for one sort of array only."""
        return self.points.copy()

    @property
    def count(self) -> int:
        return len(self.points)

    @cached_property
    def triangles(self) -> np.ndarray:
        """(t, 3) int32: each face as a fan from its first corner."""
        counts = self.face_counts
        if (counts == 3).all():
            return self.face_indices.reshape(-1, 3).copy()
        firsts = np.cumsum(counts) - counts
        fans = counts - 2
        face = self.triangle_faces
        k = np.arange(len(face)) - np.repeat(np.cumsum(fans) - fans, fans)
        corner = firsts[face]
        columns = [self.face_indices[corner], self.face_indices[corner + k + 1], self.face_indices[corner + k + 2]]
        return np.ascontiguousarray(np.stack(columns, axis=1))

    @cached_property
    def triangle_faces(self) -> np.ndarray:
        """(t,) the face that each triangle is of."""
        return np.repeat(np.arange(len(self.face_counts)), self.face_counts - 2)

    @property
    def other_way_round(self) -> np.ndarray:
        """(corners,) which corner stands in the place of each when every face goes round the other way."""
        starts = np.repeat(np.cumsum(self.face_counts) - self.face_counts, self.face_counts)
        counts = np.repeat(self.face_counts, self.face_counts)
        return 2 * starts + counts - 1 - np.arange(len(self.face_indices))

    @property
    def _following(self) -> np.ndarray:
        """(corners,) the place of the next corner of the same face."""
        ends = np.cumsum(self.face_counts) - 1
        following = np.arange(1, len(self.face_indices) + 1)
        following[ends] = ends - self.face_counts + 1
        return following

    @cached_property
    def _edge_uses(self) -> tuple[np.ndarray, np.ndarray]:
        """(edges (e, 2) sorted and unique, how many faces use each)."""
        a, b = self.face_indices.astype(np.int64), self.face_indices[self._following].astype(np.int64)
        code = np.minimum(a, b) * self.count + np.maximum(a, b)
        code, uses = np.unique(code[a != b], return_counts=True)
        return np.stack([code // self.count, code % self.count], axis=1).astype(np.int32), uses

    @property
    def edges(self) -> np.ndarray:
        """(e, 2) int32: the edges of the faces, without the diagonals of the fans."""
        return self._edge_uses[0]

    @property
    def edge_uses(self) -> np.ndarray:
        """(e,) how many faces use each edge."""
        return self._edge_uses[1]

    def edge_number(self, a, b) -> np.ndarray:
        """Where the edges between vertices a and b stand in `edges`; they must be there."""
        a, b = np.asarray(a, np.int64), np.asarray(b, np.int64)
        e = self.edges.astype(np.int64)
        return np.searchsorted(e[:, 0] * self.count + e[:, 1], np.minimum(a, b) * self.count + np.maximum(a, b))

    @cached_property
    def _borders(self) -> tuple[np.ndarray, np.ndarray]:
        a, b = self.face_indices.astype(np.int64), self.face_indices[self._following].astype(np.int64)
        proper = np.flatnonzero(a != b)
        lone = proper[self.edge_uses[self.edge_number(a[proper], b[proper])] == 1]
        face = np.repeat(np.arange(len(self.face_counts)), self.face_counts)
        return np.stack([a[lone], b[lone]], axis=1), face[lone]

    @property
    def border(self) -> np.ndarray:
        """(b, 2) edges of one face alone, as that face goes along them."""
        return self._borders[0]

    @property
    def border_faces(self) -> np.ndarray:
        """(b,) the face of each border edge."""
        return self._borders[1]

    @property
    def open_edges(self) -> int:
        return int((self._edge_uses[1] == 1).sum())

    @property
    def crowded_edges(self) -> int:
        """Edges shared by more than two faces (non-manifold)."""
        return int((self._edge_uses[1] > 2).sum())

    @cached_property
    def islands(self) -> np.ndarray:
        """(n,) int32: which connected part each vertex belongs to, numbered from 0."""
        e = self.edges
        graph = coo_matrix((np.ones(len(e), np.int8), (e[:, 0], e[:, 1])), shape=(self.count, self.count))
        return connected_components(graph, directed=False)[1]

    @property
    def island_count(self) -> int:
        return int(self.islands.max()) + 1

    @cached_property
    def flat_faces(self) -> int:
        """Triangles of (nearly) zero area, judged against their longest side."""
        p = self.points[self.triangles]
        sides = p - np.roll(p, 1, axis=1)
        area2 = np.linalg.norm(np.cross(sides[:, 0], sides[:, 1]), axis=1)
        return int((area2 <= 1e-10 * (sides**2).sum(axis=2).max(axis=1)).sum())

    @cached_property
    def island_middles(self) -> np.ndarray:
        """(islands, 3) the mean of each island's vertices, metres."""
        sizes = np.bincount(self.islands, minlength=self.island_count).astype(float)
        sums = [np.bincount(self.islands, self.points[:, j], minlength=self.island_count) for j in range(3)]
        return np.stack(sums, axis=1) / sizes[:, None]

    @cached_property
    def bounds(self) -> tuple[np.ndarray, np.ndarray]:
        return self.points.min(axis=0), self.points.max(axis=0)

    @property
    def foot(self) -> np.ndarray:
        """(3,) the middle of its underside, where a grip that bends it begins."""
        low, high = self.bounds
        return np.array([(low[0] + high[0]) / 2, low[1], (low[2] + high[2]) / 2])

    @property
    def size(self) -> np.ndarray:
        low, high = self.bounds
        return high - low

    @cached_property
    def _corners(self) -> tuple[np.ndarray, np.ndarray]:
        """Triangles around each vertex as (start (n+1,), triangle ids)."""
        flat = self.triangles.ravel()
        start = np.zeros(self.count + 1, np.int64)
        np.cumsum(np.bincount(flat, minlength=self.count), out=start[1:])
        return start, (np.argsort(flat, kind="stable") // 3).astype(np.int32)

    def normals(self, points: np.ndarray | None = None) -> np.ndarray:
        """(n, 3) unit vertex normals, weighted by area; zero where no face has an area. (k, n, 3) for k shapes."""
        start, around = self._corners
        points = self.rest if points is None else points
        rows = np.ascontiguousarray(points).reshape(-1, self.count, 3)
        rows = rows if rows.flags.writeable else rows.copy()  # kernels are compiled for one sort of array only
        if len(rows) > 3:  # one thread a shape: no second pass over the faces
            return _normals_by_shape(rows, self.triangles).reshape(points.shape)
        return _vertex_normals(rows, self.triangles, start, around).reshape(points.shape)

    def cached(self, what, make, key=None):
        """Something that depends on this mesh (and on `key`) alone, made once and kept by the mesh itself, so that it
        goes when the mesh goes. Of each `what` only the latest key is kept."""
        made = self.__dict__.setdefault("_made", {})
        found = made.get(what)
        if found is None or found[0] != key:
            found = made[what] = (key, make())
        return found[1]

    def creased(self, angle: float) -> "Creased":
        """The mesh with vertices parted along edges that are bent more than `angle` (rad) at rest, for shading: each
        side then has a normal of its own. Made once for an angle."""
        return self.cached("creased", lambda: self._creased_at(angle), angle)

    def _creased_at(self, angle: float) -> "Creased":
        at, count = self.face_indices.astype(np.int64), len(self.face_indices)
        following = self._following
        owner = np.repeat(np.arange(len(self.face_counts)), self.face_counts)
        if angle >= np.pi:
            return Creased(np.zeros(0, np.int64), self)
        normals = self._face_normals(owner)
        a, b = at, at[following]
        code = np.minimum(a, b) * self.count + np.maximum(a, b)
        order = np.argsort(code, kind="stable")
        starts = np.flatnonzero(np.diff(code[order], prepend=-1))
        two = starts[np.diff(np.append(starts, count)) == 2]
        one, other = order[two], order[two + 1]
        # the sine is safe where two faces are all but level, the cosine is not
        bent = np.arctan2(
            np.linalg.norm(np.cross(normals[owner[one]], normals[owner[other]]), axis=1),
            (normals[owner[one]] * normals[owner[other]]).sum(axis=1),
        )
        smooth = bent <= angle + 1e-9
        one, other = one[smooth], other[smooth]
        same = at[one] == at[other]  # the two faces go along the edge the same way
        near, far = np.where(same, other, following[other]), np.where(same, following[other], other)
        pairs = np.concatenate([np.stack([one, near], axis=1), np.stack([following[one], far], axis=1)])
        graph = coo_matrix((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape=(count, count))
        group = connected_components(graph, directed=False)[1].astype(np.int64)
        # of the groups of corners at a vertex the first keeps its number, the others come behind all vertices
        groups, first_corner = np.unique(group, return_index=True)
        vertex = at[first_corner]
        order = np.lexsort((first_corner, vertex))
        number = np.empty(len(groups), np.int64)
        fresh = np.diff(vertex[order], prepend=-1) != 0
        number[order[fresh]] = vertex[order[fresh]]
        extra = order[~fresh]
        number[extra] = self.count + np.arange(len(extra))
        points = np.concatenate([self.points, self.points[vertex[extra]]])
        place = np.empty(int(groups.max(initial=-1)) + 1, np.int64)
        place[groups] = number
        return Creased(vertex[extra], Mesh(points, self.face_counts, place[group]))

    def _face_normals(self, owner: np.ndarray) -> np.ndarray:
        """(f, 3) unit normals, by area over each face's fan; zero where there is none."""
        p = self.points[self.triangles]
        each = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
        total = np.stack(
            [np.bincount(self.triangle_faces, each[:, j], minlength=len(self.face_counts)) for j in range(3)], axis=1
        )
        return total / np.maximum(np.linalg.norm(total, axis=1, keepdims=True), 1e-300)

    def welded(self, tolerance: float = 0.0) -> "Mesh":
        """The mesh with coincident points made one (an STL holds three points for every triangle).

        tolerance -- metres; points are matched on a grid of this step, and exactly when it is 0.
        """
        grid = np.round(self.points / tolerance) if tolerance > 0 else self.points + 0.0
        _, first, where = np.unique(grid, axis=0, return_index=True, return_inverse=True)
        order = np.argsort(np.argsort(first))  # keep the order in which points first appear
        keep = np.sort(first)
        indices = order[where.ravel()][self.face_indices]
        triangles_ok = np.repeat(self._faces_stay(indices), self.face_counts)
        counts = self.face_counts[self._faces_stay(indices)]
        stays = self._faces_stay(indices)
        kept = self.face_materials[stays] if self.face_materials is not None else None
        corners = {n: v[triangles_ok] for n, v in self.corners.items()}
        uv = self.uv[keep] if self.uv is not None else None
        if uv is not None and not np.array_equal(uv[indices], self.uv[self.face_indices]):
            # points that were apart for their texture coordinates alone: these become a seam
            corners["uv"], uv = self.uv[self.face_indices[triangles_ok]], None
        for name, values in self.vertices.items():  # as `uv`, to what corners have
            corners[name] = values[self.face_indices[triangles_ok]]
        own = {n: v[stays] for n, v in self.faces.items()}
        made = (self.points[keep], counts, indices[triangles_ok], uv, self.materials, kept, None, corners)
        return Mesh(*made, faces=own)

    @property
    def proper_faces(self) -> np.ndarray:
        """(f,) bool: faces whose neighbouring corners are different vertices."""
        return self._faces_stay(self.face_indices)

    def _faces_stay(self, indices: np.ndarray) -> np.ndarray:
        """Faces that still have distinct corners after their indices changed."""
        starts = np.cumsum(self.face_counts) - self.face_counts
        return np.logical_and.reduceat(indices != indices[self._following], starts)


@njit(parallel=True, cache=True, nogil=True)
def _vertex_normals(points, triangles, start, around):
    rows, n, count = points.shape[0], points.shape[1], len(triangles)
    normals = np.zeros((rows, n, 3))
    faces = np.empty((rows, count, 3))
    part = 2048
    parts = (count + part - 1) // part
    for at in prange(rows * parts):
        k = at // parts
        for t in range((at % parts) * part, min((at % parts) * part + part, count)):
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            px, py, pz = points[k, a, 0], points[k, a, 1], points[k, a, 2]
            ux, uy, uz = points[k, b, 0] - px, points[k, b, 1] - py, points[k, b, 2] - pz
            vx, vy, vz = points[k, c, 0] - px, points[k, c, 1] - py, points[k, c, 2] - pz
            faces[k, t, 0] = uy * vz - uz * vy
            faces[k, t, 1] = uz * vx - ux * vz
            faces[k, t, 2] = ux * vy - uy * vx
    parts = (n + part - 1) // part
    for at in prange(rows * parts):
        k = at // parts
        for i in range((at % parts) * part, min((at % parts) * part + part, n)):
            x = y = z = 0.0
            for m in range(start[i], start[i + 1]):
                t = around[m]
                x += faces[k, t, 0]
                y += faces[k, t, 1]
                z += faces[k, t, 2]
            length = np.sqrt(x * x + y * y + z * z)
            if length > 0:
                normals[k, i, 0], normals[k, i, 1], normals[k, i, 2] = x / length, y / length, z / length
    return normals


@njit(cache=True, nogil=True, inline="always")
def _add(normals, k, i, x, y, z):
    normals[k, i, 0] += x
    normals[k, i, 1] += y
    normals[k, i, 2] += z


@njit(parallel=True, cache=True, nogil=True, fastmath={"contract"})
def _normals_by_shape(points, triangles):
    rows, n = points.shape[0], points.shape[1]
    normals = np.zeros((rows, n, 3))
    for k in prange(rows):
        for t in range(len(triangles)):
            a, b, c = triangles[t, 0], triangles[t, 1], triangles[t, 2]
            px, py, pz = points[k, a, 0], points[k, a, 1], points[k, a, 2]
            ux, uy, uz = points[k, b, 0] - px, points[k, b, 1] - py, points[k, b, 2] - pz
            vx, vy, vz = points[k, c, 0] - px, points[k, c, 1] - py, points[k, c, 2] - pz
            x, y, z = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
            _add(normals, k, a, x, y, z)
            _add(normals, k, b, x, y, z)
            _add(normals, k, c, x, y, z)
        for i in range(n):
            x, y, z = normals[k, i, 0], normals[k, i, 1], normals[k, i, 2]
            per = 1 / max(np.sqrt(x * x + y * y + z * z), 1e-300)
            normals[k, i, 0], normals[k, i, 1], normals[k, i, 2] = x * per, y * per, z * per
    return normals
