"""Solvers that run on from where they are, while hands move things; nothing of it is kept in the store.

A solved frame belongs to a scene that does not change. Here the scene changes under the hand from step to step, so what
moved is told by what the step before saw, and states stay in memory.
"""

from dataclasses import replace

from ..forces.force import World
from ..scene.document import Document
from .evaluator import Evaluator


class Live:
    """Begins from the states at a frame, or from the start of each solver."""

    def __init__(self, evaluator: Evaluator, frame: int):
        self.scene, self.store, self.frame = evaluator.scene, evaluator.store, int(frame)
        self._states, self._seen, self._solid = {}, {}, {}
        for owner, layer in evaluator.solvers():
            if evaluator.store.has(evaluator.key(owner, layer, self.frame)):
                self._states[layer.id] = evaluator.store.state(evaluator.key(owner, layer, self.frame))

    def step(self, doc: Document) -> Evaluator:
        """One frame on, with the scene as it is now. Returns an evaluator that shows the new states at `frame`."""
        first, last = doc.start, doc.end
        self.frame = self.frame + 1 if first <= self.frame < last else first
        evaluator = Evaluator(doc, self.scene, self.store)
        evaluator.live = dict(self._states)
        for owner, layer in evaluator.solvers():
            inputs = evaluator.inputs(owner, layer, self.frame)
            inputs = replace(inputs, world=self._since(inputs.world), **self._before(layer.id, inputs))
            state = self._states.get(layer.id)
            if state is not None and len(state.points) != len(layer.declared().start(inputs).points):
                state = None  # what it is of has other parts now
            state = evaluator.stepped(owner, layer, self.frame, state, inputs)
            self._states[layer.id] = evaluator.live[layer.id] = state
            evaluator.poses.forget()
        return evaluator

    def _before(self, layer_id, inputs) -> dict:
        """What the step before saw where this one would look at another frame of the same scene."""
        seen = self._seen.get(layer_id)
        if seen is None or seen[1].shape != inputs.now.shape:
            seen = (inputs.now, inputs.now)
        self._seen[layer_id] = (seen[1], inputs.now)
        return {"before": seen[1]} | ({"earlier": seen[0]} if hasattr(inputs, "earlier") else {})

    def _since(self, world: World) -> World:
        """Obstacles from where they stood in the step before."""
        found = []
        for k, obstacle in enumerate(world.colliders):
            last = self._solid.get(k, obstacle)
            same = last.shape == obstacle.shape
            places = (last.places[1] if same else obstacle.places[1], obstacle.places[1])
            points = obstacle.points
            if points is not None and same and last.points is not None and last.points[1].shape == points[1].shape:
                points = (last.points[1], points[1])
            found.append(replace(obstacle, places=places, points=points))
        self._solid = dict(enumerate(world.colliders))
        return replace(world, colliders=found)
