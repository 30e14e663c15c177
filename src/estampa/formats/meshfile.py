"""Meshes in: OBJ, PLY, STL, GLB and glTF.

OBJ and PLY keep their polygons. STL has no shared points until they are welded. From glTF come all triangle
meshes of the scene with their node transforms applied; skins and animation are left out.
"""

import io
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..units import IMPORT_UNITS
from . import bounds
from .obj import read_obj

SUFFIXES = (".obj", ".ply", ".stl", ".glb", ".gltf")
LIKELY_UNIT = {".stl": "mm"}  # common practice, no source: 3-D printing works in millimetres


def read_mesh(
    path: str | Path,
    unit: str | None = None,
    weld: bool | None = None,
    up: str = "y",
    progress=lambda share, text: None,
) -> Mesh:
    """Read a mesh file as metres with +Y up.

    unit -- what one unit of the file is (m, cm, mm, in, ft); by default mm for STL, m for the others
    weld -- make coincident points one; by default for STL alone, which has three points for every triangle
    up   -- the file's upward axis, "y" or "z"
    progress(share, text) may raise Cancelled. Raises EstampaError that names the file and its trouble.
    """
    path = Path(path)
    suffix, what = path.suffix.lower(), path.name
    if suffix not in SUFFIXES:
        raise EstampaError(
            what, f"is no mesh file that can be read (“{suffix or 'no ending'}”).", "Export it as OBJ, PLY, STL or GLB."
        )
    data = bounds.read_bytes(path)
    progress(0.02, "Reading")
    try:
        if suffix == ".obj":
            mesh = read_obj(what, data, progress, path.parent)
        elif suffix == ".ply":
            bounds.check_ply(what, data)
            mesh = _read_ply(data)
        else:
            if suffix != ".stl":
                bounds.check_gltf(path, data)
            mesh = _read_with_trimesh(path, data, suffix)
    except EstampaError:
        raise
    except MemoryError:
        raise EstampaError(what, "needs more memory than there is.", "Export a lighter mesh.") from None
    except Exception as err:  # a damaged file can fail anywhere in a reader
        if type(err).__name__ == "Cancelled":
            raise
        raise EstampaError(what, "cannot be read; it is cut short or damaged.", "Export it again.", repr(err)) from err
    progress(0.7, "Checking")
    mesh.check(what)
    mesh = in_metres(mesh, unit or LIKELY_UNIT.get(suffix, "m"), up)
    if suffix == ".stl" if weld is None else weld:
        progress(0.8, "Welding")
        mesh = mesh.welded()
    progress(1.0, "Read")
    return mesh


def in_metres(mesh: Mesh, unit: str, up: str) -> Mesh:
    """The mesh with its numbers read as `unit` and its `up` axis turned to +Y."""
    points = mesh.points * IMPORT_UNITS[unit]
    if up == "z":
        points = points[:, [0, 2, 1]] * [1, 1, -1]
    return mesh.with_points(points)


def _read_ply(data: bytes) -> Mesh:
    from plyfile import PlyData

    ply = PlyData.read(io.BytesIO(data))
    vertex = ply["vertex"]
    points = np.stack([np.asarray(vertex[a], np.float64) for a in "xyz"], axis=1)
    names = [p.name for p in vertex.properties]
    pair = next(
        (p for p in (("u", "v"), ("s", "t"), ("texture_u", "texture_v")) if p[0] in names and p[1] in names), None
    )
    uv = np.stack([vertex[pair[0]], vertex[pair[1]]], axis=1) if pair else None
    if "face" not in ply or ply["face"].count == 0:
        return Mesh(points, [], [], uv)
    face = ply["face"]
    lists = face[next(p.name for p in face.properties if p.name in ("vertex_indices", "vertex_index"))]
    counts = np.fromiter((len(f) for f in lists), np.int32, len(lists))
    return Mesh(points, counts, np.concatenate(list(lists)), uv)


def _read_with_trimesh(path: Path, data: bytes, suffix: str) -> Mesh:
    import trimesh

    if suffix == ".gltf":  # its buffers may stand beside it
        scene = trimesh.load_scene(path, process=False, merge_primitives=False)
    else:
        scene = trimesh.load_scene(io.BytesIO(data), file_type=suffix[1:], process=False)
    points, faces, uvs, materials, of, count = [], [], [], [], [], 0
    for node in scene.graph.nodes_geometry:
        transform, name = scene.graph[node]
        found = scene.geometry[name]
        if not hasattr(found, "faces"):
            continue
        points.append(trimesh.transform_points(found.vertices, transform))
        mirrored = np.linalg.det(transform[:3, :3]) < 0
        faces.append((found.faces[:, ::-1] if mirrored else found.faces) + count)
        uv = getattr(found.visual, "uv", None)
        uvs.append(uv if uv is not None and len(uv) == len(found.vertices) else None)
        count += len(found.vertices)
        material = _material(found, name)
        if material not in materials:
            materials.append(material)
        of.append(np.full(len(found.faces), materials.index(material), np.int32))
    if not points:
        raise EstampaError(path.name, "holds no surface.", "Export it as a mesh, not as points or curves.")
    uv = np.concatenate(uvs) if all(u is not None for u in uvs) else None
    triangles = np.concatenate(faces)
    counts = np.full(len(triangles), 3)
    if suffix == ".stl":
        return Mesh(np.concatenate(points), counts, triangles.ravel(), uv)
    return Mesh(np.concatenate(points), counts, triangles.ravel(), uv, materials, np.concatenate(of))


def _material(found, name: str) -> tuple[str, tuple[float, float, float]]:
    """(name, linear colour) of a mesh's material."""
    material = getattr(found.visual, "material", None)
    colour = getattr(material, "baseColorFactor", None)
    rgb = (0.6, 0.57, 0.5)
    if colour is not None:
        values = np.asarray(colour, float)[:3]
        values = values / 255 if np.asarray(colour).dtype == np.uint8 else values
        if values.shape == (3,) and np.isfinite(values).all():
            rgb = tuple(float(v) for v in np.clip(values, 0, 1))
    return str(getattr(material, "name", None) or name or "unnamed"), rgb


def about(mesh: Mesh) -> dict[str, object]:
    """What a person wants to know of a mesh before working on it."""
    return {
        "size": tuple(float(s) for s in mesh.size),
        "vertices": mesh.count,
        "faces": len(mesh.face_counts),
        "triangles": len(mesh.triangles),
        "islands": mesh.island_count,
        "open edges": mesh.open_edges,
        "edges of more than two faces": mesh.crowded_edges,
        "faces without area": mesh.flat_faces,
        "texture coordinates": mesh.triangle_uv is not None,
    }
