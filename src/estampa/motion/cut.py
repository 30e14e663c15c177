"""Cut into pieces: faces of one sort part from those of another, and each part can move by itself."""

import numpy as np
from scipy.sparse import csr_matrix

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..kinds.channels import choice, ref, switch
from .remesh import Counts, Plan, Remesh


class Cut(Remesh):
    """Parts a mesh by material, or by a weight map, so that a body can take each piece by itself.

    Nothing moves yet, and no surface is closed: where pieces part, each keeps the points of the cut.

    It belongs after Thicken and Refine, and above a Body whose bodies are “each of its pieces”.
    """

    kind, title = "cut", "Cut into pieces"
    parts_mesh = True
    icon = "M3 4 H7 V12 H3 Z M9 3.5 H13 V11.5 H9 Z M8 1.5 V14.5"
    group = "carry"
    rank = 40

    by = choice(
        "materials",
        "What parts the faces.",
        {"materials": "Material", "map": "A weight map: faces with half or more, and the rest"},
    )
    map = ref("map", "The weight map that parts them.", title="Weight map", when=(("by", ("map",)),), fixed=True)
    loose = switch(
        True, "Parts that do not hang together are pieces of their own.", title="Loose parts too", fixed=True
    )

    def plan(self, mesh, v, weights):
        faces = len(mesh.face_counts)
        corner_face = np.repeat(np.arange(faces), mesh.face_counts)
        if v["by"] == "map":
            if weights is None:
                raise EstampaError("It", "has no weight map to part the mesh by.", "Choose one under “Weight map”.")
            mean = np.bincount(corner_face, weights[mesh.face_indices], faces) / mesh.face_counts
            sort = (mean >= 0.5).astype(np.int64)
        elif mesh.face_materials is None:
            sort = np.zeros(faces, np.int64)
        else:
            sort = mesh.face_materials.astype(np.int64)
        # a vertex for each sort of face that meets there
        pairs = sort[corner_face] * mesh.count + mesh.face_indices
        unique, corners = np.unique(pairs, return_inverse=True)
        old = unique % mesh.count
        count = len(unique)
        carry = csr_matrix((np.ones(count), (np.arange(count), old)), shape=(count, mesh.count))
        parts = (
            mesh.face_counts,
            corners,
            None if mesh.uv is None else mesh.uv[old],
            mesh.materials,
            mesh.face_materials,
        )
        made = Mesh(mesh.points[old], *parts)
        pieces = made.islands if v["loose"] else unique // mesh.count
        pieces = np.unique(pieces, return_inverse=True)[1]
        own = {n: values[old] for n, values in mesh.vertices.items()}
        return Plan(Mesh(made.points, *parts, pieces, mesh.corners, None, own, mesh.faces), carry)

    def counts(self, of, v):
        return Counts(of.vertices, of.edges, of.border, of.faces, of.corners)  # but for the few along the cuts
