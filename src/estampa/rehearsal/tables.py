"""Instance tables: what a target spawns from rows of numbers, as the meshes and frames of cycles that they name, or as
small marks where no mesh lies beside them."""

from pathlib import Path

import numpy as np

from ..formats.bounds import inside
from ..formats.instance_table import InstanceTable
from ..formats.vertex_texture import VertexTextureFile
from .actor import MARK, SIDES, Actor, PlayedClip, PlayedShape, by_colour
from .gltf import placed

SMALL = 0.02  # m, of a mark
AMBER, PLAIN = (0.95, 0.55, 0.12), (0.8, 0.77, 0.71)
A_ROW = 80  # bytes of an instance on a card: place, turn, size, colour, which mesh and frame


class TableActor(Actor):
    """Each grain as the mesh that its row names, at that frame of its cycle and in its colour."""

    def __init__(self, path: Path):
        self.table = table = InstanceTable(path)
        rate = table.frame_rate
        super().__init__(path.name, [PlayedClip("All of it", 0.0, (len(table.frames) - 1) / rate, True)], 1 / rate)
        self.meshes: dict[int, VertexTextureFile] = {}
        for mesh in table.meta.get("meshes", []):
            if mesh.get("texture") and (path.parent / mesh["texture"]).is_file():
                self.meshes[int(mesh["number"])] = VertexTextureFile(inside(path, mesh["texture"]))
            else:
                self.left.append(f"the mesh {mesh.get('of')}, which no texture beside it holds (marks instead)")
        self._kept: dict[tuple[int, int], np.ndarray] = {}

    def memory(self):
        meshes = sum(f.offsets.nbytes + f.rest.nbytes + f.triangles.nbytes for f in self.meshes.values())
        return A_ROW * self.table.most + meshes

    def seen(self, clip, seconds):
        step = int(np.floor(seconds / self.step + 1e-6)) % len(self.table.frames)
        ids, place, turn, size = self.table.at(step)
        if not len(ids):
            return []
        rows, stand = self.table.rows(step), placed(place, turn, np.repeat(size[:, None], 3, axis=1))
        plain = np.zeros(len(ids))
        mesh, frame = (np.asarray(rows.get(n, plain)).astype(int) for n in ("mesh", "cycle_frame"))
        if "program" in self.table.meta:
            gone = seconds * self.table.frame_rate
            frame = (np.floor(rows["rate"] * gone + rows["phase"]) % np.maximum(rows["frames_of_cycle"], 1)).astype(int)
        colours = np.stack([np.asarray(rows.get(n, plain - 1), float) for n in ("red", "green", "blue")], axis=1)
        found = []
        for m, f in np.unique(np.stack([mesh, frame], axis=1), axis=0):
            own = np.flatnonzero((mesh == m) & (frame == f))
            points, triangles, look = self._shape(int(m), int(f))
            shown = np.where(colours[own, :1] < 0, look, colours[own])
            for colour, some in by_colour(shown):
                found.append(PlayedShape(points[:], triangles, colour, stand[own[some]], ids[own[some]]))
        return found

    def _shape(self, mesh: int, frame: int):
        """(points (n, 3), triangles, colour where a row has none) of a mesh at a frame of its cycle."""
        file = self.meshes.get(mesh)
        if file is None:
            return SMALL * MARK, SIDES, AMBER
        if (mesh, frame) not in self._kept:
            self._kept[mesh, frame] = file.at(frame % len(file.frames)).astype(float)
        return self._kept[mesh, frame], file.triangles, PLAIN
