"""Taking the new version of a file that an asset came from: meshes are exchanged, and all that was done to them stays.

Where the topology is the same nothing else changes. Where it differs, what was painted, bound and pinned by vertex is
carried over from the nearest place of the old surface, and how far that was is told before anything is done.
"""

from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..formats.asset import Asset, read_asset
from ..geometry.mesh import Mesh
from ..geometry.triangle_grid import Grid
from ..lazy import spatial
from ..motion.played import read_fit
from ..scene.document import Thing
from ..scene.scene import Scene
from ..units import format_length
from .importing import sized
from .things import mesh_ref


@dataclass(frozen=True)
class Change:
    """What becomes of a subject: same -- of the same topology; far (m) -- the farthest that anything by vertex is
    carried over, median (m); mesh None where the file has it no more."""

    subject: str
    name: str
    mesh: Mesh | None
    same: bool = True
    moved: float = 0.0  # m, the farthest that a vertex of the same topology went
    far: float = 0.0
    median: float = 0.0
    carried: tuple[str, ...] = ()  # what is carried over, in words
    targets: tuple[tuple[str, np.ndarray], ...] = ()  # (name, (n, 3) what it adds) of the morph targets in the file

    def words(self) -> str:
        if self.mesh is None:
            return f"{self.name}: not in the file any more; it stays as it is."
        if self.same:
            return f"{self.name}: the same topology, vertices up to {format_length(self.moved)} away. All layers stay."
        words = f"{self.name}: another topology ({self.mesh.count:,} vertices)"
        if self.carried:
            words += f"; {', '.join(self.carried)} carried over, at most {format_length(self.far)} away"
            words += f", {format_length(self.median)} for half of them"
        return f"{words}."


def compare(scene: Scene, path: str | Path, asset: Asset | None = None) -> list[Change]:
    """What the file would change, of each subject that came from it. Nothing is done yet."""
    path = str(Path(path).resolve())
    own = [s for s in scene.doc.subjects if s.mesh.file == path]
    if not own:
        raise EstampaError(Path(path).name, "is not where any subject came from.", "Import it instead.")
    asset = asset or read_asset(path)
    by_node = {p: n for p, n in zip(asset.paths(), asset.nodes, strict=True) if n.mesh is not None}
    return [_change(scene, s, by_node.get(s.mesh.node)) for s in own]


def _change(scene, subject, node) -> Change:
    if node is None:
        return Change(subject.id, subject.name, None)
    before, size = scene.mesh(subject.mesh), read_fit(subject.mesh.fit)
    size = np.eye(3) if size is None else size
    after, targets = sized(node.mesh, size), tuple((name, away @ size.T) for name, away in node.targets)
    same = np.array_equal(before.face_counts, after.face_counts) and before.count == after.count
    if same and np.array_equal(before.face_indices, after.face_indices):
        moved = float(np.linalg.norm(after.points - before.points, axis=1).max(initial=0.0))
        return Change(subject.id, subject.name, after, True, moved, targets=targets)
    carried = [f"{len(subject.maps)} map{'s' if len(subject.maps) != 1 else ''}"] if subject.maps else []
    carried += [f"{len(subject.targets)} morph targets"] if subject.targets else []
    bound = sum(l.bind is not None for l in subject.stack)
    carried += [f"{bound} bound layer{'s' if bound != 1 else ''}"] if bound else []
    apart = np.linalg.norm(_nearest(before, after.points)[2] - after.points, axis=1)
    far, median = float(apart.max(initial=0.0)), float(np.median(apart)) if len(apart) else 0.0
    return Change(subject.id, subject.name, after, False, 0.0, far, median, tuple(carried), targets)


def take(scene: Scene, changes: list[Change]) -> list[Thing]:
    """Do what was compared, in one step of the history."""
    changed = {}
    for change in changes:
        subject = scene.doc.find(change.subject)
        if subject is None or change.mesh is None:
            continue
        old = subject.mesh
        ref = mesh_ref(scene, change.mesh, old.source, file=old.file, node=old.node, fit=old.fit)
        subject = subject.with_(mesh=ref)
        kept = _kept if change.same else _carried
        changed[subject.id] = _with_targets(scene, kept(scene, subject, scene.mesh(old), change.mesh), change)
    if not changed:
        raise EstampaError("The new version", "has none of these subjects.", "Look whether its nodes were renamed.")
    doc = scene.doc.replace_all(changed)
    scene.apply("Take the new version", doc)
    return [scene.doc.find(i) for i in changed]


