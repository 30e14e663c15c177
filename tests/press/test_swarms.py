"""Prints of swarms, read back by number with the standards' own libraries."""

import json

import numpy as np
import pytest
from pxr import Usd, UsdGeom, UsdValidation

from estampa import edits as do
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import box, coloured
from estampa.press.run import estimate, run
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def school(**show):
    """Grains that come and go, shown as a box in a cycle of three frames."""
    scene = Scene(Document(start=1, end=12))
    member = do.add_mesh(
        scene, coloured(box([-0.02, -0.01, -0.04], [0.02, 0.01, 0.04]), "Paper", (0.8, 0.7, 0.5)), "Member"
    )
    bend = do.add_layer(scene, member.id, "offset")
    do.set_formula(scene, bend.id, "y", "0.005 * frame")
    swarm = do.add_thing(scene, "swarm", "School")
    do.add_layer(scene, swarm.id, "sow", values={"count": 40, "scatter": 1.0, "life": 0.3, "life_varies": 0.5})
    do.add_layer(scene, swarm.id, "emit", values={"rate": 200.0, "outward": 1.0})
    values = {"subject": member.id, "cycle": 3, "colours": "#c04020, #20a040"} | show
    do.add_layer(scene, swarm.id, "grain_show", values=values)
    return scene, swarm.id


@pytest.mark.parametrize(
    ("kind", "values"),
    [
        ("swarm_usd", {}),
        ("swarm_points", {}),
        ("swarm_table", {"form": "csv"}),
        ("swarm_table", {"form": "exr"}),
        ("swarm_glb", {"at": 9}),
    ],
)
def test_a_print_of_a_swarm_holds_every_grain_by_its_number(store, tmp_path, kind, values):
    scene, swarm = school()
    item = do.add_thing(scene, kind, "Out", values)
    evaluator = Evaluator(scene.doc, scene, store)
    told = estimate(scene, scene.doc, item)
    result = run(scene, evaluator, item, tmp_path)
    assert result.passed and result.gap < 2e-6, result.words()
    assert result.of == "grain" and 0.2 < result.bytes / told.bytes < 3
    if kind == "swarm_usd":
        stage = Usd.Stage.Open(str(result.paths[0]))
        prim = next(p for p in stage.Traverse() if p.IsA(UsdGeom.PointInstancer))
        made = UsdGeom.PointInstancer(prim)
        assert len(made.GetPrototypesRel().GetTargets()) == 3, "a prototype for each frame of the cycle"
        context = UsdValidation.ValidationContext(UsdValidation.ValidationRegistry().GetOrLoadAllValidators())
        assert not [e.GetMessage() for e in context.Validate(stage)]
        parts = outcome.of(evaluator, scene.doc.find(swarm), 9).parts
        ids = np.concatenate([p.ids for p in parts])
        assert sorted(ids) == sorted(made.GetIdsAttr().Get(9))
        speed = dict(zip(np.array(made.GetIdsAttr().Get(9)), np.array(made.GetVelocitiesAttr().Get(9)), strict=True))
        for part in parts:
            assert np.allclose([speed[i] for i in part.ids], part.speed, atol=1e-6)
        assert UsdGeom.PrimvarsAPI(prim).GetPrimvar("displayColor").Get(9)
    if kind == "swarm_table":
        about = json.loads((tmp_path / "Out.json").read_text())
        assert about["unit"] == "metre" and len(about["shapes"]) == 3


def test_a_print_goes_stale_with_its_dress_and_one_without_a_swarm_says_what_to_do(store, tmp_path):
    from estampa.press.run import signature

    scene, swarm = school()
    item = do.add_thing(scene, "swarm_usd", "Out")
    before = signature(Evaluator(scene.doc, scene, store), item)
    do.set_value(scene, scene.doc.find(swarm).stack[-1].id, "largest", 3.0)
    assert signature(Evaluator(scene.doc, scene, store), item) != before
    do.remove(scene, swarm)
    assert "no swarm" in estimate(scene, scene.doc, item).trouble
