"""Assets: what belongs to a thing is kept with it, comes into other scenes whole, and takes another one's place."""

import numpy as np
import pytest

from estampa import demo
from estampa import edits as do
from estampa.edits import assets
from estampa.errors import EstampaError
from estampa.evaluate.evaluator import Evaluator
from estampa.geometry.primitives import box
from estampa.scene.document import Document
from estampa.scene.scene import Scene
from tests.solve.test_limp import puppet as figure


def test_a_figure_comes_with_its_skin_its_layers_and_their_ensemble(store, tmp_path):
    scene = demo.build("puppet")
    skeleton = scene.doc.skeletons[0]
    names = {t.name for t in assets.belongs(scene.doc, skeleton.id)}
    assert names == {"Puppet", "Paper figure", "Puppet and buoy"}
    path = assets.keep(scene, skeleton.id, "Paper puppet", tmp_path)
    assert assets.kept(tmp_path) == [path]

    other = Scene(Document(name="quay", start=1, end=80))
    do.add_thing(other, "gravity")
    do.add_thing(other, "ground")
    before = other.doc
    twice = [assets.put(other, path) for _ in range(2)]
    assert sum(t.kind == "bodies" for t in other.doc.things) == 1, "both are solved together"
    assert [t.name for t in other.doc.skeletons] == ["Puppet", "Puppet 1"]
    assert len({t.id for t, _ in other.doc.everything()}) == len(list(other.doc.everything()))
    second = next(t for t in twice[1] if t.kind == "skeleton")
    do.set_value(other, second.id, "x", 1.0)
    evaluator = Evaluator(other.doc, other, store)
    evaluator.solve_through(80)
    shown = [evaluator.subject(s, 80).points for s in other.doc.subjects]
    assert all(p[:, 1].max() < 0.3 for p in shown), "limp from frame 30 on, they lie on the ground"
    assert shown[1][:, 0].mean() > shown[0][:, 0].mean() + 0.3
    while other.undo_label:
        other.undo()
    assert len(other.doc.things) == 0 and before is not other.doc


def test_an_asset_takes_the_place_of_an_animated_figure_in_its_pose(store, tmp_path):
    scene, skeleton, _ = figure(10)
    path = assets.keep(scene, skeleton, "Limp one", tmp_path)
    walks, own, layer = figure(10)
    do.remove(walks, layer)
    do.set_values(walks, own, {"x": 2.0, "turn_y": 0.5})
    arm = next(j for j in walks.doc.find(own).joints if j.name == "upper arm left")
    do.set_key(walks, arm.id, "turn_z", 1, 0.0)
    do.set_key(walks, arm.id, "turn_z", 10, 0.7)
    at = lambda s, i, f: Evaluator(s.doc, s, store).poses.world(s.doc.find(i), f, [])
    wanted = [at(walks, own, f) for f in (1, 6)]
    before = walks.doc
    fresh, alone = assets.replace(walks, path, own)
    assert alone == ()
    assert fresh.stack[0].kind == "limp" and not walks.doc.find(own).on
    for frame, world in zip((1, 6), wanted, strict=True):
        assert np.allclose(at(walks, fresh.id, frame), world, atol=1e-12), "it begins in the pose of the old one"
    walks.undo()
    assert walks.doc is before


def test_what_cannot_be_kept_or_put_is_told(tmp_path):
    scene = Scene(Document(name="x"))
    subject = do.add_mesh(scene, box([0, 0, 0], [1, 1, 1]), "Crate")
    for name in ("", "../away", "a/b"):
        with pytest.raises(EstampaError, match="name of an asset"):
            assets.keep(scene, subject.id, name, tmp_path)
    path = assets.keep(scene, subject.id, "Crate", tmp_path)
    before = scene.doc
    limp, skeleton, _ = figure(4)
    with pytest.raises(EstampaError, match="no skeleton"):
        assets.replace(limp, path, skeleton)
    path.write_bytes(path.read_bytes()[:100])
    with pytest.raises(EstampaError):
        assets.put(scene, path)
    assert scene.doc is before
