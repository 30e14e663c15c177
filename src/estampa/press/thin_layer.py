"""Thin layer: motion alone, over the OpenUSD file that an asset came from."""

from pathlib import Path

import numpy as np

from ..disk import write_whole
from ..errors import EstampaError
from ..formats import usd_thin
from ..kinds.channels import switch
from ..units import format_bytes
from .prints import Deviation, DeviationTracker, Estimate, Job, MeshPrint

SUFFIXES = (".usd", ".usda", ".usdc")


class ThinLayer(MeshPrint):
    """An OpenUSD layer (.usdc) over the file that the subject came from: only points over time, on the same prims.

    Opened, it shows the asset with all its looks, names and places, and our motion. The source stays untouched, and
    must stay where it is beside it.
    """

    kind, title, suffix = "thin_layer", "Thin layer over the source", ".usdc"
    icon = "M2.5 11 L8 13.5 L13.5 11 M2.5 7 L8 9.5 L13.5 7 L8 4.5 Z"
    carries = ("points at every frame", "everything that the source has")

    every = switch(True, "All subjects that came from the same file, not one alone.", title="All of that file")

    def estimate(self, vertices, triangles, frames, v):
        size = frames * (vertices * 12 + 24)
        words = f"about {format_bytes(size)} a subject: {frames} frames × {vertices:,} vertices × 12 bytes"
        return Estimate(size, words)

    def trouble(self, doc, printed):
        ref = printed.mesh
        if not ref.file or Path(ref.file).suffix.lower() not in SUFFIXES:
            return f"{printed.name} did not come from an OpenUSD file. Print a vertex cache, or import it from one."
        return "" if Path(ref.file).is_file() else f"{ref.file} is not there. Put it back, or print a vertex cache."

    def others(self, doc, printed, v):
        own = (s for s in doc.subjects if s.on and s.id != printed.id)
        return [s for s in own if s.mesh.file == printed.mesh.file] if v["every"] else []

    def _printed(self, job: Job) -> dict:
        """Prim -> subject."""
        every = [job.subject, *self.others(job.evaluator.doc, job.subject, job.v)]
        found = {s.mesh.node: s for s in every}
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
        names = f"{len(subjects)} subject{'s' if len(subjects) > 1 else ''} of {Path(job.subject.mesh.file).name}"
        return tally.gap(names)
