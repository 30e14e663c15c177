"""What is kept along with a document: its index, what depends on what, and what was worked out."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.geometry.primitives import sheet
from estampa.scene.dependencies import Dependencies
from estampa.scene.document import Document
from estampa.scene.graph import Graph
from estampa.scene.index import Index, changed
from estampa.scene.memo import Memo
from estampa.scene.scene import Scene

pytestmark = pytest.mark.quick


def told(index: Index) -> dict:
    """All that an index knows but hints: where things stood, and from which number on names are free."""
    return {n: dict(getattr(index, n)) for n in ("entries", "names", "forces", "named")} | {
        "members": {i: owners for i, owners in index.members.items() if owners}
    }


@settings(max_examples=40)
@given(data=st.data())
def test_an_index_that_is_mended_is_that_of_the_document_by_itself(data):
    """After any edits, undone and done again: the two ways to it share no code but the counting."""
    scene = Scene(Document(end=10))
    for step in range(data.draw(st.integers(3, 12))):
        things = [*scene.doc.things, *scene.doc.prints]
        layers = [l for t in things for l in t.stack]
        acts = ["subject", "grip", "wind", "print"]
        acts += ["bend", "cloth", "rename", "remove", "duplicate", "undo", "ride", "two at once"] if things else []
        act = data.draw(st.sampled_from(acts))
        any_of = lambda found: data.draw(st.sampled_from(found))
        try:
            if act == "subject":
                do.add_mesh(scene, sheet(1, 1, 2, 2), any_of(["Sign", "Sail", "Sign 2"]))
            elif act in ("grip", "wind"):
                do.add_thing(scene, act)
            elif act == "print":
                do.add_thing(scene, "vertex_cache")
            elif act in ("bend", "cloth") and scene.doc.subjects:
                do.add_layer(scene, any_of(scene.doc.subjects).id, act)
            elif act == "rename":
                do.rename(scene, any_of([*things, *layers]).id, any_of(["Sign", "Sign 3", "Other"]))
            elif act in ("remove", "duplicate"):
                getattr(do, act)(scene, any_of([*things, *layers]).id)
            elif act == "undo":
                (scene.undo if step % 2 else scene.redo)()
            elif act == "ride" and scene.doc.subjects:
                do.set_value(scene, any_of(scene.doc.subjects).id, "parent", any_of(things).id)
            elif act == "two at once":
                one, other = any_of(things), any_of(things)
                doc = scene.doc.replace(one.with_(name="A")).adding(one.with_(id="new", name="B", stack=()))
                scene.apply("Two at once", doc.replace(doc.find(other.id).with_(name="C")) if other is not one else doc)
                do.remove(scene, "new")
        except EstampaError:
            continue  # a ring, or what may not stand there
        alone = Document(**{n: getattr(scene.doc, n) for n in ("things", "prints")})
        assert told(scene.doc.index) == told(Index.of(alone)), act
        for thing in scene.doc.things:
            assert scene.doc.things[scene.doc.index.place(scene.doc.things, thing)] is thing
        names = [t.name for t, _ in scene.doc.everything()]
        free = scene.doc.index.free_name("Sign")
        assert free not in names and (free == "Sign" or all(f"Sign {k}" in names for k in range(2, int(free[5:]))))


def test_what_changed_is_found_by_what_edits_told_and_by_looking():
    scene = Scene()
    for name in "ABC":
        do.add_mesh(scene, sheet(1, 1, 2, 2), name)
    before, a = scene.doc, scene.doc.find(scene.doc.things[0].id)
    after = before.replace(a.with_(on=False)).adding(a.with_(id="d", name="D")).remove(before.things[1].id)
    names = lambda found: ([t.name for t in found.before], [t.name for t in found.after])
    assert names(changed(before, after)) == (["A", "B"], ["A", "D"])
    assert names(changed(before, before.replace(a.with_(on=False)).replace(a))) == ([], []), "as it was"
    assert changed(before, before.replace(a.with_(name="E"))).same_things


def test_orders_and_rings_are_those_of_who_needs_whom():
    """By `graphlib`; each owner after those that it needs, and a ring is named by the things in it."""
    scene = Scene()
    grips = [do.add_thing(scene, "grip", f"G{k}") for k in range(4)]
    for below, above in ((0, 2), (2, 1), (1, 3)):
        do.set_value(scene, grips[below].id, "parent", grips[above].id)
    order = [t.name for t in Graph(scene.doc).in_order()]
    assert order.index("G3") < order.index("G1") < order.index("G2") < order.index("G0")
    with pytest.raises(EstampaError, match="ring"):
        do.set_value(scene, grips[3].id, "parent", grips[0].id)
    ringed = scene.doc.replace(grips[3].with_(values={"parent": grips[0].id}))
    ring = Graph(ringed).ring([grips[3].id])
    assert ring[0] == ring[-1] and set(ring) == {"G0", "G1", "G2", "G3"}


def test_a_look_depends_on_all_that_it_reads_and_on_nothing_else():
    scene = Scene(Document(end=10))
    mat, other = (do.add_mesh(scene, sheet(1, 1, 3, 3), name) for name in ("Mat", "Other"))
    grip = do.add_thing(scene, "grip")
    hand = do.add_thing(scene, "grip", "Hand")
    do.add_layer(scene, mat.id, "bend", values={"grip": grip.id})
    do.link(scene, scene.doc.find(mat.id).stack[0].id, "angle", hand.id, "x", (0, 1), (0, 1))
    needs = lambda: Dependencies(scene.doc).of(scene.doc.find(mat.id))
    first = needs()
    do.set_value(scene, other.id, "x", 1.0)
    assert first == needs(), "another thing is no part of it"
    for change in (lambda: do.set_value(scene, grip.id, "y", 2.0), lambda: do.set_key(scene, hand.id, "x", 3, 1.0),
                   lambda: scene.apply("Longer", scene.doc.with_(end=20))):  # fmt: skip
        before = needs()
        change()
        assert before != needs()
    do.add_layer(scene, mat.id, "cloth")
    assert needs() is None, "what is solved depends on frames"


def test_a_memo_makes_once_forgets_what_is_gone_and_keeps_within_its_bound():
    memo, made = Memo(most=4000), []
    array = np.zeros(100)
    make = lambda: made.append(1) or np.zeros(200)
    for key in ((array, 1), (array, 1), (array, 2), (array.copy(), 2)):
        memo.get("a", "shape", key, make)
    assert len(made) == 3, "numbers by value, arrays by identity"
    memo.put("b", "shape", 1, np.zeros(200))
    memo.put("c", "shape", 1, np.zeros(200))
    assert memo.nbytes <= 4000 and memo.peek("a", "shape") is None and memo.peek("c", "shape") is not None
    memo.put("d", "shape", 1, np.zeros(10_000))
    assert memo.peek("d", "shape") is None, "larger than all that may be kept"
    memo.drop(["c"])
    assert memo.peek("c", "shape") is None and len(memo) == 1
    scene = Scene()
    mat = do.add_mesh(scene, sheet(1, 1, 2, 2), "Mat")
    scene.memo.put(mat.id, "look", 1, array)
    do.remove(scene, mat.id)
    assert scene.memo.peek(mat.id, "look") is None
