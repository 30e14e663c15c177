"""Texture coordinates with seams: from an OBJ through refine, thicken and cuts into every print that can hold them."""

import numpy as np
import pygltflib as gl
import pytest
from pxr import Usd, UsdGeom

from estampa import edits as do
from estampa import open_scene, save_scene
from estampa.evaluate.evaluator import Evaluator
from estampa.formats import glb
from estampa.formats.meshfile import read_mesh
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import joined
from estampa.press.run import run
from estampa.scene.document import Document
from estampa.scene.scene import Scene

# a cube whose six sides each take the whole of the picture, so that every edge is a seam
CUBE = """
mtllib none.mtl
v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nv 0 0 1\nv 1 0 1\nv 1 1 1\nv 0 1 1
vt 0 0\nvt 1 0\nvt 1 1\nvt 0 1
f 1/1 4/2 3/3 2/4
f 5/1 6/2 7/3 8/4
f 1/1 2/2 6/3 5/4
f 4/1 8/2 7/3 3/4
f 1/1 5/2 8/3 4/4
f 2/1 3/2 7/3 6/4
"""


@pytest.fixture
def cube(tmp_path) -> Mesh:
    path = tmp_path / "cube.obj"
    path.write_text(CUBE)
    return read_mesh(path)


def pairs(points, uv) -> set:
    """(place, texture coordinate) of every corner, however vertices are shared."""
    rows = np.round(np.concatenate([np.asarray(points, float), np.asarray(uv, float)], axis=1), 4) + 0.0
    return set(map(tuple, rows.tolist()))


def of_mesh(mesh, points=None) -> set:
    points = mesh.points if points is None else points
    return pairs(points[mesh.triangles.ravel()], mesh.triangle_uv.reshape(-1, 2))


def test_a_mesh_with_seams_keeps_its_points_whole_and_its_coordinates_by_corner(cube, tmp_path):
    assert cube.count == 8 and cube.uv is None and cube.corners["uv"].shape == (24, 2)
    assert len(of_mesh(cube)) == 20, "of the 24 corners of sides four times two share place and coordinates"
    parted, origin = cube.parted()
    assert (
        parted.count == 20 and np.array_equal(parted.points, cube.points[origin]) and of_mesh(parted) == of_mesh(cube)
    )
    # points that a file holds apart only for their coordinates are welded, and the seam stays
    welded = Mesh(parted.points, parted.face_counts, parted.face_indices, parted.uv).welded()
    assert welded.count == 8 and of_mesh(welded) == of_mesh(cube)
    scene = Scene()
    do.add_mesh(scene, joined([cube, cube.with_points(cube.points + 3)]), "Cubes")
    opened = open_scene(save_scene(scene, tmp_path / "cubes.estampa"))
    assert len(of_mesh(opened.mesh(opened.doc.subjects[0].mesh))) == 40


@pytest.mark.parametrize("scheme", ["clark", "loop"])
def test_refining_keeps_each_sides_coordinates_straight(cube, store, scheme):
    """Each side is still the whole picture: its coordinates run from 0 to 1, and cover an area of one."""
    scene = Scene(Document(start=1, end=2))
    subject = do.add_mesh(scene, cube, "Cube")
    kind = do.add_layer(scene, subject.id, "refine").declared
    words = [w for w, _ in kind.channels["scheme"].choices]
    word = next(w for w in words if scheme in w)
    do.set_values(scene, scene.doc.find(subject.id).stack[0].id, {"scheme": word, "levels": 2})
    made = Evaluator(scene.doc, scene, store).mesh(scene.doc.find(subject.id))
    uv = made.triangle_uv.astype(float)
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    assert np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]).sum() / 2 == pytest.approx(6.0, abs=1e-5)
    assert uv.min() == 0 and uv.max() == 1


def test_thickening_and_cutting_keep_them_too(cube, store):
    scene = Scene(Document(start=1, end=2))
    opened = Mesh(cube.points, cube.face_counts[1:], cube.face_indices[4:], corners={"uv": cube.corners["uv"][4:]})
    subject = do.add_mesh(scene, opened, "Box")
    do.add_layer(scene, subject.id, "thicken", values={"thickness": 0.1})
    do.add_layer(scene, subject.id, "cut")
    made = Evaluator(scene.doc, scene, store).mesh(scene.doc.find(subject.id))
    outer = made.triangle_uv[: len(opened.triangles)]
    assert np.array_equal(outer, opened.triangle_uv)
    inner = made.triangle_uv[len(opened.triangles) : 2 * len(opened.triangles)]
    assert {tuple(x) for x in inner.reshape(-1, 2).tolist()} == {(0, 0), (1, 0), (1, 1), (0, 1)}


KINDS = ("vertex_cache", "vertex_texture", "pose_strip", "piece_nodes", "piece_usd", "piece_skin", "piece_texture")


@pytest.mark.parametrize("kind", KINDS)
def test_prints_hold_the_seams_and_match(cube, store, tmp_path, kind):
    scene = Scene(Document(start=1, end=6))
    subject = do.add_mesh(scene, joined([cube, cube.with_points(cube.points + [3, 0, 0])]), "Cubes")
    do.add_layer(scene, subject.id, "body", values={"each": "pieces", "spin_x": 2.0})
    do.add_thing(scene, "gravity")
    item = do.add_thing(scene, kind, values={"subject": subject.id} | ({"poses": 3} if kind == "pose_strip" else {}))
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    assert result.passed and result.gap < 2e-3
    wanted = {uv for *_, a, b in of_mesh(scene.mesh(scene.doc.subjects[0].mesh)) for uv in [(a, b)]}
    path = next(p for p in result.paths if p.suffix in (".usdc", ".glb"))
    found, corners = set(), 0
    if path.suffix == ".usdc":
        stage = Usd.Stage.Open(str(path))
        for prim in stage.Traverse():
            if prim.IsA(UsdGeom.Mesh):
                st = UsdGeom.PrimvarsAPI(prim).GetPrimvar("st")
                assert st.GetInterpolation() == UsdGeom.Tokens.faceVarying
                values = np.array(st.Get())
                corners += len(values)
                assert len(values) == len(UsdGeom.Mesh(prim).GetFaceVertexIndicesAttr().Get())
                found |= {tuple(x) for x in values.round(4).tolist()}
        assert corners in (48, 72)
    else:
        document = gl.GLTF2.load(str(path))
        for mesh in document.meshes:
            accessor = mesh.primitives[0].attributes.TEXCOORD_0
            values = glb.rows(document, document.binary_blob(), accessor)
            corners += len(values)
            found |= {tuple(x) for x in values.round(4).tolist()}
        assert corners % 40 == 0, "points are parted where the seams are, and nowhere else"
    assert found == wanted
