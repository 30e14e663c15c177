"""GLB (glTF 2.0): one static triangle mesh with normals and texture coordinates, one glTF vertex for each of ours."""

from pathlib import Path

import numpy as np


def write_mesh(path: Path, name: str, points, normals, triangles, texcoords: list[np.ndarray], extras: dict) -> None:
    """points, normals (n, 3); triangles (t, 3); texcoords -- a (n, 2) array for TEXCOORD_0, TEXCOORD_1, ..."""
    import pygltflib as gl

    normals = np.where(np.linalg.norm(normals, axis=1, keepdims=True) > 0.5, normals, [0.0, 1.0, 0.0])
    blobs = [("POSITION", np.asarray(points, np.float32)), ("NORMAL", _unit32(normals))]
    blobs += [(f"TEXCOORD_{i}", np.asarray(t, np.float32)) for i, t in enumerate(texcoords)]
    indices = np.asarray(triangles, np.uint32).ravel()
    views, accessors, data = [], [], b""

    def add(array, target, type_, component, bounds=False):
        nonlocal data
        views.append(gl.BufferView(buffer=0, byteOffset=len(data), byteLength=array.nbytes, target=target))
        accessor = gl.Accessor(bufferView=len(views) - 1, componentType=component, count=len(array), type=type_)
        if bounds:
            accessor.min, accessor.max = array.min(axis=0).tolist(), array.max(axis=0).tolist()
        accessors.append(accessor)
        data += array.tobytes()
        return len(accessors) - 1

    attributes = gl.Attributes()
    for word, array in blobs:
        type_ = gl.VEC2 if array.shape[1] == 2 else gl.VEC3
        setattr(attributes, word, add(array, gl.ARRAY_BUFFER, type_, gl.FLOAT, word == "POSITION"))
    index = add(indices, gl.ELEMENT_ARRAY_BUFFER, gl.SCALAR, gl.UNSIGNED_INT)
    document = gl.GLTF2(
        asset=gl.Asset(version="2.0", generator="Estampa"),
        scene=0,
        scenes=[gl.Scene(nodes=[0])],
        nodes=[gl.Node(mesh=0, name=name)],
        meshes=[gl.Mesh(name=name, extras=extras, primitives=[gl.Primitive(attributes=attributes, indices=index)])],
        accessors=accessors,
        bufferViews=views,
        buffers=[gl.Buffer(byteLength=len(data))],
    )
    document.set_binary_blob(data)
    document.save_binary(str(path))


def _unit32(normals) -> np.ndarray:
    narrow = np.asarray(normals, np.float32)
    return narrow / np.linalg.norm(narrow, axis=1, keepdims=True).astype(np.float32)


def read_attribute(path: Path, word: str) -> np.ndarray:
    """An attribute of the first primitive, as float32 rows."""
    import pygltflib as gl

    document = gl.GLTF2.load(str(path))
    accessor = document.accessors[getattr(document.meshes[0].primitives[0].attributes, word)]
    view = document.bufferViews[accessor.bufferView]
    width = {gl.VEC2: 2, gl.VEC3: 3}[accessor.type]
    blob = document.binary_blob()
    start = (view.byteOffset or 0) + (accessor.byteOffset or 0)
    return np.frombuffer(blob, np.float32, accessor.count * width, start).reshape(-1, width)
