"""What a channel that names something gives: one entry a sort of thing that can be named.

The same sort of value comes to a deformer, a solver, a force and a pose layer, in the space that each works in:

    map         (n,) float32 weights, carried to the topology that enters the layer
    target      (n, 3) points of a morph target
    targets     (t, n, 3) points of all of them
    grip        a Place of one row or of a row for each shape
    placed      the same, or the number of a joint of the very skeleton that reads it
    joint       the number of such a joint
    target_weights  (n,) float32 weights of a map on the subject that the channel before it names
    target_map  (3,) the middle of a map on the subject that the channel before it names
    zone        a Field: (k, n, 3) points -> (k, n) weights
    path        (the sampled path in its own space, the Place of that space)
    subject     a Surface: its points, and the mesh that they are of
    skeleton    a palette of matrices, for a layer that is bound to it
    liquid      a Pool: its grains as they were a frame ago
    wind        its id; which wind is felt is told with what is felt
"""

from dataclasses import dataclass

import numpy as np

from ..fields.force import Pool
from ..fields.zones import combined, weights
from ..geometry.place import Place
from ..kinds.named import Surface, Trajectory
from ..scene.document import Thing
from ..scene.values import Rows
from .reader import NOTHING, Reader, Reading, Scope

REFERENCES: dict = {}


def reference(*words):
    """Declares what channels with these words for `to` give: (reader, thing, channel, held, scope) -> Reading."""

    def declare(read):
        REFERENCES.update(dict.fromkeys(words, read))
        return read

    return declare


@reference("map")
def _map(reader, thing, channel, held, scope):
    found = scope.owner.map(thing.constant(channel.name)) if scope.owner is not None else None
    if found is None:
        return NOTHING
    if getattr(thing.declared, "remeshes", False):  # its plan has it
        return Reading(found.weights, lambda: None)
    return Reading(found.weights, lambda: reader.evaluator.topology.map_weights(scope.owner, found, thing))


@reference("target")
def _target(reader, thing, channel, held, scope):
    wanted = thing.constant(channel.name)
    found = next((t for t in scope.owner.targets if t.id == wanted), None) if scope.owner is not None else None
    if found is None:
        return NOTHING
    return Reading(found.points, lambda: reader.evaluator.scene.arrays.get(found.points))


@reference("targets")
def _targets(reader, thing, channel, held, scope):
    names = [t.points for t in scope.owner.targets] if scope.owner is not None else []
    if not names:
        return NOTHING
    arrays = reader.evaluator.scene.arrays
    return Reading(names, lambda: np.stack([arrays.get(n) for n in names]))


@reference("grip", "placed")
def _placed(reader, thing, channel, held, scope):
    if channel.accumulates:
        course = _course(reader, held, scope)
        return Reading((course, scope.rows.frames, scope.into), lambda: course)
    if held is None:
        return NOTHING
    own = scope.bones.where.get(held.id) if scope.bones is not None else None
    if own is not None:
        return Reading(own, lambda: own)
    return Reading(
        reader.stand(held, scope),
        lambda: reader.place(held, scope),
        lambda: reader.stands_true(held, scope.rows.frames),
    )


def _course(reader: Reader, deck: Thing | None, scope: Scope) -> Trajectory:
    """Where the owner has been up to these frames."""
    values, frames = reader.values, scope.rows.frames
    first = min(reader.doc.start, int(np.floor(frames.min())))
    over = Rows.over(np.arange(first, int(np.floor(frames.max())) + 2, dtype=float))
    count = len(over)
    places = values.place(scope.owner, over).spread(count)
    still = deck is None or deck.declared is None or "parent" not in deck.declared.channels
    stood = Place.still(count) if still else values.place(deck, over).spread(count)
    return Trajectory(over.frames, (stood.inverse() @ places).origin * stood.size[:, None], stood.axes)


@reference("joint")
def _joint(reader, thing, channel, held, scope):
    own = scope.bones.where.get(held.id) if scope.bones is not None and held is not None else None
    return Reading(own, lambda: own)


@reference("target_map")
def _target_map(reader, thing, channel, held, scope):
    target = reader.values.find(thing.constant(channel.name.removesuffix("_map")))
    found = target.map(thing.constant(channel.name)) if target is not None and target.mesh is not None else None
    if found is None:
        return NOTHING
    evaluator, frame = reader.evaluator, scope.frame

    def middle():
        felt = evaluator.topology.map_weights(target, found).astype(float)
        if not felt.sum() > 0:
            return None
        point = (felt @ evaluator.subject(target, frame).points / felt.sum())[None, None]
        return (point if scope.into is None else scope.into.inverse().apply(point))[0, 0]

    into = None if scope.into is None else reader.stand_name(scope.owner, frame)
    fingerprint = (found.weights, evaluator.shape_name(target, frame), into)
    return Reading(fingerprint, middle, lambda: _shown(evaluator.subject(target, frame)))


@reference("target_weights")
def _target_weights(reader, thing, channel, held, scope):
    target = reader.values.find(thing.constant(channel.name.removesuffix("_map")))
    found = target.map(thing.constant(channel.name)) if target is not None and target.mesh is not None else None
    if found is None:
        return NOTHING
    return Reading(found.weights, lambda: reader.evaluator.topology.map_weights(target, found))


