"""An asset: what a scene file holds, between the formats and the scene. Each format has one reader that makes it.

Points stay one per place: what differs at seams is with the corners (geometry.mesh). Places are matrices, as files have
them; what cannot be a place of ours (sizes that differ by axis, mirrors) is put into the points when it comes in.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numba import njit

from ..errors import EstampaError
from ..geometry.mesh import Mesh

MOST_NODES = 200_000


@dataclass
class Node:
    """A node of an asset's tree.

    local -- (4, 4) where it stands within its parent, at rest
    moves -- seconds -> (4, 4), or None where it stands still
    points_at -- what reads its points over time: name of the prim in the file, where it has any
    view -- rad, of a camera; light -- whether it is one
    """

    name: str
    parent: int = -1
    local: np.ndarray = field(default_factory=lambda: np.eye(4))
    mesh: Mesh | None = None
    moves: Callable[[float], np.ndarray] | None = None
    points_at: str = ""
    view: float | None = None
    light: bool = False
    skinned: bool = False


@dataclass
class Asset:
    """path -- of the file; unit -- metres that one of its units is; up -- "y" or "z"; span -- first and last second of
    its animation; rate -- frames a second that it was made for, 0 where it does not say; left -- what is left out, in
    words."""

    path: Path
    nodes: list[Node]
    unit: float = 1.0
    up: str = "y"
    span: tuple[float, float] = (0.0, 0.0)
    rate: float = 0.0
    left: list[str] = field(default_factory=list)

    @property
    def meshes(self) -> list[int]:
        return [i for i, n in enumerate(self.nodes) if n.mesh is not None]

    def children(self, node: int) -> list[int]:
        return [i for i, n in enumerate(self.nodes) if n.parent == node]

    def paths(self) -> list[str]:
        """Of each node the names down the tree, as "/Plant/Stem"; of those that would be alike, with a number."""
        found, seen = [], {}
        for n in self.nodes:
            path = f"{found[n.parent] if n.parent >= 0 else ''}/{n.name.replace('/', '_')}"
            seen[path] = seen.get(path, 0) + 1
            found.append(path if seen[path] == 1 else f"{path}#{seen[path]}")
        return found

    def words(self, node: int) -> str:
        """What a node is, in a few words."""
        n = self.nodes[node]
        if n.mesh is not None:
            parts = [f"{n.mesh.count:,} vertices", f"{len(n.mesh.face_counts):,} faces"]
            if n.mesh.materials:
                parts.append(f"{len(n.mesh.materials)} material{'s' if len(n.mesh.materials) > 1 else ''}")
            if any(m.picture is not None for m in n.mesh.materials):
                parts.append("pictures")
            parts += ["points over time"] if n.points_at else []
            parts += ["skin, left at rest"] if n.skinned else []
        else:
            parts = ["camera"] if n.view is not None else ["light, left out"] if n.light else []
        return ", ".join(parts + (["moves"] if n.moves is not None else []))


def into_metres(unit: float, up: str) -> np.ndarray:
    """(4, 4) from a file's world, of so many metres a unit and with that axis upwards, to metres with +Y up."""
    turn = np.eye(4) if up == "y" else np.array([[1, 0, 0, 0], [0, 0, 1, 0], [0, -1, 0, 0], [0, 0, 0, 1.0]])
    return turn @ np.diag([unit, unit, unit, 1.0])


TREES = (".glb", ".gltf", ".usd", ".usda", ".usdc", ".usdz")  # files that hold a tree
SUFFIXES = (*TREES, ".obj", ".ply", ".stl")


