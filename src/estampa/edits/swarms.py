"""Edits of swarms."""

from ..scene.document import Thing
from ..scene.scene import Scene
from .names import unique_name

FIRST = (("sow", "Sow"), ("grain_turbulence", "Turbulence"), ("grain_limit", "Limit speeds"))


def add_swarm(scene: Scene, at=(0.0, 1.0, 0.0), name: str = "Swarm", size: float = 0.5) -> Thing:
    """A swarm that moves at once: grains sown about a grip at a place (3,) m, within `size` m, that eddies carry along.
    In one step of the history."""
    doc = scene.doc
    place = dict(zip("xyz", map(float, at), strict=True))
    grip = Thing(kind="grip", name=unique_name(doc, f"{name} grip"), values=place)
    values = {
        "sow": {"around": grip.id, "radius": float(size), "count": 500},
        "grain_turbulence": {"how": "carry", "scale": 2 * float(size), "flow": float(size)},
        "grain_limit": {"fastest": 4 * float(size)},
    }
    stack = tuple(Thing(kind=kind, name=title, values=values[kind]) for kind, title in FIRST)
    swarm = Thing(kind="swarm", name=unique_name(doc, name), stack=stack)
    scene.apply(f"Add {swarm.name}", doc.with_(things=(*doc.things, grip, swarm)))
    return swarm
