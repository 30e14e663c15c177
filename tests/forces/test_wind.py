"""Wind against statistics of real air."""

import numpy as np
import pytest
from scipy.signal import welch

from estampa.fields.force import World
from estampa.fields.gravity import Gravity
from estampa.fields.wind import BEAUFORT, Wind
from estampa.motion.layer import Resolved


def blow(seconds, rate, seed=1, **more):
    """(t,) speed along the wind at the origin over time."""
    v = Resolved({n: c.default for n, c in Wind.channels.items()})
    v.update(speed=8.0, gustiness=0.2, turbulence=0.0, gust_length=40.0, seed=seed, **more)
    t = np.arange(0, seconds, 1 / rate)
    # a frozen pattern: standing still in moving air is the same as moving through still air
    x, y = np.random.default_rng(seed).uniform(-500, 500, 2)
    points = np.stack([t * 0 + x, t * 0 + y, -v.speed * t], axis=1)
    v.travel = {"speed": 0.0}
    return t, Wind.sample(points, v)


def test_mean_speed_over_a_long_time_is_the_set_one():
    means, spreads = zip(
        *[(s[:, 2].mean(), s[:, 2].std()) for s in (blow(20_000, 2, seed)[1] for seed in range(1, 6))], strict=True
    )
    assert abs(np.mean(means) - 8) < 0.08
    assert abs(np.mean(spreads) / 8 - 0.2) < 0.03  # gustiness is the turbulence intensity: deviation over mean


def test_gusts_fall_off_with_the_slope_of_the_inertial_range():
    """Kolmogorov 1941: the spectrum of velocity falls as the frequency to the power -5/3."""
    spectra = [welch(blow(1000, 40, seed)[1][:, 2], 40, nperseg=4096) for seed in range(1, 41)]
    f, power = (
        spectra[0][0],
        np.mean([p for _, p in spectra], axis=0),
    )  # over forty places: one line favours some octaves
    inertial = (f > 8 / 40) & (f < 2**6 * 8 / 40)  # between the longest gusts and the finest octave
    bands = np.geomspace(f[inertial][0], f[inertial][-1], 13)
    which = np.digitize(f, bands)
    means = np.array([[np.log(f[which == b]).mean(), np.log(power[which == b].mean())] for b in range(1, 13)])
    slope = np.polyfit(*means.T, 1)[0]
    assert abs(slope + 5 / 3) < 0.12, slope


def test_a_gust_travels_with_the_mean_flow():
    v = Resolved({n: c.default for n, c in Wind.channels.items()})
    v.update(speed=6.0, turbulence=0.3)
    points = np.random.default_rng(0).uniform(-3, 3, (50, 3))
    v.travel = {"speed": 2.0}
    later = Wind.sample(points, v)
    v.travel = {"speed": 0.0}
    assert np.allclose(later, Wind.sample(points - [0, 0, 2.0], v), atol=1e-9)


def test_presets_lie_in_the_published_beaufort_bounds():
    """World Meteorological Organization, Manual on Codes, table 1100 (bounds from memory)."""
    published = {0: (0, 0.2), 4: (5.5, 7.9), 6: (10.8, 13.8), 8: (17.2, 20.7), 11: (28.5, 32.6)}
    for number, bounds in published.items():
        assert BEAUFORT[number][1:] == bounds
    for number, (words, values) in enumerate(Wind.presets.items()):
        assert f"Beaufort {number} " in words
        assert BEAUFORT[number][1] <= values["speed"] <= BEAUFORT[number][2]


@pytest.mark.slow
def test_a_looped_wind_comes_back_to_where_it_began_and_a_zone_holds_it():
    v = Resolved(
        {name: c.default for name, c in Wind.channels.items()} | {"speed": 5.0, "turbulence": 0.3, "gustiness": 0.4}
    )
    v.travel = {"speed": 0.0}
    points = np.random.default_rng(1).uniform(-3, 3, (400, 3))

    def at(turn):
        v.loop = (turn, 4.0)
        return Wind.sample(points, v)

    assert np.abs(at(1.0) - at(0.0)).max() < 1e-9 < np.abs(at(0.5) - at(0.0)).max()
    gusts = np.array([at(t)[:, 2] for t in np.linspace(0, 1, 48, endpoint=False)])
    v.loop = None
    plain = np.array([Wind.sample(points + [0, 0, 40.0 * k], v)[:, 2] for k in range(48)])
    assert gusts.std() == pytest.approx(plain.std(), rel=0.15), "as strong as a wind that does not loop"
    world = World()
    v["zone"] = lambda where: (where[..., 0] > 0).astype(float)
    Wind().act(world, v)
    air = world.air(points)
    assert not air[points[:, 0] <= 0].any() and air[points[:, 0] > 0].any()


def test_gravity_in_a_zone_pulls_only_what_is_within():
    world = World()
    v = Resolved({"pull": 3.0, "zone": lambda where: (where[..., 1] > 1).astype(float)})
    Gravity().act(world, v)
    Gravity().act(world, Resolved({"pull": 1.0, "zone": None}))
    pulled = world.acceleration(np.array([[0, 0.5, 0], [0, 1.5, 0]]))
    assert np.allclose(pulled, [[0, -1, 0], [0, -4, 0]])
