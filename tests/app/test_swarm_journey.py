"""A swarm by hand: added, guided, shown as a subject, printed."""

import numpy as np
import pytest
import trimesh

from estampa import edits as do
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import box
from estampa.kinds.ramps import read_ramp


def solved(user, swarm):
    lane = lambda: user.session.work.lanes.get(swarm)
    user.do("solve")
    user.wait(lambda: lane() is not None and lane().state is not None and lane().state.done, 60)
    user.wait()


def test_a_swarm_is_added_chases_a_grip_shows_a_subject_and_is_printed(user, tmp_path):
    s = user.session
    s.scene.apply("Short", s.doc.with_(end=24))
    user.do("add_swarm")
    swarm = s.selection.thing
    assert swarm.kind == "swarm" and [l.kind for l in swarm.stack] == ["sow", "grain_turbulence", "grain_limit"]
    solved(user, swarm.id)
    lane = s.work.lanes[swarm.id]
    assert lane.report.column == "living" and np.nanmax(lane.reach) == 500
    first = s.pictures.picture.swarms[swarm.id]
    assert len(first.layers) == 1 and len(first.places) == 500, "they are seen without any more"
    before = first.places.copy()
    s.player.go_to(24)
    user.wait()
    assert np.linalg.norm(s.pictures.picture.swarms[swarm.id].places - before, axis=1).min() > 1e-3
    # a layer that guides comes with a grip of its own, and stales what was solved, with the reason
    user.do("add_grain_goal")
    chase = s.selection.thing
    assert s.doc.find(chase.constant("grip")).kind == "grip"
    user.wait()
    assert "Chase" in s.work.lanes[swarm.id].state.why
    solved(user, swarm.id)
    # shown as a subject, which is hidden then; what is solved stays so
    ball = trimesh.creation.icosphere(1, 0.03)
    lamp = do.add_mesh(s.scene, Mesh.from_triangles(ball.vertices, ball.faces), "Lamp")
    s.selection.select(swarm.id)
    user.do("add_grain_show")
    s.set(s.selection.thing.id, {"subject": lamp.id, "colours": "#ff8800, #2244ff"})
    user.wait()
    assert s.work.lanes[swarm.id].state.done
    assert lamp.id not in s.pictures.picture.shapes
    looks = s.pictures.picture.swarms[swarm.id]
    dyes = np.unique(looks.layers[0].rows["dye"], axis=0)
    assert len(looks.places) == 500 and len(dyes) == 2 and looks.layers[0].rows.itemsize <= 40
    # its cycle is frozen to a strip, which takes its place in the swarm; undo brings it back
    s.selection.select(lamp.id)
    user.do("freeze_strip")
    user.window.rigging.dialog.editors["count"].show_value(3)
    user.window.rigging.dialog.accept()
    user.wait()
    strip = s.selection.thing
    assert strip.name == "Lamp strip" and len(strip.targets) == 3 and "shows the first again" in user.notice
    assert not s.doc.find(lamp.id).on and s.doc.find(swarm.id).stack[-1].constant("subject") == strip.id
    assert len(s.pictures.picture.swarms[swarm.id].places) == 500
    user.do("undo")
    user.wait()
    assert s.doc.find(swarm.id).stack[-1].constant("subject") == lamp.id
    s.selection.select(swarm.id)
    user.do("add_swarm_usd")
    assert s.selection.thing.constant("swarm") == swarm.id
    user.window.press.folder = tmp_path
    user.window.run_prints()
    user.wait(seconds=60)
    assert any(p.suffix == ".usdc" for p in tmp_path.iterdir())
    assert all(r.passed for r in user.window.press.results.values())
    # the file is rehearsed alone: it plays, and is held against the scene
    user.window.show_panel("press")
    user.wait()
    item = s.doc.prints[0]
    user.window.press.rehearse(item.id)
    stage = user.window.press.rehearsal
    assert "500 things" in stage.report.text() and "Largest difference to the scene at frame 1" in stage.gap.text()
    before = stage.seen.grab().toImage()
    stage.play.click()
    user.qtbot.wait(400)
    stage.play.click()
    assert stage.seen.now > 0.2 and stage.seen.grab().toImage() != before
    assert "nm" not in stage.gap.text() and " mm" in stage.gap.text() or "0 m" in stage.gap.text()
    stage.fields["copies"].show_value(3)
    stage._choose()
    assert len(stage.stage.parts) == 3 and stage.stage.parts[2].own(1.0) != stage.stage.parts[0].own(1.0)
    stage.reject()
    # all of it is taken back
    for _ in range(20):
        user.do("undo")
    assert s.doc.find(swarm.id) is None


def test_a_layer_of_a_swarm_without_one_says_what_to_do(user):
    user.do("add_grain_flock")
    assert "Select a swarm, or add one first" in user.notice


def test_a_grain_is_picked_by_a_click_followed_and_its_looks_are_driven_by_a_drawn_ramp(user):
    s, pane = user.session, user.window.viewport
    user.do("add_swarm")
    swarm = s.selection.thing
    solved(user, swarm.id)
    s.player.go_to(10)
    user.wait()
    user.do("frame_all")
    looked = s.pictures.picture.swarms[swarm.id]
    pixels, depth = pane.camera.project(looked.places.astype(float), pane.width(), pane.height())
    nearest = int(np.argmin(np.where((depth > 0) & (depth < 1), depth, 2)))
    user.click(pane, pixels[nearest])
    user.wait()
    picked = s.view.picked
    assert picked.swarm == swarm.id and picked.id in looked.ids
    # it is told by its number, wherever it goes, and the view goes along
    user.do("follow")
    s.player.go_to(20)
    user.wait()
    looked = s.pictures.picture.swarms[swarm.id]
    at = looked.places[list(looked.ids).index(picked.id)]
    assert pane.camera.target == pytest.approx(at, abs=1e-5) and "the view follows it" in pane._picked_words(picked)
    assert looked.trails.shape[1] == 1, "its own trail alone"
    user.do("grain_trails")
    user.wait()
    trails = s.pictures.picture.swarms[swarm.id].trails
    assert trails.shape[0] == 17 and trails.shape[1] == 500
    pictures = []
    for _ in range(4):
        pictures.append(pane.grab().toImage())
        user.do("grains_as")
        user.wait()
    assert pictures[3] != pictures[1], "as points they are another picture than as their meshes"
    # the size goes by speed; its ramp is drawn, over the plot of how fast they are
    lamp = do.add_mesh(s.scene, box([-0.02] * 3, [0.02] * 3), "Lamp")
    s.selection.select(swarm.id)
    user.do("add_grain_show")
    show = s.selection.thing.id
    s.set(show, {"subject": lamp.id, "size_by": "speed", "size_to": 1.0})
    user.wait()
    ramp = user.window.sheet.row("size_ramp").editor
    user.qtbot.waitUntil(lambda: ramp.count == 500)
    assert ramp.spread.max() == 1 and ramp.spread.min() == 0
    user.drag(ramp, *(ramp._at(k).toTuple() for k in (ramp.knots[1], (1.0, 0.5))))
    user.wait()
    assert read_ramp(s.doc.find(show).constant("size_ramp"))[1] == pytest.approx([0, 0.5], abs=0.03)  # a pixel
    sizes = s.pictures.picture.swarms[swarm.id].layers[0].rows["size"]
    assert sizes.max() <= 1.02, "half of the way from 0.8 to 1.2"
    user.do("undo")
    user.wait()
    assert s.doc.find(show).constant("size_ramp") == "", "one drag is one step of the history"
