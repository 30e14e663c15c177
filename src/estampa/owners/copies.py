"""Copies: one subject in many places."""

from ..evaluate.outcome import of_copies
from ..evaluate.owner import Owner


class CopiesOwner(Owner):
    """Copies; the stack is that of the subject that they copy."""

    word = "copies"
    at_one_place = False

    def outcome(self, thing, frame, skinned=True):
        return of_copies(self.evaluator, thing, frame)

    def shown_fingerprint(self, thing, frame):
        shape = self.doc.shape_of(thing)
        many = self.evaluator.stage.many(thing, shape, frame)
        return many.place, many.amounts, self.evaluator.stacks.name(shape, self.evaluator.layers(shape), many)
