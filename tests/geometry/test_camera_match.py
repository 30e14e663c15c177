"""Cameras from photographs, against cameras that were thrown by chance and what they see."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from estampa.errors import EstampaError
from estampa.geometry.camera_match import KnownPoint, Line, match_camera

SIZE = (1600, 900)


def a_camera(rng):
    """(origin, axes, focal length in heights) that looks at about the origin from above the ground."""
    away = rng.uniform(2.5, 7)
    turn = Rotation.from_euler("YXZ", [rng.uniform(-1.2, 1.2), rng.uniform(-0.6, -0.1), rng.uniform(-0.05, 0.05)])
    axes = turn.as_matrix()
    return axes[:, 2] * away + rng.normal(size=3) * 0.1, axes, rng.uniform(0.8, 2.5)


def seen_by(camera, places):
    """Pixels from the top left: perspective by its definition."""
    origin, axes, focal = camera
    own = (np.asarray(places, float) - origin) @ axes
    return own[:, :2] / -own[:, 2:] * focal * SIZE[1] * [1, -1] + [SIZE[0] / 2, SIZE[1] / 2]


@pytest.mark.parametrize("scale", [0.003, 1.0, 30.0])
def test_cameras_come_back_from_what_they_see(scale):
    corners = scale * np.array([[0, 0, 0], [1, 0, 0], [0, 0, 0.8], [0, 0.7, 0], [1, 0, 0.8], [0.5, 0.7, 0.4]])
    for seed in range(5):
        rng = np.random.default_rng(seed)
        origin, axes, focal = a_camera(rng)
        camera = origin * scale, axes, focal
        places = corners if seed % 2 else corners[[0, 1, 4, 3]]  # four are enough
        pixels = seen_by(camera, places)
        found = match_camera(SIZE, [KnownPoint(tuple(p), tuple(w)) for p, w in zip(pixels, places, strict=True)])
        assert found.error < 1e-3
        if seed % 2:  # four points can be seen alike from elsewhere too
            assert found.origin == pytest.approx(camera[0], abs=1e-4 * scale)
            assert np.abs(found.axes - axes).max() < 1e-4
            assert found.view == pytest.approx(2 * np.arctan(0.5 / focal), abs=1e-5)
            assert found.lens(0.024) == pytest.approx(0.024 * focal, rel=1e-4) and found.sure


def test_an_error_of_a_pixel_is_told_and_moves_little():
    rng = np.random.default_rng(11)
    camera = a_camera(rng)
    places = rng.uniform([-1, 0, -1], [1, 1, 1], (12, 3))
    pixels = seen_by(camera, places) + rng.normal(size=(12, 2))
    found = match_camera(SIZE, [KnownPoint(tuple(p), tuple(w)) for p, w in zip(pixels, places, strict=True)])
    assert 0.5 < found.error < 2 and np.linalg.norm(found.origin - camera[0]) < 0.05


def test_lines_that_meet_in_vanishing_points_tell_turn_and_lens_and_two_points_the_rest():
    for seed in range(6):
        rng = np.random.default_rng(20 + seed)
        camera = a_camera(rng)
        lines = []
        for axis, start in (("x", [0, 0, 0]), ("x", [0, 0.9, 0.3]), ("z", [0.3, 0, 0]), ("z", [1, 0.8, 0])):
            ends = np.array([start, start], float)
            ends[1, "xyz".index(axis)] += 0.9
            lines.append(Line(axis, *map(tuple, seen_by(camera, ends))))
        two = np.array([[0.0, 0, 0], [0, 0, 0.9]])
        points = [KnownPoint(tuple(p), tuple(w)) for p, w in zip(seen_by(camera, two), two, strict=True)]
        found = match_camera(SIZE, points, lines)
        assert found.error < 0.01 and np.abs(found.axes - camera[1]).max() < 1e-3
        assert found.origin == pytest.approx(camera[0], abs=5e-3)
        alone = match_camera(SIZE, (), lines)
        assert np.abs(alone.axes - camera[1]).max() < 1e-3 and alone.origin == pytest.approx([0, 1.6, 4.0], abs=1e-3)
        assert alone.view == pytest.approx(2 * np.arctan(0.5 / camera[2]), abs=1e-3)


def test_marks_that_cannot_tell_are_refused_by_what_is_wrong():
    on_a_line = [KnownPoint((100 + 50 * k, 200 + 10 * k), (k, 0, 0)) for k in range(4)]
    with pytest.raises(EstampaError, match="on one line"):
        match_camera(SIZE, on_a_line)
    with pytest.raises(EstampaError, match="three of four points"):
        match_camera(SIZE, [*on_a_line[:3], KnownPoint((300, 700), (0, 1, 2))])
    with pytest.raises(EstampaError, match="3 points and 0 lines"):
        match_camera(SIZE, on_a_line[:3])
    with pytest.raises(EstampaError, match="not a number"):
        match_camera(SIZE, [*on_a_line[:3], KnownPoint((300, float("nan")), (0, 1, 2))])
    with pytest.raises(EstampaError, match="shorter than 4"):
        match_camera(SIZE, (), [Line("x", (1, 1), (2, 2))])
