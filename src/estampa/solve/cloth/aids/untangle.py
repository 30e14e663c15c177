"""Untangle: what has gone through is taken back out, from a frame on."""

from ....kinds.channels import number, whole
from ...aid import AidInputs, eased
from ..cloth_aid import ClothAid


class Untangle(ClothAid):
    """At a frame, what the cloth above it goes through is undone by the shorter way out: itself, other cloths, and
    meshes that it meets. It is seen to come out over some frames, and goes on from there.
    """

    kind, title = "untangle", "Untangle"
    icon = "M2.5 4 C6 4 10 12 13.5 12 M2.5 12 C5 12 6 10 7 9 M9 7 C10 6 11 4 13.5 4"
    group = "fall"
    rank = 8
    undoes = True

    at = number(2, "The frame in which it is undone.", title="At frame", unit="frames", soft=(1, 240), fixed=True)
    over = whole(
        6, "Frames over which it is seen to come out; 0 is at once.", title="Over", unit="frames", soft=(0, 24),
        hard=(0, 1000), fixed=True,
    )  # fmt: skip

    def untangles(self, aid_inputs: AidInputs) -> tuple[bool, float]:
        begun = max(int(aid_inputs.v.at), aid_inputs.frame - aid_inputs.since + 1)
        gone = aid_inputs.frame - begun + 1
        if gone < 1:
            return False, 0.0
        left = [1 - eased(float(aid_inputs.v.over), n) for n in (gone - 1, gone)]
        return gone == 1, left[1] / left[0] if left[0] > 0 else 0.0
