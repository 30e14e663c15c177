"""Skinned mesh: skin, joints, morph targets and clips, as GLB."""

from pathlib import Path

from ..disk import write_whole
from ..edits import clips
from ..formats import skinned
from ..units import format_bytes
from .prints import Estimate, Job
from .rigs import SkinnedPrint, motions_of, rig_of
from .sizes import mesh_bytes, vertices_of


class SkinnedMesh(SkinnedPrint):
    """A GLB with the mesh at rest, its joints and weights, morph targets, and every clip as an animation.

    It carries the skin and the morph layers above it; what other layers do is not in the file, and shows as a gap when
    it is read back. A clip that loops has its first pose again at the end.
    """

    kind, title, suffix = "skinned_mesh", "Skinned mesh", ".glb"
    icon = "M3 4 H13 V12 H3 Z M5.5 10 L8 6 L10.5 10 M8 6 a.8 .8 0 1 0 .01 0"
    closes = True
    carries = ("skin", "joints", "morph targets", "clips", "texture coordinates", "materials")
    parts_seams = True

    def estimate(self, vertices, triangles, frames, v):
        size = vertices * (24 + 8 + 20) + triangles * 12 + frames * 2000
        return Estimate(size, f"about {format_bytes(size)}: {vertices:,} vertices once, and turns of joints per frame")

    def forecast(self, plan):
        mesh, skeleton = plan.scene.mesh(plan.found.mesh), self.takes.skeleton(plan.doc, plan.item)
        layers = plan.found.layers_on
        count, targets = vertices_of(mesh, True), sum(l.declared.adds_target for l in layers)
        still = mesh_bytes(mesh, True) + 20 * count + targets * (12 * count + 260) + 500
        joints = len(skeleton.joints) if skeleton is not None else 0
        clips = [plan.frames, *(len(c.frames) for c in skeleton.clips if c.values is not None)] if skeleton else []
        moving = sum(joints * (16 * n + 300) + 4 * n * targets for n in clips) + 360 * joints
        words = f"about {format_bytes(still + moving)}: {count:,} vertices once, and turns of {joints} joints per frame"
        return Estimate(still + moving, words)

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        rigged, motions = rig_of(job), motions_of(job)
        progress(0.5, "Writing the skin")
        times = motions[0].times.tolist()
        order = job.frames[::-1] if len(job.frames) > 1 and _backwards(job) else job.frames
        job.closes = job.closes and not _backwards(job)  # then its last pose is the first one that is shown
        order = [*order, job.written[-1]] if job.closes else order
        extras = {"estampa": {"frames": order, "times": times[: len(order)]}}
        write_whole(path, lambda temporary: skinned.write(temporary, rigged, motions, extras))
        return [path]

    def reader(self, target: Path):
        return PrintedReader(target.with_name(target.name + self.suffix))


def _backwards(job) -> bool:
    present = clips.present(job.skeleton)
    return present is not None and present.speed < 0


class PrintedReader:
    """Reads a printed skin back by the frames it was made of."""

    def __init__(self, path: Path):
        self.file = skinned.SkinnedReader(path)
        meta = self.file.document.scenes[0].extras["estampa"]
        self._times = dict(zip(meta["frames"], meta["times"], strict=True))
        self.frames = sorted(meta["frames"])

    def points(self, frame: int):
        return self.file.moved(self._times[frame])
