"""GLB and glTF 2.0, in: the tree of nodes with their meshes, materials, pictures, cameras and animation."""

import base64
import json
from pathlib import Path
from urllib.parse import unquote

import numpy as np

from ..errors import EstampaError
from ..geometry.material import Material, Picture
from ..geometry.mesh import Mesh
from . import bounds, glb
from .asset import MOST_NODES, Asset, Node, welded, with_corners
from .gltf_motion import placed, sampled

KNOWN = {"EXT_mesh_gpu_instancing", "KHR_materials_unlit", "KHR_texture_transform", "KHR_mesh_quantization"}
TRIANGLES, STRIP, FAN = 4, 5, 6
MOST_PICTURE = 512_000_000  # bytes


def read(path: Path, progress) -> Asset:
    import pygltflib as gl

    data = bounds.read_bytes(path)
    told = bounds.check_gltf(path, data, needs_pictures=False)
    wanted = set(told.get("extensionsRequired", [])) - KNOWN
    if wanted:
        cause = f"needs {', '.join(sorted(wanted))}, which is not read."
        raise EstampaError(path.name, cause, "Export it without compression or other extensions.")
    if len(told.get("nodes", [])) > MOST_NODES:
        cause = f"has {len(told['nodes']):,} nodes; {MOST_NODES:,} are the most."
        raise EstampaError(path.name, cause, "Join them where it was made.")
    progress(0.1, "Reading")
    document = gl.GLTF2.from_json(json.dumps(told))
    return _Reader(path, data, document, progress).asset()


