"""Skin: the surface of a liquid, as a mesh that is made anew at every frame."""

from typing import NamedTuple

import numpy as np

from ...geometry.skin import LEVEL, carried, covered, cut, smoothed
from ...kinds.channels import choice, number, text, whole
from ..swarm.dress import check_colours, read_colours
from ..swarm.layer import GrainLayer

DRAFT = 1.0  # of the distance of grains, how fine a draft is at the most


class Skinned(NamedTuple):
    """A surface: points (n, 3) m; triangles (t, 3); velocity (n, 3) m/s; dye (n, 3) linear light, below 0 where
    the liquid has none of its own."""

    points: np.ndarray
    triangles: np.ndarray
    velocity: np.ndarray
    dye: np.ndarray


class GrainSkin(GrainLayer):
    """Gives a liquid a surface: one mesh around all of its grains, closed, with their colours and speeds."""

    kind, title = "grain_skin", "Skin"
    icon = "M2.5 9 C3.5 5 6 6.5 8 5 S12.5 5 13.5 9 C12.5 12.5 10 11.5 8 12.5 S3.5 12.5 2.5 9 Z M6 9 h.01 M9.5 8.4 h.01"
    rank = 6
    dresses = True
    skins = True

    cell = number(
        0.5, "How fine it is, against the distance of grains: 0.5 is good to look at, 0.35 to print, 0.8 is quick.",
        title="Fineness", unit="factor", soft=(0.25, 1), hard=(0.15, 2),
    )  # fmt: skip
    fuller = number(
        1, "How full it is: above 1 it bulges, below it shrinks and parts.", unit="factor", soft=(0.7, 1.3),
        hard=(0.4, 1.9),
    )  # fmt: skip
    smooth = whole(4, "How often it is smoothed, without shrinking.", soft=(0, 20), hard=(0, 200))
    quality = choice(
        "final", "A draft is coarser and quicker: for looking, not for delivering.",
        {"final": "Final", "draft": "Draft, for looking"},
    )  # fmt: skip
    colour = text("#c98a2b", "Its colour where grains have none of their own.", check=check_colours)

    @staticmethod
    def skinned(grains: dict, v, spacing: float, cut=cut) -> Skinned:
        """The surface of grains (columns by name) that are so far apart, m. cut -- what cuts the field, which may do so
        beside."""
        place = grains["position"].astype(float)
        if not len(place):
            none = np.zeros((0, 3))
            return Skinned(none, np.zeros((0, 3), np.int32), none, none)
        draft = v.quality == "draft"
        field = covered(place, spacing, max(float(v.cell), DRAFT if draft else 0.0) * spacing)
        points, triangles = cut(field.values, field.low, field.cell, LEVEL / float(v.fuller))
        points = smoothed(points, triangles, min(int(v.smooth), 2) if draft else int(v.smooth))
        values = np.column_stack([grains["velocity"], grains.get("dye", np.full((len(place), 3), -1.0))])
        found = carried(place, values, spacing, points) if len(points) else np.zeros((0, 6))
        return Skinned(points, triangles, found[:, :3], found[:, 3:])

    @staticmethod
    def inks(skin: Skinned, v) -> np.ndarray:
        """(n, 3) linear light of its points."""
        own = read_colours(v.colour)
        plain = np.array([0.3, 0.3, 0.3]) if own is None else own[0]
        return np.where(skin.dye[:, :1] < 0, plain, np.clip(skin.dye, 0, 1))
