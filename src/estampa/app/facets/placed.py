"""What stands somewhere and is no mesh: grips, zones, colliders, cameras, winds."""

import numpy as np

from ... import edits as do
from ...kinds.facets import Facet
from ...scene.things import angle_of_view
from ..view import marks
from ..view.handles import draw_wind


class GripFacet(Facet):
    kinds = ("grip",)
    named = picked = True

    def draw(self, canvas, thing, chosen):
        if not chosen:
            canvas.dot(canvas.pane.place(thing).origin[0], 4)


class ZoneFacet(Facet):
    kinds = ("zone",)
    named = picked = True

    def draw(self, canvas, thing, chosen):
        v = {n: canvas.pane.value(thing, n) for n in thing.declared.channels}
        path = canvas.pane.session.doc.find(v["path"])
        points = canvas.pane.path_points(path)[0] if v["shape"] == "path" and path is not None else None
        marks.zone(canvas.painter, canvas.view, canvas.pane.place(thing), v, points, chosen)

    def first(self, by_hand):
        return {"values": by_hand.at(by_hand.middle) | {"reach": 0.5 * by_hand.size}}


class ColliderFacet(Facet):
    kinds = ("collider",)
    picked = True

    def draw(self, canvas, thing, chosen):
        v = {n: canvas.pane.value(thing, n) for n in thing.declared.channels}
        marks.collider(canvas.painter, canvas.view, canvas.pane.place(thing), v, chosen)

    def first(self, by_hand):
        return {"values": by_hand.at(by_hand.middle) | {"radius": 0.2 * by_hand.size}}


class CameraFacet(Facet):
    kinds = ("camera",)
    named = picked = True

    def draw(self, canvas, thing, chosen):
        pane = canvas.pane
        place, view = pane.place(thing), angle_of_view(pane.session.scene.values, thing, pane.session.player.frame)
        marks.camera(canvas.painter, canvas.view, place, view, chosen)

    def first(self, by_hand):
        """It looks from the front at what is shown."""
        return {"values": by_hand.at(by_hand.middle + [0, 0, 2.2 * by_hand.size])}


class WindFacet(Facet):
    kinds = ("wind",)

    def draw(self, canvas, thing, chosen):
        held = canvas.pane.session.doc.find(thing.constant("grip"))
        if held is not None:
            draw_wind(canvas.painter, canvas.view, canvas.pane.grip_values(held), canvas.pane.value(thing, "speed"))

    def first(self, by_hand):
        """Its grip stands upwind of what is there, and is as large."""
        scene = by_hand.scene
        bounds = [scene.mesh(t.mesh).bounds for t in scene.doc.subjects] or [(np.zeros(3), np.ones(3))]
        low, high = np.min([b[0] for b in bounds], axis=0), np.max([b[1] for b in bounds], axis=0)
        size = float((high - low).max())
        at = np.array([*((low + high) / 2)[:2], low[2] - 0.4 * size])
        grip = do.add_thing(scene, "grip", "Wind direction", by_hand.at(at) | {"size": 0.3 * size})
        return {"values": {"grip": grip.id}}
