"""Rigid vertex animation texture: a GLB mesh, places and turns of its pieces as OpenEXR images, and a JSON on how to
read them."""

import json
from pathlib import Path

import numpy as np

from ..disk import write_together
from ..errors import EstampaError
from ..formats import exr, glb
from ..formats.rigid_texture import FORMULA, RigidTextureFile
from ..formats.vertex_texture import LARGEST
from ..units import format_bytes
from .prints import Estimate, Job
from .rigid import PiecePrint, rigid_of
from .vertex_texture import noting


class PieceTexture(PiecePrint):
    """A mesh (.glb) whose texture coordinates hold each vertex's piece and pivot, images of the pieces' places and
    turns (.exr, a row a frame), and a small .json with frame rate, frames and the formula to read them."""

    kind, title, suffix = "piece_texture", "Rigid animation texture", ".glb"
    icon = "M3 3 H13 V13 H3 Z M3 6.3 H13 M3 9.6 H13 M6.3 3 V13 M9.6 3 V13"
    carries = ("places and turns of pieces", "normals", "materials")
    parts_seams = True

    def estimate(self, vertices, triangles, frames, v):
        if frames > LARGEST:
            return Estimate(0, "does not fit", f"{frames:,} frames; a texture has at most {LARGEST:,} rows.")
        size = vertices * 40 + triangles * 12 + frames * 24
        return Estimate(size, f"about {format_bytes(size)}, and 24 bytes more for each further piece and frame")

    def write(self, job: Job, target: Path, progress):
        rigid = rigid_of(job, lambda share, text: progress(0.7 * share, text))
        count, mesh = rigid.pieces.count, rigid.mesh
        if count > LARGEST:
            cure = "Print them as nodes, or join small pieces."
            raise EstampaError(job.item.name, f"has {count:,} pieces; a texture has at most {LARGEST:,} columns.", cure)
        named = lambda ending: target.with_name(target.name + ending)
        glb_path, place_path, turn_path, json_path = map(named, (".glb", "_place.exr", "_turn.exr", ".json"))
        of = rigid.pieces.of_vertex
        pivots = rigid.centres[of]
        own = [np.stack([of, pivots[:, 0]], axis=1), pivots[:, 1:]]
        coordinates = [*(glb.coordinates(mesh)[:1] or [np.zeros((mesh.count, 2))]), *own]
        meta = {
            "kind": "rigid animation texture", "frame_rate": job.frame_rate, "first_frame": job.frames[0],
            "frames": len(job.frames), "pieces": count, "vertices": mesh.count, "mesh": glb_path.name,
            "place_texture": place_path.name, "turn_texture": turn_path.name, "precision": "full", "unit": "metre",
            "up": "+Y", "formula": FORMULA,
        }  # fmt: skip
        extras = {"rigid_animation_texture": json_path.name}
        files = {
            place_path: lambda part: exr.write_image(part, places.astype(np.float32)),
            turn_path: lambda part: exr.write_image(part, glb.unit32_rows(rigid.turns)),
            glb_path: lambda part: glb.write_mesh(
                part, rigid.name, mesh.points, mesh.rest_normals, mesh, coordinates, extras
            ),
        }
        places = np.concatenate([rigid.places, rigid.sizes[..., None]], axis=2) if rigid.grows else rigid.places
        sums = {}
        noted = {path: noting(write, path.name, sums) for path, write in files.items()}
        noted[json_path] = lambda part: part.write_text(json.dumps(meta | {"blake2b": sums}, indent=1))
        write_together(noted)
        progress(1.0, "Written")
        return list(noted)

    def reader(self, target: Path):
        return RigidTextureFile(target.with_name(target.name + ".json"))
