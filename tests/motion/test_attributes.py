"""What vertices, corners and faces have goes along with whatever makes other vertices, corners and faces of them: each
new place has what the old surface had there, told by values that are a plain function of the place."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.evaluate.evaluator import Evaluator
from estampa.formats.asset import read_asset
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import box, joined, sheet
from estampa.press.run import run
from estampa.scene.document import Document
from estampa.scene.file import load_scene, save_scene
from estampa.scene.scene import Scene

SLOPES = np.array([[0.3, 0.1, -0.2], [0.0, 0.5, 0.4], [-0.6, 0.2, 0.1], [0.2, 0.2, 0.2]])


def told(points):
    """(n, 4) of a colour with its opacity."""
    return points @ SLOPES.T + 0.5


def marked(mesh: Mesh) -> Mesh:
    """A mesh with a set of each domain: vertices have a colour, corners a second set of texture coordinates and a
    number of a name of its own, faces theirs."""
    at = mesh.points[mesh.face_indices]
    corners = {"uv1": told(at)[:, :2], "moisture": told(at)[:, 2:3]}
    owner = np.repeat(np.arange(len(mesh.face_counts)), mesh.face_counts)
    middle = np.stack([np.bincount(owner, at[:, k]) for k in range(3)], axis=1) / mesh.face_counts[:, None]
    return Mesh(mesh.points, mesh.face_counts, mesh.face_indices, mesh.uv, corners=corners,
                vertices={"colour": told(mesh.points)}, faces={"plot": middle})  # fmt: skip


@pytest.mark.parametrize("kind, values", [
    ("refine", {"scheme": "loop"}), ("refine", {"scheme": "clark", "levels": 2}), ("thicken", {"thickness": 0.0}),
    ("cut", {}), ("break", {"count": 6}),
])  # fmt: skip
def test_attributes_go_along_with_the_topology(tmp_path, store, kind, values):
    scene = Scene(Document())
    solid = kind == "break"
    mesh = box([0, 0, 0], [1, 1, 1]) if solid else sheet(1, 1, 5, 5)
    subject = do.add_mesh(scene, marked(mesh), "Plot")
    do.add_layer(scene, subject.id, kind, values=values)
    save_scene(scene, tmp_path / "plot.estampa")
    scene = load_scene(tmp_path / "plot.estampa")  # and kept in a file
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(scene.doc.start, lambda *a: None, lambda: False)
    made = evaluator.mesh(scene.doc.find(subject.id))
    assert len(made.face_counts) > len(mesh.face_counts) or kind == "cut"
    outside = np.ones(len(made.face_counts), bool)
    if solid:  # what was bared has none
        outside = made.face_materials != made.face_materials.max()
        assert outside.any() and not outside.all()
    at, mine = made.points[made.face_indices], np.repeat(outside, made.face_counts)
    if kind == "refine":  # which rounds the four corners of the sheet a little, and leaves there what they had
        mine &= (np.abs(at[:, [0, 2]] - 0.5) < 0.45).any(axis=1)
    assert made.of_corners("colour")[mine] == pytest.approx(told(at)[mine], abs=1e-5)
    assert made.of_corners("uv1")[mine] == pytest.approx(told(at)[mine, :2], abs=1e-5)
    assert made.of_corners("moisture")[mine] == pytest.approx(told(at)[mine, 2:3], abs=1e-5)
    owner = np.repeat(np.arange(len(made.face_counts)), made.face_counts)
    middle = np.stack([np.bincount(owner, at[:, k]) for k in range(3)], axis=1) / made.face_counts[:, None]
    far = np.abs(made.faces["plot"] - middle)[outside].max(axis=1)
    assert far.max() < (0.5 if solid else 0.125) + 1e-9, "the face that it was a part of"


def test_parts_keep_them_and_joined_ones_have_them_again():
    scene = Scene(Document())
    two = [marked(sheet(1, 1, 3, 3)), marked(sheet(1, 1, 3, 3).with_points(sheet(1, 1, 3, 3).points + [3, 0, 0]))]
    whole = joined(two)
    assert whole.vertices["colour"] == pytest.approx(told(whole.points)) and len(whole.faces["plot"]) == 8
    subject = do.add_mesh(scene, whole, "Plots")
    parts = do.split(scene, subject.id, "island")
    parts.sort(key=lambda part: scene.mesh(part.mesh).of_corners("colour")[:, 0].mean(), reverse=True)
    two.sort(key=lambda mesh: mesh.of_corners("colour")[:, 0].mean(), reverse=True)
    for part, mesh in zip(parts, two, strict=True):
        own = scene.mesh(part.mesh)
        for name in ("colour", "uv1", "moisture"):
            assert own.of_corners(name) == pytest.approx(mesh.of_corners(name), abs=1e-6)
        assert own.faces["plot"] == pytest.approx(mesh.faces["plot"], abs=1e-6)


@pytest.mark.parametrize("kind", ["vertex_cache", "pose_strip", "shot"])
def test_attributes_of_any_name_go_out_and_come_in_again(tmp_path, store, kind):
    scene = Scene(Document(start=1, end=3))
    mesh = marked(sheet(1, 1, 4, 4))
    subject = do.add_mesh(scene, mesh, "Plot")
    item = do.add_thing(scene, kind, "Out", {"subject": subject.id} | ({"poses": 1} if kind == "pose_strip" else {}))
    result = run(scene, Evaluator(scene.doc, scene, store), item, tmp_path)
    assert result.passed, result.words()
    again = next(n.mesh for n in read_asset(result.paths[0]).nodes if n.mesh is not None)
    assert again.count == mesh.count
    for name in ("colour", "uv1", "moisture"):
        wanted = mesh.of_corners(name)
        if kind == "pose_strip":  # triangles, so that corners are others
            wanted = wanted[mesh.triangle_corners.ravel()]
        assert again.of_corners(name) == pytest.approx(wanted, abs=1e-6), name
    if kind != "pose_strip":  # glTF has no attributes of faces
        assert again.faces["plot"] == pytest.approx(mesh.faces["plot"], abs=1e-6)
