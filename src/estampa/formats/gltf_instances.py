"""GLB of instances: a node for each shape, with all places in which it stands (glTF 2.0, EXT_mesh_gpu_instancing)."""

from pathlib import Path

import numpy as np

from . import glb
from .marks import marks_of

WORD = "EXT_mesh_gpu_instancing"


def write(path: Path, name: str, instances, shapes, extras: dict) -> None:
    """instances -- press.grains.Instances; shapes -- press.grains.Shapes. A shape in several colours is a node for
    each, with a material of its own."""
    import pygltflib as gl

    binary, meshes, nodes, materials, numbers = glb.Binary(), [], [], [], {}
    looks = np.column_stack([instances.shape, np.round(instances.colour, 6)])
    for look in np.unique(looks, axis=0):
        rows = np.flatnonzero((looks == look).all(axis=1))
        mesh, points = shapes.every[int(look[0])]
        attributes = gl.Attributes(
            POSITION=binary.attribute("POSITION", np.ascontiguousarray(points, np.float32)),
            NORMAL=binary.attribute("NORMAL", glb.unit32(mesh.normals(points))),
        )
        if mesh.uv is not None:
            attributes.TEXCOORD_0 = binary.attribute("TEXCOORD_0", np.asarray(mesh.uv, np.float32))
        primitives = []
        for m, triangles in glb.by_material(mesh):
            colour = look[1:] if look[1] >= 0 else None if m is None else mesh.materials[m][1]
            words = "Grain" if m is None else mesh.materials[m][0]
            number = None
            if colour is not None:
                key = (words, *np.round(colour, 6))
                if key not in numbers:
                    numbers[key] = len(materials)
                    materials.append(glb.material(words, colour))
                number = numbers[key]
            indices = binary.indices(triangles)
            primitives.append(gl.Primitive(attributes=attributes, indices=indices, material=number))
        meshes.append(gl.Mesh(name=f"{name} shape {int(look[0]) + 1}", primitives=primitives))
        own = {
            "TRANSLATION": binary.numbers(instances.place[rows]),
            "ROTATION": binary.numbers(glb.unit32_rows(instances.turn[rows])),
            "SCALE": binary.numbers(np.repeat(instances.size[rows, None], 3, axis=1)),
        }
        # a number of 62 bits is no float: it goes as text, row for row
        ids = {"grain_ids": [str(i) for i in instances.ids[rows]]}
        own = {"extensions": {WORD: {"attributes": own}}, "extras": ids}
        nodes.append(gl.Node(mesh=len(meshes) - 1, name=f"{name} {len(nodes) + 1}", **own))
    binary.save(
        path,
        scenes=[gl.Scene(nodes=list(range(len(nodes))), extras=extras)],
        nodes=nodes,
        meshes=meshes,
        materials=materials,
        extensionsUsed=[WORD],
        extensionsRequired=[WORD],
    )


class Reader:
    """Reads the places back, by the numbers of grains."""

    def __init__(self, path: Path):
        import pygltflib as gl

        self._document = gl.GLTF2.load(str(path))
        self.frames = self._document.scenes[0].extras["frames"]

    def marks(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        document, blob = self._document, self._document.binary_blob()
        ids, places, rotations, sizes = [], [], [], []
        for node in document.nodes:
            own = node.extensions[WORD]["attributes"]
            ids += [int(i) for i in node.extras["grain_ids"]]
            places.append(glb.rows(document, blob, own["TRANSLATION"]))
            rotations.append(glb.rows(document, blob, own["ROTATION"]))
            sizes.append(glb.rows(document, blob, own["SCALE"])[:, 0])
        if not ids:
            return np.zeros(0, np.int64), np.zeros((0, 3))
        columns = [np.concatenate(c).astype(float) for c in (places, rotations, sizes)]
        return np.array(ids, np.int64), marks_of(*columns)
