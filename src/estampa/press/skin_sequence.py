"""A liquid's skin as a numbered sequence of meshes."""

import re
from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..kinds.channels import choice
from ..light import on_screen
from ..units import format_bytes
from .prints import Estimate, Job
from .skins import SkinPrint


class SkinSequence(SkinPrint):
    """A mesh file for each frame, numbered: PLY, OBJ or GLB, with colours by vertex."""

    kind, title = "skin_sequence", "Skin (mesh sequence)"
    icon = "M2 7 C3 4 5 5 6.5 4 S9.5 4 10.5 7 C9.5 10 7.5 9 6.5 10 S3 10 2 7 Z M12 6 C13.5 9 11 12.5 7 12.6"
    carries = ("points and faces at every frame", "colours")

    form = choice("ply", "As what.", {"ply": "PLY", "obj": "OBJ", "glb": "GLB"}, title="As")

    def estimate(self, vertices, triangles, frames, v):
        size = int(frames * self.vertices(vertices) * {"ply": 54, "obj": 120, "glb": 52}[v["form"]])
        return Estimate(size, f"about {format_bytes(size)} in {frames} files of the skin of {vertices:,} grains")

    def write(self, job: Job, target: Path, progress):
        written = []
        for i, frame in enumerate(job.frames):
            path = target.with_name(f"{target.name}_{frame:04d}.{job.v['form']}")
            part = self.surface(job, frame)
            write_whole(path, lambda p, part=part: p.write_bytes(_encoded(part, job.v["form"])))
            written.append(path)
            progress((i + 1) / len(job.frames), f"Writing frame {frame}")
        return written

    def reader(self, target: Path):
        return SequenceReader(target)


def _encoded(part, form: str) -> bytes:
    """A mesh file, by trimesh, with colours on the screen's curve (common practice, no source); of nothing one point
    without faces, since some readers refuse an empty file."""
    import trimesh

    if part is None:
        mesh = trimesh.Trimesh(np.zeros((1, 3)), np.zeros((0, 3), int), process=False)
    else:
        colours = None if part.inks is None else np.rint(255 * np.clip(on_screen(part.inks), 0, 1)).astype(np.uint8)
        mesh = trimesh.Trimesh(part.points, part.mesh.triangles, vertex_colors=colours, process=False)
    found = mesh.export(file_type=form, **({"digits": 9} if form == "obj" else {}))
    return found.encode() if isinstance(found, str) else found


class SequenceReader:
    """Reads numbered meshes back."""

    def __init__(self, target: Path):
        pattern = re.compile(re.escape(target.name) + r"_(\d+)\.(ply|obj|glb)")
        found = [(int(m[1]), p) for p in target.parent.iterdir() if (m := pattern.fullmatch(p.name))]
        self._paths = dict(sorted(found))
        self.frames = list(self._paths)

    def surface(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """((n, 3) m, (t, 3))"""
        import trimesh

        mesh = trimesh.load(self._paths[frame], process=False, force="mesh", maintain_order=True)
        if not len(mesh.faces):
            return np.zeros((0, 3)), np.zeros((0, 3), int)
        return np.asarray(mesh.vertices, float), np.asarray(mesh.faces, int)
