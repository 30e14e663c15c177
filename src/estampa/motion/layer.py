"""What a layer is, and what it may read.

A layer works on rows: k shapes of one subject at once, the subject itself or its copies. Numbers in its channels are
(k,) arrays, what it names in space is a Place of k rows, in the subject's own space.
"""

from dataclasses import dataclass
from pathlib import Path
from typing import Any, ClassVar

import numpy as np
from numba import njit, prange
from numba.extending import register_jitable

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..geometry.place import Place
from ..kinds.channels import number, ref
from ..kinds.named import Surface
from ..kinds.plugins import cure_for
from ..kinds.registry import Kind

# products may be joined with sums (one rounding instead of two); nothing else of the arithmetic is loosened
kernel = njit(parallel=True, cache=True, nogil=True, fastmath={"contract"})
inline = njit(cache=True, nogil=True, inline="always", fastmath={"contract"})
helper = njit(cache=True, nogil=True, fastmath={"contract"})


class Resolved(dict):
    """Channel values at one frame, read as attributes: numbers, words, and what channels name (see
    estampa.evaluate.references for the sorts of value).

    For a channel that accumulates, `travel[name]` is its integral over time since frame 0. `loop` is (how far round,
    seconds) in a loop range, for what is asked to close it; how far is (k,) for a layer on rows. `bind` is (indices
    (n, m), weights (n, m)) of a layer that is bound. `here` is where a force stands itself, `before` what a solid one
    read at the frame before, `id` the id of what was read, `called` its name.
    """

    travel: dict[str, Any]
    loop: tuple | None = None
    bind: tuple | None = None
    here: Place | None = None
    before: "Resolved | None" = None
    id: str = ""
    called: str = ""

    def __getattr__(self, name: str) -> Any:
        try:
            return self[name]
        except KeyError:  # so that hasattr, getattr with a default and deepcopy work as for any object
            raise AttributeError(name) from None

    @property
    def alike(self) -> bool:
        """Whether all rows read the same."""
        if any(getattr(x, "differs", False) for x in self.values()):
            return False
        counts = [len(x) for x in [*self.values(), *self.travel.values()] if _is_rows(x)]
        counts += [p.rows for p in map(_place, self.values()) if p is not None]
        counts += [len(s.points) for s in self.values() if isinstance(s, Surface)]
        counts += [len(self.loop[0])] if self.loop else []
        return max(counts, default=1) == 1

    def in_rows(self, rows: int) -> "Resolved":
        """The same with every number in this many rows."""

        def wide(x):
            if isinstance(x, Surface):
                return x._replace(points=wide(x.points))
            return np.repeat(x, rows, axis=0) if _is_rows(x) and len(x) == 1 else x

        result = Resolved({n: wide(x) for n, x in self.items()})
        result.travel = {n: wide(x) for n, x in self.travel.items()}
        result.loop = None if self.loop is None else (wide(self.loop[0]), self.loop[1])
        result.bind = self.bind
        return result


def _is_rows(x) -> bool:
    """What has a row for each copy is float64: numbers (k,), points of a surface (k, n, 3), palettes (k, j, 3, 4).
    Weights are float32, and a shape to be morphed to is (n, 3)."""
    return isinstance(x, np.ndarray) and x.dtype == np.float64 and x.ndim != 2


def _place(x) -> Place | None:
    if isinstance(x, Place):
        return x
    return x[1] if isinstance(x, tuple) and len(x) == 2 and isinstance(x[1], Place) else None


@dataclass(frozen=True)
class Moment:
    """When and on what a layer works."""

    frames: np.ndarray  # (k,)
    rate: float  # frames a second
    mesh: Mesh  # topology and rest points
    place: Place  # (k) where the subject itself stands

    @property
    def time(self) -> np.ndarray:
        return self.frames / self.rate

    def kept(self, what: str, make):
        """A value that depends on the mesh alone, made once."""
        return self.mesh.cached(what, make)


class Layer(Kind):
    """Base of the motion layers."""

    family = "layer"
    moves = "points"  # or "joints"
    memory = False  # True: each frame needs the one before
    ensemble = ""  # kind of the ensemble that it plays in
    solo = False  # True: it may also be solved alone
    reads_time = False  # True: what it makes depends on the frame itself, not on its channels alone
    reads_frames = False  # True: it reads what enters at other frames than the present one
    of_pieces = False  # True: it says where pieces stand, and points are moved after the last of several such layers
    remeshes = False  # True: what comes out has another topology than what goes in
    moves_pieces = False  # True: with memory, and what comes out is pieces that moved as wholes
    refines = False  # True: finer faces come out, so that what stands below it has more to do
    smooths = False  # True: it takes out what is crumpled, which is done last
    collides = False  # True: it is solved as a body, whose shape can be looked at
    closes = False  # True: what comes out has an inside, whatever goes in
    parts_mesh = False  # True: it parts a mesh into pieces
    on_pieces: ClassVar[dict[str, Any]] = {}  # values that it has when it is added below what parts the mesh
    adds_target = False  # True: it adds a morph target to what enters, as players of skins do
    binds = False  # True: it is bound once to a shape at rest, and follows something from there
    follows_skeleton = False  # True: it carries points with a skeleton, by the weights that it was bound with
    slow = False  # True: part of its plan takes long, and is kept in the store


