"""Seams, what closes them, sync, and the demo scenes that loop."""

import json
import subprocess
from pathlib import Path

import numpy as np
import pytest

from estampa import bake, demo
from estampa import edits as do
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import coloured, sheet
from estampa.inspect import closing, loops, sync
from estampa.inspect.remarks.scene import remarks
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from tests.conftest import named


@pytest.fixture
def mat():
    scene = Scene(Document(name="mat", start=1, end=48, loop=(1, 49)))
    subject = do.add_mesh(scene, coloured(sheet(1, 1, 12, 12), "Red cloth", (0.7, 0.1, 0.1)), "Mat")
    do.add_layer(scene, subject.id, "noise", "Ripple", {"height": 0.2, "speed": 1.0})
    do.add_layer(scene, subject.id, "wave", "Swell", {"rate": 0.37})
    lift = do.add_layer(scene, subject.id, "offset", "Lift", {"y": 0.0})
    for frame, value in ((1, 0.0), (20, 0.5), (48, 0.3)):
        do.set_key(scene, lift.id, "y", frame, value)
    return scene


def seam(scene, name="Mat", seen_from=None):
    evaluator = Evaluator(scene.doc, scene, None)
    return next(s for s in loops.seams(evaluator, seen_from) if s.name == name)


def test_the_seam_is_measured_offered_closed_and_undone_in_one_step(mat):
    opened = seam(mat)
    rest, end = mat.evaluate(1)["Mat"], mat.evaluate(49)["Mat"]
    assert opened.pose == pytest.approx(np.linalg.norm(end - rest, axis=1).max())
    assert opened.pose > 0.1 and not opened.closed
    words = " / ".join(o.words for o in closing.offers(mat.doc))
    assert (
        "Ripple · closes the loop" in words
        and "Swell · rate: 0.37 becomes 0.5 Hz, 1 round in" in words
        and "Lift · y" in words
    )
    before = mat.doc
    closing.close(mat)
    closed = seam(mat)
    assert closed.closed and closing.offers(mat.doc) == []
    later = mat.evaluate(1 + 48 * 3 + 7)["Mat"]
    assert np.allclose(later, mat.evaluate(8)["Mat"], atol=1e-9), "it goes round for ever"
    mat.undo()
    assert mat.doc is before


def test_a_cycle_that_does_not_divide_the_loop_is_offered_the_nearest_that_does(mat):
    lift = named(mat, "Lift")
    for frame, value in ((1, 0.0), (11, 1.0), (21, 0.0)):
        do.set_key(mat, lift.id, "x", frame, value)
    do.set_extend(mat, lift.id, "x", "cycle", "cycle")
    offer = next(o for o in closing.offers(mat.doc) if o.channel == "x")
    assert [k.frame for k in offer.value.keys] == [1, 13, 25]  # 24 frames divide 48
    assert offer.value.at(1 + 48) == pytest.approx(offer.value.at(1))


def test_a_rolling_hoop_has_its_seam_closed_for_the_camera_that_rides_along():
    scene = demo.build("pinwheels")
    assert seam(scene, "Lost hoop").pose == pytest.approx(6 * 0.42, rel=1e-9)
    riding = seam(scene, "Lost hoop", named(scene, "Riding camera"))
    assert riding.closed, riding
    # the hoop turns by its way over its radius
    evaluator = Evaluator(scene.doc, scene, None)
    hoop = named(scene, "Lost hoop")
    only_roll = [l for l in evaluator.layers(hoop) if l.kind == "roll"]
    rest = scene.mesh(hoop.mesh).points
    where = lambda f: evaluator.rows(hoop, only_roll, evaluator.stage.one(hoop, f)).points[0]
    outer = np.linalg.norm(rest[:, 1:], axis=1).max()
    way = scene.values.at(hoop, "x", 13) - scene.values.at(hoop, "x", 1)
    a, b = rest[0, 1:], where(13)[0, 1:]
    turned = np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b)
    assert abs(turned) == pytest.approx(way / outer, rel=1e-6)


@pytest.mark.slow
def test_both_demos_loop_without_a_remark_and_nothing_in_them_moves_in_step():
    for name in ("reeds", "pinwheels"):
        scene = demo.build(name)
        evaluator = Evaluator(scene.doc, scene, None)
        assert scene.doc.loop == (1, 97)
        for found in loops.seams(evaluator):
            assert found.closed or found.name == "Lost hoop", found
        assert remarks(scene) == []
        assert sync.in_step(evaluator) == []
    plants = [t for t in demo.build("reeds").doc.things if t.kind == "copies"]
    assert sum(len(t.spots) for t in plants) == 40


def test_what_moves_in_step_is_found_and_a_desync_leaves_it_uncorrelated(mat):
    bed = do.add_thing(mat, "copies", "Mats", {"subject": named(mat, "Mat").id, "count": 12, "step_x": 2.0})
    closing.close(mat)
    found = sync.in_step(Evaluator(mat.doc, mat, None))
    assert [(f.what, len(f.members), f.count) for f in found] == [("copies", 12, 12)]
    assert found[0].correlation == pytest.approx(1)
    sync.desync(mat, found[0])
    evaluator = Evaluator(mat.doc, mat, None)
    assert sync.in_step(evaluator) == []
    signals = sync.copy_signals(evaluator, named(mat, "Mats"))
    _, lag = sync.at_lag(signals)
    assert (np.abs(lag[np.triu_indices(12, 1)]) >= 1).all(), "each is a frame or more from every other"
    s = signals - signals.mean(axis=1, keepdims=True)
    s /= np.sqrt((s**2).sum(axis=(1, 2)))[:, None, None]
    together = np.einsum("afd,bfd->ab", s, s)[np.triu_indices(12, 1)]
    assert abs(together.mean()) < 0.2
    assert seam(mat, "Mats").closed, "the stagger does not open the seam"
    del bed


