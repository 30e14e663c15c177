"""Layers of a swarm by formula: where each grain is at a moment, from its number and the time alone.

Every grain goes round a whole number of times in a period, so that all of them come back together: what they do loops,
and needs no frame before it.
"""

from dataclasses import dataclass, field

import numpy as np
from numba import njit, prange

from ...errors import EstampaError
from ...hashing import rand
from ...kinds.channels import number, ref, whole
from ...motion.layer import origin_frame, sincos
from . import places
from .grains import chance, one, salt
from .layer import GrainLayer


@dataclass
class Said:
    """What a layer does, for a table: `columns` (k,) of parameters of each grain; `lines` of formulas that change x, y,
    z with s, the share of the period; `tables` that they look up, by name, of columns (m,) with a rising one, `at`."""

    columns: dict[str, np.ndarray]
    lines: list[str]
    tables: dict[str, dict[str, list[float]]] = field(default_factory=dict)


class FormulaLayer(GrainLayer):
    """Base of the layers that say where grains are by formula. They do nothing in a swarm that goes step by step."""

    by_formula = True

    least = whole(
        1, "Rounds in a period, of the slowest; below 0 backwards.", title="Rounds from", soft=(-5, 5), group="Rounds"
    )
    most = whole(2, "Of the quickest.", title="to", soft=(-5, 5), group="Rounds")

    def where(self, place: np.ndarray, speed: np.ndarray, ids: np.ndarray, v, share: float, period: float, seed: int):
        """Move grains: place (n, 3) m and speed (n, 3) m/s, changed; ids (n,); share -- of the period (s) that has
        gone."""
        raise NotImplementedError

    def said(self, n: int, ids: np.ndarray, v, seed: int) -> Said:
        """What it does, for a table; n -- which of the layers it is, so that names are its own. Raises EstampaError
        where no formula says it."""
        raise EstampaError(self.title, "cannot be said by formulas of a table.", "Print the table by frames.")

    def rounds(self, v) -> tuple[int, int]:
        low, high = sorted((int(v.least), int(v.most)))
        return low, high - low + 1


class Rain(FormulaLayer):
    """Grains come down evenly, each at its own pace, and begin again above."""

    kind, title = "grain_rain", "Come down (by formula)"
    icon = "M4 3 V6 M8 2 V5 M12 3 V6 M6 7 V10 M10 7 V10 M4 11 V14 M8 10.5 V13.5 M12 11 V14"
    rank = 30

    height = number(3, "How far they come down.", unit="m", soft=(0, 20))

    def where(self, place, speed, ids, v, share, period, seed):
        _rain(
            place, speed, ids, float(v.height), *self.rounds(v), share, period, salt(seed, v.id), self.felt_at(place, v)
        )

    def said(self, n, ids, v, seed):
        low, many = self.rounds(v)
        phase, rounds = rand(seed, ids, v.id), low + np.floor(many * rand(seed, ids ^ 0x5A5A5A, v.id))
        gone = f"(phase_{n} + rounds_{n} * s)"
        line = f"y = y - {float(v.strength) * float(v.height)!r} * ({gone} - floor{gone})"
        return Said({f"phase_{n}": phase, f"rounds_{n}": rounds}, [line])


@njit(parallel=True, cache=True, nogil=True)
def _rain(place, speed, ids, height, low, many, share, period, salt, felt):
    for i in prange(len(place)):
        phase, rounds = chance(ids[i], salt), low + np.int64(many * chance(ids[i] ^ 0x5A5A5A, salt))
        gone = phase + rounds * share
        place[i, 1] -= one(felt, i) * height * (gone - np.floor(gone))
        speed[i, 1] -= one(felt, i) * height * rounds / period


