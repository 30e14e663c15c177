"""Prints of swarms, read back by number with the standards' own libraries."""

import json

import numpy as np
import pytest
from pxr import Usd, UsdGeom, UsdValidation

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.evaluate import outcome
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import box, coloured, sheet
from estampa.press.run import estimate, run
from estampa.scene.document import Document
from estampa.scene.ids import ids_of
from estampa.scene.scene import Scene


@pytest.fixture(autouse=True)
def same_ids():
    """Numbers of grains come from their sources' ids: the same ones at every run, so that no test is a lottery."""
    with ids_of("prints of swarms"):
        yield


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
            assert np.allclose([speed[i] for i in part.ids], part.velocity, atol=1e-6)
        assert UsdGeom.PrimvarsAPI(prim).GetPrimvar("displayColor").Get(9)
    if kind == "swarm_table":
        about = json.loads((tmp_path / "Out.json").read_text())
        assert about["unit"] == "metre" and about["meshes"][0] | {"texture": None} == {
            "number": 0, "of": "Member", "vertices": 8, "frames_of_cycle": 3, "texture": None,
        }  # fmt: skip


def test_a_print_goes_stale_with_its_dress_and_one_without_a_swarm_says_what_to_do(store, tmp_path):
    from estampa.press.run import signature

    scene, swarm = school()
    item = do.add_thing(scene, "swarm_usd", "Out")
    before = signature(Evaluator(scene.doc, scene, store), item)
    do.set_value(scene, scene.doc.find(swarm).stack[-1].id, "largest", 3.0)
    assert signature(Evaluator(scene.doc, scene, store), item) != before
    do.remove(scene, swarm)
    assert "no swarm" in estimate(scene, scene.doc, item).trouble


def test_a_swarm_by_formula_is_a_table_of_parameters_that_gives_every_frame(store, tmp_path):
    scene, swarm = school(size_by="number", size_to=40.0, spins=1.0, rate_varies=0.3)
    for layer in scene.doc.find(swarm).stack:
        if layer.kind == "emit":
            do.remove(scene, layer.id)
    do.set_values(scene, swarm, {"by": "formula", "period": 0.5})
    grip = do.add_thing(scene, "grip", values={"x": 0.3, "turn_z": 0.4})
    for kind, values in (("grain_rain", {"height": 2.0}), ("grain_sway", {}), ("grain_circle", {"grip": grip.id})):
        do.add_layer(scene, swarm, kind, values=values)
    path = do.add_thing(scene, "path", values={"y": 0.4, "turn_y": 0.5})
    do.set_spots(scene, path.id, [[-1, 0, 0], [0, 0.5, 0.6], [1.2, 0, 0]], "Points")
    do.add_layer(scene, swarm, "grain_ride", values={"path": path.id, "tube": 0.2, "strength": 0.7})
    item = do.add_thing(scene, "swarm_table", "Out", {"form": "formula"})
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path)
    assert result.passed and result.gap < 2e-5, result.words()
    told = json.loads((tmp_path / "Out.json").read_text())
    rows = (tmp_path / "Out.csv").read_text().splitlines()
    assert len(rows) == 41 and len(told["program"]) == 1 + 3 + 8 + 14, "one row a grain, whatever the frames"
    # which of its cycle it shows, by the words of the file
    names = rows[0].split(",")
    table = {n: np.array([float(r.split(",")[k]) for r in rows[1:]]) for k, n in enumerate(names)}
    seconds = 8 / 24
    wanted = np.floor(table["rate"] * seconds * 24 + table["phase"]) % table["frames_of_cycle"]
    assert np.array_equal(wanted, outcome.of(evaluator, scene.doc.find(swarm), 9).parts[0].shape)
    do.set_key(scene, scene.doc.find(swarm).stack[-1].id, "strength", 3, 0.5)
    do.set_key(scene, scene.doc.find(swarm).stack[-1].id, "strength", 9, 0.1)
    with pytest.raises(EstampaError, match="keyed or moves"):
        run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)


