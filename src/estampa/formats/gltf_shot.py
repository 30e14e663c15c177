"""A shot as GLB: a tree of nodes with their places over time, meshes whose points move as morph targets, copies as
nodes of one mesh."""

from pathlib import Path

import numpy as np

from ..geometry import pose as turns
from . import glb
from .gltf_instances import WORD
from .skinned import exact_last_row, skin_attributes

MOST_MORPHS = 400  # frames of a mesh whose points move


def write_shot(path: Path, name: str, props, frames, rate: float, moments, extras: dict, instanced: bool) -> list[int]:
    """props, moments -- see usd_shot, a Moment for each frame; instanced -- whether copies that stand still and are of
    one shape are instances of one node (EXT_mesh_gpu_instancing). Returns the numbers of those that are. glTF 2.0,
    sections 3.7 and 3.11."""
    import pygltflib as gl

    binary = glb.Binary()
    times = (np.asarray(frames, float) - frames[0]) / rate
    clock = binary.numbers(times, bounds=True)
    nodes, meshes, materials, cameras, skins = [], [], {}, [], {}
    as_instances = []
    samplers, channels, made = [], [], []
    roots, joints, gone = [], [], set()

    def keyed(node, word, values):
        samplers.append(gl.AnimationSampler(input=clock, output=binary.numbers(values), interpolation="LINEAR"))
        target = gl.AnimationChannelTarget(node=node, path=word)
        channels.append(gl.AnimationChannel(sampler=len(samplers) - 1, target=target))

    def placed(node, origin, turn, size):
        """Where a node stands: the first place, and keys where it moves."""
        turn = glb.unit32_rows(_continuous(turn))
        own = {"translation": np.asarray(origin, np.float32), "rotation": turn, "scale": np.asarray(size, np.float32)}
        for word, values in own.items():
            setattr(nodes[node], word, values[0].tolist())
            if len(values) > 1 and np.ptp(values, axis=0).max() > 1e-7:
                keyed(node, word, values)

    for i, prop in enumerate(props):
        nodes.append(gl.Node(name=prop.name))
        own = len(nodes) - 1
        made.append(own)
        if prop.parent < 0:
            roots.append(own)
        else:
            above = nodes[made[prop.parent]]
            above.children = [*(above.children or []), own]
        if prop.copied is None:
            local = np.array([m.local[i] for m in moments])
            rotation, size = turns.split(local[:, :3, :3])
            placed(own, local[:, :3, 3], rotation, size)
        if prop.view is not None:
            lens = gl.Perspective(yfov=float(prop.view), znear=0.01)
            cameras.append(gl.Camera(type="perspective", perspective=lens))
            nodes[own].camera = len(cameras) - 1
        if prop.bones is not None:
            skins[i] = _joints(prop.bones, [m.poses[i] for m in moments], nodes, own, placed)
        if prop.mesh is not None:
            points = [m.points[i] for m in moments]
            mesh, weights = _mesh(binary, prop.name, prop.mesh, points, materials, prop.skin)
            meshes.append(mesh)
            if prop.skin is not None:  # at the root: what carries a skinned node does not move it (3.7.3.3)
                back = binary.numbers(exact_last_row(prop.skin.back))
                joints.append(gl.Skin(joints=skins[prop.bones_at], inverseBindMatrices=back))
                if own in roots and not any(p.parent == i for p in props):
                    nodes[own] = gl.Node(name=prop.name)
                    gone.add(own)
                else:
                    nodes.append(gl.Node(name=f"{prop.name} skin"))
                    own = len(nodes) - 1
                    roots.append(own)
                nodes[own].skin = len(joints) - 1
            nodes[own].mesh = len(meshes) - 1
            if weights is not None:
                keyed(own, "weights", weights.ravel())
        if prop.copied is not None:
            still = [m.copies[i] for m in moments]
            if instanced and _stands_still(still):
                as_instances.append(i)
                sway = lambda w, own=own: keyed(own, "weights", w)
                _instances(binary, prop, still, nodes[own], meshes, materials, sway)
            else:
                _copies(binary, prop, still, nodes, own, meshes, materials, placed, keyed)
    channels = [c for c in channels if c.target.node not in gone or c.target.path == "weights"]
    samplers = [samplers[c.sampler] for c in channels]
    for k, channel in enumerate(channels):
        channel.sampler = k
    animation = gl.Animation(name=name, samplers=samplers, channels=channels)
    more = {"extensionsUsed": [WORD], "extensionsRequired": [WORD]} if as_instances else {}
    binary.save(
        path, scenes=[gl.Scene(nodes=roots, extras=extras)], nodes=nodes, meshes=meshes, cameras=cameras, skins=joints,
        materials=list(materials.values()), animations=[animation] if channels else [], **more,
    )  # fmt: skip
    return as_instances


