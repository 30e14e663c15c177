"""GLB (glTF 2.0): one static triangle mesh with normals and texture coordinates, one glTF vertex for each of ours."""

from pathlib import Path

import numpy as np

from ..geometry.material import Material, Picture

BRIGHT = "KHR_materials_emissive_strength"


class Binary:
    """Gathers arrays into one buffer with its views and accessors."""

    def __init__(self):
        self.views, self.accessors, self.data = [], [], bytearray()
        self.images, self.textures, self._pictures = [], [], {}
        self.used: list[str] = []  # extensions of the standard

    def add(self, array, target, type_, component, bounds=False) -> int:
        import pygltflib as gl

        self.data += b"\0" * (-len(self.data) % 4)
        self.views.append(gl.BufferView(buffer=0, byteOffset=len(self.data), byteLength=array.nbytes, target=target))
        accessor = gl.Accessor(bufferView=len(self.views) - 1, componentType=component, count=len(array), type=type_)
        if bounds:
            accessor.min, accessor.max = array.min(axis=0).tolist(), array.max(axis=0).tolist()
        self.accessors.append(accessor)
        self.data += array.tobytes()
        return len(self.accessors) - 1

    def attribute(self, word, array) -> int:
        import pygltflib as gl

        type_ = {1: gl.SCALAR, 2: gl.VEC2, 3: gl.VEC3, 4: gl.VEC4}[array.shape[1]]
        component = {"u1": gl.UNSIGNED_BYTE, "u2": gl.UNSIGNED_SHORT}.get(array.dtype.str[1:], gl.FLOAT)
        return self.add(array, gl.ARRAY_BUFFER, type_, component, word == "POSITION")

    def numbers(self, array, bounds=False) -> int:
        """Times, turns, matrices: what is no attribute of a vertex. float32 (n,), (n, 3), (n, 4) or (n, 4, 4)."""
        import pygltflib as gl

        array = np.ascontiguousarray(array, np.float32)
        type_ = {(): gl.SCALAR, (3,): gl.VEC3, (4,): gl.VEC4, (4, 4): gl.MAT4}[array.shape[1:]]
        if array.ndim == 3:
            array = np.ascontiguousarray(array.transpose(0, 2, 1))  # glTF has matrices by columns
        number = self.add(array, None, type_, gl.FLOAT)
        if bounds:
            accessor = self.accessors[number]
            accessor.min, accessor.max = [float(array.min())], [float(array.max())]
        return number

    def indices(self, triangles) -> int:
        import pygltflib as gl

        flat = np.asarray(triangles, np.uint32).ravel()
        return self.add(flat, gl.ELEMENT_ARRAY_BUFFER, gl.SCALAR, gl.UNSIGNED_INT)

    def material(self, m: Material):
        """A glTF material with its picture, which is taken into the file once."""
        import pygltflib as gl

        plain = gl.PbrMetallicRoughness(
            baseColorFactor=[*map(float, m.colour), float(m.opacity)],
            metallicFactor=float(m.metallic),
            roughnessFactor=float(m.roughness),
        )
        if m.picture is not None:
            number = 0 if m.uv == "uv" else int(m.uv.removeprefix("uv") or 0)
            plain.baseColorTexture = gl.TextureInfo(index=self._texture(m.picture), texCoord=number)
        how = {"opaque": None, "mask": "MASK", "blend": "BLEND"}[m.alpha]
        made = gl.Material(name=m.name, doubleSided=m.two_sided, pbrMetallicRoughness=plain, alphaMode=how)
        if any(m.emission):
            strength = max(1.0, *m.emission)  # the standard's own factor ends at 1
            made.emissiveFactor = [float(c) / strength for c in m.emission]
            if strength > 1:
                made.extensions = {BRIGHT: {"emissiveStrength": float(strength)}}
                self.used.append(BRIGHT)
        made.alphaCutoff = float(m.cutoff) if m.alpha == "mask" else None
        return made

    def _texture(self, picture: Picture) -> int:
        import pygltflib as gl

        if picture not in self._pictures:
            self.data += b"\0" * (-len(self.data) % 4)
            self.views.append(gl.BufferView(buffer=0, byteOffset=len(self.data), byteLength=len(picture.data)))
            self.data += picture.data
            kind = "image/png" if picture.data[:4] == b"\x89PNG" else "image/jpeg"
            self.images.append(gl.Image(name=picture.name, mimeType=kind, bufferView=len(self.views) - 1))
            self.textures.append(gl.Texture(source=len(self.images) - 1, sampler=0))
            self._pictures[picture] = len(self.textures) - 1
        return self._pictures[picture]

    def looks(self, attributes, mesh, rows=slice(None)) -> None:
        """All texture coordinates and colours that a parted mesh has by vertex, of these rows."""
        for k, values in enumerate(coordinates(mesh)):
            setattr(attributes, f"TEXCOORD_{k}", self.attribute(f"TEXCOORD_{k}", np.ascontiguousarray(values[rows])))
        for name, values in mesh.by_vertex.items():
            word = "COLOR_0" if name == "colour" else own_word(name)
            if word:
                setattr(attributes, word, self.attribute(word, np.ascontiguousarray(values[rows])))

    def save(self, path, **parts):
        import pygltflib as gl

        if self.images:
            sampler = gl.Sampler(wrapS=gl.REPEAT, wrapT=gl.REPEAT)
            parts |= {"images": self.images, "textures": self.textures, "samplers": [sampler]}
        if self.used:
            parts["extensionsUsed"] = sorted({*self.used, *parts.get("extensionsUsed", [])})
        document = gl.GLTF2(
            asset=gl.Asset(version="2.0", generator="Estampa"),
            scene=0,
            accessors=self.accessors,
            bufferViews=self.views,
            buffers=[gl.Buffer(byteLength=len(self.data))],
            **parts,
        )
        document.set_binary_blob(bytes(self.data))
        document.save_binary(str(path))


