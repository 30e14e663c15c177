"""What the aids of a cloth do: each says by itself what it changes, and the solver asks all of them alike."""

from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from ...geometry.mesh import Mesh
from ...kinds.channels import whole
from ..aid import Aid, AidInputs

HARD = 0.999  # a weight from here on holds without give
EASE = whole(
    6, "Frames over which it comes in after the first that is solved, unless that was adopted with it; 0 is at once.",
    title="Eases in over", unit="frames", soft=(0, 24), hard=(0, 1000), fixed=True,
)  # fmt: skip


class Volume(NamedTuple):
    """A closed surface that is blown up, or keeps its volume: triangles (t, 3), outwards; lid (t,) those that close a
    border and are no cloth; pressure Pa; volume m3 to be kept, 0 for none."""

    triangles: np.ndarray
    lid: np.ndarray
    pressure: float
    volume: float


@dataclass
class Holding:
    """How the vertices of one cloth are held in a frame, as its aids change it one after another.

    weight (n,) 0 to 1; before, now (n, 3) m where they are drawn to; first, place (n, 3) m the cloth as it stood at
    the first frame, and as it is; hold Hz, how fast a half-held vertex swings back; slides -- (vertices (k,), before
    (k, 3), now (k, 3), grip (k,) 1/s2, free way (k, 3), m along the path (k,), m to keep to the next (k,)) of what may
    slide, see `Ties`; surfaces -- kept from frame to frame
    """

    weight: np.ndarray
    before: np.ndarray
    now: np.ndarray
    first: np.ndarray
    place: np.ndarray
    hold: float
    surfaces: dict
    slides: list[tuple[np.ndarray, ...]] = field(default_factory=list)


class ClothAid(Aid):
    """Base of the aids of a cloth. What one does not do it leaves as it is."""

    helps = "cloth"

    def hold(self, aid_inputs: AidInputs, holding: Holding) -> None:
        """Change how the cloth is held."""

    def water(self, aid_inputs: AidInputs, points: np.ndarray) -> np.ndarray | None:
        """(n,) kg/m2 that it adds at (n, 3) m."""
        return None

    def rests(self, aid_inputs: AidInputs, points: np.ndarray) -> np.ndarray | None:
        """(n, 2) how long warp and weft rest at (n, 3) m, against the mesh."""
        return None

    def holds_volume(self, aid_inputs: AidInputs, mesh: Mesh) -> Volume | None:
        """What the cloth encloses, and with what pressure or volume."""
        return None

    def untangles(self, aid_inputs: AidInputs) -> tuple[bool, float]:
        """(whether what crosses is undone in this frame, how much of what it is shown aside by stays so)."""
        return False, 0.0

    def shelter(
        self, aid_inputs: AidInputs, points: np.ndarray, air: np.ndarray, shields: np.ndarray
    ) -> np.ndarray | None:
        """(n,) the share of the wind that is felt at (n, 3) m, where air (n, 3) m/s blows past points (m, 3) m of what
        is solid."""
        return None
