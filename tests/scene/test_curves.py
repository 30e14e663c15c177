"""Curves against SciPy's interpolants, and the edits that hands make."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import BPoly, CubicHermiteSpline

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.scene.curves import MOST_KEYS, Curve, Key
from estampa.scene.scene import Scene

FRAMES = np.linspace(0, 30, 241)


def curve(*keys, **more):
    return Curve(keys=tuple(Key(**k) if isinstance(k, dict) else Key(frame=k[0], value=k[1]) for k in keys), **more)


def test_flat_and_smooth_tangents_are_cubic_hermite_segments():
    """Handles of a third of the span make the Bezier segment the Hermite segment of the same slopes."""
    at, values = np.array([0.0, 8, 20, 30]), np.array([1.0, -2, 4, 0])
    flat = curve(*zip(at, values, strict=True))
    assert np.allclose(flat.at(FRAMES), CubicHermiteSpline(at, values, at * 0)(FRAMES), atol=1e-12)
    smooth = curve(*({"frame": f, "value": v, "tangent": "smooth"} for f, v in zip(at, values, strict=True)))
    slopes = np.array([(-2 - 1) / 8, (4 - 1) / 20, (0 + 2) / 22, (0 - 4) / 10])
    assert np.allclose(smooth.at(FRAMES), CubicHermiteSpline(at, values, slopes)(FRAMES), atol=1e-12)


def test_free_tangents_are_the_bezier_curve_of_their_handles():
    """Against SciPy's Bernstein polynomials: the value where the time polynomial is the frame."""
    found = curve(
        {"frame": 0, "value": 0, "tangent": "free", "right": (14, 6)},
        {"frame": 20, "value": 10, "tangent": "broken", "left": (-3, 5), "right": (0, 0)},
    )
    s = np.linspace(0, 1, 2001)
    time = BPoly(np.array([[0.0], [14], [17], [20]]), [0, 1])(s)
    value = BPoly(np.array([[0.0], [6], [15], [10]]), [0, 1])(s)
    assert np.abs(found.at(time) - value).max() < 1e-9
    assert (np.diff(time) > 0).all()


@given(
    st.lists(st.tuples(st.integers(-40, 40), st.floats(-50, 50)), min_size=2, max_size=6, unique_by=lambda k: k[0]),
    st.floats(0, 200),
    st.floats(-200, 200),
)
def test_any_handles_give_one_value_a_frame_and_pass_through_the_keys(keys, reach, rise):
    keys = [
        {"frame": f, "value": v, "tangent": "broken", "left": (-reach, rise), "right": (reach, -rise)}
        for f, v in sorted(keys)
    ]
    found = curve(*keys)
    assert np.isfinite(found.at(np.linspace(-50, 50, 301))).all()
    for key in keys:
        assert found.at(key["frame"]) == pytest.approx(key["value"], abs=1e-9)


@pytest.mark.parametrize(
    ("extend", "expected"),
    [
        ("hold", {-5: 0, 25: 4, 45: 4}),
        ("cycle", {-5: 3, 25: 1, 47: 1.4}),
        ("mirror", {-5: 1, 25: 3, 47: 1.4}),
        ("accumulate", {-5: -1, 25: 5, 47: 9.4}),
        ("slope", {-5: -1, 25: 5, 47: 9.4}),
    ],
)
def test_a_curve_goes_on_before_and_after_its_keys(extend, expected):
    line = curve({"frame": 0, "value": 0, "segment": "linear"}, {"frame": 20, "value": 4}, before=extend, after=extend)
    for frame, value in expected.items():
        assert line.at(frame) == pytest.approx(value, abs=1e-6), frame


def test_a_smooth_cycle_is_smooth_over_its_seam():
    keys = [{"frame": f, "value": v, "tangent": "smooth"} for f, v in ((0, 0), (6, 3), (15, -1), (24, 0))]
    around = curve(*keys, before="cycle", after="cycle")
    h = 1e-4
    assert (around.at(24 + h) - around.at(24)) / h == pytest.approx((around.at(24) - around.at(24 - h)) / h, abs=1e-3)


def test_a_soft_move_carries_neighbours_by_a_falloff_and_retiming_keeps_order():
    keys = curve(*((f, 0.0) for f in range(0, 50, 5)))
    moved = keys.moved([25], 0, 2.0, reach=10)
    assert [moved.at(f) for f in (10, 15, 20, 25, 30, 35, 40)] == pytest.approx([0, 0, 1, 2, 1, 0, 0])
    assert [k.frame for k in keys.moved([10, 15, 20], 0, 0, times=0.4, about=10).keys] == [
        0,
        5,
        10,
        12,
        14,
        25,
        30,
        35,
        40,
        45,
    ]
    # a key that lands on another replaces it; holding at the ends is a matter of copying a key
    assert len(keys.moved([10], 5, 0).keys) == len(keys.keys) - 1


def test_the_end_is_blended_into_the_start_in_value_and_slope():
    rise = curve(*({"frame": f, "value": f / 10, "tangent": "smooth"} for f in range(0, 49, 8)))
    closed = rise.closed(0, 48, 16)
    assert closed.at(48) == pytest.approx(closed.at(0))
    assert closed.slope_at(48, -1) == pytest.approx(closed.slope_at(0, 1), abs=1e-3)
    assert np.allclose(closed.at(np.arange(0, 24)), rise.at(np.arange(0, 24)))  # only the end was touched


def test_bad_curves_are_refused_in_words():
    with pytest.raises(ValueError, match="rising frames"):
        curve((3, 0), (3, 1))
    with pytest.raises(ValueError, match="at most 100,000"):
        Curve.model_validate({"keys": [{"frame": i, "value": 0} for i in range(MOST_KEYS + 1)]})
    with pytest.raises(ValueError, match="own side"):
        Key(frame=0, value=0, left=(3, 0))


def test_dropping_the_last_keys_lands_on_the_first_pose_in_one_sweep():
    """Twenty of a hundred frames (common practice, no source)."""
    keys = tuple(Key(frame=f, value=float(np.sin(f)), tangent="smooth") for f in range(1, 102))
    curve = Curve(keys=keys).closed(1, 101, 20, drop=True)
    assert [k.frame for k in curve.keys][-2:] == [81, 101] and curve.at(101) == pytest.approx(np.sin(1))
    assert curve.at(np.arange(1, 81)) == pytest.approx(np.sin(np.arange(1, 81)), abs=0.02)
    assert curve.slope_at(101, -1) == pytest.approx(curve.slope_at(1, 1), rel=1e-2)


def test_a_word_that_is_no_segment_or_tangent_is_refused_and_nothing_changed():
    scene = Scene()
    grip = do.add_thing(scene, "grip")
    do.set_key(scene, grip.id, "x", 1, 0.0)
    before = scene.doc
    for change in (
        lambda: do.set_segment(scene, grip.id, "x", 1, "bouncy"),
        lambda: do.set_tangent(scene, grip.id, "x", 1, "loose"),
        lambda: do.set_key(scene, grip.id, "x", 2, 0.0, "bouncy"),
    ):
        with pytest.raises(EstampaError, match="has no (segment|tangent).*Choose one of"):
            change()
    assert scene.doc is before
