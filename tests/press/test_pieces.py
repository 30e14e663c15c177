"""Prints of pieces, read back by the standards' own libraries."""

import json
import subprocess
from pathlib import Path

import numpy as np
import pytest

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import coloured, joined
from estampa.press.run import estimate, run
from tests.solve.test_bodies import ball, body, box, pier

VALIDATOR = Path(__file__).parents[2] / "node_modules" / "gltf-validator"
KINDS = ("piece_nodes", "piece_usd", "piece_skin", "piece_texture")


@pytest.fixture
def tumble(store):
    """Five things of two materials that fall and tumble; 20 frames."""
    scene = pier(20, ground=0.5)
    things = [coloured(box((0.3, 0.2, 0.25), (0.4 * i, 0.5 + 0.3 * i, 0)), "Wood", (0.5, 0.3, 0.1)) for i in range(3)]
    things += [coloured(ball(0.1, (0.4 * i, 0.9, 0.5)), "Brass", (0.8, 0.6, 0.2)) for i in range(2)]
    heap = body(scene, joined(things), "Heap", each="pieces", spin_z=3.0)
    return scene, heap


@pytest.mark.parametrize("kind", KINDS)
def test_a_print_of_pieces_is_where_the_scene_is(tumble, store, tmp_path, kind):
    scene, heap = tumble
    item = do.add_thing(scene, kind, values={"subject": heap, "tolerance": 1e-5})
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    assert result.passed and result.gap < 1e-5, result.words()


@pytest.fixture
def shards(store):
    """A ball in a turned and sized place, broken, tossed and shrunk in turn; the last piece stays."""
    scene = pier(20)
    subject = do.add_mesh(scene, coloured(ball(0.5, (0, 0, 0)), "Glaze", (0.1, 0.4, 0.4)), "Ball").id
    do.set_values(scene, subject, {"x": 0.4, "turn_y": 0.7, "size": 1.5})
    do.add_layer(scene, subject, "break", values={"count": 12})
    zone = do.add_thing(scene, "zone", values={"x": 0.4, "y": 1.0, "reach": 1.2, "soft": 0.6})
    toss = do.add_layer(scene, subject, "toss", values={"zone": zone.id})
    do.add_layer(scene, subject, "shrink", values={"zone": zone.id, "by": 0.5})
    do.set_key(scene, toss.id, "strength", 1, 0.0)
    do.set_key(scene, toss.id, "strength", 20, 1.0)
    return scene, subject


@pytest.mark.parametrize("kind", KINDS)
def test_a_print_of_pieces_that_layers_move_and_size_is_where_the_scene_is(shards, store, tmp_path, kind):
    scene, subject = shards
    item = do.add_thing(scene, kind, values={"subject": subject, "tolerance": 1e-5})
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    assert result.passed and result.gap < 1e-5, result.words()
    if kind == "piece_nodes":
        import pygltflib as gl

        made = gl.GLTF2.load(str(result.paths[0]))
        moved = {c.target.node for c in made.animations[0].channels}
        assert 0 < len(moved) < len(made.nodes) == 12, "pieces that never move are not keyed"
        assert {c.target.path for c in made.animations[0].channels} == {"translation", "rotation", "scale"}


@pytest.mark.parametrize("pivot", ("middle", "lowest", "grip"))
def test_a_pivot_moves_the_origins_of_nodes_and_not_the_motion(tumble, store, tmp_path, pivot):
    import pygltflib as gl

    scene, heap = tumble
    grip = do.add_thing(scene, "grip", values={"x": 0.2, "y": 1.5}).id
    values = {"subject": heap, "tolerance": 1e-5, "pivot": pivot, "pivot_grip": grip}
    item = do.add_thing(scene, "piece_nodes", values=values)
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    assert result.passed and result.gap < 1e-5, result.words()
    own = gl.GLTF2.load(str(result.paths[0])).accessors
    first = [a for a in own if a.type == "VEC3" and a.min][0]  # the first box, 0.3 by 0.2 by 0.25 m
    wanted = {"middle": [-0.1, 0.1], "lowest": [0.0, 0.2], "grip": [-1.1, -0.9]}[pivot]  # its foot and top
    assert np.allclose([first.min[1], first.max[1]], wanted, atol=1e-5), "heights over its pivot"


def test_nodes_have_a_mesh_a_material_and_a_motion_each(tumble, store, tmp_path):
    """Read with pygltflib, and by the standard's own validator."""
    import pygltflib as gl

    scene, heap = tumble
    item = do.add_thing(scene, "piece_nodes", values={"subject": heap})
    path = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path).paths[0]
    document = gl.GLTF2.load(str(path))
    assert [n.name for n in document.nodes] == [f"Heap_{i:03d}" for i in range(1, 6)]
    assert [m.name for m in document.materials] == ["Wood", "Brass"]
    assert [m.primitives[0].material for m in document.meshes] == [0, 0, 0, 1, 1]
    assert len(document.animations[0].channels) == 10
    script = (
        "const v=require(process.argv[1]),f=require('fs');"
        "v.validateBytes(new Uint8Array(f.readFileSync(process.argv[2])))"
        ".then(r=>console.log(JSON.stringify(r.issues)))"
    )
    told = subprocess.run(["node", "-e", script, str(VALIDATOR), str(path)], capture_output=True, text=True, check=True)
    issues = json.loads(told.stdout)
    assert issues["numErrors"] == 0 and issues["numWarnings"] == 0, issues["messages"][:4]


