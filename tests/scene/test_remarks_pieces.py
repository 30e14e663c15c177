"""Remarks on broken things and ragdolls: each is provoked, and gone when it is mended."""

import numpy as np
import trimesh
from scipy.spatial import ConvexHull

from estampa import edits as do
from estampa.geometry.crossing import crossings
from estampa.geometry.mesh import Mesh
from estampa.geometry.primitives import box, joined, sheet
from estampa.inspect.remarks.scene import remarks
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from tests.solve.test_limp import puppet


def said(scene, words):
    return [r for r in remarks(scene) if words in r.wrong]


def test_an_open_mesh_cannot_be_broken_until_it_has_an_inside():
    scene = Scene(Document(start=1, end=4))
    subject = do.add_mesh(scene, sheet(1, 1, 4, 4), "Pane")
    layer = do.add_layer(scene, subject.id, "break")
    assert said(scene, "is open")[0].severity == "error"
    thick = do.add_layer(scene, subject.id, "thicken")
    do.move_layer(scene, thick.id, 0)
    assert not said(scene, "is open")
    do.set_value(scene, layer.id, "count", 5000)
    assert said(scene, "5,000 cells")


def test_a_layer_of_pieces_wants_pieces_and_its_place_below_them():
    scene = Scene(Document(start=1, end=4))
    subject = do.add_mesh(scene, box([0, 0, 0], [1, 1, 1]), "Box")
    toss = do.add_layer(scene, subject.id, "toss")
    assert said(scene, "has one piece")
    do.add_layer(scene, subject.id, "break")
    assert said(scene, "stands above the layer that parts it")
    do.move_layer(scene, toss.id, 1)
    assert not said(scene, "stands above") and not said(scene, "has one piece")
    several = do.add_mesh(scene, joined([box([0, 0, 0], [1, 1, 1]), box([2, 0, 0], [3, 1, 1])]), "Two")
    do.add_layer(scene, several.id, "toss")
    assert not said(scene, "Two has one piece")


def test_a_ragdoll_is_weighed_against_a_body_of_its_volume_and_lacks_are_named():
    scene, skeleton, layer = puppet(4)
    assert not said(scene, "weighs") and not said(scene, "has no joint")
    do.set_value(scene, layer, "weight", 2.0)
    assert "flies off" in said(scene, "weighs")[0].causes
    do.set_value(scene, layer, "weight", 5000.0)
    assert "hardly answers" in said(scene, "weighs")[0].causes
    shin = next(j for j in scene.doc.find(skeleton).joints if j.name == "shin left")
    do.set_value(scene, shin.id, "part", "none")
    assert "one shin" in said(scene, "has no joint")[0].wrong
    assert np.isfinite(scene.values.bones(scene.doc.find(skeleton)).tips).all()


def test_a_mesh_that_goes_through_itself_is_told_before_it_is_cut():
    # independent count: every edge of two boxes clipped by the planes of the other's hull (SciPy)
    a, b = trimesh.creation.box((1, 1, 1)), trimesh.creation.box((1, 1, 1))
    b.apply_transform(trimesh.transformations.rotation_matrix(0.5, [1, 2, 3]))
    b.apply_translation([0.4, 0.3, 0.2])
    both = joined([Mesh.from_triangles(m.vertices, m.faces) for m in (a, b)])
    expected = 0
    for one, other in ((a, b), (b, a)):
        planes = ConvexHull(other.vertices).equations
        for start, end in one.vertices[one.edges_unique]:
            height, slope = planes[:, :3] @ start + planes[:, 3], planes[:, :3] @ (end - start)
            enters = np.max(-height[slope < 0] / slope[slope < 0], initial=-np.inf)
            leaves = np.min(-height[slope > 0] / slope[slope > 0], initial=np.inf)
            expected += enters < leaves and (0 < enters < 1 or 0 < leaves < 1)
    assert crossings(both) == expected > 0
    assert crossings(Mesh.from_triangles(a.vertices, a.faces)) == 0
    scene = Scene(Document(start=1, end=4))
    subject = do.add_mesh(scene, both, "Letters")
    layer = do.add_layer(scene, subject.id, "break")
    assert said(scene, f"goes through itself at {expected} of its edges")
    do.set_on(scene, layer.id, False)
    assert not said(scene, "goes through itself")