def test_grains_show_a_printed_vertex_texture_by_its_formula_on_the_card_too(store, tmp_path):
    import moderngl

    from estampa.app.model.grains import ROW, look_at_swarm
    from estampa.app.view.grains import INSTANCE, NAMES, VERTEX, _OnCard

    scene, swarm = school(colours="")
    member = scene.doc.subjects[0]
    bend = do.add_layer(scene, member.id, "bend", grip={}, values={"low": 0.0, "high": 0.05})
    do.set_formula(scene, bend.id, "angle", "50 * sin(2 * pi * frame / 6)")
    item = do.add_thing(scene, "vertex_texture", "Member", {"last": 6})
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path)
    show = scene.doc.find(swarm).stack[-1].id
    do.set_values(scene, show, {"cycle": 6})
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(9)
    live = outcome.of(evaluator, scene.doc.find(swarm), 9).parts[0]
    do.set_values(scene, show, {"texture": str(result.paths[-1])})
    evaluator = Evaluator(scene.doc, scene, store)
    part = outcome.of(evaluator, scene.doc.find(swarm), 9).parts[0]
    assert len(part.points) == 6 and np.array_equal(part.shape, live.shape)
    assert part.points == pytest.approx(live.points, abs=0.06 / 1024), "half floats of offsets up to 6 cm"
    # the same on the card: each grain's vertices, read back, against NumPy
    layer = look_at_swarm(evaluator, scene.doc.find(swarm), 9).layers[0]
    assert ROW.itemsize <= 40
    context = moderngl.create_context(standalone=True, backend="egl")
    program = context.program(vertex_shader=VERTEX, varyings=["v_place", "v_normal", "v_tint"])
    card = _OnCard(context, program, None, layer.cycle)
    rows = context.buffer(layer.rows.tobytes())
    own = [(b, k, n) for b, k, n in zip(card.own, ("3f", "2f", "3f"), ("place", "lookup", "tint"), strict=True)]
    array = context.vertex_array(program, [*own, (rows, f"{INSTANCE}/i", *NAMES)])
    context.simple_framebuffer((1, 1)).use()
    card.offsets.use(0)
    card.normals.use(1)
    program["offsets"].value, program["directions"].value, program["rows_per_frame"].value = 0, 1, layer.cycle.rows
    n, k = len(layer.cycle.rest), len(layer.rows)
    out = context.buffer(reserve=36 * n * k)
    array.transform(out, mode=moderngl.POINTS, vertices=n, instances=k)
    seen = np.frombuffer(out.read(), np.float32).reshape(k, n, 9)[:, : part.points.shape[1], :3]
    wanted = part.places.apply(part.points[part.shape])
    assert seen == pytest.approx(wanted, abs=1e-4), "turns of 16 bits, offsets of half floats"
    context.release()
    # one of another mesh is refused, with both numbers
    other = do.add_mesh(scene, box([-1, 0, 0], [1, 1, 1]), "Other")
    do.add_layer(scene, other.id, "refine")
    do.set_value(scene, show, "subject", other.id)
    with pytest.raises(EstampaError, match="another mesh"):
        outcome.of(Evaluator(scene.doc, scene, store), scene.doc.find(swarm), 9)


def test_a_lookup_goes_into_the_coordinate_set_that_is_asked_for(store, tmp_path):
    import pygltflib

    scene = Scene(Document(start=1, end=4))
    flat = sheet(1, 1, 4, 4)
    mesh = Mesh(flat.points, flat.face_counts, flat.face_indices, uv=flat.points[:, ::2].astype(np.float32))
    flag = do.add_mesh(scene, mesh, "Flag")
    do.add_layer(scene, flag.id, "wave", grip={})
    item = do.add_thing(scene, "vertex_texture", "Out", {"lookup_set": 5})
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    attributes = pygltflib.GLTF2().load(str(tmp_path / "Out.glb")).meshes[0].primitives[0].attributes
    sets = [n for n in vars(attributes) if n.startswith("TEXCOORD_") and getattr(attributes, n) is not None]
    assert result.passed and sorted(sets) == [f"TEXCOORD_{k}" for k in range(5)]
    assert json.loads((tmp_path / "Out.json").read_text())["lookup"] == "TEXCOORD_4"
    do.set_value(scene, item.id, "lookup_set", 1)
    with pytest.raises(EstampaError, match="has its own coordinates"):
        run(scene, Evaluator(scene.doc, scene, store), scene.doc.find(item.id), tmp_path)


def test_a_swarm_of_few_is_one_mesh_over_time_and_one_that_comes_and_goes_is_refused(store, tmp_path):
    scene, swarm = school(colours="")
    item = do.add_thing(scene, "swarm_cache", "Out")
    with pytest.raises(EstampaError, match="come and go"):
        run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    for layer in scene.doc.find(swarm).stack:
        if layer.kind == "emit":
            do.remove(scene, layer.id)
        elif layer.kind == "sow":
            do.set_value(scene, layer.id, "life", 0.0)
    evaluator = Evaluator(scene.doc, scene, store)
    result = run(scene, evaluator, item, tmp_path)
    assert result.passed, result.words()
    stage = Usd.Stage.Open(str(result.paths[0]))
    mesh = UsdGeom.Mesh(next(p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)))
    part = outcome.of(evaluator, scene.doc.find(swarm), 7).parts[0]
    assert np.array(mesh.GetPointsAttr().Get(7)) == pytest.approx(part.in_world(), abs=1e-6)
    assert len(mesh.GetFaceVertexCountsAttr().Get()) == 40 * len(part.mesh.face_counts)
