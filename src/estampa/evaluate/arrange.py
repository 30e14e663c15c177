"""Where a subject and its copies stand, when each copy plays, and where a grip is for each of them."""

from dataclasses import dataclass

import numpy as np

from ..errors import EstampaError
from ..geometry.paths import Sampled, sampled
from ..geometry.place import Place
from ..geometry.scatter import scatter
from ..hashing import digest
from ..scene.copies import MOST, arranged, own_amounts, own_frames, rank
from ..scene.document import Thing
from ..scene.values import Rows, Values


@dataclass(frozen=True)
class InstanceRows:
    """Rows of one subject: itself, or its copies."""

    rows: Rows
    own: Place  # (1 or k) where the subject itself stands, at each row's frame
    copy: Place | None  # (k) what brings it to where its copy stands; None for the subject itself
    place: Place  # (1 or k) both together
    key: bytes
    amounts: np.ndarray | None = None  # (k) how much of the motion each copy shows; None: all of it


# they move no copy
TIMING = ("stagger", "length", "order", "near", "original", "timing_seed", "rates", "rounds", "amounts")


def line_of(path: Thing | None) -> Sampled | None:
    """A path as it is when nothing is keyed; None when there is none, or it has no length."""
    return sampled(path.spots, path.constant("closed"), path.constant("rounded")) if path is not None else None


class Instancing:
    """Places of one document; a scene gives the meshes to scatter over."""

    def __init__(self, values: Values, scene):
        self.values, self.scene = values, scene
        self._kept: dict = {}

    def one(self, subject: Thing, frame: float) -> InstanceRows:
        key = (subject.id, float(frame))
        if key not in self._kept:
            if len(self._kept) > 5000:
                self._kept.clear()
            rows = Rows.one(frame)
            own = self.values.place(subject, rows)
            self._kept[key] = InstanceRows(rows, own, None, own, digest("one", subject.id, frame))
        return self._kept[key]

    def many(self, copies: Thing, subject: Thing, frame: float) -> InstanceRows:
        """The rows of a subject's copies when the scene is at a frame."""
        key = (copies.id, float(frame))
        if key not in self._kept:
            self._kept[key] = self._many(copies, subject, frame)
        return self._kept[key]

    def _many(self, copies, subject, frame):
        v = {n: self.values.at(copies, n, frame) for n in copies.declared.channels}
        start = self.values.doc.start
        at_start = self.values.place(subject, Rows.one(start))
        pivot = at_start.origin[0]
        copy = self._arranged(copies, v, pivot)
        stand = copy.moved(pivot)
        near = self.values.find(v["near"])
        at = self.values.place(near, Rows.one(frame)).origin[0] if near is not None else None
        frames = own_frames(frame, start, rank(v, stand, at), v)
        rows = Rows(frames, np.arange(copy.rows, dtype=float), copy.rows)
        own = self.values.place(subject, rows) if copy.rows else at_start
        place = copy @ own if copy.rows else copy
        amounts = own_amounts(copy.rows, v) if v["amounts"] > 0 else None
        return InstanceRows(rows, own, copy, place, digest("many", copies.id, frame), amounts)

    def _arranged(self, copies, v, pivot) -> Place:
        """The places of the copies; made once for the same channels."""
        words = {n: x for n, x in v.items() if n not in TIMING}
        path, ground = self.values.find(v["path"]), self.values.find(v["ground"])
        at_start = Rows.one(self.values.doc.start)
        world = [self.values.place(t, at_start) if t is not None else None for t in (path, ground)]
        chosen = ground.map(v["ground_map"]) if ground is not None else None
        held = (path.spots if path else None, ground.mesh.points if ground and ground.mesh else None)
        held += (chosen.weights if chosen is not None else None,)
        name = digest(words, pivot, copies.spots, held, world)

        def make() -> Place:
            made = arranged(v, pivot, self.in_world(path), self._ground(v, ground), copies.spots)
            if made.rows > MOST:
                raise EstampaError(copies.name, f"would be {made.rows:,} copies.", f"At most {MOST:,} are made.")
            return made

        return self.scene.memo.get(copies.id, "places", name, make)

    def _ground(self, v, ground):
        if v["arrange"] != "scatter" or ground is None or ground.mesh is None:
            return None
        mesh = self.scene.mesh(ground.mesh)
        points = self.values.place(ground, Rows.one(self.values.doc.start)).apply(mesh.points[None])[0]
        found = ground.map(v["ground_map"])
        weights = self.scene.arrays.get(found.weights) if found is not None else None
        density = v["density"] if v["fill"] == "density" else None
        return scatter(mesh, points, density, v["apart"], v["seed"], MOST, v["exactly"], weights, v["upward"])

    def sampled(self, path: Thing) -> Sampled | None:
        """A path in its own space; None when it has no length."""
        return self._sampled(path, path.spots)

    def in_world(self, path: Thing | None) -> Sampled | None:
        """A path in the world at the first frame; None when it has no length."""
        if path is None or not path.spots:
            return None
        place = self.values.place(path, Rows.one(self.values.doc.start))
        spots = place.apply(np.array([s[:3] for s in path.spots], float)[None])[0]
        return self._sampled(path, tuple(map(tuple, spots)))

    def _sampled(self, path, spots):
        key = (spots, *(bool(self.values.at(path, n, self.values.doc.start)) for n in ("closed", "rounded")))
        if key not in self._kept:
            self._kept[key] = sampled(*key)
        return self._kept[key]

    def within(self, many: InstanceRows, grip: Thing) -> Place:
        """Where a grip stands in the subject's own space, for each row, as the grip says it is for copies."""
        key = (many.key, grip.id)
        if key not in self._kept:
            self._kept[key] = self._within(many, grip)
        return self._kept[key]

    def _within(self, many, grip) -> Place:
        place = self.values.place(grip, many.rows)
        if many.copy is not None:
            mode = self.values.at(grip, "copies", many.rows.frames[0])
            if mode == "world":
                return many.place.inverse() @ place
            if mode == "heading":
                rides = many.own.inverse() @ place
                turned = many.place.axes.transpose(0, 2, 1) @ place.axes
                wide = rides.spread(max(rides.rows, len(turned)))
                return wide._replace(axes=np.ascontiguousarray(np.broadcast_to(turned, wide.axes.shape)))
        return many.own.inverse() @ place
