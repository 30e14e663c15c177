"""Sow: so many grains at once."""

import numpy as np

from ....errors import EstampaError
from ....hashing import rand
from ....kinds.channels import choice, number, ref, text, whole
from ...swarm import places
from ..births import Births
from ..grains import Grains
from ..points_file import read_points

ALL = ("ball", "surface", "inside", "path")


class Sow(Births):
    """So many grains at once: within a ball, on or in a mesh, along a path, on a grid, or from a list of points."""

    kind, title = "sow", "Sow"
    sows = True
    icon = "M3 13 H13 M5 10 V8 M8 10 V5 M11 10 V7 M5 6.5 h.01 M8 3.5 h.01 M11 5.5 h.01"
    rank = 1

    where = choice(
        "ball",
        "Where they are sown.",
        {
            "ball": "Within a ball about a grip",
            "surface": "On a mesh",
            "inside": "Inside a mesh",
            "path": "Along a path",
            "grid": "On a grid",
            "file": "From a list of points",
        },
    )
    count = whole(1000, "How many.", soft=(1, 10_000), hard=(0, 10_000_000), when=(("where", ALL),))
    at = whole(
        1,
        "The frame at which they come; those before the first come at the first.",
        title="At frame",
        unit="frames",
        soft=(1, 100),
        fixed=True,
    )
    around = ref("grip", "The middle of the ball or grid.", when=(("where", ("ball", "grid")),))
    radius = number(
        0.5,
        "Of the ball, or how far they stray from the path.",
        unit="m",
        soft=(0, 3),
        hard=(0, None),
        when=(("where", ("ball", "path")),),
    )
    on = ref("subject", "The mesh that they are sown on or in.", when=(("where", ("surface", "inside")),))
    on_map = ref(
        "target_weights",
        "More of them where this map of the mesh is high.",
        title="Where",
        when=(("where", ("surface",)),),
    )
    path = ref("path", "The path that they are sown along.", when=(("where", ("path",)),))
    many_x = whole(10, "Along X.", title="X", soft=(1, 50), hard=(1, 1000), group="Grid", when=(("where", ("grid",)),))
    many_y = whole(1, "Along Y.", title="Y", soft=(1, 50), hard=(1, 1000), group="Grid", when=(("where", ("grid",)),))
    many_z = whole(10, "Along Z.", title="Z", soft=(1, 50), hard=(1, 1000), group="Grid", when=(("where", ("grid",)),))
    apart = number(
        0.2, "From one to the next on the grid.", unit="m", soft=(0.01, 2), hard=(0, None), when=(("where", ("grid",)),)
    )
    file = text("", "A list of points: CSV (x, y, z), PLY, or OpenUSD points.", when=(("where", ("file",)),),
                file="Lists of points (*.csv *.txt *.ply *.usd *.usda *.usdc *.usdz)")  # fmt: skip

    @classmethod
    def expected(cls, constant, seconds, spacing, room):
        grid = constant("many_x") * constant("many_y") * constant("many_z")
        return grid if constant("where") == "grid" else constant("count")

    def born(self, v, now, source):
        if now.frame != max(int(v.at), now.first) or source.born:
            return None
        place = self._places(v, now, source)
        ids = source.ids(len(place))
        return Grains.born(ids, place, self.speeds(ids, v, now.seed), self.lives(ids, v, now.seed))

    def _places(self, v, now, source) -> np.ndarray:
        """(n, 3) m in the world."""
        how, seed = v.where, now.seed
        count = int(v.count)
        ids = (source.number << 40) + np.arange(count)
        if how == "ball":
            at = places.in_ball(ids, seed) * float(v.radius)
            return at if v.around is None else v.around.apply(at[None])[0]
        if how == "grid":
            axes = [np.arange(int(n)) - (int(n) - 1) / 2 for n in (v.many_x, v.many_y, v.many_z)]
            at = float(v.apart) * np.stack([a.ravel() for a in np.meshgrid(*axes, indexing="ij")], axis=1)
            return at if v.around is None else v.around.apply(at[None])[0]
        if how == "file":
            return read_points(v.file)
        if how == "path":
            if v.path is None:
                raise EstampaError("Sow", "has no path of some length to sow along.", "Choose one under “Path”.")
            sampled, stands = v.path
            line = stands.apply(
                sampled.at((np.arange(count) + rand(seed, ids, "along")) / count * sampled.length)[0][None]
            )
            return line[0] + float(v.radius) * places.in_ball(ids, seed)
        if v.on is None:
            raise EstampaError("Sow", "has no mesh to sow on.", "Choose one under “On”.")
        points, mesh = v.on.points[0], v.on.mesh
        try:
            if how == "inside":
                return places.in_mesh(ids, seed, mesh, points)
            which, shares = places.on_surface(ids, seed, points, mesh.triangles, v.on_map)
            return places.shares_at(points, mesh.triangles, which, shares)
        except ValueError as err:
            what = "holds no volume" if how == "inside" else "has no surface where its map is above 0"
            raise EstampaError(
                "Sow", f"cannot sow there: the mesh {what}.", "Choose another mesh or map.", str(err)
            ) from err
