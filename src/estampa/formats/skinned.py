"""GLB with a skeleton, a skin, morph targets and several animations (glTF 2.0, sections 3.7.3, 3.7.2.2 and 3.11)."""

from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from ..geometry.mesh import Mesh
from ..geometry.pose import Pose, in_skeleton, parents_first, pose_of, slerp
from . import glb

ENDING = "_end"  # of the names of leaf-end joints


@dataclass
class Motion:
    """One animation: times (f,) in seconds from 0, and at each the poses of the joints, where the skeleton stands and
    the weights of the morph targets."""

    name: str
    times: np.ndarray
    poses: Pose  # (f, n, ...)
    stands: Pose  # (f, 1, ...)
    weights: np.ndarray  # (f, targets)

    def first(self, count: int) -> "Motion":
        """Its first frames alone."""
        cut = lambda pose: Pose(*(part[:count] for part in pose))
        return Motion(self.name, self.times[:count], cut(self.poses), cut(self.stands), self.weights[:count])


@dataclass
class Rigged:
    """A mesh with its skeleton, as it goes into a file."""

    name: str
    mesh: Mesh
    joints: list[str]
    parents: np.ndarray  # (n,)
    rest: Pose
    back: np.ndarray  # (n, 4, 4) from the mesh's space into each joint's, as it was bound
    indices: np.ndarray  # (v, m)
    weights: np.ndarray  # (v, m)
    targets: list[tuple[str, np.ndarray]] = field(default_factory=list)  # (name, (v, 3) what it adds)
    tips: np.ndarray | None = None  # (n, 3) when leaf-end joints are wanted

    @property
    def ends(self) -> list[int]:
        """The joints that get a leaf-end joint."""
        return sorted(set(range(len(self.joints))) - set(self.parents.tolist())) if self.tips is not None else []


def write(path: Path, rigged: Rigged, motions: list[Motion], extras: dict) -> None:
    import pygltflib as gl

    binary, count = glb.Binary(), len(rigged.joints)
    mesh = _mesh(binary, rigged)
    nodes = [gl.Node(name=rigged.name, mesh=0, skin=0)]
    stand = len(nodes)
    nodes.append(gl.Node(name=f"{rigged.name} skeleton", **_trs(motions[0].stands, 0, 0)))
    first = len(nodes)
    rest = Pose(*(part[None] for part in rigged.rest))
    nodes += [gl.Node(name=name, **_trs(rest, 0, i)) for i, name in enumerate(rigged.joints)]
    for i, p in enumerate(rigged.parents):
        nodes[stand if p < 0 else first + p].children.append(first + i)
    for i in rigged.ends:
        nodes[first + i].children.append(len(nodes))
        nodes.append(gl.Node(name=rigged.joints[i] + ENDING, translation=rigged.tips[i].tolist()))
    joints = list(range(first, first + count))
    skin = gl.Skin(joints=joints, skeleton=stand, inverseBindMatrices=binary.numbers(exact_last_row(rigged.back)))
    used = _used(rigged.mesh)
    binary.save(
        path,
        scenes=[gl.Scene(nodes=[0, stand], extras=extras)],
        nodes=nodes,
        meshes=[mesh],
        skins=[skin],
        materials=[binary.material(rigged.mesh.materials[m]) for m in used if m is not None],
        animations=[a for a in (_animation(binary, rigged, m, stand, first) for m in motions) if a.channels],
    )


def exact_last_row(matrices):
    result = np.array(matrices, np.float32)
    result[:, 3] = [0, 0, 0, 1]
    return result


def _used(mesh):
    return [None] if mesh.face_materials is None else list(np.unique(mesh.face_materials))


def _mesh(binary, rigged: Rigged):
    import pygltflib as gl

    mesh = rigged.mesh
    points = np.asarray(mesh.points, np.float32)
    attributes = gl.Attributes(
        POSITION=binary.attribute("POSITION", points), NORMAL=binary.attribute("NORMAL", glb.unit32(mesh.rest_normals))
    )
    binary.looks(attributes, mesh)
    skin_attributes(binary, attributes, rigged.indices, rigged.weights)
    targets = [{"POSITION": binary.attribute("POSITION", np.asarray(t, np.float32))} for _, t in rigged.targets]
    of = mesh.face_materials[mesh.triangle_faces] if mesh.face_materials is not None else None
    primitives = []
    for k, m in enumerate(_used(mesh)):
        indices = binary.indices(mesh.triangles if m is None else mesh.triangles[of == m])
        material = None if m is None else k
        primitives.append(gl.Primitive(attributes=attributes, indices=indices, material=material, targets=targets))
    more = {}
    if rigged.targets:
        more = {"weights": [0.0] * len(targets), "extras": {"targetNames": [n for n, _ in rigged.targets]}}
    return gl.Mesh(name=rigged.name, primitives=primitives, **more)


