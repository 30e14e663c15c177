"""Joints as BVH."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..formats import bvh
from ..kinds.channels import choice
from ..units import format_bytes
from .prints import Estimate, Job
from .rigs import JointPrint

UNITS = {"m": 1.0, "cm": 100.0, "in": 1 / 0.0254}


class JointBvh(JointPrint):
    """A BVH file: the joints' offsets and, at each frame, their turns. Only the roots move, and nothing stretches.

    Every last joint has an end. In a file, turns are in degrees, about Z, X and Y in turn.
    """

    kind, title, suffix = "joint_bvh", "Joints (BVH)", ".bvh"
    icon = "M3 3 H9 L13 7 V13 H3 Z M5.5 7 V11 M5.5 9 H8 M8 9 V11"
    carries = ("turns of joints", "places of roots")

    unit = choice("cm", "What one unit of the file is.", {"cm": "Centimetres", "m": "Metres", "in": "Inches"})

    def estimate(self, vertices, triangles, frames, v):
        size = vertices * 120 + frames * (3 * vertices + 3) * 10
        return Estimate(size, f"about {format_bytes(size)}: {vertices:,} joints × {frames} frames, as text")

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        evaluator, skeleton = job.evaluator, job.skeleton
        bones = evaluator.poses.bones(skeleton)
        world = np.stack([evaluator.poses.world(skeleton, f) for f in job.frames])
        at_rest = evaluator.poses.skeleton_place(skeleton, job.frames[0]).matrices[0] @ bones.at_rest
        tips = np.einsum("nij,nj->ni", at_rest[:, :3, :3], bones.tips)
        names = [j.name for j in bones.joints]
        progress(0.5, "Writing the joints")
        scale = UNITS[job.v["unit"]]
        write_whole(path, lambda t: bvh.write(t, names, bones.parents, at_rest, tips, world, job.frame_rate, scale))
        self.read_with = (scale, job.frames, np.argsort(bvh.file_order(bones.parents)))
        return [path]

    def expected(self, job, frame):
        return job.evaluator.poses.world(job.skeleton, frame)[:, :3, 3]

    def reader(self, target: Path):
        scale, frames, back = self.read_with
        return BvhReader(target.with_name(target.name + self.suffix), scale, frames, back)


class BvhReader:
    def __init__(self, path: Path, scale, frames, back):
        self._world = bvh.BvhReader(path, scale).world()
        self._back = back
        self.frames = list(frames)[: len(self._world)]

    def points(self, frame):
        placed = self._world[self.frames.index(frame), -len(self._back) :]  # but for a joint that several roots hang on
        return placed[self._back, :3, 3]
