"""A swarm at one frame as GLB instances."""

from pathlib import Path

from ..disk import write_whole
from ..formats import gltf_instances
from ..kinds.channels import whole
from ..units import format_bytes
from .grains import Shapes, SwarmPrint
from .prints import Estimate, Job


class SwarmGlb(SwarmPrint):
    """A GLB of one frame with a node for each shape and colour, and all places in which it stands
    (EXT_mesh_gpu_instancing)."""

    kind, title, suffix = "swarm_glb", "Swarm (GLB instances)", ".glb"
    icon = "M2.5 5 L6 3 L9 5 V9 L6 11 L2.5 9 Z M11 4 h2 v2 h-2 Z M11 9 h2.5 v2.5 h-2.5 Z M6 13 h1.5 v1.5 h-1.5 Z"
    carries = ("places, turns and sizes by number", "colours", "shapes", "materials")

    at = whole(0, "The frame that is printed; 0 takes the first.", title="At frame", unit="frames", soft=(0, 200))

    def frames(self, frames, v):
        return [v["at"]] if v["at"] in frames else frames[:1]

    def estimate(self, vertices, triangles, frames, v):
        size = vertices * 64
        return Estimate(size, f"about {format_bytes(size)} and its shapes: {vertices:,} grains × 64 bytes")

    def write(self, job: Job, target: Path, progress):
        path, shapes = target.with_name(target.name + self.suffix), Shapes()
        own = self.instances(job, job.frames[0], shapes)
        extras = {"frames": job.frames, "frame_rate": job.frame_rate}
        write_whole(path, lambda p: gltf_instances.write(p, job.subject.name, own, shapes, extras))
        return [path]

    def reader(self, target: Path):
        return gltf_instances.GltfInstancesReader(target.with_name(target.name + self.suffix))
