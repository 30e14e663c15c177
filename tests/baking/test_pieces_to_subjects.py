"""Pieces to subjects: with keys they stand where the pieces did; as bodies they fall as the pieces would."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.baking import pieces
from estampa.errors import EstampaError
from estampa.geometry.primitives import box
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def broken(count=40, last=20, gather=False):
    scene = Scene(Document(name="cube", start=1, end=last))
    subject = do.add_mesh(scene, box([-0.2, 0.3, -0.2], [0.2, 0.7, 0.2]), "Cube").id
    do.set_values(scene, subject, {"x": 0.4, "turn_y": 0.5})
    do.add_layer(scene, subject, "break", values={"count": count})
    do.add_layer(scene, subject, "body")
    if gather:
        layer = do.add_layer(scene, subject, "gather", values={"where": "home"})
        do.set_key(scene, layer.id, "strength", 10, 0.0)
        do.set_key(scene, layer.id, "strength", last, 0.7)
    do.add_thing(scene, "gravity")
    do.add_thing(scene, "ground")
    return scene, subject


@pytest.mark.parametrize("gather", [False, True])
def test_keyed_pieces_stand_where_the_pieces_stood(store, gather):
    scene, subject = broken(gather=gather)
    evaluator = scene.evaluator(store)
    evaluator.solve_through(20)
    wanted = [evaluator.subject(scene.doc.find(subject), f).points for f in (1, 7, 13, 20)]
    before = scene.doc
    parted = pieces.part(scene, subject, store=store)
    made = pieces.put(scene, parted)
    assert len(made) == len(parted.meshes) >= 40 and not scene.doc.find(subject).on
    evaluator = scene.evaluator(store)
    for points, frame in zip(wanted, (1, 7, 13, 20), strict=True):
        found = np.concatenate([evaluator.subject(scene.doc.find(t.id), frame).points for t in made])
        order = lambda p: p[np.lexsort(p.round(4).T)]
        assert order(found) == pytest.approx(order(points), abs=2e-4)
    scene.undo()
    assert scene.doc is before


def test_pieces_as_bodies_go_on_by_themselves(store):
    scene, subject = broken(count=12)
    made = pieces.put(scene, pieces.part(scene, subject, keyed=False, store=store))
    assert all(t.stack[0].kind == "body" and t.stack[0].constant("each") == "whole" for t in made)
    evaluator = scene.evaluator(store)
    evaluator.solve_through(20)
    low = min(evaluator.subject(scene.doc.find(t.id), 20).points[:, 1].min() for t in made)
    high = max(evaluator.subject(scene.doc.find(t.id), 20).points[:, 1].max() for t in made)
    assert -0.01 < low < 0.01 and high < 0.45


def test_what_has_no_pieces_is_refused_with_a_cure(store):
    scene = Scene(Document(name="cube", start=1, end=5))
    subject = do.add_mesh(scene, box([0, 0, 0], [1, 1, 1]), "Cube").id
    with pytest.raises(EstampaError, match="does not move in pieces"):
        pieces.part(scene, subject, store=store)
    do.add_layer(scene, subject, "body")
    with pytest.raises(EstampaError, match="is one piece"):
        pieces.part(scene, subject, store=store)
