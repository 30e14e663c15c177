"""A swarm as OpenUSD instances."""

from pathlib import Path

from ..disk import write_whole
from ..formats import usd_instances
from .grains import Shapes, SwarmPrint
from .prints import Job


class SwarmUsd(SwarmPrint):
    """An OpenUSD file (.usdc) with an instancer: place, turn, size, colour and velocity of each grain by its number,
    over time. What they show are its prototypes, one for each frame of a cycle."""

    kind, title, suffix = "swarm_usd", "Swarm (USD instances)", ".usdc"
    icon = "M3 3 h3 v3 h-3 Z M10 4 h2 v2 h-2 Z M5 9 h2 v2 h-2 Z M10 9.5 h3.5 v3.5 h-3.5 Z"
    a_grain = 8 + 12 + 16 + 12 + 12 + 4 + 12  # a grain and frame: id, place, turn, size, velocity, shape, colour
    closes = True
    carries = ("places, turns and sizes by number", "velocities", "colours", "shapes", "materials")

    def write(self, job: Job, target: Path, progress):
        path, shapes = target.with_name(target.name + self.suffix), Shapes()
        at = lambda frame: self.instances(job, job.shown(frame), shapes)
        write = usd_instances.write_instances
        write_whole(path, lambda p: write(p, job.subject.name, job.written, job.frame_rate, at, shapes, progress))
        return [path]

    def reader(self, target: Path):
        return usd_instances.InstanceReader(target.with_name(target.name + self.suffix))
