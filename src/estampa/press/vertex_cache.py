"""Vertex cache: points over time on the untouched topology, as OpenUSD."""

from pathlib import Path

from ..disk import write_whole
from ..formats import usd
from ..kinds.channels import switch
from ..units import format_bytes
from .prints import Estimate, Job, MeshPrint


class VertexCache(MeshPrint):
    """An OpenUSD file (.usdc) with the subject's points at every frame, float32, on its untouched topology."""

    kind, title, suffix = "vertex_cache", "Vertex cache", ".usdc"
    icon = "M3 4 C3 2 13 2 13 4 V12 C13 14 3 14 3 12 Z M3 4 C3 6 13 6 13 4 M3 8 C3 10 13 10 13 8"
    carries = ("points at every frame", "normals", "texture coordinates", "materials")

    normals = switch(False, "Write a normal per vertex and frame too; most programs work them out themselves.")

    def estimate(self, vertices, triangles, frames, v):
        size = frames * vertices * 12 * (2 if v["normals"] else 1) + triangles * 16 + vertices * 8
        return Estimate(
            size,
            f"about {format_bytes(size)}: {frames} frames × {vertices:,} vertices × {24 if v['normals'] else 12} bytes",
        )

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        write_whole(
            path,
            lambda temporary: usd.write_cache(
                temporary,
                job.subject.name,
                job.mesh,
                job.frames,
                job.frame_rate,
                job.points,
                job.v["normals"],
                progress,
            ),
        )
        return [path]

    def reader(self, target: Path):
        return usd.CacheReader(target.with_name(target.name + self.suffix))
