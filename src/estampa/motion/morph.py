"""Morph: towards a kept shape."""

from ..errors import EstampaError
from ..kinds.channels import choice, number, ref
from .layer import Deformer


class Morph(Deformer):
    """Moves the subject towards one of its morph targets. Several morphs in a stack add up.

    A target is captured from any frame of the stack, or read from a mesh file with the same vertices.
    """

    kind, title = "morph", "Morph"
    adds_target = True
    icon = "M3 4 H8 V9 H3 Z M11 8.5 a3 3 0 1 0 .01 0 M9.5 5.5 L12 5.5 L12 7.5"
    group = "bend"
    rank = 11

    target = ref("target", "The shape it goes towards. Capture one with “Capture a morph target”.")
    weight = number(1, "How far it goes: 1 is all the way.", unit="fraction", soft=(0, 1))
    how = choice(
        "add",
        "Add what the target differs from the rest shape, or go to the target itself.",
        {"add": "Add its difference", "go": "Go to it"},
        title="Mixed by",
    )

    def apply(self, points, v, now):
        if v.target is None:
            return points
        if v.target.shape != now.mesh.points.shape:
            raise EstampaError(
                "The morph target",
                f"has {len(v.target):,} vertices, and the subject has {now.mesh.count:,} here.",
                "Capture it again, or move the morph above the layer that refines or thickens.",
            )
        weight = v.weight[:, None, None]
        start = now.mesh.points[None] if v.how == "add" else points
        return points + weight * (v.target[None] - start)
