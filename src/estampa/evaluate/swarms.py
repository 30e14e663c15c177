"""Swarms: what is read of their layers to solve them, and what their grains look like."""

import numpy as np

from ..errors import EstampaError
from ..fields.force import World
from ..geometry.place import Place
from ..geometry.primitives import box, coloured
from ..hashing import digest, rand
from ..scene.document import Thing
from ..solve.swarm.grains import FOREVER, Grains
from ..solve.swarm.kind import Guide, Swarm, SwarmInputs
from ..solve.swarm.layer import Moment, Source
from .reader import Scope

LUMP = 0.02  # m, half of what a grain is drawn as where nothing says what it looks like
AMBER = (0.95, 0.55, 0.12)  # linear light


class Swarms:
    """Swarms of one document, for one evaluator."""

    def __init__(self, evaluator):
        self.evaluator, self.reader = evaluator, evaluator.reader

    def guides(self, swarm: Thing) -> list[Thing]:
        """The layers that decide where grains are."""
        every = (l for l in self.evaluator.layers(swarm) if not l.declared.dresses)
        formula = swarm.constant("by") == "formula"
        return [l for l in every if l.declared.by_formula == formula or (formula and l.kind == "sow")]

    def told(self, swarm: Thing, frame: float) -> bytes:
        """Digest of all that a step to a frame reads of a swarm and its layers."""
        scope = Scope.world(frame, swarm)
        return digest(self.reader.told(swarm, scope), [(l.id, self.reader.told(l, scope)) for l in self.guides(swarm)])

    def is_still(self, swarm: Thing) -> bool:
        """Whether that is the same at every frame."""
        return self.reader.still(swarm) and all(map(self.reader.still, self.guides(swarm)))

    def inputs(self, swarm: Thing, frame: int, world) -> SwarmInputs:
        doc, first = self.evaluator.doc, self.evaluator.doc.solved_from
        read = lambda layer, f: self.reader.resolved(layer, Scope.world(f, swarm))
        guides = []
        for layer in self.guides(swarm):
            v = read(layer, frame)
            before = read(layer, max(frame - 1, first)) if layer.declared.reads_before else v
            guides.append(Guide(layer.id, f"{layer.name} of {swarm.name}", layer.declared(), v, before))
        v = self.reader.resolved(swarm, Scope.world(frame))
        return SwarmInputs(tuple(guides), v, world, frame, first, doc.frame_rate)

    def expected(self, swarm: Thing) -> int:
        """About how many grains live at once, from the constants of its sources."""
        doc, found = self.evaluator.doc, 0.0
        seconds = (doc.solved_to - doc.solved_from + 1) / doc.frame_rate
        for layer in self.guides(swarm):
            if layer.kind == "sow":
                grid = layer.constant("many_x") * layer.constant("many_y") * layer.constant("many_z")
                found += grid if layer.constant("where") == "grid" else layer.constant("count")
            elif layer.kind == "emit":
                life = layer.constant("life")
                found += layer.constant("rate") * (min(life, seconds) if life > 0 else seconds)
        return int(found)

    def name(self, swarm: Thing, frame: float) -> bytes:
        """Digest of all that decides what its grains look like, whether it is solved yet or not."""
        evaluator, told = self.evaluator, []
        for layer in self.evaluator.layers(swarm):
            subject = self._shape(layer) if layer.declared.dresses else None
            if subject is None:
                continue
            first = evaluator.doc.start
            frames = [first + k for k in range(layer.constant("cycle"))] or [frame]
            shapes = [
                evaluator.stacks.name(subject, evaluator.layers(subject), evaluator.stage.one(subject, f))
                for f in frames
            ]
            told.append((self.reader.told(layer, Scope.world(frame, swarm)), shapes))
        if swarm.constant("by") == "formula":
            key = digest(self.told(swarm, frame), self._period(swarm), self.told(swarm, evaluator.doc.start))
        else:
            key = evaluator.runs.key(evaluator.runs.of(swarm, swarm), frame)
        return digest("swarm", key, told, float(frame))

    def _period(self, swarm: Thing) -> float:
        """s"""
        doc = self.evaluator.doc
        return (doc.loop[1] - doc.loop[0]) / doc.frame_rate if doc.loop else float(swarm.constant("period"))

    def by_formula(self, swarm: Thing, frame: float, one_in: int = 1) -> dict[str, np.ndarray]:
        """The columns of the grains of a swarm by formula, as those of a frame that was solved; of so many one."""
        doc, seed = self.evaluator.doc, int(swarm.constant("seed"))
        first = doc.loop[0] if doc.loop else doc.start
        period = self._period(swarm)
        layers = self.guides(swarm)
        sown = self._sown(swarm, [l for l in layers if l.kind == "sow"], one_in)
        place, speed = sown.place.copy(), np.zeros_like(sown.place)
        share = (frame - first) / doc.frame_rate / period
        for layer in layers:
            if layer.declared.by_formula:
                v = self.reader.resolved(layer, Scope.world(frame, swarm))
                layer.declared().where(place, speed, sown.ids, v, share, period, seed)
        long = np.linalg.norm(speed, axis=1, keepdims=True)
        heading = np.where(long > 1e-6, speed / np.maximum(long, 1e-300), [0.0, 0.0, 1.0])
        n = len(place)
        age = np.full(n, (frame - doc.start) / doc.frame_rate)
        return {"ids": sown.ids, "place": place, "speed": speed, "heading": heading, "bank": np.zeros(n), "age": age,
                "life": np.full(n, FOREVER), "sits": np.zeros(n)}  # fmt: skip

    def _sown(self, swarm, layers, one_in) -> Grains:
        """The grains as they were sown, made once for the same."""
        doc, found = self.evaluator.doc, Grains.none()
        scope = Scope.world(doc.start, swarm)
        name = digest([self.reader.told(l, scope) for l in layers], int(swarm.constant("seed")))
        cache = self.evaluator.scene.solver_cache
        kept = cache.get(("sown", swarm.id, one_in))
        if kept is not None and kept[0] == name:
            return kept[1]
        if one_in > 1:
            found = self._sown(swarm, layers, 1)
            found = found.pick(found.ids % one_in == 0)
            cache["sown", swarm.id, one_in] = (name, found)
            return found
        for layer in layers:
            v = self.reader.resolved(layer, scope)
            v["at"] = doc.start
            now = Moment(doc.start, doc.start, doc.frame_rate, int(swarm.constant("seed")), World(), v)
            try:
                born = layer.declared().born(v, now, Source(Swarm.number(layer.id)))
            except EstampaError as err:
                raise EstampaError(f"{layer.name} of {swarm.name}", err.cause, err.cure, err.detail) from err
            found = found.with_more(born) if born is not None else found
        cache["sown", swarm.id, 1] = (name, found)
        return found

    # -- what they look like -----------------------------------------------------------------------------------
    def triangles(self, swarm: Thing) -> int:
        """About how many triangles all its grains show, from the constants of its layers."""
        shown = [s for l in self.evaluator.layers(swarm) if l.declared.dresses and (s := self._shape(l)) is not None]
        each = [len(self.evaluator.mesh(s).triangles) for s in shown] or [len(_lump(self.evaluator.scene).triangles)]
        return self.expected(swarm) * max(each)

    def outcome(self, swarm: Thing, frame: float, one_in: int = 1):
        """A part for each shape and colour that its grains show; None where no frame is solved. one_in -- of so many
        grains one is taken, the same ones at every frame."""
        from .outcome import Outcome, Part

        evaluator, doc = self.evaluator, self.evaluator.doc
        seed, true, name, at = int(swarm.constant("seed")), True, None, None
        if swarm.constant("by") == "formula":
            grains, name = self.by_formula(swarm, frame, one_in), self.name(swarm, frame)
        else:
            shown = evaluator.runs.shown(swarm, swarm, frame)
            if shown is None:
                return None
            table, true = shown.frame["grains"], shown.true
            grains = {n: c for n, c in table.columns.items()} | {"ids": table.ids}
            name = self.name(swarm, frame) if true else digest("stands in", shown.key)
            at = None if true else shown.at
            if one_in > 1:
                some = grains["ids"] % one_in == 0
                grains = {n: c[some] for n, c in grains.items()}
        seconds, rate = (frame - doc.start) / doc.frame_rate, doc.frame_rate
        parts, loop = [], (doc.loop[1] - doc.loop[0]) / rate if doc.loop else 0.0
        for layer, which in self._shared(swarm, grains["ids"], seed):
            if layer is None:
                stand = Place(
                    grains["place"][which].astype(float),
                    np.repeat(np.eye(3)[None], len(which), axis=0),
                    np.ones(len(which)),
                )
                parts.append(
                    Part(
                        _lump(evaluator.scene),
                        _lump(evaluator.scene).points[None],
                        stand,
                        grains["ids"][which],
                        speed=grains["speed"][which],
                    )
                )
                continue
            v = self.reader.resolved(layer, Scope.world(frame, swarm))
            subject = evaluator.values.find(layer.constant("subject"))
            dressed = layer.declared().dressed(grains, v, seed, seconds, rate, which, loop)
            parts += self._parts(subject, dressed, int(v.cycle), frame, grains)
        return Outcome(tuple(parts), name, true, at)

    def _shared(self, swarm, ids, seed):
        """Yields (layer that shows them or None, rows of the grains)."""
        layers = [l for l in self.evaluator.layers(swarm) if l.declared.dresses and self._shape(l) is not None]
        if not layers:
            yield None, np.arange(len(ids))
            return
        shares = np.cumsum([max(float(l.constant("share")), 0.0) for l in layers])
        if shares[-1] <= 0:
            return
        which = np.searchsorted(shares, rand(seed, ids, "shown") * shares[-1], side="right")
        for k, layer in enumerate(layers):
            yield layer, np.flatnonzero(np.minimum(which, len(layers) - 1) == k)

    def _shape(self, layer):
        held = self.evaluator.values.find(layer.constant("subject"))
        return held if held is not None and held.mesh is not None else None

    def _parts(self, subject, dressed, cycle, frame, grains):
        from .outcome import Part

        evaluator, doc = self.evaluator, self.evaluator.doc
        mesh = evaluator.mesh(subject)
        key = dressed.frame * max(dressed.colour.max(initial=0) + 1, 1) + dressed.colour
        for name in np.unique(key):
            rows = np.flatnonzero(key == name)
            at = doc.start + int(dressed.frame[rows[0]]) if cycle else frame
            many = evaluator.stage.one(subject, at)
            shape = evaluator.stacks.rows(subject, evaluator.layers(subject), many)
            stand = Place(*(part[rows] for part in dressed.stand))
            tint = None if dressed.colours is None else tuple(dressed.colours[dressed.colour[rows[0]]])
            yield Part(
                mesh,
                shape.points[:1],
                stand,
                grains["ids"][dressed.row[rows]],
                speed=grains["speed"][dressed.row[rows]],
                tint=tint,
            )


def _lump(scene):
    found = scene.solver_cache.get("lump")
    if found is None:
        found = scene.solver_cache["lump"] = coloured(box([-LUMP] * 3, [LUMP] * 3), "Grain", AMBER)
    return found
