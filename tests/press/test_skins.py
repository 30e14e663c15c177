"""Prints of a liquid's skin, read back with the standards' own libraries; and played by the rehearsal."""

import numpy as np
import pytest
import trimesh
from pxr import Usd, UsdGeom, UsdValidation

from estampa import edits as do
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.press.run import estimate, run
from estampa.rehearsal.stage import opened
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def drop():
    """Two drops that meet, of two colours."""
    scene = Scene(Document(start=1, end=5))
    made = do.add_thing(scene, "liquid", "Drops", {"spacing": 0.03, "tension": 0.5}).id
    for x, speed, colour in ((-0.1, 2.0, "#c04020"), (0.1, -2.0, "#2040c0")):
        grip = do.add_thing(scene, "grip", values={"x": x})
        box = {"wide": 0.15, "tall": 0.15, "deep": 0.15, "speed_x": speed, "colour": colour}
        do.add_layer(scene, made, "fill", values={"where": "box", "around": grip.id} | box)
    do.add_layer(scene, made, "grain_skin")
    return scene, made


@pytest.mark.parametrize(("kind", "values"), [
    ("skin_usd", {}), ("skin_sequence", {"form": "ply"}), ("skin_sequence", {"form": "obj"}),
    ("skin_sequence", {"form": "glb"}),
])  # fmt: skip
def test_a_skin_is_printed_with_its_topology_over_time(store, tmp_path, kind, values):
    scene, made = drop()
    item = do.add_thing(scene, kind, "Out", values)
    evaluator = Evaluator(scene.doc, scene, store)
    told = estimate(scene, scene.doc, item)
    result = run(scene, evaluator, item, tmp_path)
    assert result.passed and result.gap < 2e-6, result.words()
    assert 0.2 < result.bytes / told.bytes < 5
    parts = {f: outcome.of(evaluator, scene.doc.find(made), f).parts[0] for f in (1, 5)}
    assert len(parts[1].points) != len(parts[5].points), "its topology changes"
    if kind == "skin_usd":
        stage = Usd.Stage.Open(str(result.paths[0]))
        mesh = UsdGeom.Mesh(next(p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)))
        context = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators())
        assert not [e.GetMessage() for e in context.Validate(stage)]
        for frame, part in parts.items():
            assert np.array(mesh.GetVelocitiesAttr().Get(frame)) == pytest.approx(part.speed, abs=1e-5)
            assert np.array(mesh.GetDisplayColorAttr().Get(frame)) == pytest.approx(part.inks, abs=1e-6)
        actor = opened(result.paths[0])
        assert actor.points(actor.clips[0], 4 / 24) == pytest.approx(parts[5].points, abs=1e-6)
    else:
        mesh = trimesh.load(result.paths[0], process=False, force="mesh")
        assert mesh.is_watertight and mesh.volume == pytest.approx(2 * 0.15**3, rel=0.12)
        assert len(result.paths) == 5


def test_a_liquid_without_a_skin_says_what_is_missing(store):
    scene, made = drop()
    do.remove(scene, scene.doc.find(made).stack[-1].id)
    item = do.add_thing(scene, "skin_usd", "Out")
    assert "Add the layer Skin" in estimate(scene, scene.doc, item).trouble


@pytest.mark.parametrize("kind", ["swarm_points", "swarm_usd", "swarm_cache"])
def test_the_grains_of_a_liquid_with_a_skin_are_printed_too(store, tmp_path, kind):
    scene, made = drop()
    item = do.add_thing(scene, kind, "Out")
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path)
    assert result.passed, result.words()
    stage = Usd.Stage.Open(str(result.paths[0]))
    if kind == "swarm_points":
        points = UsdGeom.Points(next(p for p in stage.Traverse() if p.IsA(UsdGeom.Points)))
        ids, grains = points.GetIdsAttr().Get(5), evaluator.dressing.grains(scene.doc.find(made), 5)[0]
        assert sorted(ids) == sorted(grains["ids"]) and len(ids) == 250