class _Reader:
    def __init__(self, path, data, document, progress):
        self.path, self.document, self.progress = path, document, progress
        blob = bounds.chunks(data)[1]
        self.buffers = [self._bytes(b.uri) if b.uri else blob for b in document.buffers]
        self.left: list[str] = []
        self._materials: dict[int, Material] = {}
        self._meshes: dict[int, Mesh | None] = {}

    def _bytes(self, uri: str) -> bytes | None:
        """What a URI holds; None where it is not there. Never from outside the file's own folder."""
        if uri.startswith("data:"):
            return base64.b64decode(uri.partition(",")[2])
        file = bounds.file_of(self.path, uri, must_be=False)
        return file.read_bytes() if file is not None and file.stat().st_size < MOST_PICTURE else None

    def rows(self, number: int) -> np.ndarray:
        accessor = self.document.accessors[number]
        view = self.document.bufferViews[accessor.bufferView] if accessor.bufferView is not None else None
        found = glb.rows(self.document, self.buffers[view.buffer] if view is not None else b"", number)
        sparse = accessor.sparse
        if sparse is not None:
            found = found.copy()
            found[self._part(sparse.indices, sparse.count, 1).ravel()] = self._part(
                sparse.values, sparse.count, found.shape[1], accessor.componentType
            )
        return found

    def _part(self, told, count, width, component=None):
        view = self.document.bufferViews[told.bufferView]
        kind = np.dtype(glb.TYPES[component or told.componentType])
        start = (view.byteOffset or 0) + (told.byteOffset or 0)
        return np.frombuffer(self.buffers[view.buffer], kind, count * width, start).reshape(count, width)

    def asset(self) -> Asset:
        d = self.document
        parents = np.full(len(d.nodes), -1)
        for i, node in enumerate(d.nodes):
            for child in node.children or []:
                if not 0 <= child < len(d.nodes) or parents[child] >= 0:
                    cause = f"has a node ({node.name or i}) whose child {child} is not there or has two parents."
                    raise EstampaError(self.path.name, cause, "Export it again.")
                parents[child] = i
        self._no_rings(parents)
        shown = self._shown(parents)
        tracks, span = self._tracks()
        nodes, number = [], {}
        for count, i in enumerate(shown):
            node = d.nodes[i]
            self.progress(0.1 + 0.8 * count / max(len(shown), 1), "Reading meshes")
            made = Node(node.name or f"Node {i + 1}", number.get(int(parents[i]), -1), self._local(node, {}))
            if node.mesh is not None:
                made.mesh = self._mesh(node.mesh)
                made.skinned = node.skin is not None
            if node.camera is not None:
                camera = d.cameras[node.camera]
                made.view = float(camera.perspective.yfov) if camera.perspective is not None else 0.7
            made.light = "KHR_lights_punctual" in (node.extensions or {})
            if i in tracks:
                made.moves = lambda t, node=node, own=tracks[i]: self._local(node, {
                    path: sampled(times, values, how, path, t) for times, values, how, path in own
                })  # fmt: skip
            number[i] = len(nodes)
            nodes.append(made)
            nodes += self._instances(node, number[i], made)
        lights = sum(n.light for n in nodes)
        self.left += [f"{lights} light{'s' if lights > 1 else ''}"] if lights else []
        if len(d.animations) > 1:
            names = ", ".join(a.name or f"{i + 2}" for i, a in enumerate(d.animations[1:]))
            self.left.append(f"all animations but the first ({names})")
        return Asset(self.path, nodes, 1.0, "y", span, 0.0, self.left)

    def _no_rings(self, parents) -> None:
        state = np.zeros(len(parents), np.int8)
        for i in range(len(parents)):
            trail = []
            while i >= 0 and state[i] == 0:
                state[i] = 1
                trail.append(i)
                i = int(parents[i])
            if i >= 0 and state[i] == 1:
                raise EstampaError(self.path.name, "has nodes that hang on one another in a ring.", "Export it again.")
            state[trail] = 2

    def _shown(self, parents) -> list[int]:
        """Nodes of the scene that is shown, parents first."""
        d = self.document
        scene = d.scenes[d.scene or 0] if d.scenes else None
        roots = list(scene.nodes or []) if scene is not None else np.flatnonzero(parents < 0).tolist()
        found, waiting = [], list(reversed(roots))
        while waiting:
            at = waiting.pop()
            found.append(at)
            waiting += list(reversed(d.nodes[at].children or []))
        return found

    @staticmethod
    def _local(node, own) -> np.ndarray:
        if node.matrix is not None and not own:
            return np.array(node.matrix, float).reshape(4, 4).T
        return placed(
            own.get("translation", node.translation or (0, 0, 0)), own.get("rotation", node.rotation or (0, 0, 0, 1)),
            own.get("scale", node.scale or (1, 1, 1)),
        )  # fmt: skip

    def _tracks(self):
        """(node -> [(times, values, how, path)], (first, last) s) of the first animation."""
        found, times_of = {}, []
        for animation in self.document.animations[:1]:
            for channel in animation.channels:
                if channel.target.node is None or channel.target.path == "weights":
                    continue
                sampler = animation.samplers[channel.sampler]
                times = self.rows(sampler.input).astype(float).ravel()
                values = self.rows(sampler.output).astype(float)
                own = (times, values, sampler.interpolation or "LINEAR", channel.target.path)
                found.setdefault(channel.target.node, []).append(own)
                times_of += [times[0], times[-1]] if len(times) else []
        return found, (min(times_of, default=0.0), max(times_of, default=0.0))

    def _instances(self, node, parent, made) -> list[Node]:
        """Nodes for each place of EXT_mesh_gpu_instancing, which then has no mesh itself."""
        own = (node.extensions or {}).get("EXT_mesh_gpu_instancing")
        if own is None or made.mesh is None:
            return []
        own = own["attributes"]
        count = max(self.document.accessors[a].count for a in own.values())
        if count > MOST_NODES:
            raise EstampaError(self.path.name, f"has {count:,} instances of one mesh.", f"{MOST_NODES:,} are the most.")
        part = lambda word, plain: self.rows(own[word]).astype(float) if word in own else np.tile(plain, (count, 1))
        at = placed(part("TRANSLATION", [0, 0, 0]), part("ROTATION", [0, 0, 0, 1]), part("SCALE", [1, 1, 1]))
        mesh, made.mesh = made.mesh, None
        return [Node(f"{made.name} {k + 1}", parent, local, mesh) for k, local in enumerate(at)]

    def _mesh(self, number: int) -> Mesh | None:
        if number not in self._meshes:
            self._meshes[number] = self._joined(self.document.meshes[number])
        return self._meshes[number]

    def _joined(self, mesh) -> Mesh | None:
        """All triangles of a mesh as one; its materials by face, and what vertices have by corner."""
        parts, of, materials, told = [], [], [], []
        shift = 0
        for primitive in mesh.primitives:
            mode = TRIANGLES if primitive.mode is None else primitive.mode
            if mode not in (TRIANGLES, STRIP, FAN):
                self.left.append(f"points or lines of {mesh.name or 'a mesh'}")
                continue
            if primitive.targets:
                self.left.append(f"morph targets of {mesh.name or 'a mesh'}")
            a = primitive.attributes
            points = np.ascontiguousarray(self.rows(a.POSITION), np.float32)
            faces = _triangles(self._faces(primitive, len(points), mesh), mode)
            own = {}
            for k in range(8):
                word = getattr(a, f"TEXCOORD_{k}", None)
                if word is not None:
                    uv = self.rows(word)[:, :2].astype(np.float32)
                    own["uv" if k == 0 else f"uv{k}"] = np.stack([uv[:, 0], 1 - uv[:, 1]], axis=1)
            if a.NORMAL is not None:
                own["normal"] = self.rows(a.NORMAL).astype(np.float32)
            if a.COLOR_0 is not None:
                own["colour"] = _colours(self.rows(a.COLOR_0))
            parts.append((points, faces + shift, own))
            shift += len(points)
            material = self._material(primitive.material) if primitive.material is not None else None
            told.append(material)
            if material is not None and material not in materials:
                materials.append(material)
            of.append((material, len(faces)))
        if not parts:
            return None
        if any(m is None for m in told) and materials:
            materials.append(Material("Plain", (0.8, 0.77, 0.71)))
            of = [(materials[-1] if m is None else m, n) for m, n in of]
        points, faces = np.concatenate([p[0] for p in parts]), np.concatenate([p[1] for p in parts])
        proper = _proper(faces)
        corners = {}
        for name in dict.fromkeys(n for _, _, own in parts for n in own):
            wide = max(own[name].shape[1] for _, _, own in parts if name in own)
            plain = np.ones if name == "colour" else np.zeros
            rows = [_wide(own[name], wide) if name in own else plain((len(p), wide), np.float32) for p, _, own in parts]
            flat = (faces if proper.all() else faces[proper]).ravel()
            corners[name] = np.take(rows[0] if len(rows) == 1 else np.concatenate(rows), flat, axis=0)
        which = None
        if materials:
            which = np.concatenate([np.full(n, materials.index(m), np.int32) for m, n in of])[proper]
        own, _, faces = welded(points, faces)
        flat = ~_proper(faces)[proper]
        faces = faces[proper]
        if flat.any():  # a face whose corners lie in one place has no place of its own
            kept = ~flat
            corners = {n: v[np.repeat(kept, 3)] for n, v in corners.items()}
            faces, which = faces[kept], None if which is None else which[kept]
        counts = np.full(len(faces), 3, np.int32)
        return with_corners((own, counts, faces.ravel(), materials, which), corners)

    def _faces(self, primitive, count, mesh) -> np.ndarray:
        flat = np.arange(count) if primitive.indices is None else self.rows(primitive.indices).ravel().astype(np.int64)
        if len(flat) and (flat.min() < 0 or flat.max() >= count):
            cause = f"has a face in {mesh.name or 'a mesh'} that names vertex {int(flat.max())}, of {count:,}."
            raise EstampaError(self.path.name, cause, "It is cut short or damaged; export it again.")
        return flat

    def _material(self, number: int) -> Material:
        if number in self._materials:
            return self._materials[number]
        m = self.document.materials[number]
        plain = m.pbrMetallicRoughness
        factor = list(plain.baseColorFactor) if plain is not None and plain.baseColorFactor else [1.0] * 4
        picture, missing, uv = None, "", "uv"
        texture = plain.baseColorTexture if plain is not None else None
        if texture is not None:
            uv = "uv" if not texture.texCoord else f"uv{texture.texCoord}"
            picture, missing = self._picture(texture.index)
            if "KHR_texture_transform" in (texture.extensions or {}):
                self.left.append(f"how the picture of {m.name or 'a material'} is shifted")
        alpha = {"MASK": "mask", "BLEND": "blend"}.get(m.alphaMode, "opaque")
        cutoff = 0.5 if m.alphaCutoff is None else float(m.alphaCutoff)
        name = m.name or f"Material {number + 1}"
        made = Material(name, tuple(map(float, factor[:3])), picture, alpha, cutoff, float(factor[3]),
                        bool(m.doubleSided), uv, missing)  # fmt: skip
        self._materials[number] = made
        return made

    def _picture(self, texture: int) -> tuple[Picture | None, str]:
        """(a picture, or None and the name of what is missing)."""
        source = self.document.textures[texture].source
        if source is None:
            return None, "a picture in a form that is not read"
        image = self.document.images[source]
        name = image.name or (unquote(image.uri or "") if not (image.uri or "data:").startswith("data:") else "")
        name = Path(name).name or f"Picture {source + 1}"
        if image.bufferView is not None:
            view = self.document.bufferViews[image.bufferView]
            start = view.byteOffset or 0
            data = bytes(self.buffers[view.buffer][start : start + view.byteLength])
        else:
            data = self._bytes(image.uri or "")
        return (Picture(name, data), "") if data else (None, name)


def _proper(faces) -> np.ndarray:
    """(t,) bool, triangles of three different vertices."""
    a, b, c = faces[:, 0], faces[:, 1], faces[:, 2]
    return (a != b) & (b != c) & (c != a)


def _triangles(flat, mode) -> np.ndarray:
    """(t, 3) of a list, a strip or a fan of triangles: glTF 2.0, section 3.7.2.1."""
    if mode == TRIANGLES:
        return flat[: len(flat) // 3 * 3].reshape(-1, 3)
    k = np.arange(max(len(flat) - 2, 0))
    if mode == FAN:
        return np.stack([np.full(len(k), flat[0]), flat[k + 1], flat[k + 2]], axis=1)
    odd = k % 2
    return np.stack([flat[k], flat[k + 1 + odd], flat[k + 2 - odd]], axis=1)


def _colours(rows) -> np.ndarray:
    if rows.dtype.kind == "u":
        rows = rows / np.iinfo(rows.dtype).max
    return np.asarray(rows, np.float32)


def _wide(values, wide):
    if values.shape[1] == wide:
        return values
    return np.concatenate([values, np.ones((len(values), wide - values.shape[1]), np.float32)], axis=1)
