"""Pose strip: frozen meshes of one cycle, one a frame, that instances flip through."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..edits.things import rides_on
from ..formats import glb
from ..kinds.channels import switch, whole
from ..units import format_bytes
from .prints import Estimate, Job, MeshPrint


class PoseStrip(MeshPrint):
    """A GLB with one mesh for each of so many frames, evenly over the range; materials and names are kept.

    The meshes are named NAME_001, NAME_002 and so on, in the order of the cycle. With what rides on the subject, each
    pose is a node of that name, with its parts under it.
    """

    takes_roots = True
    kind, title, suffix = "pose_strip", "Pose strip", ".glb"
    icon = "M2 4 H14 V12 H2 Z M6 4 V12 M10 4 V12 M4 9.5 V7 M8 9.5 L8.7 7 M12 9.5 L13 7.4"
    carries = ("points of each pose", "normals", "texture coordinates", "materials")
    parts_seams = True

    rides = switch(False, "Freeze the subjects that ride on it too, as parts of each pose.", title="What rides on it")
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
        parts = self._parts(job)
        if parts:
            every = [(p.name, mesh, self._frozen(job, p, mesh, origin)) for p, mesh, origin in parts]
            every.insert(0, (job.subject.name, job.mesh, poses))
            write_whole(path, lambda t: glb.write_strips(t, names, every, extras))
            return [path]
        write_whole(path, lambda t: glb.write_strip(t, names, poses, job.mesh, extras))
        return [path]

    def others(self, doc, printed, v):
        own = (t for t in doc.subjects if t.on and t.id != printed.id)
        # what has no mesh itself is printed with all that ride on it anyway
        apart = v["rides"] and not v.get("copies") and printed.mesh is not None
        return [t for t in own if rides_on(doc, t, printed.id)] if apart else []

    def _parts(self, job: Job) -> list[tuple]:
        """(subject, its mesh parted at seams, which vertex each was) of what rides on the subject."""
        every = self.others(job.evaluator.doc, job.subject, job.v)
        return [(t, *job.evaluator.mesh(t).parted()) for t in every]

    def _frozen(self, job: Job, subject, mesh, origin) -> list[tuple]:
        every = (self._points(job, subject, origin, frame) for frame in job.frames)
        return [(points, mesh.normals(points)) for points in every]

    @staticmethod
    def _points(job: Job, subject, origin, frame):
        points = job.outcome_of(subject, frame).points()
        return points if origin is None else points[origin]

    def expected(self, job: Job, frame: int):
        parts = (self._points(job, subject, origin, frame) for subject, _, origin in self._parts(job))
        return np.concatenate([job.points(frame), *parts])

    def reader(self, target: Path):
        return StripReader(target.with_name(target.name + self.suffix))


class StripReader:
    """Reads the poses back by the frames they were frozen at."""

    def __init__(self, path: Path):
        self._poses, extras = glb.read_strip(path)
        self.frames = extras["pose_strip"]["frames"]

    def points(self, frame: int) -> np.ndarray:
        return self._poses[self.frames.index(frame)]
