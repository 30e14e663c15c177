"""Stacks of subjects: what the layers make of the rest shape, on rows, each result worked out once and named by what
decided it."""

from dataclasses import dataclass

import numpy as np

from ..errors import EstampaError
from ..geometry.mesh import Mesh
from ..geometry.pieces import Pieces
from ..geometry.place import Place
from ..hashing import digest
from ..kinds.plugins import blamed
from ..motion.layer import Moment, Resolved, moved
from ..motion.pieces.piece_layer import Stand
from ..scene.document import Thing
from ..scene.graph import member_of
from .arrange import InstanceRows
from .reader import Scope, alike

KEPT_NAMES, KEPT_VALUES = 200_000, 4_000


@dataclass(frozen=True)
class Shape:
    """Points of a subject at a frame. When a frame is not solved, something stands in for it: its stale result (then
    `shown_frame` is the frame itself), an earlier solved frame, or the shape from the layers above (None)."""

    points: np.ndarray  # (n, 3) float64 m; (k, n, 3) for copies
    digest: bytes
    is_current: bool = True
    shown_frame: float | None = None


@dataclass(frozen=True)
class Copied:
    """The copies of a subject at a frame: k places, and one shape for all of them or one for each."""

    shape: Shape  # points (1 or k, n, 3), in the subject's own space
    places: Place  # (k)
    mesh: Mesh

    @property
    def alike(self) -> bool:
        return len(self.shape.points) == 1

    def points(self) -> np.ndarray:
        """(k, n, 3) in the world, metres."""
        return self.places.apply(self.shape.points)


def count_of_pieces(layers: list[Thing]) -> int:
    """How many layers at the end of a stack move pieces."""
    count = 0
    while count < len(layers) and layers[-1 - count].declared.of_pieces:
        count += 1
    return count


AT_ONCE = 200  # layers of a stack that are gone into within one another; longer ones are worked out in parts


