"""Reads a mesh with its skeleton, skin, morph targets and animations from glTF 2.0 (.glb, .gltf)."""

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..errors import Cancelled, EstampaError
from ..geometry.mesh import Mesh
from ..geometry.pose import Pose, in_skeleton, pose_of
from . import bounds
from .skinned import Reader

MOST_INFLUENCES = 8
MOST_FRAMES = 20_000  # of one animation


@dataclass
class Animation:
    """Sampled at a frame rate: poses (f, joints, ...) within their parents, weights (f, targets)."""

    name: str
    poses: Pose
    weights: np.ndarray


@dataclass
class RiggedFile:
    """What a file holds. Metres, +Y up, as glTF has it."""

    name: str
    mesh: Mesh
    joints: list[str] = field(default_factory=list)
    parents: np.ndarray = field(default_factory=lambda: np.zeros(0, int))  # (j,) -1 for a root
    rest: Pose = field(default_factory=lambda: Pose.still(0))
    tips: np.ndarray = field(default_factory=lambda: np.zeros((0, 3)))  # (j, 3) of what nothing hangs on
    back: np.ndarray = field(default_factory=lambda: np.zeros((0, 4, 4)))
    indices: np.ndarray | None = None  # (v, m)
    weights: np.ndarray | None = None
    targets: list[tuple[str, np.ndarray]] = field(default_factory=list)  # (name, (v, 3) points)
    animations: list[Animation] = field(default_factory=list)


def read(path: str | Path, frame_rate: float = 24.0, progress=lambda share, text: None) -> RiggedFile:
    """The first skinned mesh of a file, or the first mesh when none is. progress(share, text) may raise Cancelled.

    Raises EstampaError.
    """
    path = Path(path)
    bounds.check_gltf(path, bounds.read_bytes(path))
    try:
        progress(0.1, f"Reading {path.name}")
        reader = Reader(path)
        return _read(path, reader, frame_rate, progress)
    except (EstampaError, Cancelled):
        raise
    except Exception as err:  # what a damaged file makes of a parser is of any kind
        raise EstampaError(
            path.name, "is no glTF file that can be read, or is damaged.", "Export it again as GLB.", repr(err)
        ) from err


def _read(path, reader: Reader, frame_rate, progress) -> RiggedFile:
    node = reader.node
    if node is None:
        node = next((i for i, n in enumerate(reader.nodes) if n.mesh is not None), None)
    if node is None:
        raise EstampaError(path.name, "holds no mesh.", "Export it with its geometry.")
    points, triangles, uv, indices, felt, targets = _geometry(reader, node)
    names = reader.document.meshes[reader.nodes[node].mesh].extras or {}
    named = names.get("targetNames", []) if isinstance(names, dict) else []
    result = RiggedFile(reader.nodes[node].name or path.stem, Mesh.from_triangles(points, triangles, uv))
    result.mesh.check(path.name)
    result.targets = [
        (named[k] if k < len(named) else f"Target {k + 1}", points + away) for k, away in enumerate(targets)
    ]
    joints = list(reader.skin.joints) if reader.skin is not None else []
    if joints and indices is not None:
        _skeleton(path, reader, result, joints)
        if indices.max(initial=0) >= len(joints):
            raise EstampaError(path.name, "has weights of a joint that its skin does not have.", "Export it again.")
        if not (np.isfinite(felt).all() and (felt >= 0).all()):
            raise EstampaError(path.name, "has weights that are not numbers, or negative.", "Export it again.")
        result.indices, result.weights = _few(indices, felt)
        _tips(reader, result, joints)
    _animations(path, reader, result, joints, frame_rate, progress)
    return result