class GrainSway(FormulaLayer):
    """Grains sway to and fro about where they are, each in its own time."""

    kind, title = "grain_sway", "Sway (by formula)"
    icon = "M3 8 C5 3 7 3 8 8 C9 13 11 13 13 8"
    rank = 31

    wide = number(0.3, "How far they sway.", unit="m", soft=(0, 3), hard=(0, None))
    high = number(0.1, "How far up and down.", unit="m", soft=(0, 3), hard=(0, None))

    def where(self, place, speed, ids, v, share, period, seed):
        felt = self.felt_at(place, v)
        _sway(place, speed, ids, float(v.wide), float(v.high), *self.rounds(v), share, period, salt(seed, v.id), felt)

    def said(self, n, ids, v, seed):
        low, many = self.rounds(v)
        columns, lines = {}, []
        for j, axis in enumerate("xyz"):
            own, name = ids ^ (0x1111 * (j + 1)), f"{axis}_{n}"
            columns[f"rounds_{name}"] = low + np.floor(many * rand(seed, own ^ 0x77777, v.id))
            columns[f"phase_{name}"] = rand(seed, own, v.id)
            reach = float(v.strength) * float(v.high if axis == "y" else v.wide)
            lines.append(f"{axis} = {axis} + {reach!r} * sin(2 * pi * (phase_{name} + rounds_{name} * s))")
        return Said(columns, lines)


@njit(parallel=True, cache=True, nogil=True)
def _sway(place, speed, ids, wide, high, low, many, share, period, salt, felt):
    for i in prange(len(place)):
        for j in range(3):
            own = ids[i] ^ (0x1111 * (j + 1))
            rounds = low + np.int64(many * chance(own ^ 0x77777, salt))
            sine, cosine = sincos(2 * np.pi * (chance(own, salt) + rounds * share))
            reach = one(felt, i) * (high if j == 1 else wide)
            place[i, j] += reach * sine
            speed[i, j] += reach * cosine * 2 * np.pi * rounds / period


class Circle(FormulaLayer):
    """Grains go round a grip's upright axis, at the distance and height where they are."""

    kind, title = "grain_circle", "Circle (by formula)"
    icon = "M2.5 8 a5.5 5.5 0 1 0 11 0 a5.5 5.5 0 1 0 -11 0 M8 8 V4"
    rank = 32

    grip = ref("placed", "What they go round.")

    def where(self, place, speed, ids, v, share, period, seed):
        origin, axes, _ = origin_frame(v.grip)
        axis = np.ascontiguousarray(axes[:, 1])
        _circle(
            place, speed, ids, origin, axis, *self.rounds(v), share, period, salt(seed, v.id), self.felt_at(place, v)
        )

    def said(self, n, ids, v, seed):
        low, many = self.rounds(v)
        origin, axes, _ = origin_frame(v.grip)
        (ox, oy, oz), (a, b, c) = ([float(x) for x in row] for row in (origin, axes[:, 1]))
        lines = [  # Rodrigues' formula about the axis (a, b, c)
            f"turn = 2 * pi * rounds_{n} * s * {float(v.strength)!r}",
            f"u = x - {ox!r}", f"v = y - {oy!r}", f"w = z - {oz!r}",
            f"up = (u * {a!r} + v * {b!r} + w * {c!r}) * (1 - cos(turn))",
            f"x = {ox!r} + u * cos(turn) + sin(turn) * ({b!r} * w - {c!r} * v) + up * {a!r}",
            f"y = {oy!r} + v * cos(turn) + sin(turn) * ({c!r} * u - {a!r} * w) + up * {b!r}",
            f"z = {oz!r} + w * cos(turn) + sin(turn) * ({a!r} * v - {b!r} * u) + up * {c!r}",
        ]  # fmt: skip
        return Said({f"rounds_{n}": low + np.floor(many * rand(seed, ids, v.id))}, lines)


@njit(parallel=True, cache=True, nogil=True)
def _circle(place, speed, ids, origin, axis, low, many, share, period, salt, felt):
    for i in prange(len(place)):
        rounds = low + np.int64(many * chance(ids[i], salt))
        angle = 2 * np.pi * rounds * share * one(felt, i)
        c, s = np.cos(angle), np.sin(angle)
        x, y, z = _turned(place[i] - origin, axis, c, s)
        u, v, w = _turned(speed[i], axis, c, s)
        pace = 2 * np.pi * rounds * one(felt, i) / period
        place[i, 0], place[i, 1], place[i, 2] = origin[0] + x, origin[1] + y, origin[2] + z
        speed[i, 0] = u + pace * (axis[1] * z - axis[2] * y)
        speed[i, 1] = v + pace * (axis[2] * x - axis[0] * z)
        speed[i, 2] = w + pace * (axis[0] * y - axis[1] * x)


