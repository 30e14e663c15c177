"""A swarm or a liquid: grains that its layers bear, guide and dress, solved as a whole."""

from dataclasses import replace

from ..evaluate.owner import Owner


class GrainsOwner(Owner):
    """Swarms, liquids, and whatever else has grains. Of a run, the layer is the thing itself."""

    word, always_moves = "grains", True

    def solvers(self, owner):
        return [] if owner.declared.by_formula(owner) else [owner]

    def above(self, owner, layer):
        return []

    def aids(self, owner, layer):
        return []

    def fingerprint(self, owner, frame, layers=None):
        return self.evaluator.dressing.name(owner, frame)

    def step_fingerprint(self, owner, layer, frame):
        return self.evaluator.swarms.fingerprint(owner, frame)

    def _stands_still(self, owner, layer):
        return self.evaluator.swarms.is_still(owner)

    def inputs(self, owner, layer, frame):
        return self.evaluator.swarms.inputs(owner, frame, self.evaluator.runs.world(owner, frame))

    def since_last_step(self, inputs, seen):
        before, now = seen or {}, {g.id: g.v for g in inputs.layers}
        layers = tuple(replace(g, before=before.get(g.id, g.before)) for g in inputs.layers)
        return replace(inputs, layers=layers), now

    def rows(self, owner, layer):
        return self.evaluator.swarms.expected(owner)

    def outcome(self, thing, frame, skinned=True):
        return self.evaluator.dressing.outcome(thing, frame, skinned=skinned)

    def read_layers(self, owner, layer):
        return self.evaluator.swarms.guides(owner)
