"""Pieces as a skinned GLB, a joint for each piece."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..formats import skinned
from ..formats.skinned import Motion, Rigged
from ..geometry.pose import Pose
from ..units import format_bytes
from .prints import Estimate, Job
from .rigid import PiecePrint, rigid_of
from .skinned_mesh import PrintedReader


class PieceSkin(PiecePrint):
    """A GLB with one mesh and one joint for each piece, for programs that play skins and draw them at once.

    Every vertex follows the joint of its piece, whole.
    """

    kind, title, suffix = "piece_skin", "Pieces (skinned mesh)", ".glb"
    icon = "M3 3 H9 V9 H3 Z M9 9 L13 13 M5 5 a1 1 0 1 0 .01 0 M13 12 a1 1 0 1 0 .01 0"
    closes = True
    carries = ("a joint for each piece", "normals", "texture coordinates", "materials")
    parts_seams = True

    def estimate(self, vertices, triangles, frames, v):
        size = vertices * 52 + triangles * 12 + frames * 28
        return Estimate(size, f"about {format_bytes(size)}, and 28 bytes more for each further piece and frame")

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        rigid = rigid_of(job, progress)
        count, frames = rigid.pieces.count, len(job.written)
        rest = Pose.still(count)._replace(place=rigid.centres)
        back = np.tile(np.eye(4), (count, 1, 1))
        back[:, :3, 3] = -rigid.centres
        indices, weights = rigid.pieces.of_vertex[:, None].astype(np.int32), np.ones((rigid.mesh.count, 1), np.float32)
        parents = np.full(count, -1)
        rigged = Rigged(rigid.name, rigid.mesh, rigid.names, parents, rest, back, indices, weights)
        times = np.arange(frames) / job.frame_rate
        poses = Pose(rigid.places, rigid.turns, np.repeat(rigid.sizes[..., None], 3, axis=2))
        stands = Pose.stacked([Pose.still(1)] * frames)
        motion = Motion("Motion", times, poses, stands, np.zeros((frames, 0)))
        extras = {"estampa": {"frames": job.written, "times": times.tolist()}}
        write_whole(path, lambda part: skinned.write(part, rigged, [motion], extras))
        return [path]

    def reader(self, target: Path):
        return PrintedReader(target.with_name(target.name + self.suffix))
