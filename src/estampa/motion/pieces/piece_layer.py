"""What a layer is that moves pieces as wholes: it says where each piece stands; points are moved once, after the last
of several such layers."""

from dataclasses import dataclass

import numpy as np
from numba import prange

from ...geometry import pose as turns
from ...geometry.pieces import Pieces
from ...geometry.place import Place
from ...hashing import rand
from ...kinds.channels import choice, number, ref, switch, whole
from ..layer import PART, Layer, Moment, Resolved, kernel

EASES = {
    "steady": "Steady",
    "smooth": "Slow at both ends",
    "slow": "Slow at first",
    "late": "Slow at the end",
    "over": "Goes past, and comes back",
    "drawn": "As a path is drawn: X is time, Y how much",
}
ORDERS = {
    "together": "All at once",
    "x": "Along X",
    "y": "Along Y",
    "z": "Along Z",
    "grip": "By distance from a grip",
    "path": "Along a path",
    "size": "By size, the largest first",
    "chance": "By chance",
    "index": "By number",
}

ORDERED = ("order", tuple(ORDERS)[1:])


@dataclass(frozen=True)
class Stand:
    """Where pieces stand, k rows of p pieces: x -> centre + turn * size * (x - home).

    home (k, p, 3) m, the middle of each where it entered; centre (k, p, 3) m; turn (k, p, 4) unit quaternions
    x, y, z, w; size (k, p) factor; entered (k or 1, n, 3) m, the points that entered
    """

    pieces: Pieces
    entered: np.ndarray
    home: np.ndarray
    centre: np.ndarray
    turn: np.ndarray
    size: np.ndarray

    @classmethod
    def of(cls, pieces: Pieces, points: np.ndarray) -> "Stand":
        """As pieces enter, from points (k, n, 3) m."""
        home = pieces.middles(points)
        turn = np.zeros((*home.shape[:2], 4))
        turn[..., 3] = 1.0
        return cls(pieces, points, home, home, turn, np.ones(home.shape[:2]))

    def moved(self, offset=None, spin=None, size=None) -> "Stand":
        """Shifted by offset (k, p, 3) m, turned about their middles by spin (k, p, 3) rad along axes, and sized by
        (k, p)."""
        centre = self.centre if offset is None else self.centre + offset
        own = self.turn if spin is None else turns.product(turns.from_vectors(spin), self.turn)
        return Stand(self.pieces, self.entered, self.home, centre, own, self.size if size is None else self.size * size)

    def in_rows(self, rows: int) -> "Stand":
        wide = lambda x: np.repeat(x, rows, axis=0) if len(x) == 1 else x
        return Stand(self.pieces, self.entered, *map(wide, (self.home, self.centre, self.turn, self.size)))

    def in_world(self, place: Place) -> Place:
        """(p) where pieces of the first row stand in the world, when the subject stands in a place."""
        axes = turns.turn_matrices(self.turn[0])
        return Place(*(x[:1] for x in place)) @ Place(self.centre[0], axes, self.size[0])

    def points(self) -> np.ndarray:
        """(k, n, 3) m, the points that entered where their pieces stand; the very same array while nothing moved."""
        entering = self.entered
        if self.centre is self.home or np.array_equal(self.centre, self.home):
            if (self.size == 1).all() and not self.turn[..., :3].any():
                return entering
        rows = len(self.home)
        entering = np.repeat(entering, rows, axis=0) if len(entering) == 1 else entering
        linear = np.ascontiguousarray(turns.turn_matrices(self.turn) * self.size[..., None, None])
        shift = self.centre - np.einsum("kpij,kpj->kpi", linear, self.home)
        still = (linear == np.eye(3)).all(axis=(2, 3)) & (self.centre == self.home).all(axis=2)
        return _placed(np.ascontiguousarray(entering), self.pieces.of_vertex, linear, shift, still)


