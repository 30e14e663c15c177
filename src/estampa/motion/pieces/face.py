"""Face: pieces turn towards a target."""

import numpy as np

from ...geometry import pose as turns
from ...kinds.channels import choice, ref
from .piece_layer import PieceLayer

_AXES = {"x": (1, 0, 0), "y": (0, 1, 0), "z": (0, 0, 1), "-x": (-1, 0, 0), "-y": (0, -1, 0), "-z": (0, 0, -1)}


class Face(PieceLayer):
    """Turns each piece about its own middle, so that one of its sides faces a target."""

    kind, title = "face", "Face"
    icon = "M8 3.5 a4.5 4.5 0 1 0 .01 0 M8 8 L14.5 8 M12 5.5 L14.5 8 L12 10.5"
    group = "guide"
    rank = 40

    target = ref("grip", "What they face.", title="Target")
    side = choice(
        "z", "Which side of a piece, as it was at rest, faces the target.",
        {"x": "+X", "y": "+Y", "z": "+Z", "-x": "-X", "-y": "-Y", "-z": "-Z"},
    )  # fmt: skip

    def move(self, stand, felt, v, now):
        if v.target is None:
            return stand
        looks = turns.turned(stand.turn, np.array(_AXES[v.side], float))
        way = v.target.spread(len(stand.home)).origin[:, None] - stand.centre
        long = np.linalg.norm(way, axis=2, keepdims=True)
        way = np.where(long > 1e-9, way / np.maximum(long, 1e-9), looks)
        return stand.moved(spin=felt[..., None] * turns.turn_vectors(turns.between(looks, way)))