class Deformer(Layer):
    """Base of the layers that move points and keep topology and vertex order."""

    own_first = True
    turns = False  # True: the layer scales its own angle by strength, since points between two turns would shrink

    strength = number(1, "How much of the layer is felt.", unit="fraction", soft=(0, 1))
    map = ref("map", "Weight map that scales the layer; none moves everything.", title="Weight map")
    zone = ref("zone", "A zone in space that scales the layer.")

    def apply(self, points: np.ndarray, v: Resolved, now: Moment) -> np.ndarray:
        """New (k, n, 3) float64 points from the input ones, which must not be changed. Metres."""
        raise NotImplementedError


_FULL = np.ones((1, 1), np.float32)
_FULL.flags.writeable = False


def moved(layer: Deformer, points: np.ndarray, v: Resolved, now: Moment) -> np.ndarray:
    """What a layer makes of (k, n, 3) points, with its strength, weight map and zone."""
    if not v.strength.any():
        return points
    result = layer.apply(points, v, now)
    if not isinstance(result, np.ndarray) or result.shape != points.shape or result.dtype != np.float64:
        raise _misshapen(layer, result, points)
    strength = np.ones(1) if layer.turns else v.strength
    if result is points or ((strength == 1).all() and v.map is None and v.zone is None):
        return result
    weights = _FULL if v.map is None else v.map[None]
    zone = np.ones((1, 1)) if v.zone is None else v.zone(points)
    return _blended(points, result, np.ascontiguousarray(strength), weights, zone)


def _misshapen(layer: Deformer, result, points: np.ndarray) -> EstampaError:
    what = f"{result.dtype} of the shape {result.shape}" if isinstance(result, np.ndarray) else type(result).__name__
    words = f"gave {what} where float64 of the shape {points.shape} was wanted."
    return EstampaError(layer.title, words, cure_for(type(layer)))


def apply(
    kind: type[Deformer], points: np.ndarray, mesh: Mesh | None = None, frame: float = 0, rate: float = 24, **values
):
    """One layer on (n, 3) points, outside any scene: channels by name, `travel_NAME` for what has gathered over time.

    mesh -- topology and rest points, for layers that read them. Gives (n, 3) points.
    """
    v = Resolved()
    numbers = {n for n, c in kind.channels.items() if c.type == "number"}
    v.travel = {n: np.array([float(values.pop(f"travel_{n}", 0.0))]) for n, c in kind.channels.items() if c.accumulates}
    v.loop = values.pop("loop", None)
    for name, channel in kind.channels.items():
        value = values.pop(name, channel.default)
        v[name] = np.array([float(value)]) if name in numbers else value
    if values:
        raise TypeError(f"{kind.title} has no channel {', '.join(values)}")
    mesh = mesh or Mesh(points, [], [])
    now = Moment(np.array([float(frame)]), rate, mesh, Place.still())
    return moved(kind(), np.ascontiguousarray(points, np.float64)[None], v, now)[0]


def stand(place: Place | None, rows: int) -> Place:
    """A grip's place in `rows` rows, or the subject's own origin when the channel names none."""
    return Place.still(rows) if place is None else place.spread(rows)


@inline
def sincos(x):
    """(sine, cosine) to about 1e-15 for angles up to some thousand turns, without a branch.

    Reduction by a pi / 2 in three parts (Cody and Waite 1980), then the polynomials of the Cephes library
    (Moshier 1989; coefficients from memory, checked against NumPy in the tests).
    """
    n = np.floor(x * 0.6366197723675814 + 0.5)
    r = ((x - n * 1.5707963109016418) - n * 1.5893254712295857e-08) - n * 6.123233995736766e-17
    z = r * r
    s = 1.58962301576546568060e-10 * z - 2.50507477628578072866e-8
    s = ((s * z + 2.75573136213857245213e-6) * z - 1.98412698295895385996e-4) * z + 8.33333333332211858878e-3
    s = r + r * z * (s * z - 1.66666666666666307295e-1)
    c = -1.13585365213876817300e-11 * z + 2.08757008419747316778e-9
    c = ((c * z - 2.75573141792967388112e-7) * z + 2.48015872888517045348e-5) * z - 1.38888888888730564116e-3
    c = 1 - 0.5 * z + z * z * (c * z + 4.16666666666665929218e-2)
    q = np.int64(n)
    odd = (q & 1) == 1
    sine, cosine = (c if odd else s), (s if odd else c)
    return (-sine if (q & 2) == 2 else sine), (-cosine if ((q + 1) & 2) == 2 else cosine)


PART = 1024  # vertices that a thread takes at once


