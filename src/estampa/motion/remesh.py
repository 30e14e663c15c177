"""What a layer is that changes the topology: it plans once for a mesh, then carries points through the plan."""

from dataclasses import dataclass

import numpy as np
from scipy.sparse import csr_matrix

from ..geometry.mesh import Mesh
from .layer import Layer


@dataclass(frozen=True)
class Counts:
    """How large a mesh is, without the mesh."""

    vertices: int
    edges: int
    border: int  # edges of one face
    faces: int
    corners: int  # of all faces

    @classmethod
    def of(cls, mesh: Mesh) -> "Counts":
        return cls(mesh.count, len(mesh.edges), mesh.open_edges, len(mesh.face_counts), int(mesh.face_counts.sum()))

    @property
    def triangles(self) -> int:
        return self.corners - 2 * self.faces


@dataclass(frozen=True)
class Plan:
    """A new topology, and how each of its vertices is made from the old ones: rows of `carry` sum to 1."""

    mesh: Mesh  # with the rest points carried through
    carry: csr_matrix  # (m, n)
    beside: np.ndarray | None = None  # (m, 3) m, how far vertices are from what `carry` makes of the rest

    def carried(self, values: np.ndarray) -> np.ndarray:
        """(m, ...) of what was (n, ...): weights, texture coordinates, points."""
        return self.carry @ values

    def shaped(self, points: np.ndarray) -> np.ndarray:
        """(m, 3) where the vertices are when the old ones are at (n, 3)."""
        return self.carried(points) if self.beside is None else self.carried(points) + self.beside


class Remesh(Layer):
    """Base of the layers that change topology. Their channels that decide it are fixed, so it is planned once."""

    remeshes = True

    def plan(self, mesh: Mesh, v: dict, weights: np.ndarray | None) -> Plan:
        """The plan for a mesh, from the fixed channels and the weights of the channel `map` (n,), if it has one.

        Raises EstampaError when the mesh cannot be worked on.
        """
        raise NotImplementedError

    def work(self, mesh: Mesh, v: dict, weights: np.ndarray | None, on_progress=None) -> dict[str, np.ndarray]:
        """Of a slow one: arrays that the plan is made from, which are kept. `plan` is given them as its last argument.
        told(share) is called now and then; it may raise Cancelled."""
        raise NotImplementedError

    def counts(self, of: Counts, v: dict) -> Counts:
        """How large the new topology will be, without planning it."""
        raise NotImplementedError

    def apply(self, points, plan: Plan, v, now) -> np.ndarray:
        """(k, m, 3) points of the new topology from (k, n, 3) ones. `now.mesh` is the old topology."""
        return np.stack([plan.shaped(row) for row in points])