def own_word(name: str) -> str:
    """The word of an attribute of a name of its own (glTF 2.0, section 3.7.2.1: those begin with “_”); none for those
    that glTF has words for."""
    plain = name == "normal" or name == "colour" or (name.startswith("uv") and name[2:].isdigit()) or name == "uv"
    return "" if plain else "_" + "".join(c if c.isalnum() else "_" for c in name).upper()


def coordinates(mesh) -> list[np.ndarray]:
    """(n, 2) float32 of each set of texture coordinates of a parted mesh, without gaps; v runs downwards in glTF."""
    named = {"uv": mesh.uv} | {n: v for n, v in mesh.by_vertex.items() if n.startswith("uv") and n != "uv"}
    named = {n: np.asarray(v, np.float32) for n, v in named.items() if v is not None}
    last = max((0 if n == "uv" else int(n[2:]) for n in named), default=-1)
    none = np.zeros((mesh.count, 2), np.float32)
    sets = [named.get("uv" if k == 0 else f"uv{k}", none) for k in range(last + 1)]
    return [np.stack([v[:, 0], 1 - v[:, 1]], axis=1) for v in sets]


def write_mesh(path: Path, name: str, points, normals, mesh, texcoords: list[np.ndarray], extras: dict) -> None:
    """points, normals (n, 3) of a mesh's vertices, with its triangles and materials; texcoords -- a (n, 2) array for
    TEXCOORD_0, TEXCOORD_1, ..."""
    import pygltflib as gl

    binary, attributes = Binary(), gl.Attributes()
    blobs = [("POSITION", np.asarray(points, np.float32)), ("NORMAL", unit32(normals))]
    blobs += [(f"TEXCOORD_{i}", np.asarray(t, np.float32)) for i, t in enumerate(texcoords)]
    meta = {"COLOR_0" if n == "colour" else own_word(n): v for n, v in mesh.by_vertex.items()}
    blobs += [(word, values) for word, values in meta.items() if word]
    for word, array in blobs:
        setattr(attributes, word, binary.attribute(word, array))
    parts = by_material(mesh)
    primitives = [
        gl.Primitive(attributes=attributes, indices=binary.indices(t), material=None if m is None else k)
        for k, (m, t) in enumerate(parts)
    ]
    binary.save(
        path,
        scenes=[gl.Scene(nodes=[0])],
        nodes=[gl.Node(mesh=0, name=name)],
        meshes=[gl.Mesh(name=name, extras=extras, primitives=primitives)],
        materials=[binary.material(mesh.materials[m]) for m, _ in parts if m is not None],
    )


def by_material(mesh) -> list[tuple[int | None, np.ndarray]]:
    """(number of a material, or None, the triangles that have it) of all that are used."""
    if mesh.face_materials is None:
        return [(None, mesh.triangles)]
    of = mesh.face_materials[mesh.triangle_faces]
    return [(int(m), mesh.triangles[of == m]) for m in np.unique(of)]


def write_strip(path: Path, names: list[str], poses, mesh, extras: dict) -> None:
    """One mesh and node for each pose, on one topology, with the mesh's materials.

    poses -- (points (n, 3), normals (n, 3)) of each name
    """
    write_strips(path, names, [("", mesh, poses)], extras)


