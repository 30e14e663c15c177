"""A shot as GLB: a tree of nodes with their places over time, meshes whose points move as morph targets, copies as
nodes of one mesh."""

from dataclasses import replace
from pathlib import Path

import numpy as np

from ..geometry import pose as turns
from . import glb
from .distinct import MOST_SHAPES, Distinct, one_hot
from .gltf_instances import WORD
from .skinned import continuous, exact_last_row, skin_attributes


def write_shot(path: Path, name: str, props, frames, rate: float, moments, extras: dict, instanced: bool) -> list[int]:
    """props, moments -- see usd_shot, a Moment for each frame; instanced -- whether copies that stand still and are of
    one shape are instances of one node (EXT_mesh_gpu_instancing). Returns the numbers of those that are. glTF 2.0,
    sections 3.7 and 3.11."""
    shot = _Shot(props, (np.asarray(frames, float) - frames[0]) / rate, moments)
    for i in range(len(props)):
        shot.put(i, instanced)
    shot.save(path, name, extras)
    return shot.instanced


class _Shot:
    """What goes into one file: nodes, in the order of the props and behind them what those need besides."""

    def __init__(self, props, times, moments):
        self.props, self.moments, self.binary = props, moments, glb.Binary()
        self.clock = self.binary.numbers(times, bounds=True)
        self.nodes, self.roots, self.made = [], [], []  # made: the node of each prop
        self.meshes, self.materials, self.cameras, self.skins = [], {}, [], []
        self.samplers, self.channels = [], []
        self.joints: dict[int, list[int]] = {}  # of each skeleton's prop, the nodes of its joints
        self.instanced: list[int] = []

    def put(self, i: int, instanced: bool) -> None:
        """The node of a prop, with all that belongs to it."""
        import pygltflib as gl

        prop = self.props[i]
        own = self._node(prop.name, self.made[prop.parent] if prop.parent >= 0 else None)
        self.made.append(own)
        # what is skinned stands nowhere itself (3.7.3.3); only as a carrier of others it does
        carries = any(p.parent == i for p in self.props)
        if prop.copied is None and (prop.skin is None or carries or prop.parent >= 0):
            local = np.array([m.local[i] for m in self.moments])
            rotation, size = turns.split(local[:, :3, :3])
            self._placed(own, local[:, :3, 3], rotation, size)
        if prop.view is not None:
            lens = gl.Perspective(yfov=float(prop.view), znear=0.01)
            self.cameras.append(gl.Camera(type="perspective", perspective=lens))
            self.nodes[own].camera = len(self.cameras) - 1
        if prop.bones is not None:
            self._skeleton(i, own)
        if prop.skin is not None and (carries or prop.parent >= 0):
            own = self._node(f"{prop.name} skin", None)
        if prop.mesh is not None:
            shapes, weights = self._poses(i)
            made = self._shaped(prop.name, prop.mesh, shapes, prop.skin, [name for name, _ in prop.targets])
            if carries and weights.any() and prop.skin is None:
                own = self._node(f"{prop.name} shape", own)  # some players give weights to all below a node
            self._wear(own, made, weights)
        if prop.skin is not None:
            back = self.binary.numbers(exact_last_row(prop.skin.back))
            self.skins.append(gl.Skin(joints=self.joints[prop.bones_at], inverseBindMatrices=back))
            self.nodes[own].skin = len(self.skins) - 1
        if prop.copied is not None:
            self._copies(i, own, instanced)

    def _node(self, name: str, above: int | None) -> int:
        """A new node below another one, or at the root."""
        import pygltflib as gl

        self.nodes.append(gl.Node(name=name))
        own = len(self.nodes) - 1
        if above is None:
            self.roots.append(own)
        else:
            self.nodes[above].children = [*(self.nodes[above].children or []), own]
        return own

    def _keyed(self, node: int, word: str, values) -> None:
        import pygltflib as gl

        output = self.binary.numbers(values)
        self.samplers.append(gl.AnimationSampler(input=self.clock, output=output, interpolation="LINEAR"))
        target = gl.AnimationChannelTarget(node=node, path=word)
        self.channels.append(gl.AnimationChannel(sampler=len(self.samplers) - 1, target=target))

    def _placed(self, node: int, origin, turn, size) -> None:
        """Where a node stands: the first place, and keys where it moves."""
        turn = glb.unit32_rows(continuous(turn))
        own = {"translation": np.asarray(origin, np.float32), "rotation": turn, "scale": np.asarray(size, np.float32)}
        for word, values in own.items():
            setattr(self.nodes[node], word, values[0].tolist())
            if len(values) > 1 and np.ptp(values, axis=0).max() > 1e-7:
                self._keyed(node, word, values)

    def _skeleton(self, i: int, own: int) -> None:
        """Nodes of joints below the node of their skeleton."""
        bones, poses = self.props[i].bones, [m.poses[i] for m in self.moments]
        number: dict[int, int] = {}
        for k in map(int, bones.order):  # parents first
            above = int(bones.parents[k])
            number[k] = self._node(bones.joints[k].name, own if above < 0 else number[above])
            self._placed(number[k], *(np.array([pose[part][k] for pose in poses]) for part in range(3)))
        self.joints[i] = [number[k] for k in range(len(bones.joints))]

    def _poses(self, i: int) -> tuple[list[np.ndarray], np.ndarray]:
        """(the shapes of a prop's mesh, of which the first is its own; (f, s - 1) weights of the others over time)."""
        prop, moments = self.props[i], self.moments
        if prop.targets:
            own = moments[0].points[i]
            return [own, *(own + away for _, away in prop.targets)], np.array([m.weights[i] for m in moments])
        distinct = Distinct()
        return distinct.shapes, one_hot([distinct.number(m.points[i]) for m in moments], distinct)

    def _shaped(self, name: str, mesh, shapes, skin=None, names=()) -> int:
        """The number of a new mesh, with a morph target for each shape but the first."""
        self.meshes.append(_mesh(self.binary, name, mesh, shapes, self.materials, skin, names))
        return len(self.meshes) - 1

    def _wear(self, node: int, mesh: int, weights: np.ndarray) -> None:
        """Give a node a mesh, with what moves its points: weights (f, t) over time."""
        self.nodes[node].mesh = mesh
        if not weights.any():
            return
        if np.ptp(weights, axis=0).max() == 0:
            self.nodes[node].weights = weights[0].tolist()
        else:
            self._keyed(node, "weights", weights.ravel())

    def _copies(self, i: int, own: int, instanced: bool) -> None:
        prop, moments = self.props[i], [m.copies[i] for m in self.moments]
        first = moments[0]
        if instanced and _stands_still(moments):
            distinct = Distinct()
            weights = [distinct.number(m.shapes[0]) for m in moments]
            made = self._shaped(f"{prop.name} shape", prop.copied, distinct.shapes)
            self._wear(own, made, one_hot(weights, distinct))
            self.nodes[own].extensions = {WORD: {"attributes": {
                "TRANSLATION": self.binary.numbers(first.origin),
                "ROTATION": self.binary.numbers(glb.unit32_rows(first.turn)),
                "SCALE": self.binary.numbers(np.repeat(first.size[:, None], 3, axis=1)),
            }}}  # fmt: skip
            self.instanced.append(i)
            return
        meshes: dict[int, int] = {}  # of shapes that go together: the mesh
        for k, (weights, distinct) in enumerate(_courses(moments)):
            node = self._node(f"{prop.name} {k + 1}", own)
            name = f"{prop.name} shape {k + 1}"
            if id(distinct) not in meshes:
                meshes[id(distinct)] = self._shaped(name, prop.copied, distinct.shapes)
            elif weights.any():
                # its arrays are the first one's; players find what weights move by the name of a mesh
                alike = self.meshes[meshes[id(distinct)]]
                self.meshes.append(replace(alike, name=name))
                meshes[id(distinct)] = len(self.meshes) - 1
            self._wear(node, meshes[id(distinct)], weights)
            size = np.array([np.repeat(m.size[k], 3) for m in moments])
            self._placed(node, np.array([m.origin[k] for m in moments]), np.array([m.turn[k] for m in moments]), size)

    def save(self, path: Path, name: str, extras: dict) -> None:
        import pygltflib as gl

        animation = gl.Animation(name=name, samplers=self.samplers, channels=self.channels)
        more = {"extensionsUsed": [WORD], "extensionsRequired": [WORD]} if self.instanced else {}
        self.binary.save(
            path, scenes=[gl.Scene(nodes=self.roots, extras=extras)], nodes=self.nodes, meshes=self.meshes,
            cameras=self.cameras, skins=self.skins, materials=list(self.materials.values()),
            animations=[animation] if self.channels else [], **more,
        )  # fmt: skip


