"""Follow a path: ride along it as a whole, or be bent along it."""

import numpy as np

from ..kinds.channels import choice, number, ref, switch
from .layer import Deformer


class Follow(Deformer):
    """Carries the subject along a path, its Z axis forward and its Y axis up; as a whole, or bent along the path.

    Past the path's end it goes straight on; on a closed path, round again.
    """

    kind, title = "follow", "Follow path"
    icon = "M2.5 13 C2.5 5 9 13 9 7 S13.5 4 13.5 2.5 M5 8 L6.5 10 M11 4 L13.5 6"
    group = "guide"

    path = ref("path", "The path it follows.")
    along = number(
        0, "How far along the path, against its length. 1 is once along, 2 twice.", unit="fraction", soft=(0, 1)
    )
    speed = number(0, "It also goes along by itself.", unit="m/s", soft=(-5, 5), accumulates=True, along_path=True)
    how = choice("whole", "As a stiff whole, or bent along the path.", {"whole": "As a whole", "bent": "Bent along it"})
    turned = switch(True, "Turns with the path; off, it keeps its own turn.")

    def apply(self, points, v, now):
        if v.path is None:
            return points
        sampled, place = v.path  # in the path's own space, and where the path stands
        k = len(points)
        place = place.spread(k)
        distance = v.along * sampled.length + v.travel["speed"] / place.size
        if v.how == "bent":
            size = place.size[:, None]
            at, axes = sampled.at((distance[:, None] + points[..., 2] / size).ravel())
            at, axes = at.reshape(k, -1, 3), axes.reshape(k, -1, 3, 3)
            across = (
                axes[..., 0] * points[..., :1] / size[..., None] + axes[..., 1] * points[..., 1:2] / size[..., None]
            )
            return place.apply(at + across)
        at, axes = sampled.at(distance)
        origin = place.origin + np.einsum("kij,kj->ki", place.axes, at) * place.size[:, None]
        if v.turned:
            points = np.einsum("kij,knj->kni", place.axes @ axes, points)
        return points + origin[:, None]
