"""Skinned mesh as OpenUSD with UsdSkel."""

from pathlib import Path

from ..disk import write_whole
from ..formats import usd_skel
from ..units import format_bytes
from .prints import Estimate, Job
from .rigs import SkinnedPrint, motions_of, rig_of


class SkinnedUsd(SkinnedPrint):
    """An OpenUSD file (.usdc) with a UsdSkel skeleton, the bound mesh and an animation for each clip.

    The clip that is played is bound and keeps its frames; morph targets are blend shapes.
    """

    kind, title, suffix = "skinned_usd", "Skinned mesh (USD)", ".usdc"
    icon = "M3 4 H13 V12 H3 Z M5 6.5 V8.5 A3 2 0 0 0 11 8.5 V6.5"
    closes = True
    carries = ("skin", "joints", "morph targets", "clips", "texture coordinates", "materials")

    def estimate(self, vertices, triangles, frames, v):
        size = vertices * 44 + triangles * 16 + frames * 2000
        return Estimate(size, f"about {format_bytes(size)}: {vertices:,} vertices once, and turns of joints per frame")

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        rigged, motions = rig_of(job), motions_of(job)
        progress(0.5, "Writing the skin")
        motions[0] = motions[0].first(len(job.written))
        write_whole(path, lambda t: usd_skel.write(t, rigged, motions, job.frame_rate, job.frames[0]))
        return [path]

    def reader(self, target: Path):
        return usd_skel.SkelReader(target.with_name(target.name + self.suffix))
