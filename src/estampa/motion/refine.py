"""Refine: a finer, smoother surface. Loop subdivision for triangles, Catmull-Clark for all other faces."""

import numpy as np
from scipy.sparse import coo_matrix, csr_matrix, identity, vstack

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..kinds.channels import choice, number, ref, switch, whole
from ..units import format_bytes
from .remesh import Counts, Plan, Remesh

MOST_FACES = 8_000_000


class Refine(Remesh):
    """Divides each face into four, again and again, and smooths towards a limit surface. It belongs last.

    C. Loop 1987, "Smooth subdivision surfaces based on triangles"; E. Catmull and J. Clark 1978, "Recursively
    generated B-spline surfaces on arbitrary topological meshes"; borders and creases after H. Biermann, A. Levin and
    D. Zorin 2000 (cubic B-spline curves), and DeRose, Kass and Truong 1998 for creases that soften level by level.
    """

    kind, title = "refine", "Refine"
    refines = True
    icon = "M8 2.5 L13.5 12.5 H2.5 Z M5.2 7.5 H10.8 L8 12.5 Z"
    group = "carry"

    levels = whole(
        1, "How often each face is divided; each makes four times the faces.", soft=(0, 4), hard=(0, 6), fixed=True
    )
    scheme = choice(
        "auto",
        "How it is divided.",
        {"auto": "By the faces", "loop": "Loop, for triangles", "clark": "Catmull-Clark, for quads"},
    )
    crease = number(
        0,
        "How sharp the creased edges are: they stay sharp for so many levels, then round off.",
        unit="factor",
        soft=(0, 6),
        hard=(0, 10),
        fixed=True,
    )
    map = ref(
        "map",
        "Edges between two vertices that weigh more than a half are creased; their weight scales it.",
        title="Crease map",
    )
    borders = switch(
        True,
        "Open borders keep their shape, and corners of one face stay where they are.",
        title="Keep borders",
        fixed=True,
    )

    @staticmethod
    def faces(mesh, v) -> int:
        """How many faces there will be."""
        if v["levels"] == 0:
            return len(mesh.face_counts)
        loop = by_loop(mesh, v)
        return (len(mesh.triangles) * 4 if loop else int(mesh.face_counts.sum())) * 4 ** (v["levels"] - 1)

    def counts(self, of, v):
        for level in range(v["levels"]):
            triangles = of.corners == 3 * of.faces
            if v["scheme"] == "loop" and not triangles and level == 0:  # cut into triangles first
                of = Counts(
                    of.vertices, of.edges + of.corners - 3 * of.faces, of.border, of.triangles, 3 * of.triangles
                )
                triangles = True
            if v["scheme"] == "loop" or (v["scheme"] == "auto" and triangles):
                edges = 2 * of.edges + 3 * of.faces
                of = Counts(of.vertices + of.edges, edges, 2 * of.border, 4 * of.faces, 12 * of.faces)
            else:
                vertices = of.vertices + of.edges + of.faces
                of = Counts(vertices, 2 * of.edges + of.corners, 2 * of.border, of.corners, 4 * of.corners)
        return of

    def plan(self, mesh, v, weights):
        if v["levels"] == 0:
            return Plan(mesh, identity(mesh.count, format="csr"))
        loop, faces = by_loop(mesh, v), self.faces(mesh, v)
        if faces > MOST_FACES:
            raise EstampaError(
                "Refine",
                f"would make {faces:,} faces, which take about {format_bytes(needs(faces))}.",
                f"At most {MOST_FACES:,} are made: lower its levels.",
            )
        if mesh.crowded_edges:
            raise EstampaError(
                "Refine",
                f"cannot smooth a mesh with {mesh.crowded_edges:,} edge(s) shared by more than two faces.",
                "Split the faces there where the mesh was made, or switch the layer off.",
            )
        if not mesh.proper_faces.all():
            raise EstampaError(
                "Refine",
                f"cannot divide {int((~mesh.proper_faces).sum()):,} face(s) that name a vertex twice.",
                "Merge them away where the mesh was made, or import it again with welding.",
            )
        sharp = None
        if v["crease"] > 0 and weights is not None:
            a, b = mesh.edges.T
            least = np.minimum(weights[a], weights[b])
            sharp = np.where(least > 0.5, v["crease"] * least, 0.0)
        carry = identity(mesh.count, format="csr")
        if loop and not (mesh.face_counts == 3).all():
            mesh = _in_triangles(mesh)
        for _ in range(v["levels"]):
            mesh, step, sharp = (loop_step if loop else clark_step)(mesh, sharp, v["borders"])
            carry = (step @ carry).tocsr()
        return Plan(mesh, carry)


