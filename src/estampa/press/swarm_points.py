"""A swarm as OpenUSD points."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..formats import usd_instances
from .grains import Shapes, SwarmPrint
from .prints import Job


class SwarmPoints(SwarmPrint):
    """An OpenUSD file (.usdc) with points over time: number, place, velocity, width and colour of each grain."""

    kind, title, suffix = "swarm_points", "Swarm (USD points)", ".usdc"
    icon = "M3 4 h.01 M8 3 h.01 M12.5 5 h.01 M5 8 h.01 M10 8.5 h.01 M3.5 12 h.01 M8 12.5 h.01 M12.5 11.5 h.01"
    a_grain = 8 + 12 + 12 + 4 + 12 + 16 + 4
    closes = True
    carries = ("places by number", "velocities", "widths", "colours", "turns and sizes")

    def write(self, job: Job, target: Path, progress):
        path, shapes = target.with_name(target.name + self.suffix), Shapes()
        at = lambda frame: self.instances(job, job.shown(frame), shapes)

        def wide(own):
            across = np.array([np.ptp(p, axis=0).max(initial=0.0) for _, p in shapes.every] or [0.0])
            return across[own.shape] * own.size

        write = usd_instances.write_points
        write_whole(path, lambda p: write(p, job.subject.name, job.written, job.frame_rate, at, wide, progress))
        return [path]

    def reader(self, target: Path):
        return usd_instances.PointsReader(target.with_name(target.name + self.suffix))