@inline
def part(at, parts, n):
    """(row, first vertex, one past its last) of a part; a kernel runs over rows x parts of them."""
    k = at // parts
    first = (at - k * parts) * PART
    return k, first, min(first + PART, n)


@helper
def to_local(points, k, first, last, origin, axes):
    """(x, y, z) arrays of a part's coordinates along a row's axes (columns) at its origin.

    A kernel works on these three flat arrays, which the compiler turns into vector instructions; it makes no views of
    the large arrays in its loops, since each would count references that two threads then fight over.
    """
    m = last - first
    x, y, z = np.empty(m), np.empty(m), np.empty(m)
    o0, o1, o2 = origin[k, 0], origin[k, 1], origin[k, 2]
    a00, a01, a02 = axes[k, 0, 0], axes[k, 0, 1], axes[k, 0, 2]
    a10, a11, a12 = axes[k, 1, 0], axes[k, 1, 1], axes[k, 1, 2]
    a20, a21, a22 = axes[k, 2, 0], axes[k, 2, 1], axes[k, 2, 2]
    for i in range(m):
        p, q, r = points[k, first + i, 0] - o0, points[k, first + i, 1] - o1, points[k, first + i, 2] - o2
        x[i] = a00 * p + a10 * q + a20 * r
        y[i] = a01 * p + a11 * q + a21 * r
        z[i] = a02 * p + a12 * q + a22 * r
    return x, y, z


@helper
def from_local(result, k, first, x, y, z, origin, axes):
    """Put a part's coordinates back as points."""
    o0, o1, o2 = origin[k, 0], origin[k, 1], origin[k, 2]
    a00, a01, a02 = axes[k, 0, 0], axes[k, 0, 1], axes[k, 0, 2]
    a10, a11, a12 = axes[k, 1, 0], axes[k, 1, 1], axes[k, 1, 2]
    a20, a21, a22 = axes[k, 2, 0], axes[k, 2, 1], axes[k, 2, 2]
    for i in range(len(x)):
        result[k, first + i, 0] = o0 + a00 * x[i] + a01 * y[i] + a02 * z[i]
        result[k, first + i, 1] = o1 + a10 * x[i] + a11 * y[i] + a12 * z[i]
        result[k, first + i, 2] = o2 + a20 * x[i] + a21 * y[i] + a22 * z[i]


@inline
def between(x, low, high):
    """x kept between low and high."""
    x = x if x > low else low
    return x if x < high else high


def along_grip(move):
    """The kernel of a layer that moves points along its grip's axes.

    move -- a plain function (x, y, z, own): a part's coordinates as flat arrays, changed in place, and the row's
    numbers. It keeps its name beside the kernel's, and is compiled into it: a plain function is what lets Numba keep
    the kernel on disk, since another kernel would be another key in each process.

    The kernel takes points (k, n, 3), a grip's origin (k, 3) and axes (k, 3, 3), and numbers (k, m).
    """
    move = register_jitable(inline="always")(move)
    word = move.__module__.rpartition(".")[2] + move.__name__
    written = Path(move.__code__.co_filename).stat().st_mtime_ns  # Numba looks at this file alone for changes

    def moved_along(points, origin, axes, numbers):
        written  # noqa: B018  so that it is part of the key
        rows, n = points.shape[0], points.shape[1]
        result = np.empty_like(points)
        parts = (n + PART - 1) // PART
        for at in prange(rows * parts):
            k, first, last = part(at, parts, n)
            x, y, z = to_local(points, k, first, last, origin, axes)
            move(x, y, z, numbers[k])
            from_local(result, k, first, x, y, z, origin, axes)
        return result

    # each by a name of its own: kernels of one name that two processes compiled are one to the linker, and the second
    # to be loaded has no constants ("descr is NULL")
    moved_along.__name__ = f"moved_along_{word}"
    moved_along.__qualname__ = f"along_grip.<locals>.moved_along_{word}"
    return kernel(moved_along)


def in_rows(*numbers) -> np.ndarray:
    """(k, m) numbers for a kernel along a grip, from m arrays (k,)."""
    return np.stack(np.broadcast_arrays(*numbers), axis=1).astype(np.float64)


def origin_frame(grip: Place | None) -> tuple[np.ndarray, np.ndarray, float]:
    """(origin, axes, size) of a force's grip, or the world's when the channel names none."""
    return grip.at(0) if grip is not None else (np.zeros(3), np.eye(3), 1.0)


@kernel
def _blended(points, result, strength, weights, zone):
    rows, n = points.shape[0], points.shape[1]
    blend = np.empty_like(points)
    parts = (n + PART - 1) // PART
    for at in prange(rows * parts):
        k, first, last = part(at, parts, n)
        for i in range(first, last):
            share = strength[min(k, len(strength) - 1)] * weights[0, min(i, weights.shape[1] - 1)]
            share *= zone[min(k, zone.shape[0] - 1), min(i, zone.shape[1] - 1)]
            for j in range(3):
                blend[k, i, j] = points[k, i, j] + (result[k, i, j] - points[k, i, j]) * share
    return blend
