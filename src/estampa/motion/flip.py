"""Flip: a strip of frozen poses, one a frame, over and over."""

import numpy as np

from ..kinds.channels import number, ref, text, whole
from .layer import Deformer


class Flip(Deformer):
    """Flips through the morph targets of its subject, one a frame, over and over: a strip frozen of a cycle."""

    kind, title = "flip", "Flip through a strip"
    icon = "M2 4 H14 V12 H2 Z M6 4 V12 M10 4 V12"
    group = "carry"
    rank = 60

    strip = ref("targets", "The poses: all morph targets of its subject, in their order.", title="Poses")
    begins = whole(1, "The frame of the first pose.", unit="frames", soft=(1, 100), fixed=True)
    rate = number(1, "Poses a frame.", unit="factor", soft=(0, 4), accumulates=True)
    of = ref("subject", "What it was frozen of.", title="Frozen of", drawn=True)
    first = whole(1, "The first frame that was frozen.", title="From frame", unit="frames", soft=(1, 100), fixed=True,
                  drawn=True)  # fmt: skip
    made = text("", "What the frozen frames were made of, so that a strip is known when its original has changed.",
                title="Made of", drawn=True)  # fmt: skip

    def apply(self, points, v, now):
        if v.strip is None or not len(v.strip):
            return points
        count = len(v.strip)
        gone = v.travel["rate"] * now.rate - float(np.ravel(v.begins)[0])  # poses since the first
        which = np.floor(gone + 1e-6).astype(np.int64) % count
        return v.strip[np.broadcast_to(which, len(now.frames))]
