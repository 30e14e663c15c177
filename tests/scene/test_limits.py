"""What edits allow opens again: one table of limits, asked by every edit, every save and every file."""

import re
import sys

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from estampa import demo, open_scene, save_scene
from estampa import edits as do
from estampa.edits import joints as build
from estampa.errors import EstampaError
from estampa.evaluate import starts
from estampa.geometry.primitives import box, sheet
from estampa.inspect.remarks.worked_out import all_remarks
from estampa.kinds.registry import kinds_in, layers_for
from estampa.scene.document import FILE_VERSION, Document, Link, Source, Thing
from estampa.scene.file import WouldNotOpen
from estampa.scene.limit_checks import depth
from estampa.scene.scene import Scene


def test_a_scene_whose_bodies_start_from_an_adopted_frame_opens_again_and_goes_on_with_the_same_bits(store, tmp_path):
    scene = Scene(Document(end=8))
    cube = do.add_mesh(scene, box([-0.1, 0.4, -0.1], [0.1, 0.6, 0.1]), "Cube")
    layer = do.add_layer(scene, cube.id, "body")
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    bodies = scene.doc.find(layer.values["together"]).id
    do.set_start(scene, bodies, starts.adopt(scene.evaluator(store), bodies, 6))
    again = open_scene(save_scene(scene, tmp_path / "settled.estampa"))
    assert again.doc.find(bodies).adopted is not None
    assert np.array_equal(again.evaluate(5, store)["Cube"], scene.evaluate(5, store)["Cube"])


@pytest.mark.parametrize("name", demo.names())
def test_every_demo_is_saved_and_opens_again_as_it_was(name, tmp_path):
    scene = demo.build(name)
    again = open_scene(save_scene(scene, tmp_path / f"{name}.estampa"))
    assert again.doc == scene.doc.with_(name=name, version=FILE_VERSION)


def nested(scene, count):
    before = None
    for i in range(count):
        before = do.add_thing(scene, "grip", f"G{i}", {"parent": before} if before else {}).id


EDITS = {
    "too many frames": lambda s, g: do.set_range(s, end=300_000),
    "too far a frame": lambda s, g: do.set_range(s, start=-2_000_000, end=-1_999_990),
    "too slow": lambda s, g: do.set_range(s, frame_rate=0.005),
    "too long a run-up": lambda s, g: do.set_range(s, run_up=20_000),
    "too large a number": lambda s, g: do.set_value(s, g, "x", 1e13),
    "too far a key": lambda s, g: do.set_key(s, g, "x", 2e7, 1.0),
    "too large a key": lambda s, g: do.set_key(s, g, "x", 3, 1e14),
    "too long a loop": lambda s, g: do.set_loop(s, 1, 300_000),
    "too far a joint": lambda s, g: build.add_skeleton(s, [np.array([[0, 0, 0], [0, 3e9, 0.0]])]),
    "too far a point": lambda s, g: do.add_thing(s, "path", spots=((0, 0, 0), (1e10, 0, 0))),
    "too many points": lambda s, g: do.add_thing(s, "path", spots=((0.0, 0.0, 0.0),) * 100_001),
    "too long a name": lambda s, g: do.rename(s, g, "n" * 2_000),
    "too deep": lambda s, g: nested(s, 600),
    "too many things": lambda s, g: s.apply(
        "Import", s.doc.with_(things=tuple(Thing(kind="grip", name=str(i)) for i in range(100_001)))
    ),
    "many deep at once": lambda s, g: s.apply("Import", s.doc.with_(things=tuple(ladder(3_000)))),
    "another kind of thing": lambda s, g: do.add_layer(
        s, do.add_mesh(s, sheet(1, 1, 3, 3), "Mat").id, "noise", values={"grip": s.doc.subjects[0].id}
    ),
    "a row of links": lambda s, g: s.apply("Links", s.doc.with_(things=tuple(linked(600)))),
}  # fmt: skip


