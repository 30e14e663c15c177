"""Edits of swarms."""

from ..scene.document import Thing
from ..scene.scene import Scene
from .names import declared_kind, unique_name


def add_swarm(scene: Scene, at=(0.0, 1.0, 0.0), name: str = "", size: float = 0.5, kind: str = "swarm") -> Thing:
    """A swarm, or another kind of grains, with the layers that it starts with: so that it moves at once, about a grip
    at a place (3,) m, within `size` m. In one step of the history."""
    doc, declared = scene.doc, declared_kind(kind)
    name = unique_name(doc, name or declared.title)
    place = dict(zip("xyz", map(float, at), strict=True))
    grip = Thing(kind="grip", name=unique_name(doc, f"{name} grip"), values=place)
    layers = declared.start_stack(grip.id, float(size))
    stack = tuple(Thing(kind=k, name=declared_kind(k).title, values=values) for k, values in layers)
    swarm = Thing(kind=kind, name=name, stack=stack)
    scene.apply(f"Add {swarm.name}", doc.adding(grip, swarm))
    return swarm