def _nearest(mesh: Mesh, points) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """((n, 3) the corners of the triangle nearest to each point, (n, 3) shares of them, (n, 3) the place on it)."""
    reach = float(np.linalg.norm(mesh.size)) * 0.02 + 1e-9
    which, on = Grid(mesh.points, mesh.triangles, reach).closest(np.ascontiguousarray(points, float))
    corners = mesh.triangles[np.maximum(which, 0)].astype(np.int64)
    shares = _shares(mesh.points[corners], on)
    lost = np.flatnonzero(which < 0)
    if len(lost):  # nothing near: the nearest vertex
        vertex = spatial.cKDTree(mesh.points).query(points[lost])[1]
        corners[lost], shares[lost] = vertex[:, None], [1.0, 0.0, 0.0]
        on[lost] = mesh.points[vertex]
    return corners, shares, on


def _shares(corners, on):
    """(n, 3) barycentric shares of places in their triangles (n, 3, 3)."""
    a, b, c = corners[:, 0], corners[:, 1], corners[:, 2]
    u, v, w = b - a, c - a, on - a
    uu, uv, vv = (np.einsum("ij,ij->i", x, y) for x, y in ((u, u), (u, v), (v, v)))
    wu, wv = np.einsum("ij,ij->i", w, u), np.einsum("ij,ij->i", w, v)
    det = np.maximum(uu * vv - uv * uv, 1e-300)
    s, t = np.clip((vv * wu - uv * wv) / det, 0, 1), np.clip((uu * wv - uv * wu) / det, 0, 1)
    found = np.stack([1 - s - t, s, t], axis=1)
    found = np.maximum(found, 0)
    return found / found.sum(axis=1, keepdims=True)


def _kept(scene, subject: Thing, before: Mesh, after: Mesh) -> Thing:
    """A subject of the same topology: its morph targets add what they added."""
    get, put = scene.arrays.get, scene.arrays.put
    moved = after.points - before.points
    return subject.with_(targets=tuple(t.with_(points=put(get(t.points) + moved)) for t in subject.targets))


def _with_targets(scene, subject: Thing, change: Change) -> Thing:
    """A subject whose morph targets of the names that the file has are those of the file."""
    away = dict(change.targets)
    fresh = lambda t: t.with_(points=scene.arrays.put(change.mesh.points + away[t.name])) if t.name in away else t
    return subject.with_(targets=tuple(map(fresh, subject.targets)))


def _carried(scene, subject: Thing, before: Mesh, after: Mesh) -> Thing:
    """A subject with what it has by vertex on its new mesh: maps and targets by the nearest place of the old surface,
    binds by its nearest corner."""
    corners, shares, _ = _nearest(before, after.points)
    put, get = scene.arrays.put, scene.arrays.get
    mixed = lambda values: np.einsum("nk,nk...->n...", shares, np.asarray(values, float)[corners])
    maps = [m.with_(weights=put(np.clip(mixed(get(m.weights)), 0, 1).astype(np.float32))) for m in subject.maps]
    targets = []
    for t in subject.targets:
        offset = mixed(get(t.points) - before.points)
        targets.append(t.with_(points=put(after.points + offset)))
    nearest = corners[np.arange(len(corners)), shares.argmax(axis=1)]
    stack = []
    for layer in subject.stack:
        if layer.bind is not None:
            own = {n: put(np.ascontiguousarray(get(getattr(layer.bind, n))[nearest])) for n in ("indices", "weights")}
            layer = layer.with_(bind=layer.bind.with_(**own))
        if layer.adopted is not None:  # it is of rows that are gone
            layer = layer.with_(adopted=None)
        stack.append(layer)
    return subject.with_(maps=tuple(maps), targets=tuple(targets), stack=tuple(stack))
