"""A subject: a mesh whose points its layers move."""

from dataclasses import replace

import numpy as np

from ..evaluate.outcome import Outcome, of_subject
from ..evaluate.owner import Owner
from ..evaluate.reasons import Read
from ..hashing import digest
from ..scene.document import Thing
from ..scene.skins import followed, is_skin
from ..scene.values import Rows
from ..solve.ensemble import MemberInputs
from ..solve.solver import Inputs


class MeshOwner(Owner):
    """Subjects."""

    word, always_moves = "mesh", True

    def __init__(self, evaluator):
        super().__init__(evaluator)
        self._still_members: dict[str, MemberInputs] = {}

    def solvers(self, owner):
        layers = self.evaluator.layers(owner) if owner.mesh is not None else []
        return [l for l in layers if l.declared.memory]

    def fingerprint(self, owner, frame, layers=None):
        layers = self.evaluator.layers(owner) if layers is None else layers
        many = self.evaluator.stage.one(owner, frame)
        return digest(self.evaluator.stacks.name(owner, layers, many), self.reader.stand_name(owner, frame))

    def inputs(self, owner, layer, frame):
        evaluator, first = self.evaluator, self.doc.solved_from
        v, world = self.reader.resolved(layer, self.scope(owner, frame)), evaluator.runs.world(layer, frame)
        before, now = (self._points(owner, layer, f) for f in (max(frame - 1, first), frame))
        aids = evaluator.runs.aids(owner, layer, frame)
        began = evaluator.runs.began(owner, layer)
        at_first = self.first_points(owner, layer) if any(a.aid.follows for a in aids) or began is not None else None
        mesh = evaluator.topology.sized(owner, layer)
        return Inputs(mesh, before, now, v, world, at_first, aids, began, frame - first)

    def member(self, owner, layer, frame):
        found = self._still_members.get(layer.id)
        if found is not None:
            return found
        evaluator, start = self.evaluator, self.doc.solved_from
        now, still = self._points(owner, layer, frame), self.is_still(owner, layer)
        if still:
            self._first_points.setdefault(layer.id, now)
        first = self.first_points(owner, layer)
        before = now if still else self._points(owner, layer, max(frame - 1, start))
        v = self.reader.resolved(layer, self.scope(owner, frame))
        mesh, aids = evaluator.topology.sized(owner, layer), evaluator.runs.aids(owner, layer, frame)
        name, began = f"{layer.name} on {owner.name}", evaluator.runs.began(owner, layer)
        found = MemberInputs(layer.id, name, mesh, first, before, now, v, aids, began=began)
        if still:
            self._still_members[layer.id] = found
        return found

    def since_last_step(self, inputs, seen):
        if seen is not None and seen.shape == inputs.now.shape:
            inputs = replace(inputs, before=seen)
        return inputs, inputs.now

    def first_points(self, owner: Thing, layer: Thing) -> np.ndarray:
        """(n, 3) m in the world, what enters a layer at the first frame that is solved."""
        if layer.id not in self._first_points:
            self._first_points[layer.id] = self._points(owner, layer, self.doc.solved_from)
        return self._first_points[layer.id]

    def _points(self, owner: Thing, layer: Thing, frame: float) -> np.ndarray:
        """(n, 3) m in the world, what enters a layer at a frame."""
        return self.evaluator.through(owner, self.above(owner, layer), frame).points

    def rows(self, owner, layer):
        return self.evaluator.mesh(owner, self.above(owner, layer)).count

    def outcome(self, thing, frame, skinned=True) -> Outcome | None:
        return of_subject(self.evaluator, thing, frame) if thing.mesh is not None else None

    def travel(self, owner, layer, frame):
        return self.evaluator.stacks.travel_of(owner, layer, frame)

    def posed(self, thing, frame):
        found = self.outcome(thing, frame)
        return found.points(), self.evaluator.values.place(thing, Rows.one(frame)).axes, found.is_current

    def is_solved(self, thing):
        held = [followed(self.doc, l) for l in self.evaluator.layers(thing) if is_skin(l)]
        return super().is_solved(thing) or any(self.evaluator.owner(h).is_solved(h) for h in held if h is not None)

    def facts(self, thing):
        return [m.model_dump() for m in thing.mesh.materials]

    def reads_as_named(self, thing, frame):
        return [Read("shape", f"{thing.name} · shape", self.fingerprint(thing, frame))] if thing.mesh else []

    def reads(self, owner, frame):
        return [Read("mesh", f"{owner.name} · mesh", owner.mesh.content), *super().reads(owner, frame)]
