"""Solved frames are addressed by content: what stays, what goes stale and why, and that the same comes out again."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.errors import Cancelled, EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import joined, sheet
from estampa.inspect.lanes import SOLVED, STALE, UNSOLVED, LaneMemory
from estampa.inspect.remarks.scene import remarks
from estampa.scene.scene import Scene
from estampa.store.frames import FrameStore
from tests.conftest import named


def lane(scene, store, memory):
    return memory.state(Evaluator(scene.doc, scene, store), named(scene, "Flag"), named(scene, "Cloth"))


def test_editing_a_late_key_keeps_the_frames_before_it_and_undo_brings_all_back(flag, store):
    wind = named(flag, "Wind")
    for frame, speed in ((1, 4.0), (8, 4.0)):
        do.set_key(flag, wind.id, "speed", frame, speed, "step")
    memory = LaneMemory()
    assert (lane(flag, store, memory).states == UNSOLVED).all()
    assert Evaluator(flag.doc, flag, store).solve_through(12) == 12
    assert lane(flag, store, memory).done
    do.set_key(flag, wind.id, "speed", 8, 9.0, "step")
    state = lane(flag, store, memory)
    assert state.states.tolist() == [SOLVED] * 7 + [STALE] * 5
    assert state.why == "Wind · speed"
    flag.undo()
    assert lane(flag, store, memory).done
    assert Evaluator(flag.doc, flag, store).solve_through(12) == 0, "undo solves nothing again"


def test_what_went_stale_is_named(flag, store):
    Evaluator(flag.doc, flag, store).solve_through(12)
    memory = LaneMemory()
    lane(flag, store, memory)
    edits = {
        "Cloth · damping": lambda: do.set_value(flag, named(flag, "Cloth").id, "damping", 2.0),
        "Lean · angle": lambda: do.set_value(flag, named(flag, "Lean").id, "angle", 0.2),
        "Lean grip · x": lambda: do.set_value(flag, named(flag, "Lean grip").id, "x", 0.1),
        "Gravity (order or switch)": lambda: do.set_on(flag, named(flag, "Gravity").id, False),
        "Frame rate": lambda: do.set_range(flag, frame_rate=30),
        "Cloth · held by": lambda: do.set_map(
            flag, named(flag, "Flag").id, named(flag, "Flag").maps[0].id, np.ones(117), "x"
        ),
        "Lean (order or switch)": lambda: do.move_layer(flag, named(flag, "Cloth").id, 0),
    }
    for label, edit in edits.items():
        edit()
        state = lane(flag, store, memory)
        assert (state.states == STALE).all() and state.why.startswith(label), (label, state.why)
        assert "," not in state.why or label == "Frame rate"  # which also moves the wind on
        flag.undo()
    for harmless in (
        lambda: do.rename(flag, named(flag, "Cloth").id, "Sailcloth"),
        lambda: do.set_range(flag, end=11),
        lambda: do.add_thing(flag, "grip"),
        lambda: do.add_layer(flag, named(flag, "Flag").id, "noise"),
    ):
        harmless()
        assert memory.state(Evaluator(flag.doc, flag, store), named(flag, "Flag"), named(flag, "Flag").stack[1]).done
        flag.undo()


def test_the_same_scene_gives_the_same_bits_solved_twice_or_after_a_restart_in_the_middle(flag, tmp_path):
    a, b = FrameStore(tmp_path / "a"), FrameStore(tmp_path / "b")
    whole = Evaluator(flag.doc, flag, a)
    whole.solve_through(12)
    Evaluator(flag.doc, flag, b).solve_through(5)
    for frame in (12, 3, 7):  # scrubbing about, in a scene that was opened anew
        fresh = Scene(flag.doc, flag.arrays)
        later = Evaluator(fresh.doc, fresh, b)
        later.solve_through(frame)
        subject = named(flag, "Flag")
        assert np.array_equal(later.subject(subject, frame).points, whole.subject(subject, frame).points)


def test_an_unsolved_frame_says_so_and_something_true_stands_in(flag, store):
    subject = named(flag, "Flag")
    evaluator = Evaluator(flag.doc, flag, store, stand_ins=True)
    shape = evaluator.subject(subject, 6)
    assert not shape.is_current and shape.shown_frame is None
    evaluator.solve_through(4)
    shape = evaluator.subject(subject, 6)
    assert not shape.is_current and shape.shown_frame == 4
    assert evaluator.subject(subject, 4).is_current
    asked = Evaluator(flag.doc, flag, store).subject(subject, 6)
    assert asked.is_current, "who does not mark what stands in is given what is asked for"
    assert np.array_equal(asked.points, flag.evaluate(6, store)["Flag"])


def test_order_in_the_stack_matters_and_a_layer_below_the_cloth_solves_nothing(flag, store):
    subject = named(flag, "Flag")
    noise = do.add_layer(flag, subject.id, "noise", values={"height": 0.1})
    Evaluator(flag.doc, flag, store).solve_through(12)
    below = flag.evaluate(12, store)["Flag"]
    do.set_value(flag, noise.id, "height", 0.0)
    assert Evaluator(flag.doc, flag, store).solve_through(12) == 0
    still = flag.evaluate(12, store)["Flag"]
    assert 0.01 < np.abs(below - still).max() <= 0.1
    flag.undo()
    do.move_layer(flag, noise.id, 0)
    assert Evaluator(flag.doc, flag, store).solve_through(12) == 12
    above = flag.evaluate(12, store)["Flag"]
    assert np.abs(above - below).max() > 1e-3


def test_cancel_keeps_what_was_solved_and_a_lost_frame_is_solved_again(flag, store):
    calls = []
    with pytest.raises(Cancelled):
        Evaluator(flag.doc, flag, store).solve_through(12, cancelled=lambda: calls.append(1) or len(calls) > 5)
    evaluator = Evaluator(flag.doc, flag, store)
    cloth, subject = named(flag, "Cloth"), named(flag, "Flag")
    assert [store.has(evaluator.key(subject, cloth, f)) for f in range(1, 13)] == [True] * 5 + [False] * 7
    assert evaluator.solve_through(12) == 7
    before = store.frame(evaluator.key(subject, cloth, 12))["points"]["position"]
    for frame in (7, 8):
        store._path(evaluator.key(subject, cloth, frame)).unlink()
    again = FrameStore(store.root)
    assert Evaluator(flag.doc, flag, again).solve_through(12) == 2, "those that are lost, and no others"
    assert np.array_equal(again.frame(evaluator.key(subject, cloth, 12))["points"]["position"], before)


def test_trouble_in_a_solve_names_layer_frame_and_cure_and_no_nan_is_stored(flag, store):
    do.set_value(flag, named(flag, "Gravity").id, "pull", 1e9)
    do.set_values(flag, named(flag, "Cloth").id, {"tether": 1e6, "limit": 1e6, "excess": 1.0})
    with pytest.raises(EstampaError, match=r"Cloth on Flag, frame \d+: flew apart.*Raise Substeps"):
        Evaluator(flag.doc, flag, store).solve_through(12)


def test_remarks_name_the_culprit_and_the_cure(flag):
    assert remarks(flag) == []
    cloth, subject = named(flag, "Cloth"), named(flag, "Flag")
    do.set_map(flag, subject.id, subject.maps[0].id, np.zeros(117), "empty it")
    worst = remarks(flag)[0]
    assert (worst.severity, worst.thing) == ("error", cloth.id) and "held by nothing" in str(worst)
    assert any("0 everywhere" in r.wrong for r in remarks(flag))
    partly = joined([sheet(1, 1, 3, 3), sheet(1, 1, 3, 3)])
    other = do.add_mesh(flag, partly, "Pair")
    half = do.add_map(flag, other.id, (np.arange(18) < 3).astype(np.float32))
    loose = do.add_layer(flag, other.id, "cloth", values={"pins": half.id})
    assert any(r.thing == loose.id and "1 of the 2 islands" in r.wrong for r in remarks(flag))
    do.add_thing(flag, "ground")
    assert not any(r.severity == "error" for r in remarks(flag))
    tiny = do.add_mesh(flag, sheet(0.002, 0.002, 3, 3), "Crumb")
    huge = do.add_mesh(flag, sheet(5000, 2, 3, 3), "Island")
    assert {tiny.id, huge.id} <= {r.thing for r in remarks(flag) if "unit" in r.mend}
    fine = do.add_mesh(flag, sheet(2, 2, 120, 120), "Sail")
    sail = do.add_layer(flag, fine.id, "cloth")
    assert not any(r.thing == sail.id and "too fine" in r.wrong for r in remarks(flag))
    do.set_value(flag, named(flag, "Wind").id, "speed", 25.0)
    found = [r for r in remarks(flag) if r.thing == sail.id and "very fine for the load" in r.wrong]
    assert found and "31 m/s" in found[0].wrong and "substeps" in found[0].mend
    do.add_thing(flag, "collider", "Bollard")
    assert not any("does not meet" in r.wrong for r in remarks(flag))
    do.set_value(flag, cloth.id, "meets", False)
    assert any(r.thing == cloth.id and "does not meet Bollard" in r.wrong for r in remarks(flag))
