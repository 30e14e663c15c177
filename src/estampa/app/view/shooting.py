"""Draws frames as a pane looks, on any thread: as pictures, as elements over nothing, and measured for compositing."""

from dataclasses import replace

import numpy as np

from ...evaluate.evaluator import Evaluator
from ...scene.things import angle_of_view
from ...scene.values import Rows
from ..model.grains import LookedSwarm
from ..model.looks import STALL, DisplayMesh, Looked
from . import backdrops
from .camera import Camera
from .passes import with_after
from .render import Drawn, Renderer


def drawn_of(id: str, shape: DisplayMesh, colour, **more) -> Drawn:
    """A shape as it is drawn. more -- of Drawn; weights and yarns (n,) of its vertices"""
    narrow, creased = lambda array: array.astype(np.float32), shape.creased
    more = {n: creased.of(v) if n in ("weights", "yarn") and v is not None else v for n, v in more.items()}
    kept = shape.__dict__.get("_narrow")  # drawn again and again while only the view turns
    if kept is None:
        at = creased.of(shape.points) if shape.drawn is None else shape.drawn
        kept = shape.__dict__["_narrow"] = (narrow(at), narrow(shape.lit))
    points, lit = kept
    # what stands beside, behind or before the present one, or shows its pieces, has a colour of its own
    own = more.get("tint") is not None and more["tint"] is shape.tint
    pictured = shape.pictured if own else None
    triangles = creased.mesh.triangles if pictured is None else pictured.triangles
    more = {"catches": shape.catches, **more, "stand": shape.stand, "pictured": pictured}
    return Drawn(id, points, lit, triangles, shape.mesh.edges, colour, **more)


def swarms_of(picture: Looked, isolated: set[str]) -> dict[str, LookedSwarm]:
    """The swarms of a picture, of those that are looked at alone where any are."""
    return {i: looked for i, looked in picture.swarms.items() if not isolated or i in isolated}


def skins_of(swarms: dict[str, LookedSwarm]) -> list[Drawn]:
    """Their surfaces."""
    of = [(i, k, skin) for i, looked in swarms.items() for k, skin in enumerate(looked.skins)]
    return [drawn_of(f"{i} skin {k}", skin, STALL, tint=skin.tint) for i, k, skin in of]


class Shooter:
    """How a pane looks now, kept: its camera, what is drawn and how."""

    def __init__(self, evaluator: Evaluator, look, own: Camera, isolated: set[str]):
        self.evaluator, self.look, self.own, self.isolated = evaluator, replace(look), own, set(isolated)

    def camera(self, frame: float) -> Camera:
        """What is looked through at a frame."""
        doc, values = self.evaluator.doc, self.evaluator.values
        held = doc.find(self.look.camera)
        if held is None or held.declared is None or "view" not in held.declared.channels:
            return self.own
        return Camera.through(values.place(held, Rows.one(frame)), angle_of_view(values, held, frame))

    def items(self, picture: Looked) -> list[Drawn]:
        found = []
        for thing in self.evaluator.doc.things if self.look.meshes else ():
            shape = picture.shapes.get(thing.id)
            if shape is not None and (not self.isolated or thing.id in self.isolated):
                found.append(drawn_of(thing.id, shape, STALL, tint=shape.tint))
        return found + skins_of(self.swarms(picture))

    def swarms(self, picture: Looked) -> dict[str, LookedSwarm]:
        return swarms_of(picture, self.isolated) if self.look.meshes else {}

    def picture(self, renderer: Renderer, picture: Looked, frame: float, width: int, height: int) -> bytes:
        """RGBA bytes, rows from the bottom: what the pane shows."""
        behind, look = backdrops.at(self.evaluator.doc, frame), self.look
        return renderer.picture(
            self.items(picture), self.camera(frame), width, height, look.shading, look.wire,
            floor=look.floor and behind is None, backdrop=behind, swarms=list(self.swarms(picture).values()),
            grains=look.grains, cut=look.cut, shade=look.shade, shadows=look.shadows, on_floor=look.floor,
        )  # fmt: skip

    def element(self, renderer: Renderer, picture: Looked, frame: float, width: int, height: int) -> np.ndarray:
        """See Renderer.element: over nothing, with the shadows on the floor where the pane shows that."""
        look = self.look
        return renderer.element(
            self.items(picture), self.camera(frame), width, height, look.shading, look.wire,
            swarms=list(self.swarms(picture).values()), grains=look.grains, cut=look.cut, shadows=look.shadows,
            on_floor=look.floor,
        )  # fmt: skip

    def measured(self, renderer, picture: Looked, later: Looked, width: int, height: int, back: bool = False):
        """(depth, motion) of Passes. later -- the frame after; back -- it is the one before: motion as it came."""
        items, there = self.items(picture), {item.id: item for item in self.items(later)}
        for item in items:
            after = there.get(item.id)
            if after is not None and len(after.points) == len(item.points) and _many(after) == _many(item):
                item.after, item.stand_after = after.points, after.stand
        swarms, flown = self.swarms(picture), self.swarms(later)
        layers = [(i, with_after(layer, flown.get(i))) for i, s in swarms.items() for layer in s.layers]
        cameras = self.camera(picture.frame), self.camera(later.frame)
        look = self.look
        depth, motion = renderer.depth_and_motion(items, *cameras, width, height, layers, look.grains, look.cut)
        return depth, -motion if back else motion

    def mattes(self, renderer: Renderer, picture: Looked, width: int, height: int) -> dict[str, np.ndarray]:
        """(height, width) uint8 by name of each thing that is drawn: how much of a pixel it covers, before others."""
        items, swarms = self.items(picture), self.swarms(picture)
        caught = {i.id for i in items if i.catches}
        things = [t for t in self.evaluator.doc.things if (t.id in picture.shapes or t.id in swarms)]
        things = [t for t in things if t.id not in caught and (not self.isolated or t.id in self.isolated)]
        layers = [(i, with_after(layer, None)) for i, s in swarms.items() for layer in s.layers]
        camera, look, ids = self.camera(picture.frame), self.look, [t.id for t in things]
        found = renderer.mattes(items, camera, width, height, ids, layers, look.grains, look.cut)
        named: dict[str, np.ndarray] = {}
        for k, thing in enumerate(things):
            word, count = plain_word(thing.name), 2
            while word in named:
                word, count = f"{plain_word(thing.name)}_{count}", count + 1
            named[word] = found[:, :, k]
        return named


def plain_word(name: str) -> str:
    """A name that can stand in the name of a file or of a layer of channels."""
    return "".join(c if c.isalnum() or c in "-_ " else "_" for c in name).strip() or "thing"


def _many(item: Drawn) -> int:
    return -1 if item.stand is None else len(item.stand)
