"""Pressure: a cloth that is blown up, or that keeps what it holds."""

import numpy as np

from ....geometry.caps import rims_of
from ....geometry.mesh import Mesh
from ....geometry.pieces import is_closed, volume_of
from ....kinds.channels import choice, number, switch
from ..cloth_aid import EASE, ClothAid, Volume


class Pressure(ClothAid):
    """Air within the cloth above it: so many pascals more than outside, or as much as it holds at first, which it
    keeps.

    A mesh with open borders leaks, unless they are sealed: then each is closed by a lid that is not cloth.
    """

    kind, title = "pressure", "Pressure"
    icon = "M8 2.5 A5.5 5.5 0 1 0 8.1 2.5 M8 5 V8 M8 11 V8 M5 8 H11"
    group = "fall"
    rank = 5

    keeps = choice(
        "pressure", "What is given.", {"pressure": "The pressure", "volume": "The volume, whatever presses on it"},
        title="Given",
    )  # fmt: skip
    pressure = number(
        50, "How much more it presses from within than from without; less than 0 sucks.", unit="Pa", soft=(-200, 500),
        when=(("keeps", ("pressure",)),),
    )  # fmt: skip
    volume = number(
        1, "Volume that is kept, of the volume in the mesh.", title="Volume kept", unit="factor", soft=(0.2, 2),
        hard=(0.01, 20), when=(("keeps", ("volume",)),),
    )  # fmt: skip
    ease = EASE
    sealed = switch(True, "Open borders are closed by lids.", title="Seal borders")

    def holds_volume(self, aid_inputs, mesh):
        v = aid_inputs.v
        strength = aid_inputs.share * float(np.ravel(v.strength)[0])
        lids = lids_of(mesh) if v.sealed else np.zeros((0, 3), np.int64)
        at = np.concatenate([mesh.triangles.astype(np.int64), lids])
        if not len(at) or strength <= 0:
            return None
        lid = np.arange(len(at)) >= len(mesh.triangles)
        held = volume_of(mesh.points, at) if is_closed(at) else 0.0
        if held < 0:
            at, held = at[:, ::-1], -held
        if v.keeps == "volume":
            kept = 1 + aid_inputs.share * (float(np.ravel(v.volume)[0]) - 1)
            return Volume(at, lid, 0.0, held * kept) if held > 0 else None
        return Volume(at, lid, strength * float(np.ravel(v.pressure)[0]), 0.0)


def lids_of(mesh: Mesh) -> np.ndarray:
    """(t, 3) fans that close the borders of a mesh, each from one of its own vertices."""
    fans = [(loop[0], loop[k], loop[k + 1]) for loop in rims_of(mesh.triangles) for k in range(1, len(loop) - 1)]
    return np.array(fans, np.int64).reshape(-1, 3)
