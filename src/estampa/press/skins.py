"""What prints of a liquid's skin share: its surface at a frame, and reading back one of another topology at each."""

import numpy as np

from ..errors import EstampaError
from ..evaluate.outcome import Part
from .grains import SwarmPrint
from .prints import Deviation, DeviationTracker, Job

A_GRAIN = 36  # vertices of a skin for the grains to the power of two thirds, about, as fine as it is at first


class SkinPrint(SwarmPrint):
    """Base of the prints of a surface that is made anew at every frame."""

    takes_surface = True

    @staticmethod
    def vertices(grains: int) -> float:
        """About how many vertices the skin of so many grains has."""
        return A_GRAIN * grains ** (2 / 3)

    def trouble(self, doc, printed):
        skins = [l for l in printed.layers_on if getattr(l.declared, "skins", False)]
        return "" if skins else f"{printed.name} has no skin. Add the layer Skin to it."

    def surface(self, job: Job, frame: int) -> Part | None:
        """The surface at a frame; None where there is nothing."""
        return next((p for p in job.outcome(frame).parts if p.places is None), None)

    def check(self, job: Job, target, progress) -> Deviation:
        reader, name = self.reader(target), job.item.name
        if list(reader.frames) != job.written:
            words = "was written, but the files do not hold the frames asked for."
            raise EstampaError(name, words, "Print it again.")
        tally = DeviationTracker(job.written, job.closes)
        for i, frame in enumerate(job.written):
            points, triangles = reader.surface(frame)
            part = self.surface(job, job.shown(frame))
            wanted = np.zeros((0, 3)) if part is None else part.points
            faces = np.zeros((0, 3), int) if part is None else part.mesh.triangles
            if points.shape != wanted.shape or not np.array_equal(triangles, faces):
                words = f"was written, but at frame {frame} the file holds another surface than the scene."
                raise EstampaError(name, words, "Print it again.")
            if not tally.add(i, np.linalg.norm(points - wanted, axis=1)):
                break
            progress((i + 1) / len(job.written), f"Reading back frame {frame}")
        return tally.gap()