def _joints(bones, poses, nodes, own, placed) -> list[int]:
    """Nodes of joints below the node of their skeleton; returns their numbers."""
    import pygltflib as gl

    first = len(nodes)
    nodes += [gl.Node(name=j.name) for j in bones.joints]
    for k, p in enumerate(bones.parents):
        above = nodes[own if p < 0 else first + int(p)]
        above.children = [*(above.children or []), first + k]
    for k in range(len(bones.joints)):
        placed(first + k, *(np.array([pose[part][k] for pose in poses]) for part in range(3)))
    return list(range(first, first + len(bones.joints)))


def _stands_still(moments) -> bool:
    """Whether copies are of one shape, and stand where they stood at first."""
    first = moments[0]
    return len(first.ids) > 0 and all(
        len(m.shapes) == 1 and len(m.ids) == len(first.ids)
        and max(np.abs(m.origin - first.origin).max(), np.abs(m.size - first.size).max()) < 1e-7
        and np.abs(np.abs((m.turn * first.turn).sum(axis=1)) - 1).max() < 1e-9
        for m in moments
    )  # fmt: skip


def _instances(binary, prop, moments, node, meshes, materials, keyed) -> None:
    """Copies as instances of one mesh; they sway together where it does."""
    mesh, weights = _mesh(binary, f"{prop.name} shape", prop.copied, [m.shapes[0] for m in moments], materials)
    meshes.append(mesh)
    node.mesh, first = len(meshes) - 1, moments[0]
    own = {
        "TRANSLATION": binary.numbers(first.origin), "ROTATION": binary.numbers(glb.unit32_rows(first.turn)),
        "SCALE": binary.numbers(np.repeat(first.size[:, None], 3, axis=1)),
    }  # fmt: skip
    node.extensions = {WORD: {"attributes": own}}
    if weights is not None:
        keyed(weights.ravel())


def _copies(binary, prop, moments, nodes, own, meshes, materials, placed, keyed) -> None:
    import pygltflib as gl

    first = moments[0]
    alike = len(first.shapes) == 1
    for k in range(len(first.ids)):
        if not alike or k == 0:
            which = [0 if alike else int(m.which[k]) for m in moments]
            points = [m.shapes[w] for m, w in zip(moments, which, strict=True)]
            mesh, weights = _mesh(binary, f"{prop.name} shape {k + 1}", prop.copied, points, materials)
            meshes.append(mesh)
        nodes.append(gl.Node(name=f"{prop.name} {k + 1}", mesh=len(meshes) - 1))
        number = len(nodes) - 1
        nodes[own].children = [*(nodes[own].children or []), number]
        size = np.array([np.repeat(m.size[k], 3) for m in moments])
        placed(number, np.array([m.origin[k] for m in moments]), np.array([m.turn[k] for m in moments]), size)
        if weights is not None:
            keyed(number, "weights", weights.ravel())


def _mesh(binary, name, mesh, points, materials, skin=None):
    """(a glTF mesh of the first shape, (f, t) weights of its morph targets or None where it keeps its shape)."""
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
    still = all(np.abs(p - points[0]).max(initial=0.0) < 1e-7 for p in points[1:])
    targets, weights = None, None
    if not still:
        targets = [{"POSITION": binary.attribute("POSITION", (pick(p) - first).astype(np.float32))} for p in points[1:]]
        weights = np.concatenate([np.zeros((1, len(targets))), np.eye(len(targets))])
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
    more = {} if still else {"weights": [0.0] * len(targets)}
    return gl.Mesh(name=name, primitives=primitives, **more), weights


def _continuous(rows) -> np.ndarray:
    """(f, 4) quaternions that go the shorter way from one to the next."""
    found = np.array(rows, float)
    for k in range(1, len(found)):
        if found[k] @ found[k - 1] < 0:
            found[k] = -found[k]
    return found
