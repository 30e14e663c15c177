"""Assets made by others: each comes in, sways, goes out in both formats, and is read back by usd-core, trimesh and the
standards' own validators. See samples/README.md."""

from pathlib import Path

import numpy as np
import pytest
import trimesh
from pxr import Gf, Usd, UsdGeom, UsdShade, UsdSkel

from estampa import edits as do
from estampa.edits.importing import bring_in
from estampa.evaluate.evaluator import Evaluator
from estampa.formats.asset import read_asset
from estampa.press.run import run
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from tests.formats.test_assets import compliant
from tests.formats.test_skeletons import validated

SAMPLES = sorted(p for p in (Path(__file__).parent / "samples").iterdir() if p.suffix in (".usda", ".glb"))


def meshes(stage):
    """Name -> prim of every mesh."""
    return {p.GetName(): p for p in stage.Traverse() if p.IsA(UsdGeom.Mesh)}


def at_corners(prim, names):
    """(corners, k) of the first of these primvars that a mesh has, flattened and spread by usd-core's interpolation."""
    api, mesh = UsdGeom.PrimvarsAPI(prim), UsdGeom.Mesh(prim)
    indices = np.array(mesh.GetFaceVertexIndicesAttr().Get())
    primvar = next((api.GetPrimvar(n) for n in names if api.HasPrimvar(n)), None)
    values, how = (None, None)
    if primvar is not None:
        values, how = primvar.ComputeFlattened(), primvar.GetInterpolation()
    elif "normals" in names and mesh.GetNormalsAttr().Get() is not None:
        values, how = mesh.GetNormalsAttr().Get(), mesh.GetNormalsInterpolation()
    if values is None:
        return None
    values = np.array(values, float)
    if how == UsdGeom.Tokens.uniform:
        return np.repeat(values, np.array(mesh.GetFaceVertexCountsAttr().Get()), axis=0)
    return values[indices] if how in (UsdGeom.Tokens.vertex, UsdGeom.Tokens.varying) else values


def looks(prim):
    """Face -> name of its material, by usd-core."""
    found = {}
    bound = UsdShade.MaterialBindingAPI(prim).ComputeBoundMaterial()[0]
    for face in range(len(UsdGeom.Mesh(prim).GetFaceVertexCountsAttr().Get())):
        found[face] = bound.GetPath().name if bound else ""
    for subset in UsdGeom.Subset.GetGeomSubsets(UsdGeom.Mesh(prim), UsdGeom.Tokens.face):
        own = UsdShade.MaterialBindingAPI(subset.GetPrim()).ComputeBoundMaterial()[0]
        if own:
            found |= {int(face): own.GetPath().name for face in subset.GetIndicesAttr().Get()}
    return found


@pytest.mark.parametrize("path", SAMPLES, ids=lambda p: p.stem)
def test_a_sample_comes_in_as_its_own_library_has_it(path):
    asset = read_asset(path)
    scene = Scene(Document(frame_rate=24, start=1, end=8))
    found = bring_in(scene, asset)
    nodes = [n for n in asset.nodes if n.mesh is not None]
    subjects = [t for t in found.things if t.kind == "subject"]
    assert len(nodes) == len(subjects) > 0
    evaluator = Evaluator(scene.doc, scene, None)
    if path.suffix == ".glb":
        ours = np.concatenate([evaluator.subject(scene.doc.find(t.id), 1).points for t in subjects])
        theirs = trimesh.load(path, force="mesh")
        if not any(n.skin for n in nodes):  # which trimesh does not follow
            ends = np.stack([ours.min(axis=0), ours.max(axis=0)])
            assert ends == pytest.approx(theirs.bounds, abs=1e-6)
        count = sum(len(n.mesh.face_counts) for n in nodes)
        assert count == len(theirs.faces)
        return
    stage = Usd.Stage.Open(Usd.Stage.Open(str(path)).Flatten())
    rate = stage.GetTimeCodesPerSecond()
    codes = [(asset.span[0] * rate if asset.clips else 0) + f * rate / 24 for f in (0, 3, 7)]
    for prim in [p for p in stage.Traverse() if p.IsA(UsdSkel.Root)]:
        UsdSkel.BakeSkinning(UsdSkel.Root(prim), Gf.Interval(codes[0], codes[-1] if asset.clips else codes[0]))
    prims = meshes(stage)
    turn = np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]]) if asset.up == "z" else np.eye(3)
    for frame, code in zip((1, 4, 8), codes, strict=True):
        time = Usd.TimeCode(code) if asset.clips else Usd.TimeCode.EarliestTime()
        for node, subject in zip(nodes, subjects, strict=True):
            prim = prims[node.name]
            own = np.array(UsdGeom.Mesh(prim).GetPointsAttr().Get(time), float)
            world = np.array(UsdGeom.XformCache(time).GetLocalToWorldTransform(prim))
            wanted = asset.unit * (np.c_[own, np.ones(len(own))] @ world)[:, :3] @ turn.T
            points = evaluator.subject(scene.doc.find(subject.id), frame).points
            assert np.abs(points - wanted).max() < 6e-4, (node.name, frame)


