"""A liquid's skin as OpenUSD."""

from pathlib import Path

from ..disk import write_whole
from ..formats import usd_surface
from ..units import format_bytes
from .prints import Estimate, Job
from .skins import SkinPrint


class SkinUsd(SkinPrint):
    """An OpenUSD file (.usdc) of one mesh whose points and faces change over time, with velocities and colours."""

    kind, title, suffix = "skin_usd", "Skin (USD)", ".usdc"
    icon = "M2.5 9 C3.5 5 6 6.5 8 5 S12.5 5 13.5 9 C12.5 12.5 10 11.5 8 12.5 S3.5 12.5 2.5 9 Z M8 1.5 V4"
    closes = True
    carries = ("points and faces at every frame", "velocities", "colours")

    def estimate(self, vertices, triangles, frames, v):
        size = int(frames * self.vertices(vertices) * 68)
        return Estimate(size, f"about {format_bytes(size)}: {frames} frames of the skin of {vertices:,} grains")

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        at = lambda frame: self.surface(job, job.shown(frame))
        write = usd_surface.write
        write_whole(path, lambda p: write(p, job.subject.name, job.written, job.frame_rate, at, progress))
        return [path]

    def reader(self, target: Path):
        return usd_surface.SurfaceReader(target.with_name(target.name + self.suffix))
