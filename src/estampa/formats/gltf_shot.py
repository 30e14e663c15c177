"""A shot as GLB: a tree of nodes with their places over time, meshes whose points move as morph targets, copies as
nodes of one mesh."""

from pathlib import Path

import numpy as np

from ..geometry import pose as turns
from . import glb

MOST_MORPHS = 400  # frames of a mesh whose points move


def write_shot(path: Path, name: str, props, frames: list[int], rate: float, moments, extras: dict) -> None:
    """props, moments -- see usd_shot, a Moment for each frame. glTF 2.0, sections 3.7 and 3.11."""
    import pygltflib as gl

    binary = glb.Binary()
    times = (np.asarray(frames, float) - frames[0]) / rate
    clock = binary.numbers(times, bounds=True)
    nodes, meshes, materials, cameras = [], [], {}, []
    samplers, channels, made = [], [], []
    roots = []

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
        if prop.mesh is not None:
            points = [m.points[i] for m in moments]
            mesh, weights = _mesh(binary, prop.name, prop.mesh, points, materials)
            meshes.append(mesh)
            nodes[own].mesh = len(meshes) - 1
            if weights is not None:
                keyed(own, "weights", weights.ravel())
        if prop.copied is not None:
            _copies(binary, prop, [m.copies[i] for m in moments], nodes, own, meshes, materials, placed, keyed)
    animation = gl.Animation(name=name, samplers=samplers, channels=channels)
    binary.save(
        path, scenes=[gl.Scene(nodes=roots, extras=extras)], nodes=nodes, meshes=meshes, cameras=cameras,
        materials=list(materials.values()), animations=[animation] if channels else [],
    )  # fmt: skip


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


def _mesh(binary, name, mesh, points, materials):
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
