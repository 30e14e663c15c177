"""Played cache: points over time from a file, on the same topology."""

import numpy as np

from ..errors import EstampaError
from ..formats.usd_points import points_file
from ..kinds.channels import choice, number, text
from .layer import Deformer

FILES = "OpenUSD (*.usd *.usda *.usdc *.usdz)"


def read_fit(words: str) -> np.ndarray | None:
    """(3, 3) of nine numbers; None of no words. Raises EstampaError."""
    if not words.strip():
        return None
    try:
        found = np.array([float(w) for w in words.replace(",", " ").split()]).reshape(3, 3)
    except ValueError as err:
        cure = "Leave it empty: then the file's own unit and axis count."
        raise EstampaError("Fit", "is not nine numbers.", cure, repr(err)) from err
    if not np.isfinite(found).all():
        raise EstampaError("Fit", "has numbers that are none.", "Leave it empty.")
    return found


class Played(Deformer):
    """Plays points that another program, or an earlier print, has in an OpenUSD file: any rate, interpolated.

    They take the place of the points that enter, as much as the strength says. Copies that run at other times each show
    their own moment of it.
    """

    kind, title = "played", "Played cache"
    icon = "M3 4 C3 2 13 2 13 4 V12 C13 14 3 14 3 12 Z M3 4 C3 6 13 6 13 4 M6.5 8 L10.5 10 L6.5 12 Z"
    group = "bring"
    reads_time = True
    rank = 1

    file = text("", "The OpenUSD file. It is watched: when it changes, what depends on it is stale.", file=FILES)
    prim = text("", "Path of the mesh in the file; empty plays the first one whose points move.", title="Mesh in it",
                empty="the first that moves")  # fmt: skip
    begins = number(1, "The frame at which its first sample is shown.", title="Begins at frame", unit="frames",
                    soft=(1, 200), fixed=True)  # fmt: skip
    speed = number(1, "How fast it plays; below 0 backwards.", unit="factor", soft=(0, 3), fixed=True)
    shift = number(0, "So many frames later in it: keyed, it plays as the keys say.", title="Later by", unit="frames",
                   soft=(-100, 100))  # fmt: skip
    outside = choice("hold", "Before it begins and after it ends.",
                     {"hold": "Held", "cycle": "Again from its start", "mirror": "Back and forth"})  # fmt: skip
    space = choice("own", "What its numbers are of.", {"own": "The subject's own space", "world": "The world"})
    fit = text("", "Nine numbers by which its points become ours; empty takes the file's unit and axis.",
               empty="the file's unit and axis", check=read_fit)  # fmt: skip

    def apply(self, points, v, now):
        if not v.file:
            return points
        played, matrix = points_file(v.file, v.prim), read_fit(v.fit)
        matrix = played.into if matrix is None else matrix
        result, count = np.empty_like(points), points.shape[1]
        plain = np.array_equal(matrix, np.eye(3))
        for row in range(len(points)):
            wanted = (now.frames[row] - float(v.begins[row])) * float(v.speed[row]) + float(v.shift[row])
            found = played.at(wanted / now.rate, count, v.outside)
            result[row] = found if plain else found @ matrix.T
        return now.place.inverse().apply(result) if v.space == "world" else result
