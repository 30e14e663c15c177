"""Solvers that run on from where they are, while hands move things; nothing of it is kept in the store.

A solved frame belongs to a scene that does not change. Here the scene changes under the hand from step to step, so what
moved is told by what the step before saw. Where no hand moves anything, the frames are those of the stored solve.
"""

from dataclasses import replace
from typing import Any

from ..fields.force import World
from ..scene.document import Document
from .evaluator import Evaluator
from .run import Playing


class Live:
    """Begins from the frames of solvers at a frame, or from the start of each."""

    def __init__(self, evaluator: Evaluator, frame: int):
        self.scene, self.store, self.frame = evaluator.scene, evaluator.store, int(frame)
        self._playing: dict[str, Playing] = {}
        self._seen: dict[str, Any] = {}  # what the step before saw
        self._solid: dict[str, dict] = {}  # where obstacles stood in the step before
        for run in evaluator.runs.every():
            found = evaluator.runs.playing_from(run, self.frame)
            if found is not None:
                self._playing[run.id] = Playing(self.frame, found, found)

    def step(self, doc: Document) -> Evaluator:
        """One frame on, with the scene as it is now. Returns an evaluator that shows the new frames at `frame`."""
        self.frame = self.frame + 1 if doc.start <= self.frame < doc.end else doc.start
        evaluator = Evaluator(doc, self.scene, self.store, True)
        evaluator.live = dict(self._playing)
        for run in evaluator.runs.every():
            inputs = self._inputs(evaluator, run)
            last = self._playing.get(run.id)
            before = last.now if last is not None else None
            if before is not None and not run.thing.declared().fits(before, inputs):
                before = None  # what it is of has other parts now
            found = evaluator.runs.stepped(run, self.frame, before, inputs)
            playing = Playing(self.frame, found, found if before is None else before)
            self._playing[run.id] = evaluator.live[run.id] = playing
            evaluator.poses.forget()
        return evaluator

    def _inputs(self, evaluator, run):
        """What is read, moving from what the step before saw and not from another frame of the scene as it is now."""
        inputs = evaluator.runs.inputs(run, self.frame)
        if not run.is_solo:
            return self._crowd(run, inputs)
        owner = evaluator.owner(run.members[0][0])
        inputs, self._seen[run.id] = owner.since_last_step(inputs, self._seen.get(run.id))
        return replace(inputs, world=since(inputs.world, self._solid.setdefault(run.id, {})))

    def _crowd(self, run, crowd):
        """The same of an ensemble; what its members were at first stays what it was."""
        members = []
        for member in crowd.members:
            first, last = self._seen.get(member.id, (member.first, member.before))
            if last.shape == member.now.shape and first.shape == member.now.shape:
                member = replace(member, first=first, before=last)
            self._seen[member.id] = (member.first, member.now)
            members.append(member)
        world = since(crowd.world, self._solid.setdefault(run.id, {}))
        return replace(crowd, members=tuple(members), world=world)


def since(world: World, last: dict) -> World:
    """A world whose obstacles come from where they stood in the step before, as `last` remembers it by id."""
    found = []
    for obstacle in world.colliders:
        then = last.get(obstacle.id)
        if then is not None and then.shape == obstacle.shape:
            points = obstacle.points
            if points is not None and then.points is not None and then.points[1].shape == points[1].shape:
                points = (then.points[1], points[1])
            obstacle = replace(obstacle, places=(then.places[1], obstacle.places[1]), points=points)
        found.append(obstacle)
        last[obstacle.id] = obstacle
    return replace(world, colliders=found)