def by_loop(mesh: Mesh, v) -> bool:
    return v["scheme"] == "loop" or (v["scheme"] == "auto" and (mesh.face_counts == 3).all())


def needs(faces: int) -> int:
    """About how many bytes refined faces take: points, normals, topology and the plan."""
    return faces * 300


def loop_step(mesh: Mesh, sharp=None, borders: bool = True):
    """(finer mesh, (m, n) matrix, sharpness of its edges) after one Loop subdivision of a mesh of triangles."""
    t, e, n = mesh.triangles.astype(np.int64), mesh.edges.astype(np.int64), mesh.count
    sides = [(t[:, i], t[:, (i + 1) % 3], t[:, (i + 2) % 3]) for i in range(3)]
    edge_of = [mesh.edge_number(a, b) for a, b, _ in sides]
    is_border, sharp = _sharpness(mesh, sharp)
    # a point on each edge: 3/8 of its ends and 1/8 of the corners across; on a sharp edge its middle
    inner = 1.0 - np.minimum(sharp, 1.0)
    rows, columns, values = [], [], []

    def put(row, column, value):
        rows.append(row), columns.append(column), values.append(value)

    number = np.arange(len(e))
    for end in range(2):
        put(n + number, e[:, end], 0.5 - 0.125 * inner)
    for (_, _, across), at in zip(sides, edge_of, strict=True):
        put(n + at, across, 0.125 * inner[at])
    # each old vertex: Loop's own weights, a cubic B-spline along sharp edges
    degree = np.bincount(e.ravel(), minlength=n).astype(float)
    beta = (0.625 - (0.375 + 0.25 * np.cos(2 * np.pi / np.maximum(degree, 1))) ** 2) / np.maximum(degree, 1)
    smooth, curve, corner = _vertex_rules(mesh, sharp, borders)
    put(np.arange(n), np.arange(n), smooth * (1 - degree * beta) + curve * 0.75 + corner)
    strong = np.minimum(sharp, 1.0) > 0
    for end in range(2):
        a, b = e[:, end], e[:, 1 - end]
        put(a, b, smooth[a] * beta[a] + np.where(strong, curve[a] * 0.125, 0.0))
    step = _matrix(rows, columns, values, n + len(e), n)
    m = [n + x for x in edge_of]
    quads = [(t[:, 0], m[0], m[2]), (t[:, 1], m[1], m[0]), (t[:, 2], m[2], m[1]), (m[0], m[1], m[2])]
    triangles = np.stack([np.stack(q, axis=1) for q in quads], axis=1).reshape(-1, 3)
    straight = _straight(mesh, e)
    uv = None if mesh.uv is None else straight @ mesh.uv
    kept = None if mesh.face_materials is None else np.repeat(mesh.face_materials, 4)
    made = (np.full(len(triangles), 3), triangles.ravel(), uv, mesh.materials, kept, None)
    own = {n: _loop_corners(v) for n, v in mesh.corners.items()}
    more = _more(mesh, lambda values: straight @ values, np.repeat(np.arange(len(t)), 4))
    finer = Mesh(step @ mesh.points, *made, own, None, *more)
    return finer, step, _halved(mesh, finer, e, sharp, is_border)