def _stands_still(moments) -> bool:
    """Whether copies are of one shape, and stand where they stood at first."""
    first = moments[0]
    return len(first.ids) > 0 and all(
        len(m.shapes) == 1 and len(m.ids) == len(first.ids)
        and max(np.abs(m.origin - first.origin).max(), np.abs(m.size - first.size).max()) < 1e-7
        and np.abs(np.abs((m.turn * first.turn).sum(axis=1)) - 1).max() < 1e-9
        for m in moments
    )  # fmt: skip


def _courses(moments):
    """Of each copy (its weights (f, s - 1) over time, the shapes that they weigh): the same shapes for all copies,
    where those are not too many, else their own for all that go alike."""
    every, numbers = Distinct(), []
    for m in moments:
        of = np.array([every.number(s) for s in m.shapes])
        numbers.append(of[m.which] if len(m.shapes) > 1 else np.full(len(m.ids), of[0] if len(of) else 0))
    numbers = np.array(numbers).reshape(len(moments), -1)
    if len(every.shapes) - 1 <= MOST_SHAPES:
        return [(one_hot(numbers[:, k], every), every) for k in range(numbers.shape[1])]
    alike: dict[bytes, tuple[np.ndarray, Distinct]] = {}
    found = []
    for k in range(numbers.shape[1]):
        key = numbers[:, k].tobytes()
        if key not in alike:
            own = Distinct()
            alike[key] = one_hot([own.number(every.shapes[n]) for n in numbers[:, k]], own), own
        found.append(alike[key])
    return found


