"""Swarms: against the same in NumPy with SciPy's tree, and against a plain copy of the state."""

import numpy as np
from scipy.spatial import cKDTree

from estampa.fields.force import World
from estampa.kinds.registry import kind_of
from estampa.motion.layer import Resolved
from estampa.solve.swarm.grains import Grains, drift
from estampa.solve.swarm.kind import Guide, Swarm, SwarmInputs

from .measure import Row, in_turn, ms, seconds

RATE = 24


def _resolved(declared, **values) -> Resolved:
    v = Resolved({n: c.default for n, c in declared.channels.items()} | values)
    v.travel, v.id = {n: 1.0 for n, c in declared.channels.items() if c.accumulates}, declared.kind
    return v


def _inputs(*layers) -> SwarmInputs:
    guides = []
    for kind, values in layers:
        declared = kind_of(kind)
        v = _resolved(declared, **values)
        guides.append(Guide(kind, declared.title, declared(), v, v))
    return SwarmInputs(tuple(guides), _resolved(Swarm), World(gravity=np.array([0, -9.8, 0])), 2, 1, RATE)


def _grains(count: int, apart: float) -> Grains:
    """So many in a cube, of which each has about 30 within half a metre where they are 0.13 m apart."""
    rng = np.random.default_rng(1)
    side = apart * count ** (1 / 3)
    return Grains.born(np.arange(count), rng.uniform(0, side, (count, 3)), rng.normal(0, 1, (count, 3)), 1e9)


def _flock_in_numpy(place, speed, v, h):
    """The same rules, as one writes them with arrays."""
    pairs = cKDTree(place).query_pairs(v.reach, output_type="ndarray")
    i, j = np.concatenate([pairs, pairs[:, ::-1]]).T
    away = place[j] - place[i]
    far = np.linalg.norm(away, axis=1)
    ahead = speed / np.linalg.norm(speed, axis=1)[:, None]
    seen = np.einsum("ij,ij->i", ahead[i], away) >= np.cos(v.view / 2) * far
    i, j, away, far = i[seen], j[seen], away[seen], far[seen]
    n = len(place)
    total = lambda values: np.stack([np.bincount(i, values[:, k], n) for k in range(3)], axis=1)
    many = np.maximum(np.bincount(i, minlength=n), 1)[:, None]
    push = np.where(far < v.apart, (1 - far / v.apart) / np.maximum(far, 1e-9), 0.0)
    pull = -v.part * total(push[:, None] * away) + v.align * (total(speed[j]) / many - speed)
    pull += v.gather * total(away) / many
    after = speed + h * pull
    fast = np.linalg.norm(after, axis=1)[:, None]
    return after * np.clip(fast, v.slowest, v.top) / fast


def on_the_card() -> list[Row]:
    """What an instance takes on the card; and how long a million take that are carried by eddies, by formula."""
    from estampa.app.model.grains import ROW

    declared, place = kind_of("grain_eddies"), np.random.default_rng(1).uniform(0, 10, (1_000_000, 3))
    v = _resolved(declared, flow=0.3, scale=1.5)
    where = lambda: declared().where(place.copy(), np.zeros_like(place), np.arange(len(place)), v, 0.3, 8.0, 1)
    where()
    a = min(seconds(where) for _ in range(3))
    return [
        Row("an instance on the card", f"{ROW.itemsize} bytes", "40", ROW.itemsize / 40, "≤ 1", ROW.itemsize <= 40),
        Row("1,000,000 in eddies by formula, a second", f"{1 / a:.1f}", "5", 1 / (5 * a), "≥ 1", a <= 0.2),
    ]


def flocking() -> list[Row]:
    grains, h = _grains(100_000, 0.26), np.array([1 / RATE])
    inputs = _inputs(("grain_flock", {"reach": 0.5}))
    guide = inputs.layers[0]
    ours = lambda: guide.layer.guide(grains, guide.v, inputs.moment(guide), h)
    ours()
    a = min(seconds(ours) for _ in range(5))
    b = seconds(lambda: _flock_in_numpy(grains.position, grains.velocity, guide.v, float(h[0])))
    near = np.mean([len(x) - 1 for x in cKDTree(grains.position).query_ball_point(grains.position[:2000], 0.5)])
    return [
        Row(
            f"100,000 that flock, {near:.0f} neighbours each, a step",
            ms(a),
            f"{b:.1f} s NumPy and SciPy's tree",
            b / a,
            "≥ 40",
            b / a >= 40,
        ),
        Row("the same, steps a second", f"{1 / a:.1f}", "8", 1 / (8 * a), "≥ 1", 1 / a >= 8),
    ]


FIVE = (("grain_fall", {}), ("grain_drag", {}), ("grain_pull", {"fades": 1.0}), ("grain_hold", {}), ("grain_limit", {}))


def many() -> list[Row]:
    """A million through five layers and their drift: each layer reads places and speeds and writes speeds."""
    inputs, h, found, took = _inputs(*FIVE), np.array([1 / RATE]), [], {}
    for count in (10_000, 100_000, 1_000_000):
        grains = _grains(count, 0.2)
        state = (grains.position, grains.velocity, grains.sits, grains.ids)
        copies = tuple(np.empty_like(part) for part in state)

        def ours(grains=grains):
            drift(grains.position, grains.velocity, grains.sits, 0.5, h)
            for guide in inputs.layers:
                guide.layer.guide(grains, guide.v, inputs.moment(guide), h)
            drift(grains.position, grains.velocity, grains.sits, 0.5, h)

        def plain(state=state, copies=copies):
            for a, b in zip(copies, state, strict=True):
                np.copyto(a, b)

        ours()
        took[count], copy = in_turn(ours, plain)
    a = took[1_000_000]
    found.append(
        Row(
            "1,000,000 through five layers",
            ms(a),
            f"{ms(copy)} a plain copy of the state",
            a / copy,
            "≤ 8",
            a / copy <= 8,
        )
    )
    grows = took[1_000_000] / took[10_000] / 100
    found.append(
        Row(
            "a hundred times as many take a hundred times",
            f"{100 * grows:.0f} times",
            "100",
            grows,
            "≤ 1.25",
            grows <= 1.25,
        )
    )
    return found


def rows() -> list[Row]:
    return [*flocking(), *on_the_card(), *many()]