def test_the_texture_is_played_by_its_formula_alone(tumble, store, tmp_path):
    scene, heap = tumble
    item = do.add_thing(scene, "piece_texture", values={"subject": heap})
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path)
    told = json.loads(next(p for p in result.paths if p.suffix == ".json").read_text())
    assert told["pieces"] == 5 and told["frames"] == 20 and "pivot" in told["formula"]
    played = item.declared().reader(result.target).points(13)
    assert np.abs(played - evaluator.subject(scene.doc.find(heap), 13).points).max() < 1e-5


def test_what_does_not_move_in_pieces_is_refused_with_a_cure(store, tmp_path):
    scene = pier(5)
    still = do.add_mesh(scene, box(), "Still").id
    item = do.add_thing(scene, "piece_nodes", values={"subject": still})
    assert "be a Body or one that moves pieces" in estimate(scene, scene.doc, item).trouble
    with pytest.raises(EstampaError, match="be a Body or one that moves pieces"):
        run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)


BODY, TRAIL = ("body", {"each": "pieces", "spin_y": 2.0}), ("trail", {"hertz": 2.0})
GATHER, TOSS = ("gather", {"where": "home"}), ("toss", {"x": 0.2, "turn": 1.0})
STEP, SHRINK = ("step", {"y": 0.3, "turn_z": 0.5}), ("shrink", {"by": 0.4})
CHAINS = ([BODY, GATHER], [TOSS, BODY, GATHER], [BODY, TOSS, SHRINK], [TRAIL, GATHER], [GATHER, BODY], [STEP, TRAIL])


def in_a_chain(chain):
    scene = pier(16, ground=0.5)
    subject = do.add_mesh(scene, coloured(ball(0.3, (0, 0.5, 0)), "Glaze", (0.1, 0.4, 0.4)), "Ball").id
    do.set_values(scene, subject, {"x": 0.4, "turn_y": 0.7})
    do.add_layer(scene, subject, "break", values={"count": 12})
    for kind, values in chain:
        layer = do.add_layer(scene, subject, kind, values=values)
        if kind in ("gather", "toss", "step", "shrink"):
            do.set_key(scene, layer.id, "strength", 4, 0.1)
            do.set_key(scene, layer.id, "strength", 16, 0.8)
    return scene, subject


@pytest.mark.parametrize("chain", CHAINS, ids=lambda c: "-".join(k for k, _ in c))
def test_pieces_stand_in_prints_where_any_order_of_layers_puts_them(store, tmp_path, chain):
    """Nodes and a texture, read back; a layer that moves pieces may stand above or below one that solves them."""
    scene, subject = in_a_chain(chain)
    for kind in ("piece_nodes", "piece_texture"):
        item = do.add_thing(scene, kind, values={"subject": subject, "tolerance": 1e-5})
        result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
        assert result.passed and result.gap < 2e-5, (kind, result.words())


def test_bodies_go_as_nodes_for_any_number_of_frames(store, tmp_path):
    """Live bodies are transforms in both files: no morph targets in the GLB, no points over time in the stage."""
    import pygltflib as gl
    from pxr import Usd, UsdGeom

    scene = pier(430, ground=0.5)
    crate = body(scene, box((0.3, 0.2, 0.25), (0.0, 0.6, 0)), "Crate", spin_z=3.0)
    ball_ = body(scene, ball(0.1, (0.05, 1.4, 0)), "Ball")
    rider = do.add_mesh(scene, box((0.1, 0.1, 0.1), (0, 0, 0)), "Rider").id
    do.set_values(scene, rider, {"x": 2.0})
    do.set_key(scene, rider, "y", 1, 0.0)
    do.set_key(scene, rider, "y", 430, 1.0)
    evaluator = Evaluator(scene.doc, scene, store)
    for kind in ("shot_glb", "shot"):
        item = do.add_thing(scene, kind, values={"subject": crate, "tolerance": 1e-5})
        evaluator = Evaluator(scene.doc, scene, store)
        assert estimate(scene, scene.doc, item).trouble == ""
        result = run(scene, evaluator, item, tmp_path)
        assert result.passed and result.gap < 2e-5, result.words()
        if kind == "shot_glb":
            document = gl.GLTF2.load(str(result.paths[0]))
            assert all(not p.targets for m in document.meshes for p in m.primitives)
        else:
            stage = Usd.Stage.Open(str(result.paths[0]))
            meshes = [UsdGeom.Mesh(p) for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)]
            assert len(meshes) == 3 and all(m.GetPointsAttr().GetNumTimeSamples() <= 1 for m in meshes)
    assert ball_
    do.add_layer(scene, rider, "wave")
    item = next(t for t in scene.doc.prints if t.kind == "shot_glb")
    assert "morph targets of Rider" in estimate(scene, scene.doc, item).trouble
