"""Edits of liquids: one that is seen at once, and vessels that hold it."""

from ..scene.document import Thing
from ..scene.scene import Scene
from .names import thing_named, unique_name

ACROSS = 26  # grains across what is filled, at first


def add_liquid(scene: Scene, subject_id: str | None = None, at=(0.0, 0.0, 0.0), size: float = 0.5) -> Thing:
    """A liquid that fills a subject, which becomes a vessel; or, without one, a block at a place (3,) m of that size,
    m, over a ground. With gravity and a skin. In one step of the history."""
    doc, things = scene.doc, []
    vessel = doc.find(subject_id) if subject_id else None
    if not doc.of_kind("gravity"):
        things.append(Thing(kind="gravity", name=unique_name(doc, "Gravity")))
    if vessel is not None:
        mesh = scene.mesh(vessel.mesh)
        spacing = float(mesh.size.max()) / ACROSS
        fill = {"on": vessel.id, "level": 0.6}
        if _collider_of(doc, vessel.id) is None:
            things.append(_vessel(doc, vessel))
    else:
        spacing = size / 20
        middle = {"x": float(at[0]), "y": float(at[1]) + size, "z": float(at[2])}
        grip = Thing(kind="grip", name=unique_name(doc, "Liquid grip"), values=middle)
        fill = {"where": "box", "around": grip.id, "wide": size, "tall": size, "deep": size}
        things.append(grip)
        if not doc.of_kind("ground"):
            things.append(Thing(kind="ground", name=unique_name(doc, "Ground"), values={"height": float(at[1])}))
    stack = (Thing(kind="fill", name="Fill", values=fill), Thing(kind="grain_skin", name="Skin"))
    values = {"spacing": spacing, "clings": 0.4}
    liquid = Thing(kind="liquid", name=unique_name(doc, "Liquid"), values=values, stack=stack)
    scene.apply(f"Add {liquid.name}", doc.adding(*things, liquid))
    return liquid


def hold(scene: Scene, subject_id: str) -> Thing:
    """Let a subject hold liquids: a hollow collider of its mesh, a new one or the one that it has."""
    doc, subject = scene.doc, thing_named(scene, subject_id)
    found = _collider_of(doc, subject.id)
    if found is None:
        made = _vessel(doc, subject)
        scene.apply(f"Add {made.name}", doc.adding(made))
        return made
    scene.apply(f"Hollow {found.name}", doc.replace(found.with_(values={**found.values, "hollow": True}, on=True)))
    return scene.doc.find(found.id)


def immerse(scene: Scene, liquid_id: str) -> Thing:
    """Let bodies float in a liquid, and cloths get wet: an immersion, and a collider for each subject that is one
    solved body and has none, so that the liquid gives way. In one step of the history."""
    doc, liquid = scene.doc, thing_named(scene, liquid_id)
    made = Thing(kind="immersion", name=unique_name(doc, f"In {liquid.name}"), values={"liquid": liquid.id})
    things = [made]
    for subject in floats(doc):
        if _collider_of(doc, subject.id) is None:
            values = {"shape": "mesh", "subject": subject.id}
            things.append(Thing(kind="collider", name=unique_name(doc, f"{subject.name} is solid"), values=values))
    scene.apply(f"Add {made.name}", doc.adding(*things))
    return made


def floats(doc) -> list[Thing]:
    """The subjects that are one body, moved by the solve."""
    own = lambda l: l.on and l.constant("moved") == "solve" and l.constant("each") == "whole"
    return [s for s in doc.subjects if s.on and any(map(own, s.layers_of("body")))]


def _collider_of(doc, subject_id) -> Thing | None:
    own = (t for t in doc.of_kind("collider") if t.constant("shape") == "mesh")
    return next((t for t in own if t.constant("subject") == subject_id), None)


def _vessel(doc, subject) -> Thing:
    values = {"shape": "mesh", "subject": subject.id, "hollow": True}
    return Thing(kind="collider", name=unique_name(doc, f"{subject.name} holds"), values=values)
