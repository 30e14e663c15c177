"""Copies: one subject in many places."""

import numpy as np

from ..evaluate.outcome import of_copies
from ..evaluate.owner import Owner


class CopiesOwner(Owner):
    """Copies; the stack is that of the subject that they copy."""

    word = "copies"
    at_one_place = False

    def outcome(self, thing, frame, skinned=True):
        return of_copies(self.evaluator, thing, frame)

    def posed(self, thing, frame):
        found = self.outcome(thing, frame)
        if found is None:
            return None
        return found.points(), found.parts[0].places.axes if found.parts else np.zeros((0, 3, 3)), found.is_current

    def point_name(self, thing, point, points, turns):
        each = max(points // max(turns, 1), 1)
        return f"copy {point // each}, vertex {point % each}"

    def is_solved(self, thing):
        shape = self.doc.shape_of(thing)
        return self.evaluator.owner(shape).is_solved(shape)

    def shown_fingerprint(self, thing, frame):
        shape = self.doc.shape_of(thing)
        many = self.evaluator.stage.many(thing, shape, frame)
        return many.place, many.amounts, self.evaluator.stacks.name(shape, self.evaluator.layers(shape), many)