def clark_step(mesh: Mesh, sharp=None, borders: bool = True):
    """(finer mesh, (m, n) matrix, sharpness of its edges) after one Catmull-Clark subdivision."""
    e, n, f = mesh.edges.astype(np.int64), mesh.count, len(mesh.face_counts)
    counts, corners = mesh.face_counts.astype(np.int64), mesh.face_indices.astype(np.int64)
    face = np.repeat(np.arange(f), counts)
    following = np.arange(1, len(corners) + 1)
    ends = np.cumsum(counts) - 1
    following[ends] = ends - counts + 1
    edge = mesh.edge_number(corners, corners[following])
    is_border, sharp = _sharpness(mesh, sharp)
    to_face = csr_matrix((1 / counts[face], (face, corners)), shape=(f, n))
    # edge points: the mean of the ends and of the two face points; on a sharp edge the middle
    number, inner = np.arange(len(e)), 1.0 - np.minimum(sharp, 1.0)
    half = _matrix([number, number], [e[:, 0], e[:, 1]], [np.full(len(e), 0.5)] * 2, len(e), n)
    beside = csr_matrix((np.full(len(edge), 0.5), (edge, face)), shape=(len(e), f))
    scale = lambda values, matrix: csr_matrix(matrix.multiply(values[:, None]))
    to_edge = scale(1 - 0.5 * inner, half) + scale(0.5 * inner, beside @ to_face)
    # old vertices: (F + 2 R + (n - 3) P) / n, a cubic B-spline along sharp edges
    degree = np.bincount(e.ravel(), minlength=n).astype(float)
    used = np.bincount(corners, minlength=n).astype(float)
    of_vertex = csr_matrix((1 / np.maximum(used[corners], 1), (corners, face)), shape=(n, f))
    around = _matrix([e[:, 0], e[:, 1]], [number, number], [1 / degree[e[:, 0]], 1 / degree[e[:, 1]]], n, len(e))
    smooth, curve, corner = _vertex_rules(mesh, sharp, borders)
    share = smooth / np.maximum(degree, 1)
    to_vertex = scale(share, of_vertex @ to_face) + scale(2 * share, around @ half)
    own = share * np.maximum(degree - 3, -3) + curve * 0.75 + corner
    strong = np.minimum(sharp, 1.0) > 0
    rows, columns, values = [np.arange(n)], [np.arange(n)], [own]
    for end in range(2):
        a, b = e[strong, end], e[strong, 1 - end]
        rows.append(a), columns.append(b), values.append(curve[a] * 0.125)
    to_vertex = to_vertex + _matrix(rows, columns, values, n, n)
    step = vstack([to_vertex, to_edge, to_face]).tocsr()
    before = np.empty_like(edge)
    before[following] = edge
    quads = np.stack([corners, n + edge, n + len(e) + face, n + before], axis=1)
    level = lambda values: np.concatenate([values, half @ values, to_face @ values])
    uv = None
    if mesh.uv is not None:
        uv = level(mesh.uv)
    kept = None if mesh.face_materials is None else mesh.face_materials[face]
    own = {n: _clark_corners(v, following, counts) for n, v in mesh.corners.items()}
    made = (np.full(len(quads), 4), quads.ravel(), uv, mesh.materials, kept, None, own)
    finer = Mesh(step @ mesh.points, *made, None, *_more(mesh, level, face))
    return finer, step, _halved(mesh, finer, e, sharp, is_border)


def _sharpness(mesh, sharp):
    """(is a border (e,), sharpness (e,)): borders are as sharp as can be, since nothing lies across them."""
    is_border = mesh.edge_uses == 1
    sharp = np.zeros(len(is_border)) if sharp is None else sharp
    return is_border, np.where(is_border, 1e9, sharp)


