"""A swarm of few as a vertex cache: all that its grains show as one mesh."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..errors import EstampaError
from ..formats import usd
from ..geometry.primitives import joined
from ..units import format_bytes
from .grains import SwarmPrint
from .prints import Estimate, Job, Print

MOST = 5_000_000  # vertices


class SwarmCache(SwarmPrint):
    """An OpenUSD file (.usdc) of one mesh with all that the grains show, and its points at every frame; for few grains,
    the same ones at all frames."""

    kind, title, suffix = "swarm_cache", "Swarm (vertex cache)", ".usdc"
    icon = "M3 4 C3 2 13 2 13 4 V12 C13 14 3 14 3 12 Z M6 7 h.01 M9 6 h.01 M7.5 10 h.01 M10.5 9 h.01"
    closes = True
    carries = ("points at every frame", "materials")

    def estimate(self, vertices, triangles, frames, v):
        size = frames * vertices * 12 * 24
        words = f"{frames} frames × {vertices:,} grains × 12 bytes for each vertex that they show, here for 24"
        return Estimate(size, f"about {format_bytes(size)}: {words}")

    def write(self, job: Job, target: Path, progress):
        first = job.outcome(job.frames[0], skinned=False)
        if not first.parts:
            raise EstampaError(job.item.name, "would hold nothing: no grain lives.", "Print a range in which some do.")
        mesh = joined([part.as_one() for part in first.parts])
        if mesh.count > MOST:
            cure = "Print instances instead, or sow fewer."
            raise EstampaError(job.item.name, f"would have {mesh.count:,} vertices; {MOST:,} are the most.", cure)
        path, ids = target.with_name(target.name + self.suffix), [part.ids for part in first.parts]

        def points(frame):
            found = job.outcome(frame, skinned=False)
            same = len(found.parts) == len(ids) and all(
                np.array_equal(p.ids, i) for p, i in zip(found.parts, ids, strict=True)
            )
            if not same:
                cause = f"cannot hold grains that come and go, as at frame {frame}."
                raise EstampaError(job.item.name, cause, "Print instances, or frames in which the same ones live.")
            return found.points()

        write, at = usd.write_cache, lambda frame: points(job.shown(frame))
        write_whole(path, lambda p: write(p, job.subject.name, mesh, job.written, job.frame_rate, at, False, progress))
        return [path]

    def reader(self, target: Path):
        return usd.CacheReader(target.with_name(target.name + self.suffix))

    def expected(self, job: Job, frame: int):
        return job.outcome(frame, skinned=False).points()

    check = Print.check
