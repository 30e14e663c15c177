"""An asset: what a scene file holds, between the formats and the scene. Each format has one reader that makes it.

Points stay one per place: what differs at seams is with the corners (geometry.mesh). Places are matrices, as files have
them; what cannot be a place of ours (sizes that differ by axis, mirrors) is put into the points when it comes in.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
from numba import njit, prange

from ..errors import EstampaError
from ..geometry.mesh import Mesh

MOST_NODES = 200_000
MOST_SETS = 8  # of texture coordinates
MOST_PICTURE = 512_000_000  # bytes
MOST_FAR = 1e12  # units of a file
MOST_INFLUENCES = 32


@dataclass
class AssetSkin:
    """What carries a node's mesh.

    joints -- (j,) numbers of nodes
    back -- (j, 4, 4) from the space of its points into that of each joint, as it was bound
    indices, weights -- (v, m) which of the joints each vertex follows, and how much
    """

    joints: np.ndarray
    back: np.ndarray
    indices: np.ndarray
    weights: np.ndarray


@dataclass
class AssetClip:
    """One animation of a file: its first and last second."""

    name: str
    span: tuple[float, float]


@dataclass
class Track:
    """Keys as a format has them: times (k,) s, values (k, c), how it goes on from each ("linear", "step" or "curve"),
    and of a curve the tangents (k, c) that come into and go out of each key, per second."""

    times: np.ndarray
    values: np.ndarray
    how: str = "linear"
    into: np.ndarray | None = None
    out: np.ndarray | None = None


@dataclass
class Node:
    """A node of an asset's tree.

    local -- (4, 4) where it stands within its parent, at rest
    moves -- (seconds, number of a clip) -> (4, 4), or None where it stands still
    points_at -- what reads its points over time: name of the prim in the file, where it has any
    view -- rad, of a camera; light -- whether it is one; joint -- whether a skin follows it
    targets -- (name, (v, 3) what it adds to the points) of its morph targets
    felt -- (seconds, number of a clip) -> (targets,) how far each is gone to, or None where that stays
    tracks -- of "place" and "weights" the keys that the animation that is played has in the file, where it has any
    """

    name: str
    parent: int = -1
    local: np.ndarray = field(default_factory=lambda: np.eye(4))
    mesh: Mesh | None = None
    moves: Callable[[float, int], np.ndarray] | None = None
    points_at: str = ""
    view: float | None = None
    light: bool = False
    joint: bool = False
    skin: AssetSkin | None = None
    targets: list[tuple[str, np.ndarray]] = field(default_factory=list)
    felt: Callable[[float, int], np.ndarray] | None = None
    tracks: dict[str, Track] = field(default_factory=dict)


@dataclass
class Asset:
    """path -- of the file; unit -- metres that one of its units is; up -- "y" or "z"; clips -- its animations, the one
    that is played first; rate -- frames a second that it was made for, 0 where it does not say; left -- what is left
    out, in words."""

    path: Path
    nodes: list[Node]
    unit: float = 1.0
    up: str = "y"
    clips: list[AssetClip] = field(default_factory=list)
    rate: float = 0.0
    left: list[str] = field(default_factory=list)

    @property
    def span(self) -> tuple[float, float]:
        """First and last second of the animation that is played."""
        return self.clips[0].span if self.clips else (0.0, 0.0)

    @property
    def meshes(self) -> list[int]:
        return [i for i, n in enumerate(self.nodes) if n.mesh is not None]

    def children(self, node: int) -> list[int]:
        return [i for i, n in enumerate(self.nodes) if n.parent == node]

    def world(self, into: np.ndarray | None = None) -> np.ndarray:
        """(n, 4, 4) where nodes stand at rest, and what then takes them into another world."""
        found, root = np.zeros((len(self.nodes), 4, 4)), np.eye(4) if into is None else into
        for i, node in enumerate(self.nodes):
            found[i] = (root if node.parent < 0 else found[node.parent]) @ node.local
        return found

    def seen_at(self, node: int, world: np.ndarray) -> np.ndarray:
        """(4, 4) by which the points of a node are seen at rest: where it stands, or, of one with a skin, whose own
        place moves nothing, what the joint that carries most of it makes of them."""
        skin = self.nodes[node].skin
        if skin is None:
            return world[node]
        felt = np.bincount(skin.indices.ravel(), skin.weights.ravel(), len(skin.joints))
        palette = world[skin.joints] @ skin.back
        good = np.abs(np.linalg.det(palette[:, :3, :3])) > 1e-15
        most = int(np.argmax(np.where(good, felt, -1)))
        return palette[most] if good[most] else world[node]

    def box(self, node: int, world: np.ndarray) -> np.ndarray:
        """(8, 3) the corners of the box around a node's points, as they are seen; in the file's units."""
        low, high = self.nodes[node].mesh.bounds
        corners = np.stack([low, high])[np.indices((2, 2, 2)).reshape(3, 8).T, np.arange(3)]
        into = self.seen_at(node, world)
        return corners @ into[:3, :3].T + into[:3, 3]

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
            parts += [f"skin on {len(n.skin.joints):,} joints"] if n.skin is not None else []
            parts += [f"{len(n.targets)} morph target{'s' if len(n.targets) > 1 else ''}"] if n.targets else []
        else:
            parts = ["camera"] if n.view is not None else ["light, left out"] if n.light else []
            parts += ["joint"] if n.joint else []
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
    if not (np.isfinite(asset.unit) and 0 < asset.unit < MOST_FAR):
        raise EstampaError(path.name, f"says that one of its units is {asset.unit:g} m.", "Export it again.")
    for clip in asset.clips:
        if not (np.isfinite(clip.span).all() and max(map(abs, clip.span)) < MOST_FAR):
            cause = f"has an animation ({clip.name}) at times that are no numbers."
            raise EstampaError(path.name, cause, "Export it again.")
    world = asset.world()
    for i, node in enumerate(asset.nodes):
        if not (np.isfinite(node.local).all() and np.abs(world[i]).max() < MOST_FAR):
            raise EstampaError(f"{path.name}, {node.name}", "stands where there are no numbers.", "Export it again.")
        if node.mesh is not None:
            node.mesh.check(f"{path.name}, {node.name}")
        if node.skin is not None and not np.isfinite(node.skin.back).all():
            cause = "is bound by matrices that are no numbers."
            raise EstampaError(f"{path.name}, {node.name}", cause, "Bind it again where it was made.")
    if not any(n.mesh is not None or n.view is not None for n in asset.nodes):
        other = f" (but {', '.join(asset.left[:3])})" if asset.left else ""
        raise EstampaError(path.name, f"holds no mesh{other}.", "Export its geometry as polygons.")
    return asset


@dataclass
class Attribute:
    """What a format has by vertex, face or corner of a mesh as the file has it: `domain` is "vertices", "faces" or
    "corners", values (rows, k) float32."""

    domain: str
    values: np.ndarray


def welded(rows: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """((m,) the first of the rows (n, k) float32 that are alike, in the order in which they come, (n,) int32 which of
    those each row is): formats by vertex part what is one at seams."""
    rows = np.ascontiguousarray(rows, np.float32) + np.float32(0)  # -0 is 0
    return _alike(rows.view(np.uint32))


PARTS = 16  # of a power of two: tables that stay near the processor


@njit(parallel=True, cache=True, nogil=True)
def _alike(rows):
    """Rows by what a hash of them begins with, each part in a table of its own by open addressing."""
    n, wide = len(rows), rows.shape[1]
    hashes, same = np.empty(n, np.uint32), np.empty(n, np.int32)
    for i in prange(n):
        h = np.uint64(0)
        for c in range(wide):
            h = (h ^ np.uint64(rows[i, c])) * np.uint64(0x9E3779B97F4A7C15)
            h ^= h >> np.uint64(29)
        hashes[i] = np.uint32(h >> np.uint64(32))
    counts = np.zeros(PARTS, np.int64)
    for i in range(n):
        counts[hashes[i] & np.uint32(PARTS - 1)] += 1
    for part in prange(PARTS):
        size = 1
        while size < 2 * counts[part] + 2:
            size *= 2
        table = np.full(size, -1, np.int32)
        for i in range(n):
            if hashes[i] & np.uint32(PARTS - 1) != part:
                continue
            at = np.int64(hashes[i] >> np.uint32(4)) & (size - 1)
            while table[at] >= 0:
                k = table[at]
                if hashes[k] == hashes[i]:
                    equal = True
                    for c in range(wide):
                        if rows[k, c] != rows[i, c]:
                            equal = False
                            break
                    if equal:
                        break
                at = (at + 1) & (size - 1)
            if table[at] < 0:
                table[at] = i
            same[i] = table[at]
    first, rank, found = np.empty(n, np.int32), np.empty(n, np.int32), 0
    for i in range(n):
        if same[i] == i:
            first[found] = i
            rank[i] = found
            found += 1
        else:
            rank[i] = rank[same[i]]
    return first[:found].copy(), rank


@njit(cache=True, nogil=True)
def renamed(flat, rank):
    """((3 t,) int32 vertices of triangles by their new names, (t,) whether those are three, how many are not)."""
    named, proper, bad = np.empty(len(flat), np.int32), np.ones(len(flat) // 3, np.bool_), 0
    for t in range(len(flat) // 3):
        a, b, c = rank[flat[3 * t]], rank[flat[3 * t + 1]], rank[flat[3 * t + 2]]
        named[3 * t], named[3 * t + 1], named[3 * t + 2] = a, b, c
        if a == b or b == c or c == a:
            proper[t] = False
            bad += 1
    return named, proper, bad


@njit(cache=True, nogil=True)
def _agree(values, rank, first):
    """Whether rows that are one have the same values."""
    for i in range(len(rank)):
        k = first[rank[i]]
        if k != i:
            for c in range(values.shape[1]):
                if values[i, c] != values[k, c]:
                    return False
    return True


@njit(cache=True, nogil=True)
def _by_vertex(indices, values, count):
    """((count, k) values of vertices, whether all corners of each have the same)."""
    wide = values.shape[1]
    found, seen = np.zeros((count, wide), np.float32), np.zeros(count, np.bool_)
    for k in range(len(indices)):
        i = indices[k]
        if not seen[i]:
            seen[i] = True
            for c in range(wide):
                found[i, c] = values[k, c]
        else:
            for c in range(wide):
                if found[i, c] != values[k, c]:
                    return found, False
    return found, True


def by_place(values: np.ndarray, flat: np.ndarray, first: np.ndarray, rank: np.ndarray) -> Attribute:
    """What rows that were `welded` have, (n, k): by vertex where those that are one agree, else by the corners (c,)
    that name the rows."""
    if len(first) == len(rank):
        return Attribute("vertices", values)
    values = np.array(values, np.float32)  # one sort of array alone, that of a kernel
    if _agree(values, rank, first):
        return Attribute("vertices", values[first])
    return Attribute("corners", np.take(values, flat, axis=0))


def by_corner(values: np.ndarray, indices: np.ndarray, count: int) -> Attribute:
    """What corners have, by vertex where all corners of each agree."""
    found, agree = _by_vertex(indices, np.array(values, np.float32), count)
    return Attribute("vertices", found) if agree else Attribute("corners", values)


def few(indices: np.ndarray, weights: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The largest influences of each vertex, (v, m) int32 and float32; they sum to 1."""
    order = np.argsort(-weights, axis=1, kind="stable")[:, :MOST_INFLUENCES]
    felt, indices = np.take_along_axis(weights, order, axis=1), np.take_along_axis(indices, order, axis=1)
    used = max(int((felt > 0).sum(axis=1).max(initial=1)), min(4, felt.shape[1]))
    felt, indices = felt[:, :used].astype(np.float64), indices[:, :used]
    total = felt.sum(axis=1, keepdims=True)
    felt = np.where(total > 0, felt / np.where(total > 0, total, 1), 0)
    felt[total[:, 0] <= 0, 0] = 1
    return indices.astype(np.int32), felt.astype(np.float32)


def made(points, counts, indices, materials, of, own: dict[str, Attribute]) -> Mesh:
    """A mesh with its attributes, each by its domain."""
    held = {d: {n: a.values for n, a in own.items() if a.domain == d} for d in ("vertices", "faces", "corners")}
    uv = held["vertices"].pop("uv", None)
    more = (held["corners"], None, held["vertices"], held["faces"])
    return Mesh(points, counts, indices, uv, materials, of, None, *more)
