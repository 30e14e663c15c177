"""The shot as one GLB."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..errors import EstampaError
from ..formats.distinct import MOST_SHAPES
from ..formats.gltf_shot import write_shot
from ..kinds.channels import switch
from .prints import Deviation, DeviationTracker, Job
from .shot import Shot, may_bend
from .sizes import GLB


class ShotGlb(Shot):
    """A GLB of everything that is on: the tree with its places over time, cameras, copies as nodes of one mesh,
    pictures in the file. Meshes whose points move have a morph target a frame."""

    names_morphs = True
    kind, title, suffix = "shot_glb", "Shot (GLB)", ".glb"
    carries = ("the tree", "places over time", "points over time as morph targets", "skeletons and skins", "cameras",
               "copies as nodes or instances", "normals", "all texture coordinates",
               "materials with pictures")  # fmt: skip

    instances = switch(False, "Copies that stand still and are of one shape, or sway together, become instances of one "
                       "node (EXT_mesh_gpu_instancing), which fewer programs read; others stay nodes.",
                       title="Copies as instances")  # fmt: skip

    costs = GLB

    def trouble(self, doc, printed):
        """What bodies move as wholes goes as nodes, for any number of frames; other points are a morph target each."""
        frames = doc.end - doc.start + 1
        moving = next((t for t in doc.subjects if t.on and may_bend(t)), None) if frames > MOST_SHAPES else None
        if moving is None:
            return ""
        return (
            f"{frames:,} frames would be as many morph targets of {moving.name}; {MOST_SHAPES} are the most. "
            "Print OpenUSD."
        )

    def holds(self, rig, props, at):
        return True  # each skin of glTF has matrices of its own

    def write(self, job: Job, target: Path, progress):
        self._written, self._instanced = self._casts(job, target), 0
        for c, cast in enumerate(self._written):
            moments = []
            for i, frame in enumerate(job.written):
                moments.append(self._moment(job, cast, job.shown(frame)))
                progress((c + 0.8 * (i + 1) / len(job.written)) / len(self._written), f"Reading frame {frame}")
            self._refuse_changing(cast.props, moments)
            extras = {"shot": {"frames": job.frames, "frame_rate": job.frame_rate}}
            args = (job.item.name, cast.props, job.written, job.frame_rate, moments, extras, job.v["instances"])
            found = []
            write_whole(cast.path, lambda part, args=args, found=found: found.extend(write_shot(part, *args)))
            self._instanced += len(found)
        return [cast.path for cast in self._written]

    @staticmethod
    def _refuse_changing(props, moments) -> None:
        for i, prop in enumerate(props):
            counts = {len(m.copies[i].ids) for m in moments} if prop.copied is not None else {0}
            if len(counts) > 1:
                raise EstampaError(prop.name, "changes its number over time.", "Print the shot as OpenUSD.")

    def check(self, job: Job, target: Path, progress) -> Deviation:
        """Played as the standard says, and held against the scene: each place of either near one of the other, as
        vertices are parted at seams."""
        from ..rehearsal.gltf import GltfActor

        tally, ends = DeviationTracker(job.written, job.closes), {}
        for cast in self._written:
            actor = GltfActor(cast.path)
            shown = [t for t, p in zip(cast.things, cast.props, strict=True) if p.mesh is not None or p.copied]
            for i, frame in enumerate(job.written):
                found = actor.points(actor.clips[0], (frame - job.frames[0]) / job.frame_rate)
                wanted = np.concatenate([job.outcome_of(t, job.shown(frame)).points() for t in shown])
                if not tally.add_nearest(i, found, wanted):
                    return tally.gap()
                ends.setdefault(i, []).append(found)
                progress((i + 1) / len(job.written), f"Reading back frame {frame}")
        for i, found in ends.items():
            tally.keep(i, np.concatenate(found))
        return tally.gap(self._words())

    def _words(self):
        words, sets = super()._words(), sum(p.copied is not None for cast in self._written for p in cast.props)
        return f"{words}; {self._instanced} of {sets} sets of copies as instances" if self._instanced else words
