"""The shot as one GLB."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..errors import EstampaError
from ..formats.gltf_shot import MOST_MORPHS, write_shot
from ..lazy import spatial
from ..units import format_bytes
from .prints import Estimate, Gap, Job, Tally
from .shot import Shot


class ShotGlb(Shot):
    """A GLB of everything that is on: the tree with its places over time, cameras, copies as nodes of one mesh,
    pictures in the file. Meshes whose points move have a morph target a frame."""

    kind, title, suffix = "shot_glb", "Shot (GLB)", ".glb"
    carries = ("the tree", "places over time", "points over time as morph targets", "cameras", "copies as nodes",
               "normals", "all texture coordinates", "materials with pictures")  # fmt: skip

    def estimate(self, vertices, triangles, frames, v):
        size = frames * vertices * 12
        trouble = ""
        if frames > MOST_MORPHS:
            trouble = f"{frames:,} frames would be as many morph targets; {MOST_MORPHS} are the most. Print OpenUSD."
        words = f"up to {format_bytes(size)} a subject whose points move: {frames} targets × {vertices:,} vertices"
        return Estimate(size, words, trouble)

    def write(self, job: Job, target: Path, progress):
        path = target.with_name(target.name + self.suffix)
        things, props = self._props(job)
        moments = []
        for i, frame in enumerate(job.frames):
            moments.append(self._moment(job, things, props, frame))
            progress(0.8 * (i + 1) / len(job.frames), f"Reading frame {frame}")
        self._refuse_changing(job, props, moments)
        extras = {"shot": {"frames": job.frames, "frame_rate": job.frame_rate}}
        args = (job.item.name, props, job.frames, job.frame_rate, moments, extras)
        write_whole(path, lambda part: write_shot(part, *args))
        return [path]

    @staticmethod
    def _refuse_changing(job, props, moments) -> None:
        for i, prop in enumerate(props):
            counts = {len(m.copies[i].ids) for m in moments} if prop.copied is not None else {0}
            if len(counts) > 1:
                raise EstampaError(prop.name, "changes its number over time.", "Print the shot as OpenUSD.")

    def check(self, job: Job, target: Path, progress) -> Gap:
        """Played as the standard says, and held against the scene: each place of either near one of the other, as
        vertices are parted at seams."""
        from ..rehearsal.gltf import GltfActor

        actor = GltfActor(target.with_name(target.name + self.suffix))
        things = [t for t in self.others(job.evaluator.doc, job.subject, job.v) if t.kind in ("subject", "copies")]
        tally = Tally(job.frames)
        for i, frame in enumerate(job.frames):
            found = actor.points(actor.clips[0], (frame - job.frames[0]) / job.frame_rate)
            wanted = np.concatenate([job.outcome_of(t, frame).points() for t in things if t.on])
            if not tally.add(i, np.where(np.isfinite(found).all(axis=1), 0.0, np.inf)):
                return tally.gap()
            for a, b in ((found, wanted), (wanted, found)):
                tally.add(i, spatial.cKDTree(a).query(b)[0])
            tally.keep(i, found)
            progress((i + 1) / len(job.frames), f"Reading back frame {frame}")
        return tally.gap()