class Stacks:
    """Shapes of one document, for one evaluator."""

    def __init__(self, evaluator):
        self.evaluator, self.reader = evaluator, evaluator.reader
        self.stage, self.topology, self.scene = evaluator.stage, evaluator.topology, evaluator.scene
        self._names: dict[tuple, bytes] = {}
        self._values: dict[tuple, Resolved] = {}
        self._last_stand: tuple = (None, None)  # its name, and where pieces were found to stand last

    # -- names -----------------------------------------------------------------------------------------------
    def name(self, subject: Thing, layers: list[Thing], many: InstanceRows) -> bytes:
        """Digest of all that decides the rows after the given layers, in the subject's own space, whether what they
        read is solved yet or not."""
        key = (subject.id, len(layers), layers[-1].id if layers else None, many.key)
        found = self._names.get(key)
        if found is None:
            for count in range(AT_ONCE, len(layers), AT_ONCE):
                self.name(subject, layers[:count], many)
            found = self._named(subject, layers, many)
            if len(self._names) > KEPT_NAMES:
                self._names.clear()
            self._names[key] = found
        return found

    def _named(self, subject, layers, many):
        if not layers:
            mesh = subject.mesh
            return digest(*mesh.content)
        layer = layers[-1]
        if layer.declared.memory:
            frames = np.floor(many.rows.frames)
            runs = self.evaluator.runs
            if runs.of(subject, layer).id in self.evaluator.live:
                return digest("live", layer.id, runs.shown(subject, layer, frames[0]).key)
            keys = [runs.look_key(subject, layer, f) for f in np.unique(frames)]
            return digest("solved", layer.id if member_of(layer) else None, keys, alike(frames - frames[0]))
        return digest(
            self.name(subject, layers[:-1], many), self.reader.fingerprint(layer, Scope.of_rows(subject, many))
        )

    # -- rows ------------------------------------------------------------------------------------------------
    def rows(self, subject: Thing, layers: list[Thing], many: InstanceRows) -> Shape:
        """The rest shape after the given layers, which are the top part of the stack, in the subject's own space:
        points (k, n, 3), or (1, n, 3) when all rows are alike."""
        key = self.name(subject, layers, many)
        if not layers:
            return Shape(self.scene.mesh(subject.mesh).rest[None], key)
        found = self.scene.shapes.get(key)
        if found is not None:
            return Shape(found, key)
        if len(layers) % AT_ONCE == 0:
            for count in range(AT_ONCE, len(layers), AT_ONCE):
                self.rows(subject, layers[:count], many)
        layer = layers[-1]
        if layer.declared.memory:
            return self._solved_rows(subject, layers, many, key)
        moving = layers[-count_of_pieces(layers) :] if layer.declared.of_pieces else layers[-1:]
        entering = self.rows(subject, layers[: -len(moving)], many)
        is_current, shown = self._stand(subject, moving, many, entering)
        if layer.declared.of_pieces:
            points = self._placed(subject, layers, moving, entering, many, is_current).points()
        else:
            points = self._applied(subject, layers, entering.points, self._read(subject, layer, many, is_current), many)
        stack = self.evaluator.layers(subject)
        after = stack[len(layers)] if len(stack) > len(layers) else None
        last = after is None or after.declared.memory
        # a point that is no number stays one down the stack, so that it is enough to look at the end
        if last and not np.isfinite(points.sum()):
            self._refuse_no_numbers(subject, layers, many)
        # of many copies only what is looked at in the end is worth keeping
        if is_current and (len(points) == 1 or last):
            self.scene.shapes.put(key, points)
        return Shape(points, key if is_current else digest(key, "stands in", entering.digest, shown), is_current, shown)

    def _read(self, subject, layer, many, is_current) -> Resolved:
        key = (layer.id, many.key)
        found = self._values.get(key)
        if found is None:
            found = self.reader.resolved(layer, Scope.of_rows(subject, many))
            if is_current:  # else what it names may be solved before it is asked for again
                if len(self._values) > KEPT_VALUES:
                    self._values.clear()
                self._values[key] = found
        return found

    def _stand(self, subject, layers, many, entering):
        """(whether all that layers read is solved, the frame that is shown instead where it is not)."""
        scope = None
        for layer in layers:
            for name, channel in layer.declared.channels.items():
                if channel.to in ("", "map", "target") or not layer.constant(name):
                    continue
                scope = scope or Scope.of_rows(subject, many)
                is_current, shown = self.reader.reading(layer, channel, scope).stands()
                if not is_current:
                    return False, shown
        return entering.is_current, entering.shown_frame

    def _placed(self, subject, layers, moving, entering, many, is_current) -> Stand:
        """Where pieces stand after the layers that move them, the last ones of `layers`, from what enters the first."""
        key = (self.name(subject, layers, many), entering.digest, len(moving))
        if self._last_stand[0] == key:  # asked for again for what is shown or printed
            return self._last_stand[1]
        mesh = self.topology.mesh(subject, layers)
        values = [self._read(subject, layer, many, is_current) for layer in moving]
        rows = 1 if len(entering.points) == 1 and all(v.alike for v in values) else len(many.rows)
        place = many.place.spread(len(many.rows))
        now = Moment(many.rows.frames[:rows], self.evaluator.doc.frame_rate, mesh, Place(*(x[:rows] for x in place)))
        stand = Stand.of(Pieces.each(mesh), entering.points).in_rows(rows)
        for layer, v in zip(moving, values, strict=True):
            kind, v = layer.declared(), v.in_rows(rows)
            if v.strength.any():
                with blamed(layer.declared, f"{layer.name} on {subject.name}"):
                    stand = kind.move(stand, kind.felt(stand, v), v, now)
        if is_current:
            self._last_stand = (key, stand)
        return stand

    def stands(self, subject: Thing, frame: float) -> tuple[Pieces, Place, np.ndarray] | None:
        """(pieces, what brings each from where it was at first to where it is, their middles (p, 3) m at first, in the
        world) of a subject whose last layers move pieces; else None."""
        layers = self.evaluator.layers(subject)
        count = count_of_pieces(layers)
        if not count:
            return None
        many = self.stage.one(subject, frame)
        entering = self.rows(subject, layers[:-count], many)
        is_current, _ = self._stand(subject, layers[-count:], many, entering)
        stand = self._placed(subject, layers, layers[-count:], entering, many, is_current)
        first = self.stage.one(subject, self.evaluator.doc.solved_from)
        entered, enters = self.rows(subject, layers[:-count], first).points[0], entering.points[0]
        home = stand.pieces.middles(entered[None])
        stood, now = first.place, stand.in_world(many.place)
        if not np.array_equal(entered, enters):  # a body or a trail above has moved them already
            came = stand.pieces.since(entered, enters)[0]
            now = Place(now.origin, now.axes @ came.axes, now.size * came.size)
        since = Place(now.origin, now.axes @ stood.axes[0].T, now.size / stood.size[0])
        return stand.pieces, since, stood.apply(home)[0]

    def _refuse_no_numbers(self, subject, layers, many):
        """Name the first layer whose points are not numbers."""
        for count, layer in enumerate(layers, 1):
            if layer.declared.memory:
                continue
            entering = self.rows(subject, layers[: count - 1], many)
            if layer.declared.of_pieces:
                points = self._placed(subject, layers[:count], [layer], entering, many, False).points()
            else:
                v = self._read(subject, layer, many, False)
                points = self._applied(subject, layers[:count], entering.points, v, many)
            if not np.isfinite(points).all():
                raise EstampaError(
                    f"{layer.name} on {subject.name}",
                    f"gives points that are not numbers at frame {many.rows.frames[0]:g}.",
                    "Undo the last change of its channels, or switch it off.",
                )

    def _applied(self, subject, layers, points, v, many):
        layer = layers[-1]
        declared, count = layer.declared, len(many.rows)
        mesh = self.topology.mesh(subject, layers[:-1])
        alike_in_time = not declared.reads_time or (many.rows.frames == many.rows.frames[0]).all()
        wanted = 1 if len(points) == 1 and v.alike and alike_in_time else count
        if len(points) != wanted:
            points = np.repeat(points, wanted, axis=0)
        v, place = v.in_rows(wanted), many.place.spread(count)
        if place.rows != wanted:
            place = Place(*(part[:wanted] for part in place))
        now = Moment(many.rows.frames[:wanted], self.evaluator.doc.frame_rate, mesh, place)
        where = f"{layer.name} on {subject.name}"
        if declared.remeshes:
            with blamed(declared, where):
                return declared().apply(points, self.topology.plans(subject, layers)[-1], v, now)
        try:
            with blamed(declared, where):
                return moved(declared(), points, v, now)
        except EstampaError as err:
            cause = err.cause if err.what == where else f"{err.what} {err.cause}"
            raise EstampaError(where, cause, err.cure, err.detail) from err

    def _solved_rows(self, subject, layers, many, key) -> Shape:
        """Rows of a layer with memory: each copy shows the subject's own solved frame nearest before its time."""
        frames = np.floor(many.rows.frames)
        unique, where = np.unique(frames, return_inverse=True)
        shapes = [self._solved(subject, layers, f) for f in unique]
        is_current = all(s.is_current for s in shapes)
        points = np.stack([s.points for s in shapes])
        if len(unique) > 1:
            points = points[where]
        return Shape(points, key if is_current else shapes[0].digest, is_current, shapes[-1].shown_frame)

    def _solved(self, subject, layers, frame) -> Shape:
        """A solved frame in the subject's own space; solvers work in the world."""
        found = self.evaluator.runs.shown(subject, layers[-1], frame)
        points = None
        if found is not None:
            entering = self.evaluator.runs.entering(subject, layers[-1], found.at)
            points = layers[-1].declared().points(found.frame, entering)
        if points is None or len(points) != self.topology.mesh(subject, layers).count:
            entering = self.rows(subject, layers[:-1], self.stage.one(subject, frame))
            return Shape(entering.points[0], digest("unsolved", entering.digest), False, None)
        at = found.at if found.is_current else max(found.at, self.evaluator.doc.solved_from)
        back = self.stage.one(subject, at).place.inverse()
        key = digest(found.key, layers[-1].id) if member_of(layers[-1]) else found.key
        return Shape(back.apply(points.astype(np.float64)[None])[0], key, found.is_current, found.at)

    # -- shapes ----------------------------------------------------------------------------------------------
    def through(self, subject: Thing, layers: list[Thing], frame: float) -> Shape:
        """The rest shape after the given layers, which are the top part of the stack, in the world: points (n, 3)."""
        many = self.stage.one(subject, frame)
        shape = self.rows(subject, layers, many)
        is_current, shown = shape.is_current, shape.shown_frame
        if is_current and self.reader.on_joint(subject):
            is_current, shown = self.reader.stands_true(subject, many.rows.frames)
        return Shape(many.place.apply(shape.points)[0], digest(shape.digest, many.place), is_current, shown)

    def copies(self, copies: Thing, frame: float) -> Copied | None:
        """The copies of a subject at a frame; None when they name no subject."""
        subject = self.evaluator.doc.shape_of(copies)
        if subject is None:
            return None
        many = self.stage.many(copies, subject, frame)
        mesh = self.topology.mesh(subject)
        if len(many.rows) == 0:
            return Copied(Shape(np.zeros((1, mesh.count, 3)), b""), Place.still(0), mesh)
        shape = self.rows(subject, self.evaluator.layers(subject), many)
        if many.amounts is not None:
            points = mesh.points + many.amounts[:, None, None] * (shape.points - mesh.points)
            shape = Shape(points, digest(shape.digest, many.amounts), shape.is_current, shape.shown_frame)
        return Copied(shape, many.place.spread(len(many.rows)), mesh)

    def travel_of(self, subject: Thing, layer: Thing, frame: float) -> tuple[float, float] | None:
        """How far a layer moves its subject at a frame: (mean, largest) in metres; None when it is not solved."""
        evaluator = self.evaluator
        above = evaluator.layers_above(subject, layer)
        through = [*above, layer]
        if any(l.declared.memory and not evaluator.store.has(evaluator.key(subject, l, frame)) for l in through):
            return None
        if member_of(layer):
            return self._travel_of_member(subject, layer, frame)
        many = self.stage.one(subject, frame)
        key = digest("envelope", self.name(subject, through, many))
        found = self.scene.shapes.get(key)
        if found is None:
            shapes = self.rows(subject, above, many), self.rows(subject, through, many)
            if not all(s.is_current for s in shapes):
                return None
            before, after = (s.points[0] for s in shapes)
            if layer.declared.remeshes:
                before = self.topology.plans(subject, through)[-1].shaped(before)
            apart = np.linalg.norm(after - before, axis=1) * many.place.size[0]
            found = np.array([apart.mean(), apart.max()])
            self.scene.shapes.put(key, found)
        return float(found[0]), float(found[1])

    def _travel_of_member(self, subject, layer, frame):
        """The same of a member of an ensemble, which may know a shorter way than all of its points."""
        evaluator, found = self.evaluator, self.evaluator.runs.shown(subject, layer, frame)
        if found is None or not found.is_current:
            return None
        entering = evaluator.runs.entering(subject, layer, frame)
        gone = layer.declared().travel(found.frame, entering)
        if gone is None:
            after = layer.declared().points(found.frame, entering)
            apart = np.linalg.norm(after - entering.now(), axis=1)
            gone = apart.mean(), apart.max()
        return float(gone[0]), float(gone[1])