def test_layers_in_step_are_told_and_brought_out_of_it():
    scene = Scene(Document(start=1, end=48, loop=(1, 49)))
    subject = do.add_mesh(scene, sheet(1, 1, 9, 9), "Mat")
    for name in ("A", "B", "C"):
        do.add_layer(scene, subject.id, "sway", name, {"rate": 0.5, "spread": 0.0})
    turned = do.add_thing(scene, "grip", "Up", {"turn_x": -np.pi / 2})
    for name in ("A", "B", "C"):
        do.set_value(scene, named(scene, name).id, "grip", turned.id)
    found = sync.layers_in_step(Evaluator(scene.doc, scene, None), named(scene, "Mat"))
    assert [len(f.members) for f in found] == [3]
    sync.desync(scene, found[0])
    assert sync.layers_in_step(Evaluator(scene.doc, scene, None), named(scene, "Mat")) == []


def test_correlation_finds_the_lag_between_two_signals():
    t = np.arange(64)
    wave = lambda lag: np.stack([np.sin(2 * np.pi * (t - lag) / 64), 0 * t], axis=1)
    together, lag = sync.at_lag(np.stack([wave(0), wave(5), 0 * wave(0)]))
    assert abs(lag[0, 1]) == 5 and together[0, 1] == pytest.approx(1) and together[0, 2] == pytest.approx(0, abs=1e-12)


@pytest.mark.slow
def test_a_printed_loop_ends_with_its_first_pose_and_a_strip_keeps_materials(mat, tmp_path):
    """A cycle that shows frame 1 again at frame 11 has ten frames (common practice, no source): a strip has those, and
    what is played by time has the first pose once more."""
    do.set_loop(mat, 1, 11)
    closing.close(mat)
    do.add_thing(mat, "vertex_cache", "Loop", {"loop": True})
    do.add_thing(mat, "pose_strip", "Strip", {"loop": True, "poses": 5})
    do.add_thing(mat, "copies", "Mats", {"subject": named(mat, "Mat").id, "count": 3, "step_x": 2.0, "stagger": 1.0})
    do.add_thing(mat, "vertex_cache", "Bed", {"loop": True, "copies": named(mat, "Mats").id})
    results = {r.name: r for r in bake(mat, tmp_path)}
    assert all(r.passed for r in results.values())
    from pxr import Usd, UsdGeom

    stage = Usd.Stage.Open(str(tmp_path / "Loop.usdc"))
    points = next(UsdGeom.Mesh(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)).GetPointsAttr()
    assert points.GetTimeSamples() == list(range(1, 12))
    assert np.array_equal(np.array(points.Get(11)), np.array(points.Get(1)))
    bed = Usd.Stage.Open(str(tmp_path / "Bed.usdc"))
    assert len(next(UsdGeom.Mesh(p) for p in bed.Traverse() if p.IsA(UsdGeom.Mesh)).GetPointsAttr().Get(3)) == 3 * 144
    import pygltflib

    strip = pygltflib.GLTF2.load(str(tmp_path / "Strip.glb"))
    assert [m.name for m in strip.meshes] == [f"Mat_{i:03d}" for i in range(1, 6)]
    assert [m.name for m in strip.materials] == ["Red cloth"]
    assert strip.scenes[0].extras["pose_strip"]["frames"] == [1, 3, 5, 7, 9]
    script = (
        "const bytes = new Uint8Array(require('fs').readFileSync(process.argv[1]));"
        "require('gltf-validator').validateBytes(bytes).then(r => console.log(JSON.stringify(r.issues)))"
    )
    root = Path(__file__).parents[2]
    out = subprocess.run(
        ["node", "-e", script, str(tmp_path / "Strip.glb")], cwd=root, capture_output=True, text=True, check=True
    )
    assert json.loads(out.stdout)["numErrors"] == 0


def test_the_order_of_the_stack_is_remarked_upon(mat):
    mat_id = named(mat, "Mat").id
    refine = do.add_layer(mat, mat_id, "refine", "Refine").id
    do.add_layer(mat, mat_id, "thicken", "Thicken")
    assert any("Refine stands above Thicken" in r.wrong for r in remarks(mat))
    do.move_layer(mat, refine, 9)
    assert not any("stands above" in r.wrong for r in remarks(mat))
    do.move_layer(mat, refine, 0)
    assert any("stands above Ripple" in r.wrong or "stands above Thicken" in r.wrong for r in remarks(mat))
    do.add_thing(mat, "path", "Nowhere", spots=((1, 1, 1), (1, 1, 1)))
    do.add_thing(mat, "zone", "Dust", {"reach": 1e-6})
    do.add_thing(mat, "copies", "Nothing")
    do.add_layer(mat, mat_id, "morph", "Empty morph")
    text = " ".join(str(r) for r in remarks(mat))
    for word in (
        "Nowhere has no length",
        "Dust is smaller",
        "Nothing copies nothing",
        "Empty morph names no morph target",
    ):
        assert word in text
    assert np.isfinite(mat.evaluate(5)["Mat"]).all()