def _vertex_rules(mesh, sharp, borders):
    """(smooth (n,), curve (n,), corner (n,)) shares of each vertex's rule; they sum to 1."""
    e, n = mesh.edges, mesh.count
    strong = sharp > 0
    count = np.bincount(e[strong].ravel(), minlength=n)
    mean = np.bincount(e.ravel(), np.repeat(np.minimum(sharp, 1.0), 2), minlength=n) / np.maximum(count, 1)
    share = np.minimum(mean, 1.0)
    corner = np.where(count > 2, share, 0.0)
    if borders:  # the corner of a single face stays, so that a sheet keeps its corners
        faces = np.bincount(mesh.face_indices, minlength=n)
        lone = (faces == 1) & (count == 2)
        corner = np.where(lone, 1.0, corner)
    curve = np.where((count == 2) & (corner == 0), share, 0.0)
    loose = np.bincount(e.ravel(), minlength=n) == 0
    corner = np.where(loose, 1.0, corner)
    return 1.0 - curve - corner, curve, corner


def _halved(mesh, finer, e, sharp, is_border):
    """Sharpness of the finer edges: one less on the halves of a crease, nothing elsewhere."""
    left = np.where(is_border, 0.0, np.maximum(sharp - 1, 0.0))
    result = np.zeros(len(finer.edges))
    creased = np.flatnonzero(left)
    for end in range(2):
        result[finer.edge_number(e[creased, end], mesh.count + creased)] = left[creased]
    return result


def _in_triangles(mesh) -> Mesh:
    """The faces as fans of triangles, with all that they have."""
    kept = None if mesh.face_materials is None else mesh.face_materials[mesh.triangle_faces]
    corners = {n: v[mesh.triangle_corners.ravel()] for n, v in mesh.corners.items()}
    counts = np.full(len(mesh.triangles), 3)
    return Mesh(mesh.points, counts, mesh.triangles.ravel(), mesh.uv, mesh.materials, kept, mesh.pieces, corners,
                None, *_more(mesh, lambda values: values, mesh.triangle_faces))  # fmt: skip


def _more(mesh, level, face) -> tuple[dict, dict]:
    """What vertices and faces have, of a finer mesh: `level` spreads what vertices have, `face` tells which face each
    finer one was."""
    own = {n: level(values) for n, values in mesh.vertices.items()}
    if "normal" in own:
        own["normal"] /= np.maximum(np.linalg.norm(own["normal"], axis=1, keepdims=True), 1e-12)
    return own, {n: values[face] for n, values in mesh.faces.items()}


def _loop_corners(values) -> np.ndarray:
    """What corners of triangles have, halved along the sides as `loop_step` divides them."""
    v = values.reshape(-1, 3, values.shape[1])
    m = 0.5 * (v + v[:, [1, 2, 0]])
    parts = [(v[:, 0], m[:, 0], m[:, 2]), (v[:, 1], m[:, 1], m[:, 0]), (v[:, 2], m[:, 2], m[:, 1])]
    parts.append((m[:, 0], m[:, 1], m[:, 2]))
    return np.stack([np.stack(p, axis=1) for p in parts], axis=1).reshape(-1, values.shape[1])


def _clark_corners(values, following, counts) -> np.ndarray:
    """What corners have, as `clark_step` divides their faces: itself, half-way on, the middle, half-way back."""
    starts = np.cumsum(counts) - counts
    middle = np.repeat(np.add.reduceat(values, starts, axis=0) / counts[:, None], counts, axis=0)
    on = 0.5 * (values + values[following])
    back = np.empty_like(on)
    back[following] = on
    return np.stack([values, on, middle, back], axis=1).reshape(-1, values.shape[1])


def _straight(mesh, e):
    """(n + e, n) plain halving, for texture coordinates."""
    n, k = mesh.count, np.arange(len(e))
    rows, columns = [np.arange(n), n + k, n + k], [np.arange(n), e[:, 0], e[:, 1]]
    return _matrix(rows, columns, [np.ones(n), np.full(len(e), 0.5), np.full(len(e), 0.5)], n + len(e), n)


def _matrix(rows, columns, values, height, width) -> csr_matrix:
    values = np.concatenate([np.broadcast_to(v, np.shape(r)) for r, v in zip(rows, values, strict=True)])
    return coo_matrix((values, (np.concatenate(rows), np.concatenate(columns))), shape=(height, width)).tocsr()