def read_asset(path: str | Path, progress=lambda share, text: None) -> Asset:
    """What a scene file holds. Raises EstampaError that names the file and its trouble."""
    path = Path(path)
    suffix = path.suffix.lower()
    if suffix not in SUFFIXES:
        cause = f"is no scene file that can be read (“{suffix or 'no ending'}”)."
        raise EstampaError(path.name, cause, "Export it as GLB, OpenUSD or OBJ.")
    try:
        if suffix in (".glb", ".gltf"):
            from .gltf_asset import read

            asset = read(path, progress)
        elif suffix.startswith(".usd"):
            from .usd_asset import read

            asset = read(path, progress)
        elif suffix == ".obj":
            from .obj import read_groups

            asset = Asset(path, [Node(name, mesh=mesh) for name, mesh in read_groups(path, progress)])
        else:
            from .meshfile import LIKELY_UNIT, read_mesh

            unit = {"mm": 0.001}.get(LIKELY_UNIT.get(suffix, "m"), 1.0)
            asset = Asset(path, [Node(path.stem, mesh=read_mesh(path, "m", progress=progress))], unit)
    except EstampaError:
        raise
    except MemoryError:
        raise EstampaError(path.name, "needs more memory than there is.", "Export a lighter one.") from None
    except Exception as err:  # a damaged file can fail anywhere in a reader
        if type(err).__name__ == "Cancelled":
            raise
        cause = "cannot be read; it is cut short or damaged."
        raise EstampaError(path.name, cause, "Export it again.", repr(err)) from err
    for node in asset.nodes:
        if node.mesh is not None:
            node.mesh.check(f"{path.name}, {node.name}")
    if not any(n.mesh is not None or n.view is not None for n in asset.nodes):
        raise EstampaError(path.name, "holds no mesh.", "Export it with its geometry.")
    return asset


def welded(points: np.ndarray, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """((m, 3) places each once, in the order in which they come, (m,) the first row of each, faces that name them):
    formats by vertex part what is one at seams. points -- (n, 3) float32"""
    points = np.ascontiguousarray(points, np.float32) + np.float32(0)  # -0 is 0
    first, rank = _alike(points.view(np.uint32))
    return points[first], first, rank[faces]


@njit(cache=True, nogil=True)
def _alike(rows):
    """((m,) first row of each different one, in order, (n,) which of those each row is): a table by open addressing."""
    n, size = len(rows), 1
    while size < 2 * n + 2:
        size *= 2
    table, first, rank = np.full(size, -1, np.int64), np.empty(n, np.int64), np.empty(n, np.int64)
    found = 0
    for i in range(n):
        a, b, c = rows[i, 0], rows[i, 1], rows[i, 2]
        h = np.uint64(a) * np.uint64(0x9E3779B97F4A7C15) ^ np.uint64(b) * np.uint64(0xC2B2AE3D27D4EB4F)
        h = (h ^ np.uint64(c) * np.uint64(0x165667B19E3779F9)) * np.uint64(0xD6E8FEB86659FD93)
        at = np.int64((h >> np.uint64(20)) & np.uint64(size - 1))
        while table[at] >= 0:
            k = first[table[at]]
            if rows[k, 0] == a and rows[k, 1] == b and rows[k, 2] == c:
                break
            at = (at + 1) & (size - 1)
        if table[at] < 0:
            table[at] = found
            first[found] = i
            found += 1
        rank[i] = table[at]
    return first[:found].copy(), rank


@njit(cache=True, nogil=True)
def _by_vertex(indices, values, count):
    """((count, 2) values of vertices, whether all of a vertex's corners have the same)."""
    found, seen = np.zeros((count, 2), np.float32), np.zeros(count, np.bool_)
    for k in range(len(indices)):
        i = indices[k]
        if not seen[i]:
            seen[i] = True
            found[i, 0], found[i, 1] = values[k, 0], values[k, 1]
        elif found[i, 0] != values[k, 0] or found[i, 1] != values[k, 1]:
            return found, False
    return found, True


def with_corners(mesh_of: tuple, corners: dict[str, np.ndarray]) -> Mesh:
    """A mesh of (points, counts, indices, materials, face materials) with what its corners have; texture coordinates
    that are the same all round every vertex are kept by vertex."""
    points, counts, indices, materials, of = mesh_of
    uv = corners.get("uv")
    if uv is not None:
        by_vertex, agree = _by_vertex(indices, np.ascontiguousarray(uv, np.float32), len(points))
        if agree:
            return Mesh(points, counts, indices, by_vertex, materials, of, None,
                        {n: v for n, v in corners.items() if n != "uv"})  # fmt: skip
    return Mesh(points, counts, indices, None, materials, of, None, corners)
