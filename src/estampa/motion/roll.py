"""Roll: a round subject turns as it goes, and never skids."""

import numpy as np

from ..kinds.channels import choice, number, ref
from ..lazy import transform
from .layer import Deformer


class Roll(Deformer):
    """Turns a round subject by the distance it goes over its radius, as it moves by its own position channels.

    The distance is that over the deck: what the ball rides on may move too. With a radius of 5 and 8 frames a step of
    4 units, it turns about an eighth in each step.
    """

    kind, title, turns = "roll", "Roll", True
    icon = "M8 4 a4.5 4.5 0 1 0 .01 0 M8 8.5 L11 6 M2 14 H14 M12.5 2.5 C14 4 14.5 5.5 14 7.5"
    group = "guide"

    radius = number(0.5, "Radius of what rolls.", unit="m", soft=(0.05, 5), hard=(1e-6, None), suits=("height", 0.5))
    slip = number(0, "How much it skids: 0 rolls, 1 only slides.", unit="fraction", soft=(0, 1))
    about = choice(
        "any",
        "A ball rolls every way; a wheel only about its axle.",
        {"any": "Every way, a ball", "x": "Its X axis, a wheel", "z": "Its Z axis, a wheel"},
        title="Rolls about",
    )
    deck = ref("placed", "What it rolls on; none is the ground.", accumulates=True)

    def apply(self, points, v, now):
        frames, places, deck = v.deck  # where the subject has been over it
        share = (1 - v.slip) * v.strength
        turns = rolled(frames, places, deck, now.place, now.frames, v.radius * now.place.size, v.about)
        turns = transform.Rotation.from_rotvec(turns.as_rotvec() * share[:, None]) if (share != 1).any() else turns
        return np.einsum("kij,knj->kni", turns.as_matrix().reshape(-1, 3, 3), points)


def rolled(frames, places, deck, stand, at, radius, about) -> "transform.Rotation":
    """(k) turns, in the subject's own axes, at frames `at` (k,), since the first of `frames`.

    places -- (m, 3) positions over the deck, metres; deck (m, 3, 3) its axes; stand: the subject's Place (k)
    """
    steps = np.diff(places, axis=0)
    if about == "any":
        # the axle lies across the way, level with the deck
        hinges = np.stack([steps[:, 2], np.zeros(len(steps)), -steps[:, 0]], axis=1)
    else:
        axle = np.zeros(3)
        axle["xz".index(about) * 2] = 1.0
        own = stand.axes[0] @ axle
        level = deck[0].T @ own
        forward = np.cross(level, [0.0, 1, 0])
        hinges = level * (steps @ forward)[:, None] * -1.0
    result = []
    for k, frame in enumerate(at):
        whole = int(np.clip(np.floor(frame) - frames[0], 0, len(steps)))
        part = np.clip(frame - frames[0] - whole, 0, 1)
        angles = hinges[:whole] / radius[k]
        if part > 0 and whole < len(hinges):
            angles = np.vstack([angles, hinges[whole : whole + 1] * part / radius[k]])
        if about == "any":
            turn = transform.Rotation.identity()
            for rotvec in angles:
                turn = transform.Rotation.from_rotvec(rotvec) * turn
        else:
            turn = transform.Rotation.from_rotvec(angles.sum(axis=0)) if len(angles) else transform.Rotation.identity()
        # from the deck's axes to the subject's own
        into = transform.Rotation.from_matrix(stand.axes[k].T @ deck[min(whole, len(deck) - 1)])
        result.append(into * turn * into.inv())
    return transform.Rotation.concatenate(result)
