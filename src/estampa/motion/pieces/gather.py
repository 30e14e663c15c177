"""Gather: pieces assemble onto another subject."""

import numpy as np

from ...geometry import pose as turns
from ...geometry.pieces import Pieces
from ...geometry.scatter import spots_on
from ...kinds.channels import choice, number, ref, whole
from .piece_layer import PieceLayer


class Gather(PieceLayer):
    """Brings pieces onto another subject: onto its pieces, one by one, or spread over its surface."""

    kind, title = "gather", "Gather"
    icon = "M8 8 m-1.5 0 a1.5 1.5 0 1 0 3 0 a1.5 1.5 0 1 0 -3 0 M2 2 L5 5 M14 2 L11 5 M2 14 L5 11 M14 14 L11 11"
    group = "guide"
    rank = 41

    where = choice(
        "surface",
        "Where they gather. At home is where they were before anything moved them, and as they were turned.",
        {"surface": "Spread over its surface", "pieces": "On the middles of its pieces", "home": "At home"},
    )
    onto = ref("subject", "The subject that they gather onto.", when=(("where", ("surface", "pieces")),))
    size = number(1, "Their size there.", unit="factor", soft=(0, 2), hard=(0, None))
    upright = choice(
        "keep", "How they stand there.", {"keep": "As they come", "surface": "+Z away from the surface"},
        title="Turned", when=(("where", ("surface",)),),
    )  # fmt: skip
    seed = whole(1, "Another throw of the dice.", soft=(1, 99), hard=(0, None), when=(("where", ("surface",)),))

    def move(self, stand, felt, v, now):
        if v.where == "home":
            return self._home(stand, felt, v)
        if v.onto is None:
            return stand
        mesh, count = v.onto.mesh, stand.pieces.count
        if v.where == "pieces":
            middles = Pieces.each(mesh).middles(v.onto.points)
            goal, turn = middles[:, np.arange(count) % middles.shape[1]], None
        else:
            key = (count, int(v.seed))
            rows, weights = mesh.cached("gather", lambda: spots_on(mesh, *key), key)
            corners = v.onto.points[:, rows]  # (k, p, 3, 3)
            goal = np.einsum("pc,kpcj->kpj", weights, corners)
            turn = None
            if v.upright == "surface":
                normal = np.cross(corners[:, :, 1] - corners[:, :, 0], corners[:, :, 2] - corners[:, :, 0])
                normal /= np.maximum(np.linalg.norm(normal, axis=2, keepdims=True), 1e-12)
                normal = np.broadcast_to(normal, stand.home.shape).reshape(-1, 3)
                looks = turns.turned(stand.turn.reshape(-1, 4), np.tile([0.0, 0, 1], (len(normal), 1)))
                spin = turns.turn_vectors(turns.between(looks, normal)) * felt.reshape(-1, 1)
                turn = turns.from_vectors(spin).reshape(*felt.shape, 4)
        size = np.maximum(1 + felt * (v.size[:, None] - 1), 0)
        return stand.moved(felt[..., None] * (goal - stand.centre), turn, size)

    @staticmethod
    def _home(stand, felt, v):
        pieces, rest = stand.pieces, stand.pieces.mesh.points
        turned = np.stack([turns.turns_of(pieces.turns(rest, row)) for row in stand.entered])
        now = turns.product(stand.turn, np.broadcast_to(turned, stand.turn.shape))
        back = turns.turn_vectors(turns.inverse(now.reshape(-1, 4))) * felt.reshape(-1, 1)
        goal = pieces.middles(rest[None])
        size = np.maximum(1 + felt * (v.size[:, None] - 1), 0)
        return stand.moved(
            felt[..., None] * (goal - stand.centre), turns.from_vectors(back).reshape(stand.turn.shape), size
        )