def ladder(count):
    below = None
    for i in range(count):
        below = Thing(kind="grip", name=f"Node {i}", values={"parent": below.id} if below else {})
        yield below


def linked(count):
    below = None
    for i in range(count):
        link = {"x": Link(reads=Source(thing=below.id, channel="x"))} if below else {}
        below = Thing(kind="grip", name=f"Link {i}", values=link)
        yield below


@pytest.mark.parametrize("what", EDITS)
def test_what_no_file_may_hold_is_refused_by_the_edit_and_the_scene_stays_as_it_was(what, tmp_path):
    scene = Scene(Document(end=8))
    grip = do.add_thing(scene, "grip").id
    with pytest.raises(EstampaError) as told:
        EDITS[what](scene, grip)
    assert told.value.cause and told.value.cure
    assert open_scene(save_scene(scene, tmp_path / "still.estampa")).doc.find(grip) is not None


def test_a_scene_that_would_not_open_goes_beside_and_never_over_one_that_does(flag, tmp_path):
    path = save_scene(flag, tmp_path / "flag.estampa")
    good = path.read_bytes()
    flag.doc = flag.doc.with_(end=300_000)  # as no edit allows
    with pytest.raises(WouldNotOpen, match=r"would not open again.*kept as flag.not-opening.estampa"):
        save_scene(flag)
    assert path.read_bytes() == good and open_scene(path).doc.end == 12
    beside = tmp_path / "flag.not-opening.estampa"
    with pytest.raises(EstampaError, match="300,000 frames"):
        open_scene(beside)
    with pytest.raises(WouldNotOpen, match="flag.not-opening1.estampa"):
        save_scene(flag)
    assert not list(tmp_path.glob(".estampa-part*"))


def test_many_nodes_and_long_rows_of_links_cost_what_they_are_many(tmp_path):
    """Four times as many take about four times as many steps; they took sixteen times as many."""

    def steps(make, count):
        """Calls of functions while it is opened and remarked upon."""
        scene = Scene()
        scene.apply("Many", scene.doc.with_(things=tuple(make(count))))
        path, calls = save_scene(scene, tmp_path / "many.estampa"), [0]

        def counted(frame, event, argument):
            calls[0] += event == "call"

        before = sys.getprofile()
        sys.setprofile(counted)
        try:
            all_remarks(open_scene(path).evaluator(stand_ins=True))
        finally:
            sys.setprofile(before)
        return calls[0]

    def nodes(count):
        return [Thing(kind="grip", name=f"Node {i}", values={"x": float(i)}) for i in range(count)]

    steps(nodes, 100)
    assert steps(nodes, 2_000) < 5 * steps(nodes, 500)
    assert steps(linked, 400) < 5 * steps(linked, 100)


@given(st.dictionaries(st.integers(0, 12), st.sets(st.integers(0, 12), max_size=3), max_size=13))
@settings(max_examples=300, derandomize=True, deadline=None)
def test_how_deep_nodes_stand_is_the_longest_way_and_a_ring_is_found(ways):
    """Against graphlib, and against trying every way."""
    from graphlib import CycleError, TopologicalSorter

    try:
        order = list(TopologicalSorter(ways).static_order())
    except CycleError:
        ring = depth(ways, lambda n: ways.get(n, ()))[1]
        assert ring[0] == ring[-1] and all(b in ways[a] for a, b in zip(ring, ring[1:], strict=False))
        return
    longest = {}
    for node in order:
        longest[node] = 1 + max((longest[n] for n in ways.get(node, ())), default=0)
    assert depth(ways, lambda n: ways.get(n, ())) == (max(longest.values(), default=0), [])


# -- extreme values --------------------------------------------------------------------------------------------
numbers = st.one_of(
    st.floats(allow_nan=True, allow_infinity=True),
    st.integers(-(10**25), 10**25),
    st.sampled_from([0, -0.0, 1e12, 1e13, 5e-324]),
)
words = st.one_of(st.text(max_size=12), st.sampled_from(["=1/0", "x" * 2_000, "9" * 400, "", "normals"]))
frames = st.one_of(st.integers(-300_000, 300_000), st.floats(-2e7, 2e7, allow_nan=False), st.sampled_from([1e300, 1e7]))


