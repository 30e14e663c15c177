"""A liquid by hand: filled into a vessel, mended by a click, settled, started from there, skinned, printed."""

import numpy as np
import trimesh

from estampa import edits as do
from estampa.geometry.mesh import Mesh

from .test_swarm_journey import solved


def test_a_vessel_is_filled_mended_settled_and_its_skin_is_printed(user, tmp_path):
    s = user.session
    s.scene.apply("Short", s.doc.with_(end=14))
    pot = trimesh.creation.cylinder(0.2, 0.4, sections=24)
    points = pot.vertices[:, [0, 2, 1]] * [1, 1, -1]
    vessel = do.add_mesh(s.scene, Mesh.from_triangles(points, pot.faces), "Pot")
    s.selection.select(vessel.id)
    user.do("add_liquid")
    made = s.selection.thing
    assert [l.kind for l in made.stack] == ["fill", "grain_skin"] and "fills Pot" in user.notice
    do.set_value(s.scene, made.id, "spacing", 0.03)
    holds = next(t for t in s.doc.things if t.kind == "collider")
    assert holds.constant("hollow") and any(t.kind == "gravity" for t in s.doc.things)
    # without anything solid it would fall through: a remark says so, and a click on its button mends it
    do.remove(s.scene, holds.id)
    user.wait()
    user.window.show_panel("remarks")
    user.qtbot.waitUntil(lambda: any("nothing that is solid" in r.wrong for r in s.work.remarks))
    panel = user.window.remarks
    panel.refresh()
    button = panel.fixes.itemAt(0).widget()
    assert "Let Pot hold it" in button.text()
    user.click(button)
    assert next(t for t in s.doc.things if t.kind == "collider").constant("subject") == vessel.id
    solved(user, made.id)
    s.player.go_to(14)
    user.wait()
    looked = s.pictures.picture.swarms[made.id]
    assert len(looked.skins) == 1 and not looked.layers, "its skin is seen, and no grains"
    grains = s.work.evaluator("window").dressing.grains(s.doc.find(made.id), 14)[0]
    assert (np.hypot(*grains["position"][:, [0, 2]].T) < 0.2).all() and grains["position"][:, 1].min() > -0.2
    s.selection.select(made.id)
    user.wait()
    user.window.show_panel("sheet")
    user.wait()
    told = "".join(w.text() for w in user.window.sheet.findChildren(type(user.window.notice.text)))
    assert " l in " in told and "small steps" in told
    # the settled state is the start
    user.do("start_here")
    user.wait()
    assert s.doc.find(made.id).adopted is not None
    solved(user, made.id)
    again = s.work.evaluator("window").dressing.grains(s.doc.find(made.id), 1)[0]
    assert np.allclose(again["position"], grains["position"], atol=1e-6)
    user.do("add_skin_usd")
    user.window.press.folder = tmp_path
    user.window.run_prints()
    user.wait(seconds=90)
    assert all(r.passed for r in user.window.press.results.values()) and list(tmp_path.glob("*.usdc"))


def test_a_slice_takes_away_what_is_nearer_than_what_the_view_turns_about(user):
    s, pane = user.session, user.window.viewport
    ball = trimesh.creation.icosphere(3, 0.5)
    do.add_mesh(s.scene, Mesh.from_triangles(ball.vertices, ball.faces), "Ball")
    user.wait()
    user.do("frame_all")
    user.wait()
    deepest = lambda: pane.depth_under(pane.width() / 2, pane.height() / 2)
    before = pane.grab().toImage()
    assert len(deepest()) == 2
    user.do("cut")
    user.wait()
    after = pane.grab().toImage()
    assert after != before and user.window.actions_by_name["cut"].isChecked()
    middle = lambda image: image.pixelColor(image.width() // 2, image.height() // 2).lightness()
    assert middle(after) != middle(before), "the inside of its far half is seen"
    user.do("cut")
    user.wait()
    assert pane.grab().toImage() == before


def test_a_crate_is_let_float_by_one_command(user):
    s = user.session
    s.scene.apply("Short", s.doc.with_(end=8))
    user.do("add_liquid")  # a block over the ground
    water = s.selection.thing
    do.set_value(s.scene, water.id, "spacing", 0.05)
    box = trimesh.creation.box((0.12, 0.12, 0.12))
    crate = do.add_mesh(s.scene, Mesh.from_triangles(np.array(box.vertices), np.array(box.faces)), "Crate")
    do.set_value(s.scene, crate.id, "y", 0.5)
    do.add_layer(s.scene, crate.id, "body", values={"density": 300.0})
    s.selection.select(water.id)
    user.do("add_immersion")
    force = s.selection.thing
    assert force.kind == "immersion" and force.constant("liquid") == water.id and "float" in user.notice
    solid = next(t for t in s.doc.things if t.kind == "collider" and t.constant("subject") == crate.id)
    assert not solid.constant("hollow")
    s.work.solve()
    user.wait()
    user.wait(lambda: not s.work.needs_solve())
    s.scene.undo()
    assert not any(t.kind in ("immersion", "collider") for t in s.doc.things), "one step of the history"
