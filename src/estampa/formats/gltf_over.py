"""Motion written over a GLB that is there: places of nodes and morph targets, in an animation of its own.

Everything else stays as it is: materials with all their extensions, pictures, names, extras, the order of nodes,
cameras, lights, other animations. What is new lies behind the bytes that were there (glTF 2.0, sections 3.7.2.2, 3.11
and 4.4).
"""

import copy
import json
import struct
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from ..errors import EstampaError
from ..geometry import pose as turns
from ..geometry.pose import parents_first
from . import bounds, glb
from .distinct import MOST_SHAPES, Distinct, one_hot
from .gltf_asset import PlacedMesh, mesh_nodes
from .gltf_motion import placed
from .skinned import continuous

STILL = 1e-7  # m, within which nothing moved


@dataclass
class NodeMotion:
    """What a node does: at (f, 4, 4) where it stands in the world, points (f, n, 3) m of its mesh's vertices there."""

    at: np.ndarray
    points: np.ndarray


class SourceGlb:
    """A GLB as it is, and what is added to it."""

    def __init__(self, path: Path):
        self.path = path
        data = self._data = bounds.read_bytes(path)
        self.meta = bounds.check_gltf(path, data, needs_pictures=False)
        self.blob = memoryview(bounds.chunks(data)[1] or b"")
        if data[:4] != b"glTF" or any("uri" in b for b in self.meta.get("buffers", [])):
            raise EstampaError(path.name, "has parts that lie beside it.", "Export it as one GLB, and import that.")
        self.parents = np.full(len(self.meta["nodes"]), -1)
        for i, node in enumerate(self.meta["nodes"]):
            self.parents[node.get("children", [])] = i
        self._new = bytearray()
        self._channels: list[dict] = []
        self._samplers: list[dict] = []

    def nodes(self, names: set[str]) -> dict[str, PlacedMesh]:
        """Of those of these names down the tree that have a mesh: the number of the node, and its vertices by ours."""
        return mesh_nodes(self.path, self._data, self.meta, names)

    def _local(self, i: int) -> np.ndarray:
        node = self.meta["nodes"][i]
        if "matrix" in node:
            return np.array(node["matrix"], float).reshape(4, 4).T
        plain = (("translation", (0, 0, 0)), ("rotation", (0, 0, 0, 1)), ("scale", (1, 1, 1)))
        return placed(*(node.get(word, value) for word, value in plain))

    def move(self, moved: dict[int, NodeMotion], vertices: dict[int, PlacedMesh], times: np.ndarray) -> dict[int, int]:
        """moved -- by number of a node, parents or not; vertices -- of `nodes`; times (f,) s. Returns the number of the
        node that has the mesh of each then."""
        clock = self._add(np.asarray(times, np.float32), "SCALAR", bounds_too=True)
        world = {i: m.at for i, m in moved.items()}
        shown = {}
        for i in (int(i) for i in parents_first(self.parents) if int(i) in moved):
            above = self._above(i, world, len(times))
            if "skin" in self.meta["nodes"][i]:  # its own place moves nothing, until it has no skin any more
                stands = above @ self._local(i)
            else:
                stands = moved[i].at
                self._place(i, np.linalg.inv(above) @ stands, clock)
            shown[i] = self._shape(i, stands, moved[i].points, vertices[i], clock)
        return shown

    def _above(self, i: int, world: dict, count: int) -> np.ndarray:
        """(f, 4, 4) where what a node hangs on stands: what is not moved is at rest within that."""
        above, within = int(self.parents[i]), np.eye(4)
        while above >= 0 and above not in world:
            above, within = int(self.parents[above]), self._local(above) @ within
        return np.repeat(np.eye(4)[None], count, axis=0) @ within if above < 0 else world[above] @ within

    def _place(self, i: int, local: np.ndarray, clock: int) -> None:
        """Key where a node stands, where that is not what it was."""
        node = self.meta["nodes"][i]
        if np.abs(local - self._local(i)).max() < STILL:
            return
        turn, size = turns.split(local[:, :3, :3])
        node.pop("matrix", None)
        for word, values in (("translation", local[:, :3, 3]), ("rotation", glb.unit32_rows(continuous(turn))),
                             ("scale", size)):  # fmt: skip
            node[word] = np.asarray(values[0], float).tolist()
            if np.ptp(values, axis=0).max() > STILL:
                kind = "VEC4" if word == "rotation" else "VEC3"
                self._key(i, word, np.asarray(values, np.float32), kind, clock)

    def _shape(self, i: int, stands: np.ndarray, moved: np.ndarray, own: PlacedMesh, clock: int) -> int:
        """Give a node's mesh a morph target for each shape that it takes besides its own; returns which node has it."""
        node = self.meta["nodes"][i]
        shapes, numbers = Distinct(), []
        rest = np.concatenate(own.points).astype(float)
        shapes.number(np.zeros_like(rest))
        rows = np.concatenate(own.rows)
        for into, points in zip(np.linalg.inv(stands), moved, strict=True):
            away = (points @ into[:3, :3].T + into[:3, 3])[rows] - rest
            away[np.abs(away).max(axis=1) < STILL] = 0.0
            numbers.append(shapes.number(away))
        if len(shapes.shapes) - 1 > MOST_SHAPES:
            cause = f"takes {len(shapes.shapes) - 1:,} different shapes; {MOST_SHAPES} morph targets are the most."
            raise EstampaError(node.get("name") or f"Node {i + 1}", cause, "Print fewer frames, or a vertex cache.")
        if not any(numbers) and "skin" not in node:
            return i
        node.pop("skin", None)  # its shapes tell what the skin does, too
        mesh = self._own_mesh(i)
        before = len(mesh["primitives"][0].get("targets", []))
        ends = np.cumsum([len(p) for p in own.points])
        for primitive in mesh["primitives"]:
            primitive.setdefault("targets", [])
        for away in shapes.shapes[1:]:
            for k, part in zip(own.numbers, np.split(away.astype(np.float32), ends[:-1]), strict=True):
                number = self._add(part, "VEC3", bounds_too=True, target=34962)
                mesh["primitives"][k]["targets"].append({"POSITION": number})
        weights = one_hot(numbers, shapes)
        weights = np.concatenate([np.zeros((len(weights), before)), weights], axis=1)
        mesh["weights"] = [0.0] * weights.shape[1]
        node.pop("weights", None)
        if node.get("children"):
            i = self._leaf(i)
        self._key(i, "weights", weights.astype(np.float32).ravel(), "SCALAR", clock)
        return i

    def _leaf(self, i: int) -> int:
        """A new node below one for its mesh: there are players that give weights to all below a node."""
        node, nodes = self.meta["nodes"][i], self.meta["nodes"]
        nodes.append({"name": f"{node.get('name', f'Node {i + 1}')} shape", "mesh": node.pop("mesh")})
        node["children"] = [*node["children"], len(nodes) - 1]
        return len(nodes) - 1

    def _own_mesh(self, i: int) -> dict:
        """A node's mesh, by itself where other nodes show it too."""
        node, meshes = self.meta["nodes"][i], self.meta["meshes"]
        if sum(n.get("mesh") == node["mesh"] for n in self.meta["nodes"]) > 1:
            meshes.append(copy.deepcopy(meshes[node["mesh"]]))
            node["mesh"] = len(meshes) - 1
        return meshes[node["mesh"]]

    def _key(self, node: int, path: str, values, kind: str, clock: int) -> None:
        self._samplers.append({"input": clock, "output": self._add(values, kind), "interpolation": "LINEAR"})
        self._channels.append({"sampler": len(self._samplers) - 1, "target": {"node": node, "path": path}})

    def _add(self, array: np.ndarray, kind: str, bounds_too: bool = False, target: int | None = None) -> int:
        """The number of a new accessor."""
        start = len(self.blob) + -len(self.blob) % 4 + len(self._new)
        views, accessors = self.meta["bufferViews"], self.meta["accessors"]
        view = {"buffer": 0, "byteOffset": start, "byteLength": array.nbytes}
        views.append(view | ({"target": target} if target else {}))
        accessor = {"bufferView": len(views) - 1, "componentType": 5126, "count": len(array), "type": kind}
        if bounds_too:
            low, high = (np.atleast_1d(end) for end in (array.min(axis=0), array.max(axis=0)))
            accessor |= {"min": low.tolist(), "max": high.tolist()}
        accessors.append(accessor)
        self._new += array.tobytes()
        return len(accessors) - 1

    def save(self, path: Path, name: str) -> None:
        """Write the file with what was added, its animation first."""
        if self._channels:
            own = {"name": name, "samplers": self._samplers, "channels": self._channels}
            self.meta["animations"] = [own, *self.meta.get("animations", [])]
        gap = b"\0" * (-len(self.blob) % 4)
        tail = bytes(self._new) + b"\0" * (-len(self._new) % 4)
        size = len(self.blob) + len(gap) + len(tail)
        self.meta["buffers"][0]["byteLength"] = size
        text = json.dumps(self.meta, separators=(",", ":"), ensure_ascii=False).encode()
        text += b" " * (-len(text) % 4)
        with open(path, "wb") as file:
            file.write(struct.pack("<III", 0x46546C67, 2, 12 + 8 + len(text) + 8 + size))
            file.write(struct.pack("<II", len(text), 0x4E4F534A) + text)
            file.write(struct.pack("<II", size, 0x004E4942))
            for part in (self.blob, gap, tail):
                file.write(part)
