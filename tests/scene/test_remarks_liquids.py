"""Remarks on liquids: what they fall through, what casts them out, what is too thin, what is heavy."""

import trimesh

from estampa import edits as do
from estampa.api import remarks
from estampa.edits import liquids
from estampa.geometry.mesh import Mesh
from estampa.scene.document import Document
from estampa.scene.scene import Scene


def pot(scene, scale=(1, 1, 1), open_=False):
    ball = trimesh.creation.icosphere(3, 0.3)
    faces = ball.faces[ball.triangles_center[:, 1] < 0.1] if open_ else ball.faces
    return do.add_mesh(scene, Mesh.from_triangles(ball.vertices * scale, faces), "Pot")


def said(scene, words):
    return [r for r in remarks(scene) if words in r.wrong]


def test_what_is_missing_is_told_and_one_click_mends_it():
    scene = Scene(Document(start=1, end=4))
    vessel = pot(scene)
    made = liquids.add_liquid(scene, vessel.id)
    assert not said(scene, "nothing that is solid") and not said(scene, "solid inside")
    holds = next(t for t in scene.doc.things if t.kind == "collider")
    do.set_value(scene, holds.id, "hollow", False)
    cast = said(scene, "solid inside")[0]
    cast.fix[1](scene)
    assert scene.doc.find(holds.id).constant("hollow") and not said(scene, "solid inside")
    scene.undo()
    assert not scene.doc.find(holds.id).constant("hollow"), "it can be undone"
    do.remove(scene, holds.id)
    through = said(scene, "nothing that is solid")[0]
    through.fix[1](scene)
    assert not said(scene, "nothing that is solid") and not said(scene, "no source")
    do.set_value(scene, made.id, "spacing", 0.004)
    assert "GB" in said(scene, "will have about")[0].causes or "MB" in said(scene, "will have about")[0].causes


def test_open_and_thin_vessels_are_told_with_the_spacing_that_fits():
    scene = Scene(Document(start=1, end=4))
    thin = pot(scene, (1, 0.05, 1))
    made = liquids.add_liquid(scene, thin.id)
    told = said(scene, "thin")[0]
    assert "5 mm apart" in told.mend or "mm apart or less" in told.mend
    do.set_value(scene, made.id, "spacing", 0.005)
    assert not said(scene, "thin")
    other = Scene(Document(start=1, end=4))
    liquids.add_liquid(other, pot(other, open_=True).id)
    assert said(other, "is open at 1 rim")


def test_what_pushes_a_liquid_aside_is_told_to_float_by_one_click():
    scene = Scene(Document(start=1, end=4))
    made = liquids.add_liquid(scene)
    crate = pot(scene)
    do.add_layer(scene, crate.id, "body")
    assert not said(scene, "feels nothing"), "the liquid does not meet it"
    do.add_thing(scene, "collider", values={"shape": "mesh", "subject": crate.id})
    said(scene, "feels nothing")[0].fix[1](scene)
    force = next(t for t in scene.doc.things if t.kind == "immersion")
    assert not said(scene, "feels nothing") and len(scene.doc.things) == len({t.id for t in scene.doc.things})
    do.remove(scene, made.id)
    assert force.name in said(scene, "names no liquid")[0].wrong


def test_a_draft_of_a_skin_that_is_printed_is_told():
    scene = Scene(Document(start=1, end=4))
    made = liquids.add_liquid(scene)
    skin = next(l for l in made.stack if l.kind == "grain_skin")
    do.set_value(scene, skin.id, "quality", "draft")
    assert not said(scene, "is a draft")
    do.add_thing(scene, "skin_usd")
    said(scene, "is a draft")[0].fix[1](scene)
    assert scene.doc.find(skin.id).constant("quality") == "final" and not said(scene, "is a draft")
