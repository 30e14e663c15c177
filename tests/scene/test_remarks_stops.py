"""What a solve, a picture or a print stops at is remarked upon beforehand, in the same words."""

import pytest

from estampa import demo
from estampa import edits as do
from estampa.errors import EstampaError
from estampa.geometry.primitives import box, sheet
from estampa.inspect.remarks.worked_out import all_remarks
from estampa.press.run import bake_scene
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def errors(scene, store):
    return [r for r in all_remarks(scene.evaluator(store, stand_ins=True)) if r.severity == "error"]


def test_a_goal_that_was_deleted_is_an_error_before_anything_is_solved(store):
    scene = demo.build("dragonflies")
    assert not errors(scene, store)
    chased = next(t for t in scene.doc.things if t.name == "What they chase")
    do.remove(scene, chased.id)
    found = errors(scene, store)
    with pytest.raises(EstampaError) as told:
        scene.evaluator(store).solve_through(3)
    assert len(found) == 1 and told.value.cause in found[0].wrong and found[0].mend == told.value.cure
    scene.undo()
    assert not errors(scene, store)


def test_what_a_solve_stopped_at_later_stays_a_remark_until_it_would_not_stop_there_any_more(store):
    scene = Scene(Document(end=12))
    mat = do.add_mesh(scene, sheet(1, 1, 5, 5), "Mat")
    layer = do.add_layer(scene, mat.id, "cloth")
    do.add_thing(scene, "ground", values={"height": -0.5})
    wind = do.add_thing(scene, "wind").id
    do.set_formula(scene, wind, "speed", "1e30 if frame > 5 else 1")
    assert not errors(scene, store)
    with pytest.raises(EstampaError, match="frame 6"):
        scene.evaluator(store).solve_through(12)
    found = errors(scene, store)
    assert len(found) == 1 and found[0].thing == layer.id and "frame 6" in found[0].wrong
    do.set_formula(scene, wind, "speed", "2")
    assert not errors(scene, store)
    scene.undo()
    assert len(errors(scene, store)) == 1


def test_a_layer_that_stops_a_picture_and_a_print_that_cannot_be_are_errors(store, tmp_path):
    scene = Scene(Document(end=3))
    block = do.add_mesh(scene, box([-1, -1, -1], [1, 1, 1]), "Block")
    noise = do.add_layer(scene, block.id, "noise")
    do.set_formula(scene, noise.id, "height", "1 / frame")
    do.set_range(scene, start=0)
    item = do.add_thing(scene, "joint_bvh", "Joints")
    found = {r.thing for r in errors(scene, store)}
    assert found == {noise.id, item.id}
    with pytest.raises(EstampaError):
        bake_scene(scene, tmp_path)
    with pytest.raises(EstampaError):
        scene.evaluate(0, store)
