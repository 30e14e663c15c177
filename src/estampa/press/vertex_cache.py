"""Vertex cache: points over time on the untouched topology, as OpenUSD."""

from pathlib import Path

from ..disk import write_whole
from ..formats import usd
from ..kinds.channels import switch
from ..units import format_bytes
from .prints import Estimate, Job, MeshPrint
from .sizes import mesh_bytes, moves


class VertexCache(MeshPrint):
    """An OpenUSD file (.usdc) with the subject's points at every frame, float32, on its untouched topology."""

    takes_roots = True
    kind, title, suffix = "vertex_cache", "Vertex cache", ".usdc"
    icon = "M3 4 C3 2 13 2 13 4 V12 C13 14 3 14 3 12 Z M3 4 C3 6 13 6 13 4 M3 8 C3 10 13 10 13 8"
    carries = ("points at every frame", "normals", "texture coordinates", "materials")

    closes = True

    normals = switch(False, "Write a normal per vertex and frame too; most programs work them out themselves.")

    def estimate(self, vertices, triangles, frames, v):
        size = frames * vertices * 12 * (2 if v["normals"] else 1) + triangles * 16 + vertices * 8
        return Estimate(
            size,
            f"about {format_bytes(size)}: {frames} frames × {vertices:,} vertices × {24 if v['normals'] else 12} bytes",
        )

    def forecast(self, plan):
        found = super().forecast(plan)
        if plan.found.mesh is None:
            return found
        layers = plan.found.layers_on
        if plan.item.constant("copies") or any(l.declared.remeshes for l in layers):
            return found
        mesh = plan.scene.mesh(plan.found.mesh)
        wide = 24 if plan.v["normals"] else 12
        again = plan.frames - 1 if layers or moves(plan.found) else 0  # what stands still is kept once
        size = 1500 + mesh_bytes(mesh, False) + wide * mesh.count * again
        words = f"about {format_bytes(size)}: {plan.frames} frames × {mesh.count:,} vertices × {wide} bytes"
        return Estimate(size, words)

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        write_whole(
            path,
            lambda temporary: usd.write_cache(
                temporary,
                job.subject.name,
                job.mesh,
                job.written,
                job.frame_rate,
                lambda frame: job.points(job.shown(frame)),
                job.v["normals"],
                progress,
            ),
        )
        return [path]

    def reader(self, target: Path):
        return usd.CacheReader(target.with_name(target.name + self.suffix))
