"""Remarks on swarms: each is provoked, and gone when it is mended."""

from estampa import edits as do
from estampa.geometry.primitives import box
from estampa.inspect.remarks.scene import remarks
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def said(scene, words):
    return [r for r in remarks(scene) if words in r.wrong]


def test_a_swarm_without_a_source_a_subject_or_ground_is_told():
    scene = Scene(Document(start=1, end=4))
    swarm = do.add_thing(scene, "swarm")
    assert said(scene, "no source of grains")[0].severity == "error"
    do.add_layer(scene, swarm.id, "sow")
    assert not said(scene, "no source of grains")
    show = do.add_layer(scene, swarm.id, "grain_show")
    assert said(scene, "names no subject")
    do.set_value(scene, show.id, "subject", do.add_mesh(scene, box([0, 0, 0], [1, 1, 1]), "Crate").id)
    assert not said(scene, "names no subject")
    do.add_layer(scene, swarm.id, "grain_fall")
    do.add_thing(scene, "ground")
    assert said(scene, "meets nothing that is solid")
    do.add_layer(scene, swarm.id, "grain_avoid")
    assert not said(scene, "meets nothing that is solid")


def test_layers_of_the_other_sort_of_swarm_are_told():
    scene = Scene(Document(start=1, end=4))
    swarm = do.add_thing(scene, "swarm")
    for kind in ("sow", "grain_flock", "grain_rain"):
        do.add_layer(scene, swarm.id, kind)
    assert said(scene, "Come down (by formula) does nothing")
    do.set_value(scene, swarm.id, "by", "formula")
    assert said(scene, "Flock does nothing") and not said(scene, "Come down (by formula) does nothing")
