"""The blind: cloth that meets hoops and itself, and the file that is made of it."""

import pygltflib
import pytest

import estampa
from estampa import demo
from estampa.demo.blind import named
from estampa.inspect.remarks.scene import remarks
from tests.solve.test_contact import crossings


@pytest.mark.slow
def test_the_blind_is_gathered_without_crossing_itself(store):
    """The exact test is that of ipctk."""
    scene = demo.build("blind")
    evaluator, blind = scene.evaluator(store), named(scene, "Blind")
    evaluator.solve_through(scene.doc.end)
    mesh = scene.mesh(blind.mesh)
    for frame in range(1, scene.doc.end + 1, 3):
        assert crossings(evaluator.subject(blind, frame).points, mesh) == 0, frame
    wide = lambda frame: evaluator.subject(blind, frame).points[:, 0]
    low = mesh.points[:, 1] < 1.2
    assert wide(72)[low].std() < 0.75 * wide(1)[low].std(), "the hoops gather it"
    assert not [r for r in remarks(scene) if r.severity == "error"]


def test_one_file_carries_both_shapes_and_four_clips(tmp_path, store):
    scene = demo.build("blind")
    estampa.bake(scene, tmp_path, "Blind, skinned")
    told = pygltflib.GLTF2().load(str(next(tmp_path.glob("*.glb"))))
    assert {a.name for a in told.animations} == {"roll up", "roll down", "fill", "empty"}
    assert len(told.meshes[0].primitives[0].targets) == 2
    assert all(any(c.target.path == "weights" for c in a.channels) for a in told.animations), "by their weights"