def _geometry(reader: Reader, node: int):
    """All primitives of a mesh as one; vertices that are the same in place and weights are made one."""
    mesh = reader.document.meshes[reader.nodes[node].mesh]
    parts = []
    for primitive in mesh.primitives:
        if primitive.mode not in (None, 4):
            continue
        a = primitive.attributes
        points = reader.array(a.POSITION).astype(float)
        faces = reader.array(primitive.indices)[:, 0] if primitive.indices is not None else np.arange(len(points))
        uv = reader.array(a.TEXCOORD_0)[:, :2].astype(np.float32) if a.TEXCOORD_0 is not None else None
        uv = None if uv is None else np.stack([uv[:, 0], 1 - uv[:, 1]], axis=1)  # v runs downwards in glTF
        skinned = a.JOINTS_0 is not None and a.WEIGHTS_0 is not None
        indices, felt = reader.influences(primitive) if skinned else (None, None)
        position = lambda t: t["POSITION"] if isinstance(t, dict) else t.POSITION
        targets = [reader.array(position(t)).astype(float) for t in primitive.targets or []]
        parts.append((points, faces.astype(np.int64).reshape(-1, 3), uv, indices, felt, targets))
    if not parts:
        raise EstampaError("The file", "holds no triangles.", "Export it as a surface.")
    shift = np.cumsum([0] + [len(p[0]) for p in parts[:-1]])
    points = np.concatenate([p[0] for p in parts])
    triangles = np.concatenate([p[1] + s for p, s in zip(parts, shift, strict=True)])
    uv = np.concatenate([p[2] for p in parts]) if all(p[2] is not None for p in parts) else None
    indices = felt = None
    if all(p[3] is not None for p in parts):
        wide = max(p[3].shape[1] for p in parts)
        pad = lambda x: np.pad(x, ((0, 0), (0, wide - x.shape[1])))
        indices, felt = np.concatenate([pad(p[3]) for p in parts]), np.concatenate([pad(p[4]) for p in parts])
    count = min(len(p[5]) for p in parts)
    targets = [np.concatenate([p[5][k] for p in parts]) for k in range(count)]
    rows = [points.astype(np.float32)] + ([felt.astype(np.float32), indices] if felt is not None else []) + targets
    table = np.concatenate([np.asarray(r, np.float64).reshape(len(points), -1) for r in rows], axis=1)
    _, first, where = np.unique(table, axis=0, return_index=True, return_inverse=True)
    order = np.argsort(first)  # keep the file's order
    rank = np.empty_like(order)
    rank[order] = np.arange(len(order))
    first, triangles = first[order], rank[where.ravel()][triangles]
    triangles = triangles[(triangles != np.roll(triangles, 1, axis=1)).all(axis=1)]
    pick = lambda x: x[first] if x is not None else None
    # one vertex can have but one texture coordinate here; seams keep the first
    return points[first], triangles, pick(uv), pick(indices), pick(felt), [t[first] for t in targets]


def _few(indices, felt):
    """The largest influences, normalised."""
    order = np.argsort(-felt, axis=1, kind="stable")[:, :MOST_INFLUENCES]
    felt, indices = np.take_along_axis(felt, order, axis=1), np.take_along_axis(indices, order, axis=1)
    used = max(int((felt > 0).sum(axis=1).max(initial=1)), 1)
    felt, indices = felt[:, : max(used, min(4, felt.shape[1]))], indices[:, : max(used, min(4, felt.shape[1]))]
    total = felt.sum(axis=1, keepdims=True)
    felt = np.where(total > 0, felt / np.where(total > 0, total, 1), 0)
    felt[total[:, 0] <= 0, 0] = 1
    return indices.astype(np.int32), felt.astype(np.float32)


def _skeleton(path, reader: Reader, result: RiggedFile, joints):
    """The joints within one another; what stands between them is made part of them."""
    above = np.full(len(joints), -1)
    where = {j: k for k, j in enumerate(joints)}
    for k, j in enumerate(joints):
        at = reader.parents[j]
        while at >= 0 and at not in where:
            at = reader.parents[at]
        above[k] = where[at] if at >= 0 else -1
    result.joints = [reader.nodes[j].name or f"Joint {k + 1}" for k, j in enumerate(joints)]
    result.parents = above
    stands = in_skeleton(reader.rest, reader.parents, reader.order)[joints]
    result.rest = _within(stands, above)
    if reader.skin.inverseBindMatrices is not None:
        result.back = reader.array(reader.skin.inverseBindMatrices).astype(float).reshape(-1, 4, 4).transpose(0, 2, 1)
    else:
        result.back = np.linalg.inv(stands)
    if len(result.back) != len(joints) or not np.isfinite(result.back).all():
        raise EstampaError(path.name, "has a skin whose matrices do not fit its joints.", "Export it again.")


