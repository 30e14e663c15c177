"""Swarms: what is read of their layers to solve them, and where grains by formula are."""

import numpy as np

from ..errors import EstampaError
from ..fields.force import World
from ..geometry.caps import room_of
from ..hashing import digest
from ..scene.document import Thing
from ..solve.swarm.grains import FOREVER, Grains
from ..solve.swarm.kind import Guide, Swarm, SwarmInputs
from ..solve.swarm.layer import GrainMoment, GrainSource
from .reader import Scope


class Swarms:
    """Swarms of one document, for one evaluator."""

    def __init__(self, evaluator):
        self.evaluator, self.reader = evaluator, evaluator.reader

    def guides(self, swarm: Thing) -> list[Thing]:
        """The layers that decide where grains are."""
        every = (l for l in self.evaluator.layers(swarm) if not l.declared.dresses)
        formula = swarm.declared.by_formula(swarm)
        return [l for l in every if l.declared.by_formula == formula or (formula and l.declared.sows)]

    def fingerprint(self, swarm: Thing, frame: float) -> bytes:
        """Digest of all that a step to a frame reads of a swarm and its layers."""
        scope = Scope.world(frame, swarm)
        return digest(
            self.reader.fingerprint(swarm, scope),
            [(l.id, self.reader.fingerprint(l, scope)) for l in self.guides(swarm)],
        )

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
        doc = self.evaluator.doc
        seconds = (doc.solved_to - doc.solved_from + 1) / doc.frame_rate
        spacing = swarm.constant("spacing") if "spacing" in swarm.declared.channels else None
        find = lambda l: l.declared.expected(l.constant, seconds, spacing or l.constant("apart"), self._room)
        own = lambda l: l.declared.expected(l.constant, seconds, spacing, self._room)
        found = sum(find(l) if "apart" in l.declared.channels else own(l) for l in self.guides(swarm))
        return int(min(found, 1e12))

    def _room(self, subject_id) -> float:
        """m3, what there is inside a subject as it is at rest; 0 where there is none."""
        subject = self.evaluator.values.find(subject_id)
        if subject is None or subject.mesh is None:
            return 0.0
        mesh = self.evaluator.scene.mesh(subject.mesh)
        return mesh.cached("room", lambda: room_of(mesh))

    def period(self, swarm: Thing) -> float:
        """s"""
        doc = self.evaluator.doc
        return (doc.loop[1] - doc.loop[0]) / doc.frame_rate if doc.loop else float(swarm.constant("period"))

    def by_formula(self, swarm: Thing, frame: float, one_in: int = 1) -> dict[str, np.ndarray]:
        """The columns of the grains of a swarm by formula, as those of a frame that was solved; of so many one."""
        doc, seed = self.evaluator.doc, int(swarm.constant("seed"))
        first = doc.loop[0] if doc.loop else doc.start
        period = self.period(swarm)
        layers, sown = self.guides(swarm), self.sown(swarm, one_in)
        place, speed = sown.position.copy(), np.zeros_like(sown.position)
        share = (frame - first) / doc.frame_rate / period
        for layer in layers:
            if layer.declared.by_formula:
                v = self.reader.resolved(layer, Scope.world(frame, swarm))
                layer.declared().where(place, speed, sown.ids, v, share, period, seed)
        long = np.linalg.norm(speed, axis=1, keepdims=True)
        heading = np.where(long > 1e-6, speed / np.maximum(long, 1e-300), [0.0, 0.0, 1.0])
        n = len(place)
        age = np.full(n, (frame - doc.start) / doc.frame_rate)
        return {
            "ids": sown.ids, "position": place, "velocity": speed, "heading": heading, "bank": np.zeros(n), "age": age,
            "life": np.full(n, FOREVER), "sits": np.zeros(n),
        }  # fmt: skip

    def sown(self, swarm: Thing, one_in: int = 1) -> Grains:
        """The grains of a swarm by formula as they were sown, made once for the same; of so many one."""
        layers = [l for l in self.guides(swarm) if l.declared.sows]
        doc = self.evaluator.doc
        scope = Scope.world(doc.start, swarm)
        name = digest([self.reader.fingerprint(l, scope) for l in layers], int(swarm.constant("seed")))

        def make() -> Grains:
            if one_in > 1:
                every = self.sown(swarm)
                return every.pick(every.ids % one_in == 0)
            return self._sow(swarm, layers, scope)

        return self.evaluator.scene.memo.get(swarm.id, ("sown", one_in), name, make)

    def _sow(self, swarm: Thing, layers: list[Thing], scope: Scope) -> Grains:
        """What some layers sow."""
        doc, found = self.evaluator.doc, Grains.none()
        for layer in layers:
            v = self.reader.resolved(layer, scope)
            v["at"] = doc.start
            now = GrainMoment(doc.start, doc.start, doc.frame_rate, int(swarm.constant("seed")), World(), v)
            try:
                born = layer.declared().born(v, now, GrainSource(Swarm.number(layer.id)))
            except EstampaError as err:
                raise EstampaError(f"{layer.name} of {swarm.name}", err.cause, err.cure, err.detail) from err
            found = found.with_more(born) if born is not None else found
        return found
