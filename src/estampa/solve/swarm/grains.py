"""Grains of a swarm: what is carried of each, and chance by id."""

from dataclasses import dataclass, field, fields

import numpy as np
from numba import njit, prange

from ...hashing import digest
from ..frame import Column

FOREVER = 1e9  # s, the life of what does not die
COLUMNS = (
    Column("position", (3,), "m", "Where it is in the world."),
    Column("velocity", (3,), "m/s", "How fast it goes."),
    Column("heading", (3,), "", "Which way it faces: a unit vector, kept while it hardly moves."),
    Column("bank", (), "rad", "How far it leans into its turn."),
    Column("age", (), "s", "How long ago it was born."),
    Column("life", (), "s", "How old it becomes."),
    Column("sits", (), "s", "How long it goes on sitting where it settled; 0 while it flies."),
)


@dataclass
class Grains:
    """n grains while a step changes them, by ascending ids: arrays as the columns, float64; ids (n,) int64; more, what
    only a liquid has of each, by name."""

    ids: np.ndarray
    position: np.ndarray
    velocity: np.ndarray
    heading: np.ndarray
    bank: np.ndarray
    age: np.ndarray
    life: np.ndarray
    sits: np.ndarray
    more: dict[str, np.ndarray] = field(default_factory=dict)

    @classmethod
    def of(cls, table, more=()) -> "Grains":
        """more -- names of the further columns"""
        ids = np.zeros(0, np.int64) if table.ids is None else table.ids
        read = lambda name: table[name].astype(np.float64)
        return cls(ids, *(read(c.name) for c in COLUMNS), {n: read(n) for n in more})

    @classmethod
    def born(cls, ids, position, velocity, life) -> "Grains":
        """New ones, facing the way that they go."""
        n = len(ids)
        long = np.linalg.norm(velocity, axis=1, keepdims=True)
        heading = np.where(long > 1e-9, velocity / np.maximum(long, 1e-300), [0.0, 0.0, 1.0])
        zeros = lambda: np.zeros(n)
        return cls(
            np.asarray(ids, np.int64),
            position.astype(float),
            velocity.astype(float),
            heading,
            zeros(),
            zeros(),
            np.broadcast_to(np.asarray(life, float), n).copy(),
            zeros(),
        )

    @classmethod
    def none(cls) -> "Grains":
        return cls.born(np.zeros(0, np.int64), np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0))

    def __len__(self) -> int:
        return len(self.ids)

    @property
    def fastest(self) -> float:
        """m/s, the speed of the fastest; 0 of none."""
        return float(np.sqrt((self.velocity**2).sum(axis=1).max(initial=0.0)))

    def pick(self, which) -> "Grains":
        own = (getattr(self, n)[which] for n in ARRAYS)
        return Grains(*own, {n: a[which] for n, a in self.more.items()})

    def with_more(self, more: "Grains") -> "Grains":
        """Both, by ascending ids."""
        if not len(more):
            return self
        own = (np.concatenate([getattr(self, n), getattr(more, n)]) for n in ARRAYS)
        made = Grains(*own, {n: np.concatenate([self.more[n], more.more[n]]) for n in self.more})
        return made if (np.diff(made.ids) > 0).all() else made.pick(np.argsort(made.ids, kind="stable"))


ARRAYS = tuple(f.name for f in fields(Grains) if f.name != "more")


def salt(seed: int, what: str) -> np.uint64:
    """What chance of one sort is mixed with."""
    return np.uint64(int.from_bytes(digest(int(seed), what)[:8], "little"))


@njit(cache=True, nogil=True, inline="always")
def chance(element, salt):
    """Uniform in [0, 1) of one id; the numbers of `hashing.rand` (SplitMix64's finaliser)."""
    x = np.uint64(element) * np.uint64(0x9E3779B97F4A7C15) + salt
    x = (x ^ (x >> np.uint64(30))) * np.uint64(0xBF58476D1CE4E5B9)
    x = (x ^ (x >> np.uint64(27))) * np.uint64(0x94D049BB133111EB)
    x = x ^ (x >> np.uint64(31))
    return np.float64(x >> np.uint64(11)) * 1.1102230246251565e-16


@njit(cache=True, nogil=True, inline="always")
def one(values, i):
    """Of values (n,) the i-th, of (1,) the only one. (A parallel loop's index is unsigned, and mixes with none.)"""
    return values[i] if len(values) > 1 else values[0]


@njit(parallel=True, cache=True, nogil=True)
def drift(place, speed, sits, share, h):
    """Go on for a share of the time h (n or 1,) s; those that sit stay."""
    for i in prange(len(place)):
        if sits[i] <= 0:
            t = share * one(h, i)
            for j in range(3):
                place[i, j] += t * speed[i, j]


@njit(parallel=True, cache=True, nogil=True)
def turn_heading(speed, heading, bank, sits, least, smooth, gravity, h):
    """Let grains that are faster than `least` m/s face the way that they go, and lean into their turn as what flies
    does (tan = speed x rate of turn / gravity, a coordinated turn), smoothed over `smooth` s."""
    for i in prange(len(speed)):
        t = one(h, i)
        x, y, z = speed[i, 0], speed[i, 1], speed[i, 2]
        fast = np.sqrt(x * x + y * y + z * z)
        wanted = 0.0
        if fast > least and sits[i] <= 0 and t > 0:
            x, y, z = x / fast, y / fast, z / fast
            flat = np.sqrt(x * x + z * z)
            before = np.sqrt(heading[i, 0] ** 2 + heading[i, 2] ** 2)
            if flat > 1e-6 and before > 1e-6:  # the turn about the upright
                sine = (heading[i, 2] * x - heading[i, 0] * z) / (flat * before)
                rate = np.arcsin(min(max(sine, -1.0), 1.0)) / t
                wanted = np.arctan(fast * flat * rate / gravity)
            heading[i, 0], heading[i, 1], heading[i, 2] = x, y, z
        bank[i] += (wanted - bank[i]) * (1 - np.exp(-t / smooth))
