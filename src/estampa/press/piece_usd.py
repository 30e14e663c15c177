"""Pieces as OpenUSD transforms."""

from pathlib import Path

from ..disk import write_whole
from ..formats import usd_nodes
from ..units import format_bytes
from .piece_nodes import PieceNodes
from .prints import Estimate, Job
from .rigid import rigid_of


class PieceUsd(PieceNodes):
    """An OpenUSD file (.usdc) with a transform over time and a mesh for each piece.

    The origin of each is the pivot of its piece.
    """

    kind, title, suffix = "piece_usd", "Pieces (USD)", ".usdc"
    icon = "M2.5 5 L6 3 L9 5 V9 L6 11 L2.5 9 Z M10 9 L13.5 8 V12.5 L10 13.5 Z M11 2.5 V6 M9.5 4.2 H13"
    parts_seams = False
    carries = ("places and turns of pieces", "texture coordinates", "materials")

    def estimate(self, vertices, triangles, frames, v):
        size = vertices * 20 + triangles * 16 + frames * 40
        return Estimate(size, f"about {format_bytes(size)}, and 40 bytes more for each further piece and frame")

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        rigid = rigid_of(job, progress)
        write_whole(path, lambda part: usd_nodes.write(part, rigid, job.written, job.frame_rate))
        return [path]

    def reader(self, target: Path):
        return usd_nodes.UsdNodesReader(target.with_name(target.name + self.suffix))
