"""Gather: pieces assemble onto another subject."""

import numpy as np

from ...geometry import pose as turns
from ...geometry.mesh import crossed
from ...geometry.pieces import Pieces
from ...geometry.scatter import spots_on
from ...kinds.channels import choice, number, ref, whole
from .piece_layer import PieceLayer, sized


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
            goal, spin = self._home(stand)
        elif v.onto is None:
            return stand
        elif v.where == "pieces":
            middles = Pieces.each(v.onto.mesh).middles(v.onto.points)
            goal, spin = middles[:, np.arange(stand.pieces.count) % middles.shape[1]], None
        else:
            goal, spin = self._surface(stand, v)
        felt_ = felt[..., None]
        spin = None if spin is None else felt_ * spin
        return stand.moved(felt_ * (goal - stand.centre), spin, sized(felt, v.size[:, None]))

    @staticmethod
    def _surface(stand, v):
        """(places (k, p, 3) m over the surface, turns (k, p, 3) rad away from it, or None)."""
        mesh, key = v.onto.mesh, (stand.pieces.count, int(v.seed))
        rows, weights = mesh.cached("gather", lambda: spots_on(mesh, *key), key)
        corners = v.onto.points[:, rows]  # (k, p, 3, 3)
        goal = np.einsum("pc,kpcj->kpj", weights, corners)
        if v.upright != "surface":
            return goal, None
        normal = np.broadcast_to(crossed(corners), stand.home.shape)
        return goal, turns.turn_vectors(turns.between(turns.turned(stand.turn, np.array([0.0, 0, 1])), normal))

    @staticmethod
    def _home(stand):
        """(middles (1, p, 3) m at rest, turns (k, p, 3) rad back to it)."""
        pieces, rest = stand.pieces, stand.pieces.mesh.points
        turned = np.stack([turns.turns_of(pieces.turns(rest, row)) for row in stand.entered])
        return pieces.middles(rest[None]), turns.turn_vectors(turns.inverse(turns.product(stand.turn, turned)))