@njit(cache=True, nogil=True)
def _turned(p, axis, c, s):
    """Rodrigues' formula, by the cosine and sine of the angle."""
    x, y, z = p[0], p[1], p[2]
    up = (x * axis[0] + y * axis[1] + z * axis[2]) * (1 - c)
    return (
        c * x + s * (axis[1] * z - axis[2] * y) + up * axis[0],
        c * y + s * (axis[2] * x - axis[0] * z) + up * axis[1],
        c * z + s * (axis[0] * y - axis[1] * x) + up * axis[2],
    )


class Ride(FormulaLayer):
    """Grains go along a path, each in a lane of its own about it; at its end they begin again."""

    kind, title = "grain_ride", "Ride a path (by formula)"
    icon = "M2.5 12 C6 12 5 4 8 4 C11 4 10 12 13.5 12 M8 4 h.01 M4.8 9 h.01 M11.2 9 h.01"
    rank = 33

    path = ref("path", "The path.")
    tube = number(0.3, "How far from the path the lanes lie.", unit="m", soft=(0, 2), hard=(0, None))

    def where(self, place, speed, ids, v, share, period, seed):
        line, axes, along = self._course(v)
        lane = float(v.tube) * places.in_ball(ids, seed)
        felt = self.felt_at(place, v)
        _ride(place, speed, ids, line, axes, along, lane, *self.rounds(v), share, period, salt(seed, v.id), felt)

    @staticmethod
    def _course(v) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """((m, 3) m of the path in the world, (m, 3, 3) its axes there, (m,) m along it)."""
        if v.path is None:
            raise EstampaError("Ride a path", "has no path of some length.", "Choose one under “Path”.")
        sampled, stands = v.path
        return stands.apply(sampled.points[None])[0], np.ascontiguousarray(stands.axes[0] @ sampled.axes), sampled.along

    def said(self, n, ids, v, seed):
        low, many = self.rounds(v)
        line, axes, along = self._course(v)
        lane, felt, table = float(v.tube) * places.in_ball(ids, seed), float(v.strength), f"path_{n}"
        columns = {
            f"phase_{n}": rand(seed, ids, v.id),
            f"rounds_{n}": low + np.floor(many * rand(seed, ids ^ 0x5A5A5A, v.id)),
        }
        columns |= {f"side_{n}": lane[:, 0], f"up_{n}": lane[:, 1]}
        knots = {"at": along}
        lines = [f"gone = phase_{n} + rounds_{n} * s", f"far = (gone - floor(gone)) * {float(along[-1])!r}"]
        for j, axis in enumerate("xyz"):
            knots |= {axis: line[:, j], f"side_{axis}": axes[:, j, 0], f"up_{axis}": axes[:, j, 1]}
            lines += [
                f"{name} = {table}.{of}(far)" for name, of in (("p", axis), ("q", f"side_{axis}"), ("r", f"up_{axis}"))
            ]
            lines.append(f"{axis} = {axis} + {felt!r} * (p + q * side_{n} + r * up_{n} - {axis})")
        return Said(columns, lines, {table: {name: values.tolist() for name, values in knots.items()}})


@njit(parallel=True, cache=True, nogil=True)
def _ride(place, speed, ids, line, axes, along, lane, low, many, share, period, salt, felt):
    for i in prange(len(place)):
        rounds = low + np.int64(many * chance(ids[i] ^ 0x5A5A5A, salt))
        gone = chance(ids[i], salt) + rounds * share
        far = (gone - np.floor(gone)) * along[-1]
        k = min(max(np.searchsorted(along, far) - 1, 0), len(along) - 2)
        long = max(along[k + 1] - along[k], 1e-300)
        t = (far - along[k]) / long
        for j in range(3):
            at = line[k, j] + t * (line[k + 1, j] - line[k, j])
            for m in range(2):  # beside the path, along its side and upright, which turn evenly from knot to knot
                at += (axes[k, j, m] + t * (axes[k + 1, j, m] - axes[k, j, m])) * lane[i, m]
            place[i, j] += one(felt, i) * (at - place[i, j])
            way = (line[k + 1, j] - line[k, j]) / long + (
                (axes[k + 1, j, 0] - axes[k, j, 0]) * lane[i, 0] + (axes[k + 1, j, 1] - axes[k, j, 1]) * lane[i, 1]
            ) / long
            speed[i, j] += one(felt, i) * (way * along[-1] * rounds / period - speed[i, j])
