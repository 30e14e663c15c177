"""Pieces: parts of a mesh that move as wholes, each with an origin and with mass properties."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import csr_matrix

from .mesh import Mesh
from .place import Place

CORNERS = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)])


def corners_of(low: np.ndarray, high: np.ndarray) -> np.ndarray:
    """(8, 3) of a box between two corners."""
    return np.stack([low, high])[CORNERS, np.arange(3)]


@dataclass(frozen=True, eq=False)
class Pieces:
    """Which piece each vertex of a mesh belongs to; pieces are numbered from 0, without gaps."""

    mesh: Mesh
    of_vertex: np.ndarray  # (n,) int

    @classmethod
    def whole(cls, mesh: Mesh) -> "Pieces":
        return mesh.cached("pieces whole", lambda: cls(mesh, np.zeros(mesh.count, np.int64)))

    @classmethod
    def each(cls, mesh: Mesh) -> "Pieces":
        """The pieces that the mesh was cut into, or else its islands."""

        def make():
            of = mesh.islands if mesh.pieces is None else mesh.pieces
            return cls(mesh, np.unique(of, return_inverse=True)[1].astype(np.int64))

        return mesh.cached("pieces each", make)

    @property
    def count(self) -> int:
        return int(self.of_vertex.max(initial=-1)) + 1

    @cached_property
    def vertices(self) -> list[np.ndarray]:
        """The vertices of each piece."""
        order = np.argsort(self.of_vertex, kind="stable")
        return np.split(order, np.cumsum(np.bincount(self.of_vertex, minlength=self.count))[:-1])

    @cached_property
    def triangles(self) -> list[np.ndarray]:
        """(t, 3) of each piece, as vertices of the mesh."""
        of = self.of_vertex[self.mesh.triangles[:, 0]]
        order = np.argsort(of, kind="stable")
        return np.split(self.mesh.triangles[order], np.cumsum(np.bincount(of, minlength=self.count))[:-1])

    @cached_property
    def number(self) -> np.ndarray:
        """(n,) which vertex of its piece each vertex is, in the order of `vertices`."""
        found = np.empty(self.mesh.count, np.int64)
        for own in self.vertices:
            found[own] = np.arange(len(own))
        return found

    def middles(self, points: np.ndarray) -> np.ndarray:
        """(k, p, 3) m, the mean of each piece's vertices, of points (k, n, 3)."""
        sums = self.gathered
        return np.stack([sums @ row for row in points])

    def means(self, values: np.ndarray) -> np.ndarray:
        """(p,) the mean over each piece of what its vertices (n,) have."""
        return self.gathered @ values.astype(float)

    def turns(self, first: np.ndarray, now: np.ndarray) -> np.ndarray:
        """(p, 3, 3) axes of the turn of each piece that best takes its points (n, 3) m at first to those now (Kabsch
        1976)."""
        a, b = (x - self.middles(x[None])[0][self.of_vertex] for x in (first, now))
        spread = self.gathered @ (a[:, :, None] * b[:, None, :]).reshape(-1, 9)
        u, _, vt = np.linalg.svd(spread.reshape(-1, 3, 3))
        axes = vt.transpose(0, 2, 1) @ u.transpose(0, 2, 1)
        sign = np.where(np.linalg.det(axes) < 0, -1.0, 1.0)
        vt[:, 2] *= sign[:, None]
        return vt.transpose(0, 2, 1) @ u.transpose(0, 2, 1)

    def since(self, first: np.ndarray, now: np.ndarray) -> tuple[Place, np.ndarray]:
        """((p) what brings each piece from its middle where its points (n, 3) m were at first to where they are now, by
        the nearest turn and its mean size; those middles (p, 3) m)."""
        home, middle = self.middles(np.stack([first, now]))
        size = self.spreads(now, middle) / np.maximum(self.spreads(first, home), 1e-300)
        return Place(middle, self.turns(first, now), size), home

    def spreads(self, points: np.ndarray, middles: np.ndarray) -> np.ndarray:
        """(p,) m, how far the vertices of each piece are from its middle (p, 3), root mean square."""
        return np.sqrt(self.gathered @ ((points - middles[self.of_vertex]) ** 2).sum(axis=1))

    @cached_property
    def gathered(self):
        """(p, n) sparse: rows that take the mean over each piece."""
        share = 1 / np.maximum(np.bincount(self.of_vertex, minlength=self.count), 1)
        n = len(self.of_vertex)
        return csr_matrix((share[self.of_vertex], (self.of_vertex, np.arange(n))), shape=(self.count, n))

    @cached_property
    def sizes(self) -> np.ndarray:
        """(p,) m, half the diagonal of the box around each piece at rest."""
        low, high = self.boxes(self.mesh.points)
        return np.linalg.norm(high - low, axis=1) / 2

    def boxes(self, points: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """((p, 3) lowest, (p, 3) highest) m of the box around each piece."""
        order = np.argsort(self.of_vertex, kind="stable")
        starts = np.cumsum(np.bincount(self.of_vertex, minlength=self.count))[:-1]
        starts = np.concatenate([[0], starts])
        return np.minimum.reduceat(points[order], starts), np.maximum.reduceat(points[order], starts)

    def corners(self, points: np.ndarray) -> np.ndarray:
        """(p, 8, 3) of the box around each piece."""
        return np.stack([corners_of(*box) for box in zip(*self.boxes(points), strict=True)])

    def origins(self, points: np.ndarray, which: str = "middle") -> np.ndarray:
        """(p, 3) of each piece's middle (of its bounds), or the middle of its lowest points ("lowest")."""
        found = np.empty((self.count, 3))
        for i, own in enumerate(self.vertices):
            p = points[own]
            low, high = p.min(axis=0), p.max(axis=0)
            found[i] = (low + high) / 2
            if which == "lowest":
                found[i, 1] = low[1]
        return found

    def masses(self, points: np.ndarray, heavier: np.ndarray | None = None) -> list["Mass"]:
        """Of each piece, at a density of 1 kg/m3; heavier (n,) multiplies that of islands by its mean over them."""
        if heavier is None:
            return [mass_of(points, t, own) for t, own in zip(self.triangles, self.vertices, strict=True)]
        found, islands = [], self.mesh.islands
        for triangles, own in zip(self.triangles, self.vertices, strict=True):
            parts = []
            for island in np.unique(islands[own]):
                mine = own[islands[own] == island]
                part = mass_of(points, triangles[islands[triangles[:, 0]] == island], mine)
                parts.append((part, float(heavier[mine].mean())))
            found.append(together(parts))
        return found


@dataclass(frozen=True)
class Mass:
    """Mass properties at a density of 1 kg/m3.

    volume -- m3; centre (3,) m; inertia (3, 3) m5 about the centre; closed -- whether the surface holds a volume, or
    one was taken instead: that of the box around it, for a surface that is open, flat or inside out in places
    """

    volume: float
    centre: np.ndarray
    inertia: np.ndarray
    closed: bool


def together(parts: list[tuple[Mass, float]]) -> Mass:
    """Several masses, each so many times as dense, as one (parallel axes: Steiner). Its volume is that which has the
    mass at 1 kg/m3."""
    total = sum(m.volume * times for m, times in parts)
    centre = sum(m.volume * times * m.centre for m, times in parts) / total
    inertia = np.zeros((3, 3))
    for m, times in parts:
        arm = m.centre - centre
        inertia += times * (m.inertia + m.volume * (arm @ arm * np.eye(3) - np.outer(arm, arm)))
    return Mass(total, centre, inertia, all(m.closed for m, _ in parts))


def mass_of(points: np.ndarray, triangles: np.ndarray, own: np.ndarray | None = None) -> Mass:
    """Of a closed surface by the divergence theorem (Tonon 2004, "Explicit exact formulas for the 3-D tetrahedron
    inertia tensor in terms of its vertex coordinates"); of an open one that of the box around it.

    points (n, 3) m; triangles (t, 3); own -- the vertices that count for the box, where not all do
    """
    own = np.unique(triangles) if own is None else own
    low, high = points[own].min(axis=0), points[own].max(axis=0)
    middle, size = (low + high) / 2, high - low
    a, b, c = (points[triangles[:, k]] - middle for k in range(3))
    six = np.einsum("ij,ij->i", a, np.cross(b, c))  # six times the volume of each tetrahedron with the middle
    volume = six.sum() / 6
    boxed = float(np.prod(size))
    if is_closed(triangles) and volume > 1e-6 * max(boxed, 1e-300):
        centre = (six[:, None] * (a + b + c)).sum(axis=0) / 24 / volume
        total = a + b + c
        spread = lambda p: np.einsum("i,ij,ik->jk", six, p, p)
        second = (spread(total) + spread(a) + spread(b) + spread(c)) / 120
        second -= volume * np.outer(centre, centre)
        inertia = np.trace(second) * np.eye(3) - second
        return Mass(float(volume), middle + centre, inertia, True)
    size = np.maximum(size, 0.02 * size.max(initial=0.0))  # a sheet has a thickness of a fiftieth
    volume = float(np.prod(size))
    x, y, z = size**2
    inertia = np.diag([y + z, x + z, x + y]) * volume / 12
    return Mass(volume, middle, inertia, False)


def volumes_of(points: np.ndarray, triangles: np.ndarray, of: np.ndarray, count: int) -> np.ndarray:
    """(count,) m3 of closed parts, of which each triangle is of one (t,)."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return np.bincount(of, np.einsum("ij,ij->i", a, np.cross(b, c)), count) / 6


def volume_of(points: np.ndarray, triangles: np.ndarray) -> float:
    """m3, signed: positive where triangles go round counter-clockwise seen from outside."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->", a, np.cross(b, c))) / 6


def is_closed(triangles: np.ndarray) -> bool:
    """Whether every side is used once each way."""
    if not len(triangles):
        return False
    a = triangles[:, [0, 1, 2]].ravel().astype(np.int64)
    b = triangles[:, [1, 2, 0]].ravel().astype(np.int64)
    base = int(triangles.max()) + 1
    there, back = np.sort(a * base + b), np.sort(b * base + a)
    return bool(np.array_equal(there, back) and (np.diff(there) > 0).all())
