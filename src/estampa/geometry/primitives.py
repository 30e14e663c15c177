"""Simple meshes, for demos, tests and first tries."""

import numpy as np

from .material import Material
from .mesh import Mesh
from .paths import Sampled


def sheet(width: float, depth: float, columns: int, rows: int) -> Mesh:
    """A flat sheet of quads in the XZ plane, facing +Y. Vertices run along X first.

    width, depth -- metres along X and Z; columns, rows -- vertices along X and Z.
    """
    x, z = np.meshgrid(np.linspace(0, width, columns), np.linspace(0, depth, rows))
    points = np.stack([x.ravel(), np.zeros(x.size), z.ravel()], axis=1)
    i = (np.arange(rows - 1)[:, None] * columns + np.arange(columns - 1)).ravel()
    quads = np.stack([i, i + columns, i + columns + 1, i + 1], axis=1)
    uv = np.stack([x.ravel() / width, z.ravel() / depth], axis=1)
    return Mesh(points, np.full(len(quads), 4), quads.ravel(), uv)


def joined(meshes: list[Mesh]) -> Mesh:
    """Several meshes as one; each stays an island."""
    offsets = np.cumsum([0] + [m.count for m in meshes[:-1]])
    seams = any("uv" in m.corners for m in meshes)
    uv = np.concatenate([m.uv for m in meshes]) if all(m.uv is not None for m in meshes) else None
    everywhere = lambda held: {n: [h[n] for h in held] for n in held[0] if all(n in h for h in held)}
    vertices, own = everywhere([m.vertices for m in meshes]), everywhere([m.faces for m in meshes])
    names = {n for m in meshes for n in (*m.corners, *m.vertices)} - {*vertices} | ({"uv"} if seams else set())
    corners = {n: [m.of_corners(n) for m in meshes] for n in sorted(names)}
    corners = {n: rows for n, rows in corners.items() if all(r is not None for r in rows)}
    materials = list(dict.fromkeys(m for mesh in meshes for m in mesh.materials))
    faces = None
    if all(mesh.face_materials is not None for mesh in meshes):
        where = [np.array([materials.index(m) for m in mesh.materials])[mesh.face_materials] for mesh in meshes]
        faces = np.concatenate(where)
    return Mesh(
        np.concatenate([m.points for m in meshes]),
        np.concatenate([m.face_counts for m in meshes]),
        np.concatenate([m.face_indices + o for m, o in zip(meshes, offsets, strict=True)]),
        uv,
        materials if faces is not None else (),
        faces,
        None,
        {n: np.concatenate(v) for n, v in corners.items()},
        None,
        {n: np.concatenate(v) for n, v in vertices.items()},
        {n: np.concatenate(v) for n, v in own.items()},
    )


def coloured(mesh: Mesh, name: str, colour: tuple[float, float, float], **more) -> Mesh:
    """The mesh with one material on all its faces. more -- see Material"""
    return Mesh(
        mesh.points,
        mesh.face_counts,
        mesh.face_indices,
        mesh.uv,
        [Material(name, colour, **more)],
        np.zeros(len(mesh.face_counts), np.int32),
        mesh.pieces,
        mesh.corners,
        None,
        mesh.vertices,
        mesh.faces,
    )


def tube(spine, radii, sides: int = 6, closed_ends: bool = True) -> Mesh:
    """A tube of quads round a line of points (m, 3), of radii (m,) metres; its ends are closed by one face each."""
    spine = np.asarray(spine, float)
    axes = Sampled(spine, smooth=False).at(
        np.concatenate([[0], np.cumsum(np.linalg.norm(np.diff(spine, axis=0), axis=1))])
    )[1]
    turn = 2 * np.pi * np.arange(sides) / sides
    round_ = np.cos(turn)[:, None, None] * axes[None, :, :, 0] + np.sin(turn)[:, None, None] * axes[None, :, :, 1]
    points = (spine + round_ * np.asarray(radii, float)[None, :, None]).transpose(1, 0, 2).reshape(-1, 3)
    rows = len(spine)
    i, j = np.meshgrid(np.arange(rows - 1), np.arange(sides), indexing="ij")
    a, b = i * sides + j, i * sides + (j + 1) % sides
    quads = np.stack([a, b, b + sides, a + sides], axis=-1).reshape(-1, 4)
    counts, indices = [np.full(len(quads), 4)], [quads.ravel()]
    if closed_ends:
        counts.append(np.full(2, sides))
        indices += [np.arange(sides)[::-1], (rows - 1) * sides + np.arange(sides)]
    return Mesh(points, np.concatenate(counts), np.concatenate(indices))


def ribbon(spine, widths, across) -> Mesh:
    """A strip of quads along a line of points (m, 3), of widths (m,) metres along a direction (3,)."""
    spine, half = np.asarray(spine, float), 0.5 * np.asarray(widths, float)[:, None] * np.asarray(across, float)
    points = np.stack([spine - half, spine, spine + half], axis=1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(len(spine) - 1), np.arange(2), indexing="ij")
    a = i * 3 + j
    quads = np.stack([a, a + 1, a + 4, a + 3], axis=-1).reshape(-1, 4)
    return Mesh(points, np.full(len(quads), 4), quads.ravel())


def disc(radius: float, rings: int = 4, sides: int = 24) -> Mesh:
    """A flat disc in the XZ plane, facing +Y: quads, with triangles about the middle."""
    turn = 2 * np.pi * np.arange(sides) / sides
    r = radius * np.arange(1, rings + 1) / rings
    circles = np.stack([np.outer(r, np.sin(turn)), np.zeros((rings, sides)), np.outer(r, np.cos(turn))], axis=-1)
    points = np.vstack([np.zeros((1, 3)), circles.reshape(-1, 3)])
    j = np.arange(sides)
    following = (j + 1) % sides
    fan = np.stack([np.zeros(sides, int), 1 + j, 1 + following], axis=1)
    quads = [
        np.stack(
            [1 + k * sides + j, 1 + (k + 1) * sides + j, 1 + (k + 1) * sides + following, 1 + k * sides + following], 1
        )
        for k in range(rings - 1)
    ]
    counts = np.concatenate([np.full(sides, 3), np.full(sides * (rings - 1), 4)])
    return Mesh(points, counts, np.concatenate([fan.ravel(), *[q.ravel() for q in quads]]))


def box(low, high) -> Mesh:
    """A box of six quads between two corners, with shared points."""
    corners = np.array([[x, y, z] for x in (0, 1) for y in (0, 1) for z in (0, 1)], float)
    quads = [[0, 1, 3, 2], [4, 6, 7, 5], [0, 4, 5, 1], [2, 3, 7, 6], [0, 2, 6, 4], [1, 5, 7, 3]]
    return Mesh(np.asarray(low, float) + corners * (np.asarray(high, float) - low), np.full(6, 4), np.ravel(quads))


def ring(radius: float, thick: float, segments: int = 48, sides: int = 8) -> Mesh:
    """A torus about the X axis."""
    a, b = np.meshgrid(2 * np.pi * np.arange(segments) / segments, 2 * np.pi * np.arange(sides) / sides, indexing="ij")
    away = radius + thick * np.cos(b)
    points = np.stack([thick * np.sin(b), away * np.cos(a), away * np.sin(a)], axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(segments), np.arange(sides), indexing="ij")
    at = lambda i, j: (i % segments) * sides + j % sides
    quads = np.stack([at(i, j), at(i + 1, j), at(i + 1, j + 1), at(i, j + 1)], axis=-1).reshape(-1, 4)
    return Mesh(points, np.full(len(quads), 4), quads.ravel())