@dataclass(frozen=True, eq=False)
class ZoneField:
    """A zone, as weights at points of the reader's space."""

    reader: Reader
    zone: Thing
    scope: Scope
    differs = True  # from row to row

    def __call__(self, points: np.ndarray) -> np.ndarray:
        """(k, n) weights in [0, 1] at (k, n, 3) points, metres."""
        count, rows = len(points), self.scope.rows
        if len(rows) != count:
            rows = Rows(rows.frames[:count], rows.index[:count], rows.count)
        into = Place.still(1) if self.scope.into is None else self.scope.into
        if into.rows != count:
            into = Place(*(part[:count] for part in into))
        return self._at(self.zone, points, rows, into, ())

    def _at(self, zone, points, rows, into, within):
        values = self.reader.values
        v = {n: values.at(zone, n, rows.frames[0]) for n in zone.declared.channels}
        place = into.inverse() @ values.place(zone, rows)
        path, line = values.find(v["path"]), None
        if v["shape"] == "path":
            sampled = self.reader.evaluator.stage.sampled(path) if path is not None else None
            if sampled is None:
                return np.zeros(points.shape[:2])
            # the path stands where it stands, not where the zone does
            line = values.place(path, rows).apply(sampled.points[None])[0]
            place = into.inverse()
        result = weights(points, place, v, line)
        other = values.find(v["other"])
        if other is not None and other.on and other.id not in (*within, zone.id):
            result = combined(result, self._at(other, points, rows, into, (*within, zone.id)), v["how"])
        return result


@reference("zone")
def _zone(reader, thing, channel, held, scope):
    if held is None or held is thing:
        return NOTHING
    fingerprint = (reader.fingerprint(held, Scope.world(scope.frame)), reader.stand(held, scope))
    return Reading(
        fingerprint, lambda: ZoneField(reader, held, scope), lambda: reader.stands_true(held, scope.rows.frames)
    )


@reference("path")
def _path(reader, thing, channel, held, scope):
    if held is None:
        return NOTHING
    sampled = reader.evaluator.stage.sampled(held)
    fingerprint = (
        held.spots,
        *(reader.values.at(held, n, 0.0) for n in ("closed", "rounded")),
        reader.stand(held, scope),
    )
    if sampled is None:
        return Reading(fingerprint, lambda: None)
    return Reading(
        fingerprint, lambda: (sampled, reader.place(held, scope)), lambda: reader.stands_true(held, scope.rows.frames)
    )


@reference("subject")
def _subject(reader, thing, channel, held, scope):
    if held is None or held.mesh is None:
        return NOTHING
    evaluator = reader.evaluator
    frames, which = scope.whole_frames
    fingerprint = [evaluator.shape_name(held, f) for f in frames]
    if scope.many is not None:
        fingerprint = (fingerprint, which if len(frames) > 1 else None, _owner_stand(reader, scope))
    shapes = lambda: [evaluator.subject(held, f) for f in frames]

    def surface():
        found = shapes()
        if any(len(s.points) != len(found[0].points) for s in found):
            return None
        points = np.stack([s.points for s in found])[which]
        if scope.many is not None:
            points = scope.many.own.inverse().apply(points)
        return Surface(points, evaluator.mesh(held))

    return Reading(fingerprint, surface, lambda: _worst(map(_shown, shapes())))


def _owner_stand(reader, scope):
    if not reader.on_joint(scope.owner):
        return scope.many.own
    return [reader.stand_name(scope.owner, f) for f in np.unique(scope.rows.frames)]


@reference("skeleton")
def _skeleton(reader, thing, channel, held, scope):
    if held is None or thing.bind is None or scope.many is None:
        return NOTHING
    poses, many = reader.evaluator.poses, scope.many
    frames = np.unique(many.rows.frames)
    fingerprint = [(poses.name(held, f), reader.stand_name(held, f)) for f in frames]
    fingerprint = (fingerprint, many.rows.frames if len(frames) > 1 else None, _owner_stand(reader, scope))
    back = lambda: reader.evaluator.scene.arrays.get(thing.bind.back)
    return Reading(
        fingerprint,
        lambda: poses.palette(held, thing.bind, back(), many.own, many.rows)[0],
        lambda: _worst((p.is_current, p.shown_frame) for p in (poses.at(held, f) for f in frames)),
    )


@reference("liquid")
def _liquid(reader, thing, channel, held, scope):
    if held is None:
        return NOTHING
    fingerprint, solved = reader.evaluator.runs.a_frame_ago(held, scope.frame)
    if fingerprint is None:
        return NOTHING

    def pool():
        grains, own = solved()["grains"], lambda n: float(reader.values.at(held, n, scope.frame))
        return Pool(grains["position"].astype(float), grains["velocity"].astype(float), own("spacing"), own("density"))

    return Reading((fingerprint, reader.values.at(held, "density", scope.frame)), pool)


@reference("wind", "ensemble")
def _solved_with(reader, thing, channel, held, scope):
    return Reading(None, lambda: held.id if held is not None else None)


def _shown(shape) -> tuple[bool, float | None]:
    return shape.is_current, shape.shown_frame


def _worst(found) -> tuple[bool, float | None]:
    """The first of several that is not solved."""
    return next(((is_current, shown) for is_current, shown in found if not is_current), (True, None))
