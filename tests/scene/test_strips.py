"""Strips: cycles frozen pose by pose, flipped through, stale when their original changes."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.api import remarks
from estampa.edits import strips
from estampa.errors import EstampaError
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import box, coloured, joined
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def wings(last=24):
    """Two parts with materials of their own, that beat in ten frames."""
    scene = Scene(Document(start=1, end=last))
    parts = [coloured(box([x, 0, 0], [x + 0.1, 0.02, 0.05]), f"Wing {x}", (0.5, x, 0.2)) for x in (0.0, 0.2)]
    member = do.add_mesh(scene, joined(parts), "Member")
    bend = do.add_layer(scene, member.id, "bend", grip={}, values={"low": 0.0, "high": 0.3})
    do.set_formula(scene, bend.id, "angle", "40 * sin(2 * pi * (frame - 1) / 10)")
    return scene, member.id, bend.id


def test_a_strip_holds_ten_poses_flips_through_them_and_keeps_parts_and_materials(store):
    scene, member, _ = wings()
    evaluator = Evaluator(scene.doc, scene, store)
    live = [evaluator.subject(scene.doc.find(member), f).points for f in range(1, 25)]
    strip, doubled = strips.freeze(scene, evaluator, member, 1, 10)
    assert not doubled, "frame 11 shows frame 1 again: the cycle has ten"
    doc = scene.doc
    assert not doc.find(member).on and doc.find(member).stack, "the original is off, and kept"
    mesh, own = scene.mesh(doc.find(strip.id).mesh), scene.mesh(doc.find(member).mesh)
    assert mesh.materials == own.materials and np.array_equal(mesh.face_materials, own.face_materials)
    assert mesh.island_count == own.island_count == 2
    later = Evaluator(doc, scene, store)
    for frame in range(1, 25):
        at = later.subject(doc.find(strip.id), frame).points
        assert np.array_equal(at, live[(frame - 1) % 10]), frame
    scene.undo()
    assert scene.doc.find(member).on and scene.doc.find(strip.id) is None
    assert strips.freeze(scene, evaluator, member, 1, 11)[1], "eleven show the first pose twice"


def test_grains_flip_through_a_strip_as_they_did_through_its_original(store):
    scene, member, _ = wings()
    swarm = do.add_thing(scene, "swarm")
    do.add_layer(scene, swarm.id, "sow", values={"count": 50})
    show = do.add_layer(scene, swarm.id, "grain_show", values={"subject": member, "cycle": 10})
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(12)
    before = outcome.of(evaluator, scene.doc.find(swarm.id), 12).parts
    strip, _ = strips.freeze(scene, evaluator, member, 1, 10)
    shown = scene.doc.find(show.id)
    assert shown.constant("subject") == strip.id and shown.constant("cycle") == 10
    later = Evaluator(scene.doc, scene, store)
    after = outcome.of(later, scene.doc.find(swarm.id), 12).parts
    assert len(after) == len(before) == 1 and len(before[0].points) == 10
    for a, b in zip(before, after, strict=True):
        assert np.array_equal(a.ids, b.ids) and np.array_equal(a.points, b.points) and np.array_equal(a.shape, b.shape)


def test_a_strip_goes_stale_with_its_original_and_is_frozen_again(store):
    scene, member, bend = wings()
    strip, _ = strips.freeze(scene, Evaluator(scene.doc, scene, store), member, 1, 10)
    said = lambda: [r for r in remarks(scene) if "has changed since" in r.wrong]
    assert not said()
    do.set_formula(scene, bend, "angle", "60 * sin(2 * pi * (frame - 1) / 10)")
    assert said()[0].thing == strip.id
    strips.freeze_again(scene, Evaluator(scene.doc, scene, store), strip.id)
    assert not said()
    evaluator = Evaluator(scene.doc, scene, store)
    live = evaluator.subject(scene.doc.find(member), 4).points
    assert np.array_equal(evaluator.subject(scene.doc.find(strip.id), 4).points, live)
    do.remove(scene, member)
    with pytest.raises(EstampaError, match="frozen of nothing that is still there"):
        strips.freeze_again(scene, Evaluator(scene.doc, scene, store), strip.id)