def _tips(reader: Reader, result: RiggedFile, joints):
    """Where joints end on which nothing hangs: at a node that is no joint, else where what they carry ends, else away
    from the joint that they hang on, or the nearest one."""
    result.tips = np.zeros((len(joints), 3))
    stands = in_skeleton(reader.rest, reader.parents, reader.order)[joints]
    for k, j in enumerate(joints):
        if k in result.parents:
            continue
        ends = [c for c in reader.nodes[j].children or [] if c not in joints and reader.nodes[c].mesh is None]
        place = reader.nodes[ends[0]].translation if ends else None
        if place and np.linalg.norm(place) > 1e-6:
            result.tips[k] = place
            continue
        tip = _carried(result, k)
        if tip is None:
            others = stands[result.parents[k] :][:1] if result.parents[k] >= 0 else np.delete(stands, k, axis=0)
            own = (others[:, :3, 3] - stands[k, :3, 3]) @ np.linalg.pinv(stands[k, :3, :3]).T
            own = own[np.linalg.norm(own, axis=1) > 1e-6]
            tip = _on_axis(-0.5 * own[np.linalg.norm(own, axis=1).argmin()]) if len(own) else [0, 0.1, 0]
        result.tips[k] = tip


def _on_axis(v: np.ndarray) -> np.ndarray:
    """A vector as long, along the axis that it is nearest to."""
    found, axis = np.zeros(3), int(np.abs(v).argmax())
    found[axis] = np.copysign(np.linalg.norm(v), v[axis])
    return found


def _carried(result: RiggedFile, k: int) -> np.ndarray | None:
    """The end of what follows a joint, along the axis of the joint that goes through it best."""
    felt = (result.weights * (result.indices == k)).sum(axis=1)
    near = felt > 0.3 * max(felt.max(initial=0), 0.1)
    own = result.mesh.points[near] @ result.back[k, :3, :3].T + result.back[k, :3, 3]
    if not len(own):
        return None
    axis = _on_axis(own.mean(axis=0))
    length = np.linalg.norm(axis)
    far = np.quantile(own @ axis, 0.9) / length if length > 1e-6 else 0.0
    return axis / length * far if far > 1e-6 else None


def _within(stands: np.ndarray, above: np.ndarray) -> Pose:
    """A pose from matrices (n, 4, 4) in one space."""
    own = stands.copy()
    inside = above >= 0
    own[inside] = np.linalg.inv(stands[above[inside]]) @ stands[inside]
    return pose_of(own)


def _animations(path, reader: Reader, result: RiggedFile, joints, frame_rate, progress):
    every = reader.document.animations or []
    for k, animation in enumerate(every):
        ends = [float(reader.array(s.input).max()) for s in animation.samplers if reader.array(s.input).size]
        if not ends:
            continue
        seconds = max(ends)
        if not 0 <= seconds * frame_rate < MOST_FRAMES:
            raise EstampaError(
                path.name,
                f"has an animation of {seconds:,.0f} seconds ({animation.name or k + 1}).",
                f"At most {MOST_FRAMES:,} frames are read: export a shorter range.",
            )
        frames = int(np.ceil(seconds * frame_rate - 1e-3)) + 1
        poses, weights = [], []
        for f in range(frames):
            progress(0.3 + 0.7 * (k + f / frames) / len(every), f"Reading {animation.name or 'an animation'}")
            pose, felt = reader.sampled(f / frame_rate, k)
            weights.append(felt)
            if joints:
                poses.append(_within(in_skeleton(pose, reader.parents, reader.order)[joints], result.parents))
        stack = Pose.stacked(poses) if poses else Pose.still(0)
        result.animations.append(Animation(animation.name or f"Animation {k + 1}", stack, np.array(weights)))
