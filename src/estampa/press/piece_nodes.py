"""Pieces as an animated GLB of nodes."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..formats import gltf_nodes
from ..units import format_bytes
from .prints import Estimate, Job
from .rigid import PiecePrint, rigid_of


class PieceNodes(PiecePrint):
    """A GLB with a node and a mesh for each piece, and one animation of their places and turns.

    Each node's origin is the pivot of its piece.
    """

    kind, title, suffix = "piece_nodes", "Pieces", ".glb"
    icon = "M2.5 5 L6 3 L9 5 V9 L6 11 L2.5 9 Z M10 9 L13.5 8 V12.5 L10 13.5 Z"
    closes = True
    carries = ("places and turns of pieces", "normals", "texture coordinates", "materials")
    parts_seams = True

    def estimate(self, vertices, triangles, frames, v):
        size = vertices * 32 + triangles * 12 + frames * 28
        return Estimate(size, f"about {format_bytes(size)}, and 28 bytes more for each further piece and frame")

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        rigid = rigid_of(job, progress)
        times = np.arange(len(job.written)) / job.frame_rate
        extras = {"estampa": {"frames": job.written, "frame_rate": job.frame_rate}}
        write_whole(path, lambda part: gltf_nodes.write(part, rigid, times, extras))
        return [path]

    def expected(self, job, frame):
        of = job.outcome(frame).parts[0].pieces.of_vertex
        return job.points(frame)[np.argsort(of if job.origin is None else of[job.origin], kind="stable")]

    def reader(self, target: Path):
        return gltf_nodes.GltfNodesReader(target.with_name(target.name + self.suffix))
