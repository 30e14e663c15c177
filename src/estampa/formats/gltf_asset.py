"""GLB and glTF 2.0, in: the tree of nodes with their meshes, materials, pictures, cameras and animation."""

import base64
import json
from pathlib import Path
from typing import NamedTuple
from urllib.parse import unquote

import numpy as np

from ..errors import EstampaError
from ..geometry.material import Material, Picture
from ..geometry.mesh import Mesh
from . import bounds, glb
from .asset import (
    MOST_NODES,
    MOST_PICTURE,
    MOST_SETS,
    Asset,
    AssetClip,
    AssetSkin,
    Node,
    by_place,
    few,
    made,
    renamed,
    welded,
)
from .gltf_motion import placed, sampled, track_of

KNOWN = {"EXT_mesh_gpu_instancing", "KHR_materials_unlit", "KHR_texture_transform", "KHR_mesh_quantization"}
TRIANGLES, STRIP, FAN = 4, 5, 6


def read(path: Path, progress) -> Asset:
    import pygltflib as gl

    data = bounds.read_bytes(path)
    meta = bounds.check_gltf(path, data, needs_pictures=False)
    wanted = set(meta.get("extensionsRequired", [])) - KNOWN
    if wanted:
        cause = f"needs {', '.join(sorted(wanted))}, which is not read."
        raise EstampaError(path.name, cause, "Export it without compression or other extensions.")
    if len(meta.get("nodes", [])) > MOST_NODES:
        cause = f"has {len(meta['nodes']):,} nodes; {MOST_NODES:,} are the most."
        raise EstampaError(path.name, cause, "Join them where it was made.")
    progress(0.1, "Reading")
    document = gl.GLTF2.from_json(json.dumps(meta))
    return _GltfReader(path, data, meta, document, progress).asset()


def materials(path: Path) -> list[Material]:
    """All materials of a file, in its own order."""
    import pygltflib as gl

    data = bounds.read_bytes(path)
    meta = bounds.check_gltf(path, data, needs_pictures=False)
    reader = _GltfReader(path, data, meta, gl.GLTF2.from_json(json.dumps(meta)), lambda *a: None)
    return [reader._material(k) for k in range(len(reader.document.materials))]


class PlacedMesh(NamedTuple):
    """A mesh of a file as it lies there: the number of its node; how many vertices ours has; of each primitive of
    triangles its number, its points (n, 3), and which vertex of ours each of those is (n,)."""

    number: int
    vertices: int
    numbers: list[int]
    points: list[np.ndarray]
    rows: list[np.ndarray]


def mesh_nodes(path: Path, data: bytes, meta: dict, wanted: set[str]) -> dict[str, PlacedMesh]:
    """Of those of the nodes of these names down the tree that have a mesh, where its vertices are in the file. data,
    meta -- its bytes, and its JSON as it was checked."""
    import pygltflib as gl

    reader = _GltfReader(path, data, meta, gl.GLTF2.from_json(json.dumps(meta)), lambda *a: None)
    (tree, numbers), found = reader.tree(), {}
    for name, number in zip(tree.paths(), numbers, strict=True):
        mesh = reader.document.nodes[number].mesh if number >= 0 else None
        shape = reader._mesh(mesh) if name in wanted and mesh is not None else None
        if shape is not None and shape.mesh is not None:
            found[name] = PlacedMesh(number, shape.mesh.count, shape.numbers, shape.points, shape.rows)
    return found