def edit_once(data, scene):
    things = [(t, o) for t, o in scene.doc.everything()]
    thing, owner = data.draw(st.sampled_from(things)) if things else (None, None)
    which = data.draw(st.sampled_from(
        ["value", "key", "range", "loop", "formula", "link", "add", "layer", "remove", "duplicate", "rename", "spots"]
    ))  # fmt: skip
    if which == "add":
        kinds = [k for f in ("thing", "force", "ensemble", "print") for k in kinds_in(f) if k.kind != "subject"]
        do.add_thing(scene, data.draw(st.sampled_from(kinds)).kind)
    elif which == "range":
        run_up = data.draw(st.none() | st.integers())
        do.set_range(scene, data.draw(frames), data.draw(frames), data.draw(numbers), run_up)
    elif which == "loop":
        do.set_loop(scene, data.draw(frames), data.draw(frames))
    if thing is None or thing.declared is None:
        return
    channels = list(thing.declared.channels)
    if which == "rename":
        do.rename(scene, thing.id, data.draw(words))
    elif which == "remove" and thing.kind != "joint":
        do.remove(scene, thing.id)
    elif which == "duplicate":
        do.duplicate(scene, thing.id)
    elif which == "spots":
        do.set_spots(scene, thing.id, data.draw(st.lists(st.tuples(numbers, numbers, numbers), max_size=3)), "Move")
    elif which == "layer":
        if thing.kind in ("subject", "skeleton", "swarm", "liquid"):
            do.add_layer(scene, thing.id, data.draw(st.sampled_from(layers_for(thing.kind))).kind)
    elif channels:
        name = data.draw(st.sampled_from(channels))
        if which == "value":
            value = data.draw(numbers | words | st.booleans() | st.none() | st.sampled_from([t.id for t, _ in things]))
            do.set_value(scene, thing.id, name, value, data.draw(st.none() | frames))
        elif which == "key":
            do.set_key(scene, thing.id, name, data.draw(frames), data.draw(numbers))
        elif which == "formula":
            text = data.draw(words | st.sampled_from(["t", "9" * 309, "a * 1e200 * 1e200"]))
            do.set_formula(scene, thing.id, name, text)
        elif which == "link":
            other, _ = data.draw(st.sampled_from(things))
            do.link(scene, thing.id, name, other.id, data.draw(st.sampled_from(list(other.declared.channels) or ["x"])))


def edited(data, folder):
    scene = Scene(Document(end=6))
    mat = do.add_mesh(scene, sheet(1, 1, 3, 3), "Mat").id
    do.add_layer(scene, mat, "noise")
    do.add_thing(scene, "grip")
    build.add_skeleton(scene, [build.straight([0, 0, 0], [0, 1, 0], 2)])
    for _ in range(data.draw(st.integers(1, 6))):
        try:
            edit_once(data, scene)
        except EstampaError as err:
            assert err.cause and not re.search(r"pydantic|Traceback", str(err))
    path = save_scene(scene, folder / "edited.estampa")
    assert open_scene(path).doc == scene.doc.with_(name="edited")
    all_remarks(scene.evaluator(stand_ins=True))


extremes = dict(deadline=None, derandomize=True, suppress_health_check=list(HealthCheck), print_blob=True)


@settings(max_examples=40, **extremes)
@given(data=st.data())
def test_whatever_edits_allow_opens_again(data, tmp_path_factory):
    edited(data, tmp_path_factory.mktemp("edits"))


@pytest.mark.sweep
@settings(max_examples=2_000, **extremes)
@given(data=st.data())
def test_whatever_two_thousand_runs_of_edits_allow_opens_again(data, tmp_path_factory):
    edited(data, tmp_path_factory.mktemp("edits"))
