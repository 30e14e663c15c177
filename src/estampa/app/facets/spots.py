"""What is made of points that a hand sets: paths, copies by hand, and what Break cuts around."""

import numpy as np

from ... import edits as do
from ...edits import pieces
from ...geometry.pieces import Pieces, volumes_of
from ...kinds.facets import Facet, Facts, Spots, facet_of
from ...units import format_volume
from ..view import marks

NOTHING = "Nothing is there: click a mesh or the floor."


class PathFacet(Facet):
    kinds = ("path",)
    named = picked = True

    def draw(self, canvas, thing, chosen):
        layers = (l for subject in canvas.pane.session.doc.subjects for l in subject.stack if l.declared is not None)
        if any(l.declared.parts_mesh and _path_of(canvas.pane.session, l) is thing for l in layers):
            return  # its points are but points to cut around
        points, spots = canvas.pane.path_points(thing)
        marks.path(canvas.painter, canvas.view, points, spots, chosen, canvas.hot if chosen else None)

    def hint(self, thing):
        return "drag a point to move it; Delete takes it away; the Place tool (L) adds one"

    def spots(self, pane, thing):
        return Spots(pane.path_points(thing)[1], thing)

    def move_spot(self, pane, thing, index, to):
        to = pane.place(thing).inverse().apply(to[None, None])[0, 0]
        set_spot(pane, thing, index, (*map(float, to), *thing.spots[index][3:]), "Move a point of")

    def remove_spot(self, pane, thing, index):
        return take_spot(pane, thing, index)

    def place(self, pane, thing, x, y):
        at = pane.ground_under(x, y)
        if at is not None:
            at = pane.place(thing).inverse().apply(at[None, None])[0, 0]
        return put_spot(pane, thing, at, ())

    def add(self, by_hand):
        by_hand.add(spots=((0.0, 0.0, 0.0), (1.0, 0.0, 0.4), (2.0, 0.0, 0.0)))
        by_hand.session.view.set_view(tool="place")


class CopiesFacet(Facet):
    kinds = ("copies",)

    def draw(self, canvas, thing, chosen):
        if _by_hand(thing) and canvas.pane.session.selection.thing is thing:
            for i, spot in enumerate(thing.spots):
                canvas.dot(spot[:3], 5 if i == canvas.hot else 3.5, strong=True)

    def hint(self, thing):
        words = "drag a dot to move its copy; Shift turns it, Ctrl sizes it, Delete takes it away"
        return words if _by_hand(thing) else ""

    def spots(self, pane, thing):
        if not _by_hand(thing):
            return None
        return Spots(np.array([s[:3] for s in thing.spots], float).reshape(-1, 3), thing, level=True)

    def move_spot(self, pane, thing, index, to):
        set_spot(pane, thing, index, (*map(float, to), *thing.spots[index][3:]), "Move a point of")

    def turn_spot(self, pane, thing, index, before, turn, factor):
        x, y, z, turned, size = before
        spot = (x, y, z, float(turned + turn), float(np.clip(size * factor, 0.01, 100)))
        set_spot(pane, thing, index, spot, "Turn a copy of" if turn else "Size a copy of")
        return True

    def remove_spot(self, pane, thing, index):
        return take_spot(pane, thing, index)

    def place(self, pane, thing, x, y):
        return _by_hand(thing) and put_spot(pane, thing, pane.ground_under(x, y), (0.0, 1.0))

    def add(self, by_hand):
        subject, values = by_hand.selection.subject, {}
        if subject is not None:
            size = by_hand.scene.mesh(subject.mesh).size
            values = {"subject": subject.id, "step_x": float(max(1.25 * size[0], 0.01))}
        by_hand.add(values, name=f"{subject.name} copies" if subject else None)


class BreakFacet(Facet):
    kinds = ("break",)

    def draw_selected(self, canvas, thing):
        """The points that it cuts around; those of a path large, since they can be taken hold of."""
        marks.dots(canvas.painter, canvas.view, canvas.pane.cut_points(thing))
        found = self.spots(canvas.pane, thing)
        if found is not None:
            marks.path(canvas.painter, canvas.view, None, found.points, True, canvas.hot)

    def hint(self, thing):
        if thing.constant("gather") == "spots":
            return "dots: where it is cut around; drag one to move it; the Place tool (L) adds one"
        return "dots: where it is cut around; with the Place tool (L) you set them yourself"

    def spots(self, pane, thing):
        path = _path_of(pane.session, thing)
        return Spots(pane.path_points(path)[1], path) if path is not None else None

    def move_spot(self, pane, thing, index, to):
        facet_of(thing.declared).move_spot(pane, thing, index, to)

    def remove_spot(self, pane, thing, index):
        return take_spot(pane, thing, index)

    def place(self, pane, thing, x, y):
        """Set a point in the volume under a pixel that it cuts around."""
        s, at, path = pane.session, pane.middle_under(x, y), _path_of(pane.session, thing)
        if path is not None:
            return put_spot(pane, path, pane.place(path).inverse().apply(at[None, None])[0, 0], (0.0, 1.0))
        have = pane.cut_points(thing)  # those that it has are taken in hand with it
        s.carry_out(lambda: pieces.cut_around(s.scene, thing.id, [*have, at]))
        return True

    def facts(self, session, thing):
        """What a mesh was broken into, as it was cut last."""
        plan = session.scene.memo.peek(thing.id, "plan")
        if plan is None:
            return Facts([], "It is not cut yet.")
        mesh = plan[1].mesh
        parts = Pieces.each(mesh)
        of = lambda: parts.of_vertex[mesh.triangles[:, 0]]
        volumes = mesh.cached("volumes", lambda: volumes_of(mesh.points, mesh.triangles, of(), parts.count))
        return Facts([
            ("Pieces", f"{len(volumes):,}"),
            ("Volume", format_volume(volumes.sum())),
            ("Of a piece", f"{format_volume(volumes.min())} to {format_volume(volumes.max())}"),
            ("Triangles", f"{len(mesh.triangles):,}"),
        ])  # fmt: skip


def _by_hand(copies) -> bool:
    return copies.constant("arrange") == "hand"


def _path_of(session, layer):
    """The path whose points a layer cuts around."""
    by_spots = "gather" in layer.declared.channels and layer.constant("gather") == "spots"
    return session.doc.find(layer.constant("path")) if by_spots else None


def set_spot(pane, thing, index: int, spot: tuple, words: str) -> None:
    """Put another point in the place of one."""
    spots = [*thing.spots[:index], spot, *thing.spots[index + 1 :]]
    do.set_spots(pane.session.scene, thing.id, spots, f"{words} {thing.name}", f"spot {thing.id} {index}")


def take_spot(pane, thing, index: int) -> bool:
    if not index < len(thing.spots):
        return False
    left = [s for i, s in enumerate(thing.spots) if i != index]
    do.set_spots(pane.session.scene, thing.id, left, f"Take a point from {thing.name}")
    return True


def put_spot(pane, thing, at, more: tuple) -> bool:
    """Add a point (3,) m in its own space, or say that nothing is there."""
    if at is None:
        pane.session.notice.emit("note", NOTHING, "")
        return True
    spot = (*map(float, at), *more)
    do.set_spots(pane.session.scene, thing.id, (*thing.spots, spot), f"Add a point to {thing.name}")
    return True
