"""Zones: shapes in space with a core and a soft edge, that scale layers and forces."""

import numpy as np
from numba import njit, prange

from ..geometry.place import Place
from ..kinds.channels import choice, number, ref, switch
from ..scene.things import Placed

SHAPES = {
    "sphere": "Sphere",
    "box": "Box",
    "half": "Half-space, below its X-Z plane",
    "slab": "Slab, between two planes",
    "path": "Along a path",
}
_SPHERE, _BOX, _HALF, _SLAB, _PATH = range(5)


class Zone(Placed):
    """A shape in space with a core and a soft edge. Any number of layers and forces may be scaled by it."""

    kind, title = "zone", "Zone"
    roster_rank = 6
    only_while_on = True
    icon = "M8 2.5 a5.5 5.5 0 1 0 .01 0 M8 5.5 a2.5 2.5 0 1 0 .01 0"
    group = "guide"
    shortcut = "Alt+5"
    rank = 14

    shape = choice("sphere", "Its shape.", SHAPES)
    reach = number(
        1,
        "Radius of a sphere or tube, half the thickness of a slab, depth over which a half-space grows soft.",
        unit="m",
        soft=(0.05, 5),
        hard=(1e-6, None),
        when=(("shape", ("sphere", "half", "slab", "path")),),
    )
    wide = number(
        1,
        "Half the box's width along X.",
        title="X",
        unit="m",
        soft=(0.05, 5),
        hard=(1e-6, None),
        group="Box",
        when=(("shape", ("box",)),),
    )
    tall = number(
        1,
        "Half its height along Y.",
        title="Y",
        unit="m",
        soft=(0.05, 5),
        hard=(1e-6, None),
        group="Box",
        when=(("shape", ("box",)),),
    )
    deep = number(
        1,
        "Half its depth along Z.",
        title="Z",
        unit="m",
        soft=(0.05, 5),
        hard=(1e-6, None),
        group="Box",
        when=(("shape", ("box",)),),
    )
    soft = number(
        0.5,
        "How much of it is soft edge: at 0 a point is in or out, at 1 it is soft throughout.",
        title="Soft edge",
        unit="fraction",
        soft=(0, 1),
        hard=(0, 1),
    )
    level = number(1, "Weight inside the core.", unit="fraction", soft=(0, 1), hard=(0, 1))
    invert = switch(False, "Full outside and nothing in the core.")
    path = ref("path", "The path it lies along, for that shape.", when=(("shape", ("path",)),))
    other = ref("zone", "Another zone that it is combined with.", title="Combine with")
    how = choice(
        "add",
        "How the two are combined.",
        {"add": "Add", "larger": "Take the larger", "multiply": "Multiply"},
        title="Combined by",
    )


def weights(points: np.ndarray, place: Place, v, path: np.ndarray | None = None) -> np.ndarray:
    """(k, n) weights in [0, 1] of one zone at (k, n, 3) points that are in the same space as `place` (k rows).

    v    -- resolved channel values of the zone
    path -- (m, 3) polyline in the zone's own space, for a zone along a path
    """
    line = np.zeros((1, 3)) if path is None or len(path) == 0 else np.ascontiguousarray(path)
    shape = list(SHAPES).index(v["shape"])
    scalar = lambda name: float(np.ravel(v[name])[0])
    dims = np.array([scalar("wide"), scalar("tall"), scalar("deep")])
    result = _weights(
        np.ascontiguousarray(points),
        *place.inverse().spread(len(points)),
        shape,
        scalar("reach"),
        dims,
        scalar("soft"),
        line,
    )
    result *= scalar("level")
    return 1 - result if v["invert"] else result


def combined(a: np.ndarray, b: np.ndarray, how: str) -> np.ndarray:
    if how == "add":
        return np.minimum(a + b, 1.0)
    return np.maximum(a, b) if how == "larger" else a * b


@njit(parallel=True, cache=True, nogil=True)
def _weights(points, origin, axes, size, shape, reach, dims, soft, line):
    rows, n = points.shape[0], points.shape[1]
    result = np.empty((rows, n))
    for at in prange(rows * n):
        k, i = at // n, at % n
        px, py, pz = points[k, i, 0] * size[k], points[k, i, 1] * size[k], points[k, i, 2] * size[k]
        x = origin[k, 0] + axes[k, 0, 0] * px + axes[k, 0, 1] * py + axes[k, 0, 2] * pz
        y = origin[k, 1] + axes[k, 1, 0] * px + axes[k, 1, 1] * py + axes[k, 1, 2] * pz
        z = origin[k, 2] + axes[k, 2, 0] * px + axes[k, 2, 1] * py + axes[k, 2, 2] * pz
        # depth inside the shape, 0 at its border and 1 at its middle
        if shape == 0:
            depth = 1 - np.sqrt(x * x + y * y + z * z) / reach
        elif shape == 1:
            depth = 1 - max(abs(x) / dims[0], abs(y) / dims[1], abs(z) / dims[2])
        elif shape == 2:
            depth = -y / reach
        elif shape == 3:
            depth = 1 - abs(y) / reach
        else:
            depth = 1 - np.sqrt(_distance2(x, y, z, line)) / reach
        if soft <= 0:
            result[k, i] = 1.0 if depth >= 0 else 0.0
        else:
            t = min(max(depth / soft, 0.0), 1.0)
            result[k, i] = t * t * (3 - 2 * t)
    return result


@njit(cache=True, nogil=True)
def _distance2(x, y, z, line):
    """Squared distance of a point from a polyline."""
    best = np.inf
    for s in range(max(len(line) - 1, 1)):
        e = min(s + 1, len(line) - 1)
        ux, uy, uz = line[e, 0] - line[s, 0], line[e, 1] - line[s, 1], line[e, 2] - line[s, 2]
        dx, dy, dz = x - line[s, 0], y - line[s, 1], z - line[s, 2]
        length2 = ux * ux + uy * uy + uz * uz
        t = (dx * ux + dy * uy + dz * uz) / length2 if length2 > 0 else 0.0
        t = min(max(t, 0.0), 1.0)
        dx, dy, dz = dx - t * ux, dy - t * uy, dz - t * uz
        best = min(best, dx * dx + dy * dy + dz * dz)
    return best
