"""Thin layer: motion alone, over the OpenUSD file that an asset came from."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..errors import EstampaError
from ..formats import usd_thin
from ..units import format_bytes
from .over_source import SourcePrint
from .prints import Deviation, DeviationTracker, Estimate, Job


class ThinLayer(SourcePrint):
    """An OpenUSD layer (.usdc) over the file that the subject came from: only points over time, on the same prims.

    Opened, it shows the asset with all its looks, names and places, and our motion. The source stays untouched, and
    must stay where it is beside it.
    """

    kind, title, suffix = "thin_layer", "Thin layer over the source", ".usdc"
    icon = "M2.5 11 L8 13.5 L13.5 11 M2.5 7 L8 9.5 L13.5 7 L8 4.5 Z"
    carries = ("points at every frame", "everything that the source has")

    suffixes, source, instead = (".usd", ".usda", ".usdc"), "an OpenUSD file", "a vertex cache"

    def estimate(self, vertices, triangles, frames, v):
        size = frames * (vertices * 12 + 24)
        words = f"about {format_bytes(size)} a subject: {frames} frames × {vertices:,} vertices × 12 bytes"
        return Estimate(size, words)

    def _printed(self, job: Job) -> dict:
        """Prim -> subject."""
        found = {s.mesh.node: s for s in self.subjects(job)}
        shared = [n for n in found if "#" in n]
        if shared:
            raise EstampaError(job.item.name, f"finds two prims of one name ({shared[0]}).", "Import the file again.")
        return found

    def write(self, job: Job, target: Path, progress):
        path, source = target.with_name(target.name + self.suffix), Path(job.subject.mesh.file)
        subjects = self._printed(job)
        usd_thin.check_prims(source, {n: job.evaluator.mesh(s).count for n, s in subjects.items()})
        at = {n: (lambda frame, s=s: job.outcome_of(s, frame).points()) for n, s in subjects.items()}
        home = path.parent.resolve()
        write = usd_thin.write_thin
        write_whole(path, lambda part: write(part, home, source, at, job.frames, job.frame_rate, progress))
        return [path]

    def check(self, job: Job, target: Path, progress) -> Deviation:
        reader = usd_thin.ThinReader(target.with_name(target.name + self.suffix))
        if reader.frames != job.frames:
            cause = "was written, but the file does not hold the frames asked for."
            raise EstampaError(job.item.name, cause, "Print it again.")
        tally = DeviationTracker(job.frames)
        subjects = self._printed(job)
        for i, frame in enumerate(job.frames):
            every = []
            for prim, subject in subjects.items():
                found = reader.points(frame, prim)
                if not tally.add(i, np.linalg.norm(found - job.outcome_of(subject, frame).points(), axis=1)):
                    return tally.gap()
                every.append(found)
            tally.keep(i, np.concatenate(every))
            progress((i + 1) / len(job.frames), f"Reading back frame {frame}")
        return tally.gap(self.words(job, len(subjects)))
