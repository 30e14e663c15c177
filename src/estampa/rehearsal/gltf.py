"""GLB and glTF, played as the standard says (glTF 2.0): nodes and their animations, skins, morph targets, instances."""

from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..formats import bounds, glb
from ..formats.gltf_asset import materials
from ..formats.gltf_motion import placed, sampled
from .actor import Actor, PlayedClip, PlayedShape

INSTANCES = "EXT_mesh_gpu_instancing"


class GltfActor(Actor):
    """A file of any program that keeps to the standard. Each of its animations is a clip."""

    def __init__(self, path: Path):
        import pygltflib as gl

        bounds.check_gltf(path, bounds.read_bytes(path), needs_pictures=False)
        try:
            document = gl.GLTF2.load(str(path))
        except Exception as err:
            raise EstampaError(path.name, "cannot be read as glTF.", "Print it again.", repr(err)) from err
        if document is None or not document.meshes:
            raise EstampaError(path.name, "holds no mesh.", "Choose another file.")
        document.convert_buffers(gl.BufferFormat.BINARYBLOB)  # what lies beside it is taken in
        self.document, self.blob = document, document.binary_blob()
        self.parents = np.full(len(document.nodes), -1)
        for i, node in enumerate(document.nodes):
            self.parents[list(node.children or [])] = i
        self.order = _parents_first(self.parents, path.name)
        self.tracks = [self._tracks(animation) for animation in document.animations]
        clips, step = [], 1 / 24
        for animation, tracks in zip(document.animations, self.tracks, strict=True):
            times = [t for t, *_ in tracks]
            first, last = min(float(t[0]) for t in times), max(float(t[-1]) for t in times)
            clips.append(PlayedClip(animation.name or f"Animation {len(clips) + 1}", first, last))
            steps = [np.diff(t).min() for t in times if len(t) > 1]
            step = min([step, *map(float, steps)]) if steps else step
        super().__init__(path.name, clips or [PlayedClip("Still", 0.0, 0.0)], max(step, 1e-4))
        self._meshes = {}
        self.looks = materials(path)

    def memory(self):
        return len(self.blob)

    def _rows(self, number):
        return np.asarray(glb.rows(self.document, self.blob, number))

    def _tracks(self, animation):
        found = []
        for channel in animation.channels:
            sampler = animation.samplers[channel.sampler]
            if channel.target.node is not None:
                times = self._rows(sampler.input).astype(float).ravel()
                values = self._rows(sampler.output).astype(float)
                found.append(
                    (times, values, sampler.interpolation or "LINEAR", channel.target.node, channel.target.path)
                )
        return found

    def seen(self, clip, seconds):
        posed, weights = self._posed(clip, clip.first + seconds)
        world = self._world(posed)
        return [s for i, node in enumerate(self.document.nodes) if node.mesh is not None
                for s in self._shown(i, node, world, weights)]  # fmt: skip

    def _posed(self, clip, at: float):
        """(of each node that moves the parts of its place, the weights of its morph targets) at a moment."""
        posed, weights = {}, {}
        for times, values, how, node, path in self.tracks[self.clips.index(clip)] if self.tracks else ():
            value = sampled(times, values, how, path, at)
            if path == "weights":
                weights[node] = value
            else:
                posed.setdefault(node, {})[path] = value
        return posed, weights

    def node_points(self, node: int, seconds: float) -> np.ndarray:
        """(n, 3) m in the world of all that a node shows, as the first clip has it."""
        posed, weights = self._posed(self.clips[0], self.clips[0].first + seconds)
        world = self._world(posed)
        return np.concatenate([s.in_world() for s in self._shown(node, self.document.nodes[node], world, weights)])

    def _world(self, posed) -> np.ndarray:
        """(n, 4, 4) where nodes stand."""
        world = np.zeros((len(self.document.nodes), 4, 4))
        for i in self.order:
            node, own = self.document.nodes[i], posed.get(int(i), {})
            if node.matrix is not None and not own:
                local = np.array(node.matrix, float).reshape(4, 4).T
            else:
                local = placed(
                    own.get("translation", node.translation or (0, 0, 0)),
                    own.get("rotation", node.rotation or (0, 0, 0, 1)),
                    own.get("scale", node.scale or (1, 1, 1)),
                )
            world[i] = local if self.parents[i] < 0 else world[self.parents[i]] @ local
        return world

    def _shown(self, i, node, world, weights):
        mesh, into = self.document.meshes[node.mesh], world[i]
        morph = weights.get(i, getattr(node, "weights", None) or mesh.weights)
        for k, primitive in enumerate(mesh.primitives):
            points, triangles, targets, joints, shares, uv = self._primitive(node.mesh, k, primitive)
            look = {"material": self.looks[primitive.material], "uv": uv} if uv is not None else {}
            if morph is not None and len(targets):
                points = points + np.einsum("t,tnj->nj", np.asarray(morph, float)[: len(targets)], targets)
            colour = self._colour(primitive)
            if node.skin is not None and joints is not None:
                skin = self.document.skins[node.skin]
                back = np.tile(np.eye(4), (len(skin.joints), 1, 1))
                if skin.inverseBindMatrices is not None:
                    back = self._rows(skin.inverseBindMatrices).reshape(-1, 4, 4).transpose(0, 2, 1)
                palette = world[skin.joints] @ back
                mixed = np.einsum("nm,nmij->nij", shares, palette[joints])
                at = np.einsum("nij,nj->ni", mixed[:, :3, :3], points) + mixed[:, :3, 3]
                yield PlayedShape(at, triangles, colour, **look)
                continue
            own = (node.extensions or {}).get(INSTANCES)
            if own is None:
                yield PlayedShape(points @ into[:3, :3].T + into[:3, 3], triangles, colour, **look)
                continue
            own = own["attributes"]
            count = max(self.document.accessors[a].count for a in own.values())
            part = lambda word, plain: self._rows(own[word]) if word in own else np.tile(plain, (count, 1))  # noqa: B023
            stand = placed(part("TRANSLATION", [0, 0, 0]), part("ROTATION", [0, 0, 0, 1]), part("SCALE", [1, 1, 1]))
            ids = (node.extras or {}).get("grain_ids")
            ids = np.arange(count) if ids is None else np.array([int(x) for x in ids])
            yield PlayedShape(points, triangles, colour, into @ stand, ids, **look)

    def _primitive(self, mesh, k, primitive):
        """(points, triangles, morph targets (t, n, 3), joints (n, m) or None, shares (n, m), where the corners of its
        triangles lie in its picture (t, 3, 2) or None); read once."""
        if (mesh, k) not in self._meshes:
            a = primitive.attributes
            points = self._rows(a.POSITION).astype(float)
            flat = np.arange(len(points)) if primitive.indices is None else self._rows(primitive.indices).ravel()
            targets = [self._rows(t["POSITION"] if isinstance(t, dict) else t.POSITION).astype(float)
                       for t in primitive.targets or []]  # fmt: skip
            joints = shares = None
            if a.JOINTS_0 is not None:
                sets = [n for n in range(8) if getattr(a, f"JOINTS_{n}", None) is not None]
                joints = np.concatenate([self._rows(getattr(a, f"JOINTS_{n}")) for n in sets], axis=1).astype(int)
                shares = np.concatenate([_share(self._rows(getattr(a, f"WEIGHTS_{n}"))) for n in sets], axis=1)
            used, triangles = np.unique(flat.astype(int), return_inverse=True)  # parts of a mesh may share vertices
            own = lambda values: None if values is None else values[used]
            targets = np.array([t[used] for t in targets])
            uv = self._coordinates(primitive)
            uv = None if uv is None else uv[flat.astype(int)].reshape(-1, 3, 2)
            self._meshes[mesh, k] = (points[used], triangles.reshape(-1, 3), targets, own(joints), own(shares), uv)
        return self._meshes[mesh, k]

    def _coordinates(self, primitive) -> np.ndarray | None:
        """(n, 2) of what its picture goes by, v upwards; None where it has no picture."""
        look = self.looks[primitive.material] if primitive.material is not None else None
        if look is None or (look.picture is None and not look.missing):
            return None
        number = getattr(primitive.attributes, f"TEXCOORD_{look.uv[2:] or 0}", None)
        return None if number is None else self._rows(number)[:, :2].astype(np.float32) * [1, -1] + [0, 1]

    def _colour(self, primitive):
        if primitive.material is None:
            return (0.8, 0.77, 0.71)
        plain = self.document.materials[primitive.material].pbrMetallicRoughness
        return tuple((plain.baseColorFactor if plain is not None and plain.baseColorFactor else (0.8, 0.8, 0.8))[:3])


def _share(values):
    return values / np.iinfo(values.dtype).max if values.dtype.kind == "u" else values.astype(float)


def _parents_first(parents, name) -> np.ndarray:
    """Nodes in an order in which each stands after its parent. Raises EstampaError where they go in a ring."""
    found, done, left = [], set(), list(range(len(parents)))
    while left:
        ready = [i for i in left if parents[i] < 0 or parents[i] in done]
        if not ready:
            raise EstampaError(name, "has nodes that hang on one another in a ring.", "Export it again.")
        found += ready
        done |= set(ready)
        left = [i for i in left if i not in done]
    return np.array(found, int)
