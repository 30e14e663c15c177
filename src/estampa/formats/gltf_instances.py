"""GLB of instances: a node for each shape, with all places in which it stands (glTF 2.0, EXT_mesh_gpu_instancing)."""

from pathlib import Path

import numpy as np

from ..geometry.material import Material
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
        binary.looks(attributes, mesh)
        primitives = []
        for m, triangles in glb.by_material(mesh):
            own = None if m is None else mesh.materials[m]
            if look[1] >= 0:
                colour = tuple(np.round(look[1:], 6).tolist())
                own = Material("Grain", colour) if own is None else own._replace(colour=colour)
            number = None
            if own is not None:
                if own not in numbers:
                    numbers[own] = len(materials)
                    materials.append(binary.material(own))
                number = numbers[own]
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


class GltfInstancesReader:
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