def _mesh(binary, name, mesh, points, materials, skin=None, names=()):
    """A glTF mesh of the first shape, with a morph target for each other one. names -- of the targets, where they have
    any."""
    import pygltflib as gl

    parted, origin = mesh.parted()
    pick = (lambda p: p) if origin is None else lambda p: p[origin]
    first = pick(np.asarray(points[0], float))
    attributes = gl.Attributes(
        POSITION=binary.attribute("POSITION", first.astype(np.float32)),
        NORMAL=binary.attribute("NORMAL", glb.unit32(parted.normals(first))),
    )
    binary.looks(attributes, parted)
    if skin is not None:
        skin_attributes(binary, attributes, *(x if origin is None else x[origin] for x in (skin.indices, skin.weights)))
    away = lambda p: (pick(np.asarray(p, float)) - first).astype(np.float32)
    targets = [{"POSITION": binary.attribute("POSITION", away(p))} for p in points[1:]] or None
    primitives = []
    for m, triangles in glb.by_material(parted):
        number = None
        if m is not None:
            own = parted.materials[m]
            if own not in materials:
                materials[own] = binary.material(own)
            number = list(materials).index(own)
        indices = binary.indices(triangles)
        primitives.append(gl.Primitive(attributes=attributes, indices=indices, material=number, targets=targets))
    more = {"weights": [0.0] * len(targets)} if targets else {}
    if names:
        more["extras"] = {"targetNames": list(names)}
    return gl.Mesh(name=name, primitives=primitives, **more)
