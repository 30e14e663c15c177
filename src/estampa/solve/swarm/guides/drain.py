"""Drain: grains that come into a zone are gone."""

import numpy as np

from ..layer import GrainLayer


class Drain(GrainLayer):
    """Takes away grains that come into its zone, those with more than half of it."""

    kind, title = "grain_drain", "Drain"
    icon = "M3 4 H13 M4 4 C4 9 7 9 7 13 H9 C9 9 12 9 12 4 M6 6.4 h.01 M10 6.4 h.01"
    rank = 24

    def bound(self, grains, v, now, h):
        if v.zone is None or not len(grains):
            return
        gone = self.felt(grains, v) > 0.5
        grains.life[np.broadcast_to(gone, len(grains))] = 0.0
