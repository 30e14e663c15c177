"""Pose strip: frozen meshes of one cycle, one a frame, that instances flip through."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..formats import glb
from ..kinds.channels import whole
from ..units import format_bytes
from .prints import Estimate, Job, MeshPrint


class PoseStrip(MeshPrint):
    """A GLB with one mesh for each of so many frames, evenly over the range; materials and names are kept.

    The meshes are named NAME_001, NAME_002 and so on, in the order of the cycle.
    """

    kind, title, suffix = "pose_strip", "Pose strip", ".glb"
    icon = "M2 4 H14 V12 H2 Z M6 4 V12 M10 4 V12 M4 9.5 V7 M8 9.5 L8.7 7 M12 9.5 L13 7.4"
    carries = ("points of each pose", "normals", "texture coordinates", "materials")
    parts_seams = True

    poses = whole(12, "How many frames of the cycle are frozen.", soft=(2, 48), hard=(1, 1000))

    def frames(self, frames, v):
        count = min(v["poses"], len(frames))
        return [frames[i * len(frames) // count] for i in range(count)]

    def estimate(self, vertices, triangles, frames, v):
        size = frames * vertices * 24 + triangles * 12 + vertices * 8
        return Estimate(size, f"about {format_bytes(size)}: {frames} meshes × {vertices:,} vertices × 24 bytes")

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        names = [f"{job.subject.name}_{i + 1:03d}" for i in range(len(job.frames))]
        poses = []
        for i, frame in enumerate(job.frames):
            points = job.points(frame)
            poses.append((points, job.mesh.normals(points)))
            progress((i + 1) / len(job.frames), f"Freezing frame {frame}")
        extras = {"pose_strip": {"frames": job.frames, "frame_rate": job.frame_rate}}
        write_whole(path, lambda t: glb.write_strip(t, names, poses, job.mesh, extras))
        return [path]

    def reader(self, target: Path):
        return StripReader(target.with_name(target.name + self.suffix))


class StripReader:
    """Reads the poses back by the frames they were frozen at."""

    def __init__(self, path: Path):
        self._poses, extras = glb.read_strip(path)
        self.frames = extras["pose_strip"]["frames"]

    def points(self, frame: int) -> np.ndarray:
        return self._poses[self.frames.index(frame)]