@kernel
def _placed(points, of, linear, shift, still):
    rows, n = points.shape[0], points.shape[1]
    result = np.empty_like(points)
    parts = (n + PART - 1) // PART
    for at in prange(rows * parts):
        k = np.int64(at // parts)
        first = np.int64(at - k * parts) * PART
        for i in range(first, min(first + PART, n)):
            p = of[i]
            x, y, z = points[k, i, 0], points[k, i, 1], points[k, i, 2]
            for j in range(3):
                if still[k, p]:
                    result[k, i, j] = points[k, i, j]
                else:
                    result[k, i, j] = (
                        shift[k, p, j] + linear[k, p, j, 0] * x + linear[k, p, j, 1] * y + linear[k, p, j, 2] * z
                    )
    return result


class PieceLayer(Layer):
    """Base of the layers that move pieces. Each piece feels a share of the layer: its strength, the zone where the
    piece was as it entered, its mean of a weight map, and its turn, where pieces go one after another."""

    of_pieces = True
    own_first = True

    strength = number(
        1, "How much of the layer is felt. With an order, 0 is before the first piece goes and 1 after the last.",
        unit="fraction", soft=(0, 1),
    )  # fmt: skip
    map = ref("map", "Weight map that scales the layer, by its mean over each piece.", title="Weight map")
    zone = ref("zone", "A zone in space that scales the layer, where each piece was at home.")
    order = choice("together", "Which piece goes first as the strength rises.", ORDERS, title="In turn")
    other_way = switch(False, "The last one goes first.", title="Other way", when=(ORDERED,))
    overlap = number(
        0.4, "Share of the whole time that each piece takes: at 1 all go at once, near 0 one after another.",
        unit="fraction", soft=(0, 1), hard=(0.001, 1), when=(ORDERED,),
    )  # fmt: skip
    ease = choice("smooth", "How each piece goes.", EASES, title="Goes", when=(ORDERED,))
    from_grip = ref("grip", "The grip that distances are taken from.", title="Distance from",
                    when=(("order", ("grip",)),))  # fmt: skip
    along = ref("path", "The path along which they go.", title="Along path", when=(("order", ("path",)),))
    drawn = ref("path", "The path that is the curve.", title="Curve", when=(ORDERED, ("ease", ("drawn",))))
    chance = whole(1, "Another throw of the dice.", title="Seed of the order", soft=(1, 99), hard=(0, None),
                   when=(("order", ("chance",)),))  # fmt: skip

    def move(self, stand: Stand, felt: np.ndarray, v: Resolved, now: Moment) -> Stand:
        """Where pieces stand after the layer. felt (k, p) how much of it each feels; numbers in `v` are (k,)."""
        raise NotImplementedError

    def felt(self, stand: Stand, v: Resolved) -> np.ndarray:
        """(k, p) share of the layer that each piece feels."""
        strength, home = v.strength[:, None], stand.home
        if v.order != "together":
            rank = self.comes(stand, v)
            rank = 1 - rank if v.other_way else rank
            wide = v.overlap[:, None]
            t = np.clip((strength - rank * (1 - wide)) / wide, 0, 1)
            strength = eased(t, v.ease, v.drawn) + np.maximum(strength - 1, 0)
        felt = np.broadcast_to(strength, home.shape[:2])
        if v.map is not None:
            felt = felt * stand.pieces.means(v.map)
        if v.zone is not None:
            felt = felt * v.zone(home)
        return felt

    def comes(self, stand: Stand, v: Resolved) -> np.ndarray:
        """(k or 1, p) in [0, 1]: when the turn of each piece comes."""
        home, count, how = stand.home, stand.pieces.count, v.order
        number_ = np.arange(count)
        if how in ("index", "size"):
            first = number_ if how == "index" else np.argsort(-stand.pieces.sizes, kind="stable")
            place = np.empty(count)
            place[first] = number_
            return (place / max(count - 1, 1))[None]
        if how == "chance":
            return rand(int(v.chance), number_, "order")[None]
        if how == "grip":
            at = np.zeros((1, 1, 3)) if v.from_grip is None else v.from_grip.origin[:, None]
            value = np.linalg.norm(home - at, axis=2)
        elif how == "path":
            value = np.zeros(home.shape[:2]) if v.along is None else _along(*v.along, home)
        else:
            value = home[:, :, "xyz".index(how)]
        low, high = value.min(axis=1, keepdims=True), value.max(axis=1, keepdims=True)
        return (value - low) / np.maximum(high - low, 1e-12)


def _along(sampled, place, home) -> np.ndarray:
    """(k, p) m along a path of the nearest point on it."""
    from ...lazy import spatial

    found = np.empty(home.shape[:2])
    for k in range(len(home)):
        line = place.apply(sampled.points[None])[min(k, place.rows - 1)]
        found[k] = sampled.along[spatial.cKDTree(line).query(home[k])[1]]
    return found


def eased(t: np.ndarray, how: str, drawn=None) -> np.ndarray:
    """How far a piece is when a share t of its time has gone. (R. Penner 2001 names such curves; these are the plain
    powers, and a cubic that overshoots by a tenth.)"""
    if how == "smooth":
        return t * t * (3 - 2 * t)
    if how == "slow":
        return t * t
    if how == "late":
        return t * (2 - t)
    if how == "over":
        s, back = 1.70158, t - 1
        return np.where(t > 0, back * back * ((s + 1) * back + s) + 1, 0.0)
    if how == "drawn" and drawn is not None:
        x, y = drawn[0].spots[:, 0], drawn[0].spots[:, 1]
        line = drawn[0].points
        order = np.argsort(line[:, 0], kind="stable")
        wide = max(float(np.ptp(x)), 1e-9)
        tall = max(float(np.abs(y - y[np.argmin(x)]).max()), 1e-9)
        start = line[order[0]]
        return np.interp(t, (line[order, 0] - start[0]) / wide, (line[order, 1] - start[1]) / tall)
    return t


def sized(felt: np.ndarray, wanted: np.ndarray) -> np.ndarray:
    """(k, p) factors that go from 1 to what is wanted (k, p or 1) as a layer is felt; never less than nothing."""
    return np.maximum(1 + felt * (wanted - 1), 0)


def seeded(v: Resolved, stand: Stand, *what: str) -> np.ndarray:
    """(p, len(what)) uniform in [-1, 1), one for each piece."""
    number_ = np.arange(stand.pieces.count)
    return np.stack([2 * rand(int(v.seed), number_, w) - 1 for w in what], axis=1)
