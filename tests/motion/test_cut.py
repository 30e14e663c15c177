"""Cutting into pieces: nothing moves, nothing is lost, and each piece can be a body."""

import numpy as np
import pytest

from estampa import edits as do
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.mesh import Mesh
from estampa.geometry.pieces import Pieces
from estampa.geometry.primitives import sheet
from tests.solve.test_bodies import pier


def quilt() -> Mesh:
    """A sheet whose faces have three materials, in stripes; the first one comes twice, apart."""
    plain = sheet(4, 1, 9, 3)
    stripe = np.array([0, 1, 2, 0])[np.arange(16) % 8 // 2]
    materials = [("Red", (0.7, 0.2, 0.1)), ("Blue", (0.1, 0.2, 0.7)), ("Sand", (0.8, 0.7, 0.5))]
    return Mesh(plain.points, plain.face_counts, plain.face_indices, plain.uv, materials, stripe)


@pytest.mark.parametrize(("loose", "count"), [(True, 4), (False, 3)])
def test_a_cut_by_material_keeps_every_point_face_and_coordinate(store, loose, count):
    scene = pier(4)
    mesh = quilt()
    subject = do.add_mesh(scene, mesh, "Quilt")
    do.add_layer(scene, subject.id, "cut", values={"loose": loose})
    evaluator = Evaluator(scene.doc, scene, store)
    subject = scene.doc.find(subject.id)
    made, points = evaluator.mesh(subject), evaluator.subject(subject, 1).points
    corners = lambda m, p: p[m.face_indices]
    assert np.array_equal(corners(made, points), corners(mesh, mesh.points)), "no face has moved"
    assert np.array_equal(made.uv[made.face_indices], mesh.uv[mesh.face_indices])
    assert np.array_equal(made.face_materials, mesh.face_materials)
    pieces = Pieces.each(made)
    assert pieces.count == count
    for face, of in zip(
        np.split(made.face_indices, np.cumsum(made.face_counts)[:-1]), made.face_materials, strict=True
    ):
        piece = np.unique(pieces.of_vertex[face])
        assert len(piece) == 1, "no face has corners in two pieces"
        assert set(
            made.face_materials[
                [
                    pieces.of_vertex[f[0]] == piece[0]
                    for f in np.split(made.face_indices, np.cumsum(made.face_counts)[:-1])
                ]
            ]
        ) == {of}


def test_pieces_that_are_cut_fall_apart_as_bodies_and_a_map_parts_too(store):
    scene = pier(12)
    subject = do.add_mesh(scene, quilt(), "Quilt")
    x = quilt().points[:, 0]
    half = do.add_map(scene, subject.id, (x > x.mean() - 1e-6).astype(np.float32), "Right half")
    do.add_layer(scene, subject.id, "cut", values={"by": "map", "map": half.id})
    do.add_layer(scene, subject.id, "body", values={"each": "pieces", "mass": 0.1})
    do.add_thing(scene, "collider", values={"shape": "box", "x": float(x.max()), "y": -0.4, "wide": 0.3, "deep": 3.0})
    evaluator = Evaluator(scene.doc, scene, store)
    evaluator.solve_through(12)
    subject = scene.doc.find(subject.id)
    found = evaluator.subject(subject, 12).points
    pieces = Pieces.each(evaluator.mesh(subject))
    assert pieces.count == 2
    heights = [found[own, 1].mean() for own in pieces.vertices]
    assert abs(heights[0] - heights[1]) > 0.02, "one half rests on something, the other falls"
    for own in pieces.vertices:  # each keeps its shape
        rest = evaluator.mesh(subject).points[own]
        far = lambda p: np.linalg.norm(p[:, None] - p[None], axis=2)
        assert np.abs(far(found[own]) - far(rest)).max() < 1e-5
    do.set_value(scene, subject.stack[0].id, "map", None)
    with pytest.raises(EstampaError, match="Cut into pieces on Quilt.*no weight map"):
        Evaluator(scene.doc, scene, store).mesh(scene.doc.find(subject.id))
