"""History, channels, curves and units."""

import math

import numpy as np
import pytest
from scipy.interpolate import CubicHermiteSpline

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.scene.curves import Curve, Key
from estampa.units import format_value, parse_value
from tests.conftest import named


def test_every_edit_can_be_undone_and_done_again(flag):
    cloth, flag_thing = named(flag, "Cloth"), named(flag, "Flag")
    documents = [flag.doc]
    edits = [
        lambda: do.set_value(flag, cloth.id, "damping", 0.9),
        lambda: do.set_key(flag, named(flag, "Wind").id, "speed", 1, 2.0),
        lambda: do.set_key(flag, named(flag, "Wind").id, "speed", 9, 8.0),
        lambda: do.move_key(flag, named(flag, "Wind").id, "speed", 9, 7),
        lambda: do.rename(flag, cloth.id, "Canvas"),
        lambda: do.move_layer(flag, cloth.id, 0),
        lambda: do.set_on(flag, cloth.id, False),
        lambda: do.duplicate(flag, cloth.id),
        lambda: do.add_layer(flag, flag_thing.id, "noise", grip={"x": 1.0}),
        lambda: do.remove_map(flag, flag_thing.id, named(flag, "Flag").maps[0].id),
        lambda: do.set_range(flag, end=30),
        lambda: do.remove(flag, flag_thing.id),
    ]
    for edit in edits:
        edit()
        assert flag.doc != documents[-1], "an edit that changes nothing"
        documents.append(flag.doc)
    for before in reversed(documents[:-1]):
        flag.undo()
        assert flag.doc is before
    for after in documents[1:]:
        flag.redo()
        assert flag.doc is after


def test_one_drag_is_one_step_and_a_bad_value_is_refused(flag):
    cloth = named(flag, "Cloth")
    for value in (0.4, 0.5, 0.6):
        do.set_value(flag, cloth.id, "damping", value, merge="drag")
    flag.end_merge()
    do.set_value(flag, cloth.id, "damping", 0.7, merge="drag")
    flag.undo()
    assert flag.values.at(flag.doc.find(cloth.id), "damping", 0) == 0.6
    flag.undo()
    assert flag.values.at(flag.doc.find(cloth.id), "damping", 0) == 0.3
    before = flag.doc
    for channel, value in (("damping", math.nan), ("damping", "fast"), ("weave", "knit"), ("speed", 1.0)):
        with pytest.raises(EstampaError) as trouble:
            do.set_value(flag, cloth.id, channel, value)
        assert cloth.name in str(trouble.value)
    assert flag.doc is before
    do.set_value(flag, cloth.id, "density", -3.0)  # below the hard range: held at its edge
    assert flag.values.at(flag.doc.find(cloth.id), "density", 0) == 1e-4


def test_removing_a_grip_clears_what_reads_it(flag):
    lean = named(flag, "Lean")
    do.remove(flag, lean.values["grip"])
    assert flag.values.at(flag.doc.find(lean.id), "grip", 0) is None


def test_ease_is_the_hermite_segment_with_flat_ends():
    curve = Curve(keys=(Key(frame=2, value=-1), Key(frame=10, value=3)))
    frames = np.linspace(2, 10, 33)
    assert np.allclose(curve.at(frames), CubicHermiteSpline([2, 10], [-1, 3], [0, 0])(frames), atol=1e-12)
    assert curve.at(-5) == -1 and curve.at(50) == 3  # held outside
    stepped = Curve(keys=(Key(frame=0, value=0, segment="step"), Key(frame=4, value=8)))
    assert [stepped.at(f) for f in (0, 3.99, 4)] == [0, 0, 8]


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("12 cm", "m", 0.12),
        ("5 deg", "rad", math.radians(5)),
        ("5", "rad", math.radians(5)),
        ("36 km/h", "m/s", 10.0),
        ("10 kn", "m/s", 10 * 1852 / 3600),  # the knot: one nautical mile of 1852 m an hour (BIPM, SI brochure 9, 2019)
        ("3 ft", "m", 0.9144),  # the international foot, 1959
        ("1 g", "m/s2", 9.80665),
        ("200 gsm", "kg/m2", 0.2),
        ("25%", "fraction", 0.25),
        ("-3,5 mm", "m", -0.0035),
    ],
)
def test_units_as_they_are_typed(text, unit, value):
    assert math.isclose(parse_value(text, unit), value, rel_tol=1e-12)
    assert math.isclose(parse_value(format_value(value, unit, 9), unit), value, rel_tol=1e-7)


@pytest.mark.parametrize("text", ["", "twelve", "5 kg", "__import__('os')", "1e999"])
def test_what_is_no_length_is_refused_in_words(text):
    with pytest.raises(EstampaError, match=r"is not a number|does not fit|too large"):
        parse_value(text, "m")