def write_strips(path: Path, names: list[str], parts: list[tuple], extras: dict) -> None:
    """The same of several parts: a node for each pose, in order, with a node for each of its parts under it.

    parts -- (name, mesh, [(points (n, 3), normals (n, 3)) of each pose])
    """
    import pygltflib as gl

    binary, materials, number = Binary(), [], {}
    meshes, nodes = [], [gl.Node(name=name) for name in names]
    for part, mesh, poses in parts:
        shared, prims = gl.Attributes(), []
        binary.looks(shared, mesh)
        own = {n: v for n, v in vars(shared).items() if v is not None}
        for m, triangles in by_material(mesh):
            if m is not None and mesh.materials[m] not in number:
                number[mesh.materials[m]] = len(materials)
                materials.append(binary.material(mesh.materials[m]))
            prims.append((None if m is None else number[mesh.materials[m]], binary.indices(triangles)))
        for k, (points, normals) in enumerate(poses):
            attributes = gl.Attributes(
                POSITION=binary.attribute("POSITION", np.asarray(points, np.float32)),
                NORMAL=binary.attribute("NORMAL", unit32(normals)), **own,
            )  # fmt: skip
            primitives = [gl.Primitive(attributes=attributes, indices=i, material=m) for m, i in prims]
            meshes.append(gl.Mesh(name=f"{names[k]}{f'_{part}' if part else ''}", primitives=primitives))
            if len(parts) == 1:
                nodes[k].mesh = len(meshes) - 1
            else:
                nodes[k].children = [*(nodes[k].children or []), len(nodes)]
                nodes.append(gl.Node(name=f"{names[k]}_{part}", mesh=len(meshes) - 1))
    scene = gl.Scene(nodes=list(range(len(names))), extras=extras)
    binary.save(path, scenes=[scene], nodes=nodes, meshes=meshes, materials=materials)


def read_strip(path: Path) -> tuple[list[np.ndarray], dict]:
    """(points (n, 3) float32 of each pose, its parts one after another, the scene's extras)."""
    import pygltflib as gl

    document = gl.GLTF2.load(str(path))
    blob = document.binary_blob()
    read = lambda node: rows(document, blob, document.meshes[node.mesh].primitives[0].attributes.POSITION)
    found = []
    for i in document.scenes[0].nodes:
        node = document.nodes[i]
        parts = [node] if node.mesh is not None else [document.nodes[c] for c in node.children]
        found.append(np.concatenate([read(p) for p in parts]))
    return found, document.scenes[0].extras


def unit32(normals) -> np.ndarray:
    normals = np.where(np.linalg.norm(normals, axis=1, keepdims=True) > 0.5, normals, [0.0, 1.0, 0.0])
    narrow = np.asarray(normals, np.float32)
    return narrow / np.linalg.norm(narrow, axis=1, keepdims=True).astype(np.float32)


def unit32_rows(turns) -> np.ndarray:
    """Unit quaternions, of length 1 in float32 too."""
    narrow = np.asarray(turns, np.float32)
    return narrow / np.linalg.norm(narrow, axis=-1, keepdims=True).astype(np.float32)


def read_attribute(path: Path, word: str) -> np.ndarray:
    """An attribute of the first primitive, as float32 rows."""
    import pygltflib as gl

    document = gl.GLTF2.load(str(path))
    accessor = getattr(document.meshes[0].primitives[0].attributes, word)
    return rows(document, document.binary_blob(), accessor)


def read_triangles(path: Path) -> np.ndarray:
    """(t, 3) of all primitives of the first mesh, which share their vertices."""
    import pygltflib as gl

    document = gl.GLTF2.load(str(path))
    blob = document.binary_blob()
    every = [rows(document, blob, p.indices).ravel() for p in document.meshes[0].primitives]
    return np.concatenate(every).astype(np.int64).reshape(-1, 3)


def rows(document, blob, number: int) -> np.ndarray:
    """(count, width) of an accessor: where it can be the bytes of the file themselves, not to be written to."""
    import pygltflib as gl

    accessor = document.accessors[number]
    width = {gl.SCALAR: 1, gl.VEC2: 2, gl.VEC3: 3, gl.VEC4: 4, gl.MAT4: 16}[accessor.type]
    kind = np.dtype(TYPES[accessor.componentType])
    if accessor.bufferView is None:
        return np.zeros((accessor.count, width), np.float32)
    view = document.bufferViews[accessor.bufferView]
    start, step = (view.byteOffset or 0) + (accessor.byteOffset or 0), view.byteStride or width * kind.itemsize
    if (accessor.count - 1) * step + width * kind.itemsize + start > len(blob):
        raise ValueError("an accessor reaches past the end of the file")
    raw = np.ndarray((accessor.count, width), kind, blob, start, (step, kind.itemsize))
    if accessor.normalized:
        return np.maximum(raw / np.iinfo(kind).max, -1).astype(np.float32)
    return raw if raw.flags.c_contiguous else raw.copy()


TYPES = {5120: "<i1", 5121: "<u1", 5122: "<i2", 5123: "<u2", 5125: "<u4", 5126: "<f4"}