class _GltfReader:
    def __init__(self, path, data, meta, document, progress):
        self.meta, self.path, self.document, self.progress = meta, path, document, progress
        blob = bounds.chunks(data)[1]
        self.buffers = [self._bytes(b.uri) if b.uri else blob for b in document.buffers]
        self.left: list[str] = []
        self._materials: dict[int, Material] = {}
        self._meshes: dict[int, _Shape] = {}

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

    def _part(self, accessor, count, width, component=None):
        view = self.document.bufferViews[accessor.bufferView]
        kind = np.dtype(glb.TYPES[component or accessor.componentType])
        start = (view.byteOffset or 0) + (accessor.byteOffset or 0)
        return np.frombuffer(self.buffers[view.buffer], kind, count * width, start).reshape(count, width)

    def tree(self) -> tuple[Asset, list[int]]:
        """(the nodes alone, without what they show, of each its number in the file, -1 of instances and what shows
        them)."""
        parents, nodes, numbers, at = self._parents(), [], [], {}
        for i in self._shown(parents):
            node = self.document.nodes[i]
            at[i], copies = len(nodes), self._instance_count(node)
            nodes.append(Node(self._name(i), at.get(int(parents[i]), -1)))
            nodes += [Node(f"{self._name(i)} {k + 1}", at[i]) for k in range(copies)]
            numbers += [-1 if copies else i] + [-1] * copies
        return Asset(self.path, nodes), numbers

    def _name(self, i: int) -> str:
        return self.document.nodes[i].name or f"Node {i + 1}"

    def _instance_count(self, node) -> int:
        """In how many places EXT_mesh_gpu_instancing shows a node; 0 without it."""
        own = (node.extensions or {}).get("EXT_mesh_gpu_instancing")
        if own is None or node.mesh is None:
            return 0
        return max(self.document.accessors[a].count for a in own["attributes"].values())

    def _parents(self) -> np.ndarray:
        """(n,) the node that each hangs on, -1 of roots."""
        d = self.document
        parents = np.full(len(d.nodes), -1)
        for i, node in enumerate(d.nodes):
            for child in node.children or []:
                if not 0 <= child < len(d.nodes) or parents[child] >= 0:
                    cause = f"has a node ({node.name or i}) whose child {child} is not there or has two parents."
                    raise EstampaError(self.path.name, cause, "Export it again.")
                parents[child] = i
        self._no_rings(parents)
        return parents

    def asset(self) -> Asset:
        d, parents = self.document, self._parents()
        shown = self._shown(parents)
        tracks, clips = self._tracks()
        nodes, number = [], {}
        for count, i in enumerate(shown):
            node = d.nodes[i]
            self.progress(0.1 + 0.8 * count / max(len(shown), 1), "Reading meshes")
            made = Node(self._name(i), number.get(int(parents[i]), -1), self._local(node, {}))
            if node.mesh is not None:
                made.mesh = self._mesh(node.mesh).mesh
                made.targets = self._mesh(node.mesh).targets
            if node.camera is not None:
                camera = d.cameras[node.camera]
                made.view = float(camera.perspective.yfov) if camera.perspective is not None else 0.7
            made.light = "KHR_lights_punctual" in (node.extensions or {})
            self._moved(made, i, tracks.get(i, {}))
            number[i] = len(nodes)
            nodes.append(made)
            nodes += self._instances(node, number[i], made)
        for i in shown:
            self._skinned(nodes, number, i)
        lights = sum(n.light for n in nodes)
        self.left += [f"{lights} light{'s' if lights > 1 else ''}"] if lights else []
        return Asset(self.path, nodes, 1.0, "y", clips, 0.0, self.left)

    def _moved(self, made: Node, i, own: dict) -> None:
        """What moves a node: own -- number of a clip -> its tracks."""
        node = self.document.nodes[i]
        if any(path != "weights" for tracks in own.values() for _, _, _, path in tracks):
            made.moves = lambda t, clip=0: self._local(node, {
                path: sampled(times, values, how, path, t)
                for times, values, how, path in own.get(clip, ()) if path != "weights"
            })  # fmt: skip
        for times, values, how, path in own.get(0, ()):
            word = {"translation": "place", "weights": "weights"}.get(path)
            if word is not None and (np.diff(times) > 0).all():
                made.tracks[word] = track_of(times, values, how)
        if not made.targets:
            return
        weights = self.meta["nodes"][i].get("weights")  # which the library leaves out
        still = np.array(weights or self.document.meshes[node.mesh].weights or [0.0] * len(made.targets), float)
        course = {clip: track for clip, tracks in own.items() for track in tracks if track[3] == "weights"}

        def felt(t, clip=0):
            if clip not in course:
                return still
            return sampled(*course[clip], t)

        made.felt = felt if course or still.any() else None

    def _skinned(self, nodes, number, i) -> None:
        """Give a node the skin that it names."""
        node = self.document.nodes[i]
        shape = self._mesh(node.mesh) if node.mesh is not None and node.skin is not None else None
        if shape is None or shape.mesh is None or shape.indices is None:
            return
        skin = self.document.skins[node.skin]
        what = f"{self.path.name}, {nodes[number[i]].name}"
        if not skin.joints or any(j not in number for j in skin.joints):
            raise EstampaError(what, "follows joints that are not in the scene.", "Export it with its skeleton.")
        back = np.tile(np.eye(4), (len(skin.joints), 1, 1))
        if skin.inverseBindMatrices is not None:
            back = self.rows(skin.inverseBindMatrices).astype(float).reshape(-1, 4, 4).transpose(0, 2, 1)
        if len(back) < len(skin.joints) or not np.isfinite(back).all():
            raise EstampaError(what, "has a skin whose matrices do not fit its joints.", "Export it again.")
        if shape.indices.max(initial=0) >= len(skin.joints):
            raise EstampaError(what, "has weights of a joint that its skin does not have.", "Export it again.")
        joints = np.array([number[j] for j in skin.joints])
        for j in joints:
            nodes[j].joint = True
        nodes[number[i]].skin = AssetSkin(joints, back[: len(joints)], shape.indices, shape.weights)

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
        """(node -> number of a clip -> [(times, values, how, path)], the clips)."""
        found, clips = {}, []
        for animation in self.document.animations:
            clip, ends = len(clips), []
            for channel in animation.channels:
                if channel.target.node is None:
                    continue
                sampler = animation.samplers[channel.sampler]
                times = self.rows(sampler.input).astype(float).ravel()
                values = self.rows(sampler.output).astype(float)
                if not len(times) or not (np.isfinite(times).all() and np.isfinite(values).all()):
                    continue
                own = (times, values, sampler.interpolation or "LINEAR", channel.target.path)
                found.setdefault(channel.target.node, {}).setdefault(clip, []).append(own)
                ends += [float(times[0]), float(times[-1])]
            if ends:
                clips.append(AssetClip(animation.name or f"Animation {clip + 1}", (min(ends), max(ends))))
        return found, clips

    def _instances(self, node, parent, made) -> list[Node]:
        """Nodes for each place of EXT_mesh_gpu_instancing, which then has no mesh itself."""
        count = self._instance_count(node) if made.mesh is not None else 0
        if not count:
            return []
        own = node.extensions["EXT_mesh_gpu_instancing"]["attributes"]
        if count > MOST_NODES:
            raise EstampaError(self.path.name, f"has {count:,} instances of one mesh.", f"{MOST_NODES:,} are the most.")
        part = lambda word, plain: self.rows(own[word]).astype(float) if word in own else np.tile(plain, (count, 1))
        at = placed(part("TRANSLATION", [0, 0, 0]), part("ROTATION", [0, 0, 0, 1]), part("SCALE", [1, 1, 1]))
        mesh, made.mesh = made.mesh, None
        return [Node(f"{made.name} {k + 1}", parent, local, mesh) for k, local in enumerate(at)]

    def _mesh(self, number: int) -> "_Shape":
        if number not in self._meshes:
            self._meshes[number] = self._joined(self.document.meshes[number])
        return self._meshes[number]

    def _joined(self, mesh) -> "_Shape":
        """All triangles of a mesh as one; its materials by face, what its vertices have, what moves them."""
        parts, materials, numbers = [], [], []
        for n, primitive in enumerate(mesh.primitives):
            mode = TRIANGLES if primitive.mode is None else primitive.mode
            if mode not in (TRIANGLES, STRIP, FAN):
                self.left.append(f"points or lines of {mesh.name or 'a mesh'}")
                continue
            points = np.ascontiguousarray(self.rows(primitive.attributes.POSITION), np.float32)
            faces = _triangles(self._faces(primitive, len(points), mesh), mode)
            material = self._material(primitive.material) if primitive.material is not None else None
            if material is not None and material not in materials:
                materials.append(material)
            own = self._attributes(primitive.attributes)
            numbers.append(n)
            parts.append(_Part(points, faces, own, material, *self._moving(primitive, len(points))))
        if not parts:
            return _Shape(None, None, None, [], [], [], [])
        if any(p.material is None for p in parts) and materials:
            materials.append(Material("Plain", (0.8, 0.77, 0.71)))
        which = [materials.index(p.material) if p.material is not None else len(materials) - 1 for p in parts]
        points = _stacked([p.points for p in parts])
        shifts = np.cumsum([0] + [len(p.points) for p in parts[:-1]])
        flat = _stacked([p.faces.ravel() + np.uint32(s) if s else p.faces.ravel() for p, s in zip(parts, shifts)])  # noqa: B905
        indices, weights = _together(parts)
        targets = [_stacked([p.targets[k] for p in parts]) for k in range(min(len(p.targets) for p in parts))]
        more = ([] if weights is None else [indices.astype(np.float32), weights]) + targets
        first, rank = welded(points if not more else np.concatenate([points, *more], axis=1))
        named, proper, bad = renamed(flat, rank)
        if bad:  # a face whose corners lie in one place has no place of its own
            keep = np.repeat(proper, 3)
            named, flat = named[keep], flat[keep]
        of = np.repeat(np.array(which, np.int32), [len(p.faces) for p in parts])[proper] if materials else None
        own = {}
        for name in dict.fromkeys(n for p in parts for n in p.own):
            wide = max(p.own[name].shape[1] for p in parts if name in p.own)
            plain = np.ones if name == "colour" else np.zeros
            rows = [_wide(p.own[name], wide) if name in p.own else plain((len(p.points), wide), np.float32)
                    for p in parts]  # fmt: skip
            own[name] = by_place(_stacked(rows), flat, first, rank)
        pick = (lambda x: x) if len(first) == len(points) else (lambda x: x[first])
        counts = np.full(len(named) // 3, 3, np.int32)
        shape = made(pick(points), counts, named, materials, of, own)
        named = mesh.extras.get("targetNames", []) if isinstance(mesh.extras, dict) else []
        words = [str(named[k]) if k < len(named) else f"Target {k + 1}" for k in range(len(targets))]
        targets = [(w, pick(t).astype(float)) for w, t in zip(words, targets, strict=True)]
        rows = np.split(rank, shifts[1:])
        joints, felt = (None, None) if weights is None else few(pick(indices), pick(weights))
        return _Shape(shape, joints, felt, targets, numbers, [p.points for p in parts], rows)

    def _attributes(self, a) -> dict[str, np.ndarray]:
        """What the vertices of a primitive have, by our names."""
        own = {}
        for word, number in vars(a).items():
            if number is None:
                continue
            if word.startswith("TEXCOORD_") and word[9:].isdigit() and int(word[9:]) < MOST_SETS:
                uv = self.rows(number)[:, :2].astype(np.float32)
                uv[:, 1] = 1 - uv[:, 1]
                own["uv" if word == "TEXCOORD_0" else f"uv{word[9:]}"] = uv
            elif word == "NORMAL":
                own["normal"] = self.rows(number).astype(np.float32, copy=False)
            elif word == "COLOR_0":
                own["colour"] = _colours(self.rows(number))
            elif word.startswith("_"):  # of a name of its own
                rows = self.rows(number)
                if rows.shape[1] <= 4:
                    own[word[1:].lower()] = rows.astype(np.float32)
        return own

    def _moving(self, primitive, count):
        """((n, m) joints of a skin, (n, m) weights, or None and None, [(n, 3) of each morph target])."""
        a, sets = primitive.attributes, []
        while getattr(a, f"JOINTS_{len(sets)}", None) is not None and len(sets) < MOST_SETS:
            sets.append(len(sets))
        joints = weights = None
        if sets and getattr(a, "WEIGHTS_0", None) is not None:
            joints = np.concatenate([self.rows(getattr(a, f"JOINTS_{k}")).astype(np.int32) for k in sets], axis=1)
            weights = np.concatenate([_share(self.rows(getattr(a, f"WEIGHTS_{k}"))) for k in sets], axis=1)
            if not (np.isfinite(weights).all() and (weights >= 0).all()):
                cause = "has weights that are not numbers, or negative."
                raise EstampaError(self.path.name, cause, "Export it again.")
        place = lambda t: t.get("POSITION") if isinstance(t, dict) else t.POSITION
        numbers = [place(t) for t in primitive.targets or []]
        none = np.zeros((count, 3), np.float32)
        return joints, weights, [none if n is None else self.rows(n).astype(np.float32) for n in numbers]

    def _faces(self, primitive, count, mesh) -> np.ndarray:
        if primitive.indices is None:
            return np.arange(count, dtype=np.uint32)
        flat = self.rows(primitive.indices).ravel().astype(np.uint32)
        if len(flat) and flat.max() >= count:
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
        known = lambda value, default: default if value is None else float(value)
        rough, metal = known(plain and plain.roughnessFactor, 1.0), known(plain and plain.metallicFactor, 1.0)
        strength = (m.extensions or {}).get(glb.BRIGHT, {}).get("emissiveStrength", 1.0)
        light = tuple(float(c) * strength for c in m.emissiveFactor or (0, 0, 0))
        made = Material(name, tuple(map(float, factor[:3])), picture, alpha, cutoff, float(factor[3]),
                        bool(m.doubleSided), uv, missing, rough, metal if plain is not None else 0.0,
                        light)  # fmt: skip
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


class _Part(NamedTuple):
    """A primitive: points (n, 3), faces (t, 3), what its vertices have, what moves them."""

    points: np.ndarray
    faces: np.ndarray
    own: dict[str, np.ndarray]
    material: Material | None
    joints: np.ndarray | None
    weights: np.ndarray | None
    targets: list[np.ndarray]


class _Shape(NamedTuple):
    """A mesh, and by its vertices the joints that each follows, how much, and the morph targets."""

    mesh: Mesh | None
    indices: np.ndarray | None
    weights: np.ndarray | None
    targets: list
    numbers: list[int]  # of the primitives of triangles
    points: list[np.ndarray]  # of each of those (n, 3), as the file has them
    rows: list[np.ndarray]  # (n,) which vertex of the mesh each is


def _stacked(rows):
    return rows[0] if len(rows) == 1 else np.concatenate(rows)


def _together(parts) -> tuple[np.ndarray | None, np.ndarray | None]:
    """Joints and weights of all primitives, of which each has as many."""
    if any(p.weights is None for p in parts):
        return None, None
    wide = max(p.weights.shape[1] for p in parts)
    pad = lambda x: np.pad(x, ((0, 0), (0, wide - x.shape[1])))
    return _stacked([pad(p.joints) for p in parts]), _stacked([pad(p.weights) for p in parts])


def _share(rows) -> np.ndarray:
    return rows / np.float32(np.iinfo(rows.dtype).max) if rows.dtype.kind == "u" else rows.astype(np.float32)


def _triangles(flat, mode) -> np.ndarray:
    """(t, 3) of a list, a strip or a fan of triangles: glTF 2.0, section 3.7.2.1."""
    if mode == TRIANGLES:
        return flat[: len(flat) // 3 * 3].reshape(-1, 3)
    k = np.arange(max(len(flat) - 2, 0), dtype=np.uint32)
    if mode == FAN:
        return np.stack([np.full(len(k), flat[0], np.uint32), flat[k + 1], flat[k + 2]], axis=1)
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
