"""Remarks on bodies: each names the culprit and the cure."""

import numpy as np

from estampa import edits as do
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import joined, sheet
from estampa.inspect.remarks.scene import remarks
from estampa.inspect.remarks.worked_out import all_remarks
from tests.solve.figures import figure
from tests.solve.test_bodies import body, box, pier


def words(scene) -> str:
    return "\n".join(str(r) for r in remarks(scene))


def test_sound_bodies_are_not_remarked_upon():
    scene = pier(10, ground=0.5)
    body(scene, box(at=(0, 1, 0)), "One")
    body(scene, box(at=(0, 1.4, 0)), "Two")
    assert words(scene) == ""


def test_what_is_solved_in_nothing_or_what_is_off_is_named():
    scene = pier(10)
    body(scene, box(), "One")
    bodies = next(t for t in scene.doc.things if t.kind == "bodies")
    do.set_on(scene, bodies.id, False)
    assert "Body of One of One is solved in Bodies, which is off" in words(scene) and "Switch it on" in words(scene)
    do.remove(scene, bodies.id)
    assert "is solved in nothing" in words(scene) and "Solved in" in words(scene)
    scene.undo()
    scene.undo()
    do.remove(scene, scene.doc.subjects[0].id)
    assert "has nothing to solve" in words(scene)


def test_flat_open_heavy_overlapping_quick_and_many_bodies_are_named():
    scene = pier(10)
    body(scene, sheet(1, 1, 3, 3), "Card")
    opened = box(at=(5, 0, 0))
    body(scene, Mesh(opened.points, opened.face_counts[1:], opened.face_indices[3:]), "Crate")
    body(scene, box(at=(9, 0, 0)), "Anvil", mass=1e6, shape="mesh")
    body(scene, box(at=(9.1, 0.05, 0)), "In the anvil")
    lift = body(scene, box((1, 0.02, 1), (0, 5, 0)), "Lift", moved="driven")
    do.set_key(scene, lift, "y", 1, 0.0)
    do.set_key(scene, lift, "y", 3, 1.0)
    found = words(scene)
    for part in (
        "Card is flat", "Crate is open", "Several hulls are taken instead",
        "times as heavy as", "Anvil seems to begin inside In the anvil", "It may pass through small bodies",
    ):  # fmt: skip
        assert part in found, part
    many = joined([box((0.1, 0.1, 0.1), (0.2 * i, 0, 0.2 * j)) for i in range(50) for j in range(50)])
    body(scene, many, "Heap", each="pieces")
    assert "2,505 bodies are solved together" in words(scene) and "minutes for the range" in words(scene)
    assert np.isfinite(many.points).all()


def test_what_nothing_pulls_is_told_with_a_cure_that_works():
    scene = pier(10)
    body(scene, box(), "One")
    gravity = next(t for t in scene.doc.things if t.kind == "gravity")
    do.remove(scene, gravity.id)
    found = next(r for r in remarks(scene) if "Nothing pulls at One" in r.wrong)
    found.fix[1](scene)
    assert "Nothing pulls" not in words(scene)
    do.set_on(scene, next(t for t in scene.doc.things if t.kind == "gravity").id, False)
    do.set_value(scene, scene.doc.subjects[0].stack[0].id, "speed_x", 2.0)
    assert "Nothing pulls" not in words(scene), "it was thrown where nothing pulls"


def test_bodies_that_rest_on_a_collider_are_not_said_to_pass_through_it():
    scene = pier(10)
    body(scene, box(), "One")
    do.add_thing(scene, "collider", values={"shape": "box"})
    assert "passes through colliders" not in words(scene)


def test_an_ensemble_of_ragdolls_alone_has_something_to_solve():
    scene = figure(11)[0]
    bodies = next(t for t in scene.doc.things if t.kind == "bodies")
    assert bodies.name + " has nothing to solve" not in words(scene)


def test_ensembles_that_pass_through_one_another_and_sizes_far_apart_are_told(store):
    scene = pier(24)
    body(scene, box((1, 0.2, 1), (0, 0.5, 0)), "Table", moved="still")
    body(scene, box((0.3, 0.3, 0.3), (0, 2, 0)), "Crate")
    other = do.add_thing(scene, "bodies", "Others")
    body(scene, box((0.3, 0.3, 0.3), (0, 1.0, 0)), "Chest", together=other.id)
    evaluator = scene.evaluator(store)
    evaluator.solve_through(24)
    found = "\n".join(str(r) for r in all_remarks(evaluator))
    assert "Bodies and Others pass through one another" in found and "Solved in" in found
    assert "in single precision" not in found
    body(scene, box((2e-5, 2e-5, 2e-5), (0, 3, 0)), "Crumb")
    found = "\n".join(str(r) for r in all_remarks(scene.evaluator(store, stand_ins=True)))
    assert "0.3 m across, Body of Crumb on Crumb 0.02 mm: 15,000 times" in found


def test_a_figure_that_begins_under_the_ground_or_within_itself_is_told(store):
    scene, skeleton, _ = figure(11, last=4)
    do.add_thing(scene, "ground")
    told = lambda: "\n".join(str(r) for r in all_remarks(scene.evaluator(store)))
    assert "under the ground" not in told() and "within other limbs" not in told()
    do.set_value(scene, skeleton, "y", -0.6)
    assert "begins 0." in told() and "under the ground" in told()
    for joint in scene.doc.find(skeleton).joints[1:]:
        do.set_values(scene, joint.id, {"turn_x": 2.6})
    assert "within other limbs" in told()
