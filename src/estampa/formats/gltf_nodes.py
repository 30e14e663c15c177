"""GLB of things that move as wholes: a node and a mesh each, and one animation of their places and turns (glTF 2.0)."""

from pathlib import Path

import numpy as np

from . import glb


def write(path: Path, rigid, times: np.ndarray, extras: dict) -> None:
    """rigid -- see press.rigid.Rigid; times -- (f,) s from 0."""
    import pygltflib as gl

    binary, mesh = glb.Binary(), rigid.mesh
    normals = mesh.rest_normals
    used = [None] if mesh.face_materials is None else list(np.unique(mesh.face_materials))
    meshes, nodes, channels, samplers = [], [], [], []
    clock = binary.numbers(times, bounds=True)
    for i, name in enumerate(rigid.names):
        own, points, triangles = rigid.part(i)
        attributes = gl.Attributes(
            POSITION=binary.attribute("POSITION", points.astype(np.float32)),
            NORMAL=binary.attribute("NORMAL", glb.unit32(normals[own])),
        )
        binary.looks(attributes, mesh, own)
        primitives = []
        for k, material in enumerate(used):
            chosen = triangles if material is None else triangles[rigid.materials(i) == material]
            if len(chosen):
                indices = binary.indices(chosen)
                number = None if material is None else k
                primitives.append(gl.Primitive(attributes=attributes, indices=indices, material=number))
        meshes.append(gl.Mesh(name=name, primitives=primitives))
        place, turn = rigid.places[:, i].astype(np.float32), glb.unit32_rows(rigid.turns[:, i])
        size = np.repeat(rigid.sizes[:, i, None], 3, axis=1).astype(np.float32)
        stands = {"translation": place, "rotation": turn} | ({"scale": size} if rigid.grows else {})
        nodes.append(gl.Node(name=name, mesh=i, **{word: values[0].tolist() for word, values in stands.items()}))
        for word, values in () if rigid.still(i) else stands.items():
            samplers.append(gl.AnimationSampler(input=clock, output=binary.numbers(values), interpolation="LINEAR"))
            target = gl.AnimationChannelTarget(node=i, path=word)
            channels.append(gl.AnimationChannel(sampler=len(samplers) - 1, target=target))
    animation = gl.Animation(name="Motion", samplers=samplers, channels=channels)
    binary.save(
        path,
        scenes=[gl.Scene(nodes=list(range(len(nodes))), extras=extras)],
        nodes=nodes,
        meshes=meshes,
        materials=[binary.material(mesh.materials[m]) for m in used if m is not None],
        animations=[animation] if len(times) > 1 and channels else [],
    )


class GltfNodesReader:
    """Reads the nodes back: their points, piece after piece, at the frames that the file's extras name."""

    def __init__(self, path: Path):
        import pygltflib as gl

        document = gl.GLTF2.load(str(path))
        blob = document.binary_blob()
        self.frames = document.scenes[0].extras["estampa"]["frames"]
        self._points, self._moves = [], []
        for number, node in enumerate(document.nodes):
            accessor = document.meshes[node.mesh].primitives[0].attributes.POSITION
            self._points.append(glb.rows(document, blob, accessor).astype(float))
            moves = {"translation": np.array([node.translation]), "rotation": np.array([node.rotation])}
            moves["scale"] = np.array([node.scale or [1.0, 1.0, 1.0]])
            for animation in document.animations:
                for channel in animation.channels:
                    if channel.target.node == number:
                        output = animation.samplers[channel.sampler].output
                        moves[channel.target.path] = glb.rows(document, blob, output).astype(float)
            self._moves.append(moves)

    def points(self, frame: int) -> np.ndarray:
        from ..geometry.pose import turned

        f, found = self.frames.index(frame), []
        for points, moves in zip(self._points, self._moves, strict=True):
            pick = lambda rows: rows[min(f, len(rows) - 1)]
            found.append(turned(pick(moves["rotation"]), points * pick(moves["scale"])) + pick(moves["translation"]))
        return np.concatenate(found)