@pytest.mark.parametrize("path", SAMPLES, ids=lambda p: p.stem)
def test_a_sample_sways_and_goes_out_with_nothing_missing(path, tmp_path, store):
    asset = read_asset(path)
    scene = Scene(Document(frame_rate=24, start=1, end=8))
    found = bring_in(scene, asset)
    for thing in [t for t in found.things if t.kind == "subject"]:
        layer = do.add_layer(scene, thing.id, "noise", values={"height": 0.01})
        do.move_layer(scene, layer.id, 0)
    printed = {}
    for kind in ("shot", "shot_glb"):
        item = do.add_thing(scene, kind, kind)
        result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
        assert result.passed and result.gap < 2e-6, result.words()
        printed[kind] = result.paths[0]
    told = validated(printed["shot_glb"])
    assert told["numErrors"] == told["numWarnings"] == 0, told["messages"]
    stage = compliant(printed["shot"])
    again = read_asset(printed["shot_glb"])
    nodes = [n for n in asset.nodes if n.mesh is not None]
    counts = lambda asset: sorted(sum(c - 2 for c in n.mesh.face_counts) for n in asset.nodes if n.mesh is not None)
    assert counts(again) == counts(asset), "every triangle, in as many meshes"
    pictures = lambda asset: {m.picture.data for n in asset.nodes if n.mesh is not None for m in n.mesh.materials
                              if m.picture is not None}  # fmt: skip
    assert pictures(again) == pictures(asset) == pictures(read_asset(printed["shot"]))
    if path.suffix == ".glb":
        return
    given = Usd.Stage.Open(str(path))
    source, out = meshes(given), {}
    for prim in [p for p in stage.Traverse() if p.GetName() == "Shape"]:
        out[prim.GetParent().GetDisplayName() or prim.GetParent().GetName()] = prim
    for node in nodes:
        prim = next(p for name, p in out.items() if name.split(" ")[0] == node.name)
        before, after = UsdGeom.Mesh(source[node.name]), UsdGeom.Mesh(prim)
        assert np.array_equal(before.GetFaceVertexCountsAttr().Get(), after.GetFaceVertexCountsAttr().Get())
        ends = np.cumsum(before.GetFaceVertexCountsAttr().Get())[:-1]
        of = lambda mesh: [f.tolist() for f in np.split(np.array(mesh.GetFaceVertexIndicesAttr().Get()), ends)]  # noqa: B023
        left = before.GetOrientationAttr().Get() == UsdGeom.Tokens.leftHanded
        assert of(after) == [f[::-1] if left else f for f in of(before)], "which way round a face is seen stays"
        for names in (("st", "UVMap", "uv"), ("normals",)):
            wanted, got = at_corners(source[node.name], names), at_corners(prim, names)
            assert (wanted is None) == (got is None), names
            if wanted is not None and names != ("normals",):
                assert got == pytest.approx(wanted, abs=1e-6), names
        wanted, got = looks(source[node.name]), looks(prim)
        assert wanted.keys() == got.keys()
        assert all(w in g for w, g in zip(wanted.values(), got.values(), strict=True)), "the material of every face"