def skin_attributes(binary, attributes, indices, weights) -> None:
    """Joints (v, m) that vertices follow, and how much, in sets of four."""
    small = np.uint8 if indices.max(initial=0) <= 255 else np.uint16
    for part in range(-(-indices.shape[1] // 4)):
        here = slice(4 * part, 4 * part + 4)
        felt, joints = np.zeros((len(indices), 4), np.float32), np.zeros((len(indices), 4), small)
        felt[:, : weights[:, here].shape[1]] = weights[:, here]
        # a joint that is not felt must be 0, and none may be named twice
        joints[:, : indices[:, here].shape[1]] = indices[:, here]
        joints[felt == 0] = 0
        setattr(attributes, f"JOINTS_{part}", binary.attribute(f"JOINTS_{part}", joints))
        setattr(attributes, f"WEIGHTS_{part}", binary.attribute(f"WEIGHTS_{part}", felt))


def _trs(poses: Pose, f, i) -> dict:
    return {
        "translation": poses.place[f, i].tolist(),
        "rotation": (poses.turn[f, i] / np.linalg.norm(poses.turn[f, i])).tolist(),
        "scale": poses.stretch[f, i].tolist(),
    }


def _animation(binary, rigged: Rigged, motion: Motion, stand: int, first: int):
    """An animation with a sample at each frame, of what moves away from rest."""
    import pygltflib as gl

    animation = gl.Animation(name=motion.name)
    times = binary.numbers(motion.times, bounds=True)

    def channel(node, path, values):
        sampler = gl.AnimationSampler(input=times, output=binary.numbers(values), interpolation="LINEAR")
        animation.samplers.append(sampler)
        target = gl.AnimationChannelTarget(node=node, path=path)
        animation.channels.append(gl.AnimationChannel(sampler=len(animation.samplers) - 1, target=target))

    def tracks(node, poses, i, rest):
        turn = continuous(poses.turn[:, i])
        for path, values, still in (
            ("translation", poses.place[:, i], rest.place),
            ("rotation", turn, rest.turn),
            ("scale", poses.stretch[:, i], rest.stretch),
        ):
            away = np.abs(values - still) if path != "rotation" else 1 - np.abs((values * still).sum(axis=1))
            if away.max() > (1e-7 if path != "rotation" else 1e-12):
                channel(node, path, values)

    begin = Pose(*(part[0, 0] for part in motion.stands))
    tracks(stand, motion.stands, 0, begin)
    for i in range(len(rigged.joints)):
        tracks(first + i, motion.poses, i, Pose(*(part[i] for part in rigged.rest)))
    if motion.weights.size and np.abs(motion.weights).max() > 0:
        channel(0, "weights", motion.weights.reshape(-1))
    return animation


def continuous(turns):
    """Quaternions that go the short way from each to the next."""
    flips = np.where((turns[1:] * turns[:-1]).sum(axis=1) < 0, -1.0, 1.0)
    signs = np.concatenate([[1.0], np.cumprod(flips)])
    return turns * signs[:, None] / np.linalg.norm(turns, axis=1, keepdims=True)


# -- reading -------------------------------------------------------------------------------------------------
class SkinnedReader:
    """Reads any skinned GLB or glTF; samples its animations and moves its first skinned mesh, with NumPy alone."""

    def __init__(self, path: Path):
        import pygltflib as gl

        self.document = gl.GLTF2.load(str(path))
        self.blob = self.document.binary_blob()
        if self.blob is None:
            self.document.convert_buffers(gl.BufferFormat.BINARYBLOB)
            self.blob = self.document.binary_blob()
        self.nodes = self.document.nodes
        self.parents = np.full(len(self.nodes), -1)
        for i, node in enumerate(self.nodes):
            for child in node.children or []:
                self.parents[child] = i
        self.order = parents_first(self.parents)
        self.node = next((i for i, n in enumerate(self.nodes) if n.skin is not None and n.mesh is not None), None)
        self.skin = self.document.skins[self.nodes[self.node].skin] if self.node is not None else None

    def array(self, number) -> np.ndarray:
        return glb.rows(self.document, self.blob, number)

    @property
    def rest(self) -> Pose:
        """(nodes, ...) as the file has them."""
        place = np.array([n.translation or [0, 0, 0] for n in self.nodes], float)
        turn = np.array([n.rotation or [0, 0, 0, 1] for n in self.nodes], float)
        size = np.array([n.scale or [1, 1, 1] for n in self.nodes], float)
        pose = Pose(place, turn, size)
        for i, node in enumerate(self.nodes):
            if node.matrix:
                one = pose_of(np.array(node.matrix, float).reshape(1, 4, 4).transpose(0, 2, 1))
                pose.place[i], pose.turn[i], pose.stretch[i] = one.place[0], one.turn[0], one.stretch[0]
        return pose

    def sampled(self, time: float, animation: int = 0) -> tuple[Pose, np.ndarray]:
        """(nodes as an animation has them at a time in seconds, weights of the mesh's morph targets)."""
        pose, weights = self.rest, np.zeros(self.target_count)
        if self.document.animations:
            tracks = self.document.animations[animation]
            for channel in tracks.channels:
                sampler, node = tracks.samplers[channel.sampler], channel.target.node
                times = self.array(sampler.input)[:, 0]
                values = self.array(sampler.output)
                if sampler.interpolation == "CUBICSPLINE":
                    values = values.reshape(len(times), 3, -1)[:, 1]
                if channel.target.path == "weights":
                    values = values.reshape(len(times), -1)
                k = int(np.clip(np.searchsorted(times, time, side="right") - 1, 0, max(len(times) - 2, 0)))
                span = times[k + 1] - times[k] if k + 1 < len(times) else 0
                t = float(np.clip((time - times[k]) / span, 0, 1)) if span > 0 else 0.0
                t = 0.0 if sampler.interpolation == "STEP" and t < 1 else t
                a, b = values[k].astype(float), values[min(k + 1, len(values) - 1)].astype(float)
                if channel.target.path == "rotation":
                    pose.turn[node] = slerp(a, b, t)
                elif channel.target.path == "weights":
                    weights = a + (b - a) * t
                else:
                    part = pose.place if channel.target.path == "translation" else pose.stretch
                    part[node] = a + (b - a) * t
        return pose, weights

    @property
    def target_count(self) -> int:
        if self.node is None:
            return 0
        return len(self.document.meshes[self.nodes[self.node].mesh].primitives[0].targets or [])

    def in_world(self, time: float, animation: int = 0) -> np.ndarray:
        """(nodes, 4, 4) at a time."""
        return in_skeleton(self.sampled(time, animation)[0], self.parents, self.order)

    def joints(self, time: float, animation: int = 0) -> np.ndarray:
        """(joints of the skin, 4, 4) in the world."""
        return self.in_world(time, animation)[self.skin.joints]

    def moved(self, time: float, animation: int = 0) -> np.ndarray:
        """(v, 3) vertices of the first primitive of the skinned mesh."""
        pose, weights = self.sampled(time, animation)
        primitive = self.document.meshes[self.nodes[self.node].mesh].primitives[0]
        points = self.array(primitive.attributes.POSITION).astype(float)
        for weight, target in zip(weights, primitive.targets or [], strict=False):
            number = target["POSITION"] if isinstance(target, dict) else target.POSITION
            points += weight * self.array(number)
        back = self.array(self.skin.inverseBindMatrices).reshape(-1, 4, 4).transpose(0, 2, 1)
        palette = in_skeleton(pose, self.parents, self.order)[self.skin.joints] @ back
        indices, felt = self.influences(primitive)
        moved = np.einsum("vm,vmij->vij", felt, palette[indices][:, :, :3])
        return np.einsum("vij,vj->vi", moved[:, :, :3], points) + moved[:, :, 3]

    def influences(self, primitive) -> tuple[np.ndarray, np.ndarray]:
        """((v, m) joints, (v, m) weights) of a primitive, all sets together."""
        a, joints, weights = primitive.attributes, [], []
        for part in range(8):
            if getattr(a, f"JOINTS_{part}", None) is None:
                break
            joints.append(self.array(getattr(a, f"JOINTS_{part}")).astype(np.int64))
            weights.append(self.array(getattr(a, f"WEIGHTS_{part}")).astype(float))
        return np.concatenate(joints, axis=1), np.concatenate(weights, axis=1)
