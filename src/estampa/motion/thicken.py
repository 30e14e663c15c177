"""Thicken: give a sheet two sides and an edge."""

import numpy as np
from scipy.sparse import csr_matrix

from ..geometry.mesh import Mesh
from ..kinds.channels import number, switch
from .remesh import Counts, Plan, Remesh


class Thicken(Remesh):
    """Makes a second side along the normals, and closes the borders between the two. It belongs before Refine."""

    kind, title = "thicken", "Thicken"
    closes = True
    icon = "M2.5 6.5 L8 4 L13.5 6.5 L8 9 Z M2.5 6.5 V9.5 L8 12 L13.5 9.5 V6.5 M8 9 V12"
    group = "carry"

    thickness = number(0.02, "Distance between the two sides.", unit="m", soft=(0, 0.2), suits=("largest", 1 / 60))
    middle = number(
        0,
        "Where the old surface lies: 0 is the outer side, 0.5 the middle, 1 the inner side.",
        unit="factor",
        soft=(0, 1),
    )
    edges = switch(True, "Close the borders between the sides.", title="Close borders", fixed=True)

    def plan(self, mesh, v, weights):
        n = mesh.count
        twice = np.concatenate([np.arange(n), np.arange(n)])
        carry = csr_matrix((np.ones(2 * n), (np.arange(2 * n), twice)), shape=(2 * n, n))
        counts, indices = mesh.face_counts, mesh.face_indices
        starts = np.cumsum(counts) - counts
        back = mesh.other_way_round  # as the inner side runs
        parts, sizes = [indices, indices[back] + n], [counts, counts]
        corners = [np.arange(len(indices)), back]  # which old corner each new one is
        faces = [np.arange(len(counts))] * 2
        if v["edges"] and len(mesh.border):
            a, b = mesh.border.T
            parts.append(np.stack([b, a, a + n, b + n], axis=1).ravel())
            at_a, at_b = (_corner_of(mesh, starts, mesh.border_faces, v) for v in (a, b))
            corners.append(np.stack([at_b, at_a, at_a, at_b], axis=1).ravel())
            sizes.append(np.full(len(a), 4))
            faces.append(mesh.border_faces)
        of = np.concatenate(faces)  # which old face each new one is
        made = Mesh(
            carry @ mesh.points,
            np.concatenate(sizes),
            np.concatenate(parts),
            None if mesh.uv is None else np.concatenate([mesh.uv, mesh.uv]),
            mesh.materials,
            None if mesh.face_materials is None else mesh.face_materials[of],
            None if mesh.pieces is None else np.concatenate([mesh.pieces, mesh.pieces]),
            {name: values[np.concatenate(corners)] for name, values in mesh.corners.items()},
            None,
            {name: np.concatenate([values, -values if name == "normal" else values])
             for name, values in mesh.vertices.items()},
            {name: values[of] for name, values in mesh.faces.items()},
        )  # fmt: skip
        return Plan(made, carry)

    def counts(self, of, v):
        rim = of.border if v["edges"] else 0
        edges = 2 * of.edges + rim  # each border vertex gets an edge across, as many as there are border edges
        return Counts(2 * of.vertices, edges, 0 if rim else 2 * of.border, 2 * of.faces + rim, 2 * of.corners + 4 * rim)

    def apply(self, points, plan, v, now):
        normals = now.mesh.normals(points) * v.thickness[:, None, None]
        middle = v.middle[:, None, None]
        return np.concatenate([points + normals * middle, points + normals * (middle - 1)], axis=1)


def _corner_of(mesh, starts, faces, vertices) -> np.ndarray:
    """The corner of each of these faces that is at a vertex of its own."""
    corner = np.repeat(np.arange(len(mesh.face_counts)), mesh.face_counts)
    codes = corner.astype(np.int64) * mesh.count + mesh.face_indices
    order = np.argsort(codes, kind="stable")
    wanted = faces.astype(np.int64) * mesh.count + vertices
    return order[np.searchsorted(codes[order], wanted)]
