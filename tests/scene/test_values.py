"""Formulas against Python's own arithmetic; links, rings and units."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.formula import FUNCTIONS, LONGEST, Refused, read, work_out
from estampa.geometry.place import Place
from estampa.geometry.primitives import sheet
from estampa.scene.document import Document, Formula, Link, Source
from estampa.scene.file import load_scene, save_scene
from estampa.scene.scene import Scene
from estampa.scene.values import Rows

PYTHON = {
    "sin": math.sin, "cos": math.cos, "tan": math.tan, "asin": math.asin, "acos": math.acos, "atan": math.atan,
    "atan2": math.atan2, "sqrt": math.sqrt, "exp": math.exp, "log": math.log, "abs": abs, "floor": math.floor,
    "ceil": math.ceil, "round": round, "min": min, "max": max, "sign": lambda x: math.copysign(1, x) if x else 0.0,
}  # fmt: skip
PLACES = [0.0, 0.3, 0.5, 1.0, 2.5, -0.7]


@pytest.mark.parametrize("name", sorted(PYTHON))
def test_functions_agree_with_pythons_math(name):
    count = max(FUNCTIONS[name][1], 1)
    for x in PLACES:
        arguments = [x, 0.4, 7.0][:count]
        try:
            expected = float(PYTHON[name](*arguments))
        except ValueError:
            expected = None
        got = float(
            work_out(f"{name}({', '.join('abc'[:count])})", dict(zip("abc", arguments, strict=False)), tuple("abc"))
        )
        if expected is None:
            assert not math.isfinite(got)
        else:
            assert got == pytest.approx(expected, rel=1e-14, abs=1e-300)


_numbers = st.floats(-50, 50).map(lambda x: f"({x!r})")
_formulas = st.recursive(
    st.one_of(_numbers, st.sampled_from(["t", "i", "pi"])),
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from(["+", "-", "*"]), inner).map(lambda p: f"({p[0]} {p[1]} {p[2]})"),
        inner.map(lambda x: f"sin({x})"),
        st.tuples(inner, inner).map(lambda p: f"max({p[0]}, {p[1]})"),
        st.tuples(inner, inner, inner).map(lambda p: f"({p[0]} if {p[1]} < {p[2]} else -{p[2]})"),
    ),
    max_leaves=12,
)


@given(_formulas)
def test_any_formula_is_what_python_makes_of_it_for_one_and_for_many(text):
    if len(text) > LONGEST:
        return
    where = {"t": np.array([0.0, 1.5, -2.0]), "i": np.array([0.0, 1, 2])}
    many = np.broadcast_to(work_out(text, where), 3)
    for k in range(3):
        names = {n: float(v[k]) for n, v in where.items()} | {"pi": math.pi, "sin": math.sin, "max": max}
        assert many[k] == pytest.approx(eval(text, {"__builtins__": {}}, names), rel=1e-9, abs=1e-9)


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("", "is empty"), ("1 +", "cannot be read"), ("open(1)", "calls “open”"), ("x + 1", "names “x”"),
        ("t.real", "no arithmetic"), ("[t for t in 1]", "no arithmetic"), ("'a'", "no arithmetic"),
        ("sin(1, 2)", "takes 1"),
        ("__import__(1)", "calls"), ("1e999", "too large"), ("lambda: 1", "no arithmetic"), ("sin", "write sin("),
        ("t" + " + t" * 3000, "12,001 characters"), ("(" * 400 + "t" + ")" * 400, ""), ("-" * 90 + "t", "nested"),
    ],
)  # fmt: skip
def test_what_is_no_formula_is_refused_and_nothing_is_run(text, says):
    with pytest.raises(Refused, match=says.replace("(", r"\(").replace("[", r"\[") or None):
        read(text)


def test_ramps_chance_and_noise_keep_their_promises():
    x = np.linspace(-1, 2, 301)
    assert np.allclose(work_out("ramp(0, 1, t)", {"t": x}), np.clip(x, 0, 1))
    s = work_out("smoothstep(0, 1, t)", {"t": x})
    assert s.min() == 0 and s.max() == 1 and (np.diff(s) >= 0).all()
    chance = work_out("rand(i)", {"i": np.arange(4000.0)})
    assert abs(chance.mean() - 0.5) < 0.02 and abs(chance.std() - 12**-0.5) < 0.02
    assert np.array_equal(
        work_out("rand(i)", {"i": np.arange(10.0)}), chance[:10]
    )  # one more changes none of the others
    n = work_out("noise(t, 3)", {"t": np.linspace(0, 200, 5000)})
    assert 0.1 < n.std() < 0.5 and np.abs(np.diff(n)).max() < 0.2


@pytest.fixture
def rig():
    scene = Scene(Document(name="rig", start=1, end=48))
    grip = do.add_thing(scene, "grip", "Breeze")
    other = do.add_thing(scene, "grip", "Other")
    return scene, grip.id, other.id


def test_links_read_as_they_are_or_through_a_range_and_follow_a_rename(rig, tmp_path):
    scene, a, b = rig
    do.set_value(scene, a, "y", 0.25)
    do.link(scene, b, "x", a, "y")
    value = lambda name: scene.values.at(scene.doc.find(b), name, 7)
    assert value("x") == 0.25
    do.link(scene, b, "z", a, "y", (0.0, 1.0), (-2.0, 2.0))
    assert value("z") == -1.0
    do.set_value(scene, a, "y", 9.0)
    assert value("z") == 2.0  # held at the end of its range
    do.link(scene, b, "turn_x", a, "y")  # another unit: a range map is laid between the usual ranges
    assert isinstance(scene.doc.find(b).value("turn_x"), Link) and scene.doc.find(b).value("turn_x").span == (-5, 5)
    do.rename(scene, a, "Gale")
    assert value("x") == 9.0
    save_scene(scene, tmp_path / "s.estampa")
    again = load_scene(tmp_path / "s.estampa")
    assert again.values.at(again.doc.find(b), "z", 7) == 2.0
    do.remove(scene, a)
    assert scene.doc.find(b).value("x") == 9.0, "what read it keeps what it was worth"


def test_a_formula_speaks_the_units_that_are_shown(rig):
    scene, a, b = rig
    do.set_value(scene, a, "turn_y", math.radians(30))
    do.set_formula(scene, b, "turn_x", "2 * a + 10 * t", {"a": (a, "turn_y")})
    assert scene.values.at(scene.doc.find(b), "turn_x", 24) == pytest.approx(math.radians(70))
    do.set_formula(scene, b, "x", "0.4 + 0.3 * sin(t)")
    assert scene.values.at(scene.doc.find(b), "x", 36) == pytest.approx(0.4 + 0.3 * math.sin(1.5))
    rows = Rows(np.array([1.0, 1, 1]), np.arange(3.0), 3)
    do.set_formula(scene, b, "y", "i / n")
    assert np.allclose(scene.values.rows(scene.doc.find(b), "y", rows), [0, 1 / 3, 2 / 3])


def test_rings_are_refused_with_their_names_and_leave_the_scene_as_it_was(rig):
    scene, a, b = rig
    do.link(scene, b, "x", a, "y")
    before = scene.doc
    with pytest.raises(EstampaError, match="in a ring: Breeze · y → Other · x → Breeze · y"):
        do.link(scene, a, "y", b, "x")
    with pytest.raises(EstampaError, match="in a ring"):
        do.set_formula(scene, b, "y", "a + 1", {"a": (b, "y")})
    do.set_value(scene, a, "parent", b)
    with pytest.raises(EstampaError, match="ring: Other"):
        do.set_value(scene, b, "parent", a)
    scene.undo()
    assert scene.doc == before
    # one that comes from a file is named when it is read
    thing = scene.doc.find(a)
    ring = thing.with_(values={"y": Link(reads=Source(thing=b, channel="x"))})
    broken = Scene(scene.doc.replace(ring), scene.arrays)
    with pytest.raises(EstampaError, match="in a ring"):
        broken.values.at(broken.doc.find(a), "y", 1)


@pytest.mark.parametrize("text", ["1 / (frame - 24)", "log(0 - t)", "exp(exp(t * 9))", "sqrt(-1 - t)"])
def test_a_formula_that_gives_no_number_is_refused_by_name_and_cure(rig, text):
    scene, _, b = rig
    before = scene.doc
    with pytest.raises(EstampaError, match="Other · X|Other · Position|Other"):
        do.set_formula(scene, b, "x", text)
    assert scene.doc is before
    late = scene.doc.replace(scene.doc.find(b).with_(values={"x": Formula(formula="1 / (frame - 5)")}))
    with pytest.raises(EstampaError, match="gives no number at frame 5"):
        Scene(late, scene.arrays).values.at(late.find(b), "x", 5)


def test_locked_channels_are_left_alone_and_auto_key_makes_keys(rig):
    scene, a, _ = rig
    do.set_locked(scene, a, "x", True)
    do.set_values(scene, a, {"x": 3.0, "y": 2.0}, 5)
    assert (scene.doc.find(a).value("x"), scene.doc.find(a).value("y")) == (0.0, 2.0)
    do.set_values(scene, a, {"z": 1.0}, 5, auto_key=True)
    do.set_values(scene, a, {"z": 4.0}, 9, auto_key=True)
    assert [k.frame for k in scene.doc.find(a).curve("z").keys] == [5, 9]


def test_places_ride_on_one_another_as_scipys_rotations_say():
    from scipy.spatial.transform import Rotation

    scene = Scene()
    deck = do.add_thing(scene, "grip", values={"x": 1.0, "turn_y": 0.7, "turn_z": 0.2, "size": 2.0}).id
    ball = do.add_thing(scene, "grip", values={"y": 0.5, "turn_x": -1.1, "parent": deck}).id
    place = scene.values.place(scene.doc.find(ball), Rows.one(1))
    outer = Rotation.from_euler("XYZ", [0, 0.7, 0.2])
    assert np.allclose(place.origin[0], [1, 0, 0] + 2 * outer.apply([0, 0.5, 0]))
    assert np.allclose(place.axes[0], (outer * Rotation.from_euler("X", -1.1)).as_matrix())
    assert place.size[0] == 2
    back = place.inverse() @ place
    assert np.allclose(back.origin, 0) and np.allclose(back.axes, np.eye(3))
    values = Place.of(place.values)
    assert np.allclose(values.axes, place.axes)


def test_what_gathers_over_time_is_the_trapezoid_of_each_copys_own_channel(rig):
    scene, _, other = rig
    subject = do.add_mesh(scene, sheet(1, 1, 2, 2), "Mat")
    noise = do.add_layer(scene, subject.id, "noise")
    do.set_formula(scene, other, "x", "(i + 1) * t")
    do.link(scene, noise.id, "speed", other, "x", (0.0, 10.0), (0.0, 10.0))
    rows = Rows(np.array([30.0, 30.5, -6.0]), np.arange(3.0), 3)
    found = scene.values.travels(scene.doc.find(noise.id), "speed", rows)
    held = [np.clip((k + 1) * np.linspace(0, f / 24, 4001), 0, 10) for k, f in enumerate(rows.frames)]
    expected = [np.trapezoid(v, np.linspace(0, f / 24, 4001)) for v, f in zip(held, rows.frames, strict=True)]
    assert np.allclose(found, expected, atol=2e-3)
    keyed = do.add_layer(scene, subject.id, "noise", "Keyed")
    for frame, speed in ((0, 1.0), (12, 3.0), (24, 0.0)):
        do.set_key(scene, keyed.id, "speed", frame, speed, "linear")
    assert scene.values.travel(scene.doc.find(keyed.id), "speed", 24) == pytest.approx((2.0 * 12 + 1.5 * 12) / 24)
